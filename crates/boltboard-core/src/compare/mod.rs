//! Two or more configurations side by side, as data: values with the causes behind their differences, parts, sources, flags, steps, sizes.
//!
//! ```text
//! Side (board, choices, facts, values) ─► values: rows that differ ─► causes: the few choices, facts and defaults behind them
//! Plan ─► plans: parts and steps      ─► contents: sources and flags of parts ─► sizes of what was built
//! ```

mod causes;
mod contents;
mod plans;
mod sizes;
mod values;

pub use causes::{CauseKind, Resolving, RootCause, RootCauses, causes};
pub use contents::{FlagDifference, PartContents, contents};
pub use plans::{PartDifference, PartState, PlanDifference, PlanSide, parts, plans};
pub use sizes::{SectionSizes, Sizes, sizes};
pub use values::{Row, Rows, Side, ValueDifference, rows, values};

#[cfg(test)]
mod causes_tests;
#[cfg(test)]
mod plans_tests;
