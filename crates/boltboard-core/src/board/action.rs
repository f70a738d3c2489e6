//! What is to be done after an installation: a linker's cache, an index, a service manager that reads its files anew.

use super::{Condition, Interp};

/// Something that is run once files are in place.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct ActionDef {
    /// Its name.
    pub name: String,
    /// One line about it.
    pub summary: String,
    /// It is done only while this holds.
    pub when: Option<Condition>,
    /// A program with its arguments, run after installing and after going back.
    pub run: Vec<Interp>,
    /// The same after a removal; nothing is done then where it is empty.
    pub undo: Vec<Interp>,
    /// Who can run it.
    pub by: ActionBy,
    /// What it means that the program is not there.
    pub absent: ActionAbsent,
}

/// Who can run an action.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum ActionBy {
    /// Whoever installs.
    Anyone,
    /// The administrator.
    Root,
}

/// What it means that the program of an action is not there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum ActionAbsent {
    /// This machine does without; it is told.
    Skip,
    /// Nothing is installed.
    Fail,
}
