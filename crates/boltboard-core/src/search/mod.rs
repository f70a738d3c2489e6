//! Finding options by words: in names, macros, section titles, summaries, file names and help; ranked, and tolerant of typing
//! errors. The index is made once per board.

mod filter;
mod index;

pub use filter::{Filter, FilterFault, State, read_filters};
pub use index::{Found, SearchIndex};

#[cfg(test)]
mod tests;
