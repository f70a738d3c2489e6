//! The tree's own tests.

use super::Condition;
use super::generator::{SourceFile, Variable};
use super::interp::Interp;
use super::need::NeedId;
use super::option::OptionId;
use super::part::PartId;
use crate::base::Id;

/// The id of a [`TestDef`].
pub type TestId = Id<TestDef>;

/// One of the tree's own tests.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct TestDef {
    /// Its name.
    pub name: String,
    /// One line about it.
    pub summary: String,
    /// The program with its arguments.
    pub command: Vec<Interp>,
    /// Runs only while this holds.
    pub when: Option<Condition>,
    /// Needs that it has and that nothing else may have; it is not there while one is not met.
    pub needs: Vec<NeedId>,
    /// How long it may take, in seconds.
    pub limit_seconds: u64,
    /// Parts that it runs.
    pub parts: Vec<PartId>,
    /// Options that its command and its variables look at.
    pub options: Vec<OptionId>,
    /// Variables of its environment.
    pub environment: Vec<(String, Variable)>,
    /// The folder that it runs in.
    pub folder: TestFolder,
    /// What it reads as its standard input.
    pub input: Option<SourceFile>,
    /// The file that holds what it must write to its standard output.
    pub output: Option<SourceFile>,
    /// Exit codes that mean that it passed.
    pub success: Vec<i32>,
    /// Tests that have ended before it starts.
    pub after: Vec<TestId>,
    /// Names of what only one test uses at a time.
    pub locks: Vec<String>,
    /// Whether others run beside it.
    pub company: Company,
    /// When it runs unless somebody names it.
    pub pace: Pace,
}

/// The folder that a test runs in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum TestFolder {
    /// The folder of outputs.
    Outputs,
    /// An empty folder of its own.
    Scratch,
}

/// Whether other tests run beside one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Company {
    /// They may.
    Others,
    /// None does.
    Alone,
}

/// When a test runs unless somebody names it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Pace {
    /// Always.
    Usual,
    /// Only where slow ones are asked for.
    Slow,
}
