//! JSON answers: structs of their own, with a format number; documented in `docs/json.md`.

mod adopt;
mod board;
mod build;
mod built;
mod deliver;
mod fault;
mod lint;
mod moved;
mod profiles;
mod ready;
mod shared;
mod workers;
mod survey;
mod ways;
mod why;

pub use adopt::{adopt_again, adopt_differed, adopt_drawn, adopt_hints, adopt_proof, adopt_seen, adopted};
pub use board::{options, overview, profile, profile_check, profile_list, show};
pub use build::{ledger, preview};
pub use built::{built, tests};
pub use deliver::{ActionTold, KeptTold, install, installed, removed, uninstall};
pub use fault::{done, errors};
pub use lint::lint;
pub use moved::moves;
pub use profiles::{merged, reshaped};
pub use ready::checked;
pub use shared::{pruned, shared, stocked};
pub use survey::{hosts, survey, toolchains};
pub use ways::{against, ways, ways_already, ways_never, why_not};
pub use why::why;
pub use workers::{crew, crews};

/// The format of all answers; it grows when a field changes its meaning or goes.
pub const FORMAT: u32 = 1;
