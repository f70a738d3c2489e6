//! The steps executed: order, jobs, output kept whole, interruption, going on after a kill.

mod away;
mod build;
mod course;
mod diagnosis;
mod ended;
mod execute;
mod failure;
mod graph;
mod jobs;
mod reaches;
mod same_text;
mod stands;
mod tests_of_tree;
mod verify;

pub use build::{AfterFailure, BuildFault, BuildInput, BuildReport, Ran, Reads, Span, Watch, build};
pub use diagnosis::{Diagnosis, FlagFrom, Hint, Undefined, WasIn};
pub use failure::{Cause, Failure, FirstError, LeftOver, first_error, signal_words};
pub use jobs::{Jobs, available_memory};
pub use stands::Watching;
pub use tests_of_tree::{Rerun, TestEvent, TestOutcome, TestReport, TestsInput, run_tests};
pub use verify::{Difference, Unlike, Verification, verify};

#[cfg(test)]
mod tests;
