//! JSON answers: structs of their own, with a format number; documented in `docs/json.md`.

mod board;
mod build;
mod deliver;
mod lint;
mod reach;
mod survey;

pub use board::{options, overview, profile, profile_check, profile_list, show, why};
pub use build::{Compared, compare, ledger, preview};
pub use deliver::{install, uninstall};
pub use lint::lint;
pub use reach::{reach, reach_already, reach_never, why_not};
pub use survey::{hosts, survey, toolchains};

/// The format of all answers; it grows when a field changes its meaning or goes.
pub const FORMAT: u32 = 1;
