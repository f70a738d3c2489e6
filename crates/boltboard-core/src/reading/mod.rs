//! What can a C text see? Its names, the headers that it asks for, and what it may form by pasting: read as the language defines it, in the
//! dialect of one compile.
//!
//! What is said here may be too much, never too little: a name that is said to occur and does not costs a compile, one that is missed
//! leaves a stale object.

mod dialect;
mod fortran;
mod outright;
mod phases;
mod tokens;
mod units;
mod usage;

pub use dialect::{Dialect, Dialects, Standard};
pub use fortran::{Module, SourceForm, Submodule, Units};
pub use outright::{Changes, surely_differs};
pub use tokens::{Asks, Include, ONCE, Tokens};
pub use units::UnitsMemo;
pub use usage::{NameIndex, TokenMemo, Usage};

#[cfg(test)]
mod tests;
