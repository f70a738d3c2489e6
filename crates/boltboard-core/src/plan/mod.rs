//! A resolution becomes steps with keys: what each reads, writes and sees, why it would run, and what it will cost.

mod content;
mod fill;
mod interface;
mod judge;
mod location;
mod compile;
mod lower;
mod link;
mod macros;
mod preview;
mod quick;
mod step;
mod tokens;
mod usage;

pub use interface::interface_digest;
pub use judge::{Ahead, Alike, Judge, Judged, Reason, TextChanges, Verdict};
pub use location::Location;
pub use lower::{PlanFault, PlanInput, PlanProblem, lower};
pub use macros::{HeaderText, MacroTable, macro_table};
pub use preview::{Preview, PreviewStep, Timing, Timings, Work, preview};
pub use quick::QuickJudge;
pub use step::{Action, Finds, Fragment, Plan, Step, StepId, Tool, ToolPlace, Word};
pub use tokens::{Include, Tokens};
pub use usage::{NameIndex, TokenMemo, Usage};

#[cfg(test)]
mod tests;
