//! One tree, opened for one person's questions: what every front end starts from.
//!
//! A [`Session`] owns the board and knows where everything is kept. It resolves choices, makes plans, previews them, builds and verifies,
//! and decides which tools do it, what a build is sealed with, what the ledger says of it and when the store is trimmed. It shows nothing:
//! a front end asks, and renders what comes back.
//!
//! ```text
//! Whereabouts::find ─► standing (from the seal alone) ─► Session::open ─► resolve ─► plan ─► preview
//!                                                                            └─► begin ─► lock ─► build ─► verify
//! ```

mod add_on;
mod before;
mod build;
mod changes;
mod compiler;
mod earlier;
mod entry;
mod fault;
mod fetch;
mod fits;
mod hand;
mod host;
mod open;
mod place;
mod plan;
mod scope;
mod seal;
mod shared;

pub use add_on::{AddOnFault, Brought, Incoming};
pub use build::{Begun, BuildAsk, Built, Start, Verified};
pub use changes::Carried;
pub use compiler::{CompilerGap, Refused};
pub use earlier::ChangeStanding;
pub use fault::SessionFault;
pub use fetch::FetchStanding;
pub use hand::HandingAhead;
pub use host::{as_root, is_own_target};
pub use open::{Resolved, Session};
pub use place::{WORK, Whereabouts};
pub use plan::{Memory, Planned};
pub use scope::{OwnProgram, Scope, Surroundings};
pub use seal::TRACE_VARIABLE;

#[cfg(test)]
mod tests;
