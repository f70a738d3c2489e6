//! A resolution becomes steps with keys: what each reads, writes and sees, why it would run, and what it will cost.

mod basis;
mod content;
mod fill;
mod flags;
mod interface;
mod judge;
mod location;
mod look;
mod compile;
mod lower;
mod link;
mod macros;
mod now;
mod preview;
mod quick;
mod search;
mod step;
mod touched;
mod verdict;

pub use basis::Basis;
pub use flags::{Flags, Known, leaves_more};
pub use interface::interface_digest;
pub use judge::{Forms, Judge};
pub use location::Location;
pub use look::Look;
pub use lower::{PlanFault, PlanInput, PlanProblem, Wanted, lower, lower_some};
pub use macros::{HeaderText, MacroTable, macro_table};
pub use preview::{Preview, PreviewStep, Timing, Timings, Work, preview};
pub use quick::QuickJudge;
pub use search::HeaderSearch;
pub use step::{Action, Command, Finds, Fragment, Plan, Setting, Step, StepId, Tool, ToolPlace, Word};
pub use touched::{PartsToPlan, Touched, Touching};
pub use verdict::{Ahead, Alike, Judged, Reason, TextChanges, Verdict};

#[cfg(test)]
mod tests;
