//! JSON answers: structs of their own, with a format number; documented in `docs/json.md`.

mod board;
mod build;
mod deliver;
mod lint;
mod ways;
mod survey;

pub use board::{options, overview, profile, profile_check, profile_list, show, why};
pub use build::{Compared, compare, ledger, preview};
pub use deliver::{install, uninstall};
pub use lint::lint;
pub use survey::{hosts, survey, toolchains};
pub use ways::{ways, ways_already, ways_never, why_not};

/// The format of all answers; it grows when a field changes its meaning or goes.
pub const FORMAT: u32 = 1;
