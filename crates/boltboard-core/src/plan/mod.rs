//! A resolution becomes steps: what each runs, reads and writes.

mod compile;
mod content;
mod fault;
mod fill;
mod flags;
mod fortran;
mod generate;
mod kit;
mod link;
mod lower;
mod macros;
mod metadata;
mod modules;
mod recorded;
mod service;
mod steps;
mod used;

pub use fault::{PlanFault, PlanProblem};
pub use lower::{PlanInput, Wanted, lower, lower_some};
pub use macros::{HeaderText, MacroEntry, MacroTable, macro_table};
pub use recorded::{Recorder, is_recorded, tells_of};
pub use service::{Port, Protocol, ServiceNow};
pub use steps::Plan;

#[cfg(test)]
mod tests;
