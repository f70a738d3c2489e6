//! The steps executed: order, jobs, output kept whole, interruption, going on after a kill.

mod build;
mod course;
mod execute;
mod failure;
mod footing;
mod graph;
mod job;
mod jobs;
mod named;
mod observe;
mod same_text;
mod searched;
mod seen;
mod tests_of_tree;
mod traced;
mod verify;
mod watched;

pub use build::{AfterFailure, BuildFault, BuildInput, BuildReport, Ran, Reads, Span, Watch, build};
pub use failure::{Cause, Failure, FirstError, first_error};
pub use footing::Watching;
pub use jobs::{Jobs, available_memory};
pub use tests_of_tree::{Rerun, TestOutcome, TestReport, TestsInput, run_tests};
pub use verify::{Difference, Unlike, Verification, verify};
pub use watched::{SealWanted, Since};

#[cfg(test)]
mod tests;
