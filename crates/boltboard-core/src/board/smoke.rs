//! What shows that an installed program works: short runs, and what they must say.

use super::Condition;
use super::interp::Interp;
use super::part::{PartId, When};

/// A short run of an installed program.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct SmokeDef {
    /// Its name.
    pub name: String,
    /// One line about it.
    pub summary: String,
    /// It is run only while this holds.
    pub when: Option<Condition>,
    /// The program; it is installed.
    pub program: PartId,
    /// Its arguments.
    pub arguments: Vec<When<Interp>>,
    /// What it must say.
    pub says: Vec<When<Interp>>,
    /// What it must not say.
    pub silent: Vec<When<Interp>>,
    /// Exit codes that mean that it works.
    pub success: Vec<i32>,
    /// How long it may take, in seconds.
    pub limit_seconds: u64,
}

impl SmokeDef {
    /// Returns its lists of texts that conditions can leave out.
    pub fn lists(&self) -> [&[When<Interp>]; 3] {
        [&self.arguments, &self.says, &self.silent]
    }
}
