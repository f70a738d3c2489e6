//! Needs become facts with evidence. The one folder that probes the host; it runs the compiler, never code of the tree.

mod check;
mod compiler;
mod memo;
mod metadata;

use std::path::PathBuf;

use crate::board::{Board, NeedId, PartId};
use crate::launch::Launch;

pub use compiler::{Compiler, CompilerFault, Language, Tools, identify};
pub use memo::ProbeMemo;
pub use metadata::{Metadata, MetadataFault};

#[cfg(test)]
mod tests;

/// What the host offers for the search; handed in, so that tests can hand in another one.
#[derive(Debug, Clone)]
pub struct Host {
    /// The search path for programs, as in `PATH`.
    pub search_path: String,
    /// Folders searched for installed metadata files, first to last.
    pub metadata_folders: Vec<PathBuf>,
    /// A folder for check programs; removed by its owner.
    pub scratch: PathBuf,
}

/// What was found out about one need.
#[derive(Debug, Clone)]
pub struct Fact {
    /// The need.
    pub need: NeedId,
    /// What is there.
    pub state: FactState,
    /// What was looked at, in order.
    pub evidence: Vec<Evidence>,
}

/// Whether a need is met.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FactState {
    /// The host has it.
    Found(Found),
    /// The host does not have it; the tree's own copy stands in.
    Bundled(PartId),
    /// It is not to be had.
    Missing(Missing),
}

/// How a found need is used.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Found {
    /// Its version, where it says one.
    pub version: Option<String>,
    /// Flags for compiles that use it.
    pub compile_flags: Vec<String>,
    /// Flags for links that use it.
    pub link_flags: Vec<String>,
}

/// Why a need is not met.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Missing {
    /// Nothing of it was seen.
    Absent,
    /// It is there in a version that does not fit.
    WrongVersion {
        /// The version that is there.
        found: String,
    },
    /// Some of it is there, but it cannot be used.
    Unusable {
        /// What is wrong, in the words of who tried.
        reason: String,
    },
}

/// One thing that was tried.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Evidence {
    /// What was tried.
    pub tried: String,
    /// What came back.
    pub found: String,
}

/// The facts about all needs of a board, in the order of needs.
#[derive(Debug, Clone, Default)]
pub struct Facts {
    facts: Vec<Fact>,
}

impl Facts {
    /// Takes facts in the order of needs.
    pub fn new(facts: Vec<Fact>) -> Facts {
        Facts { facts }
    }

    /// Returns the fact about a need.
    pub fn get(&self, need: NeedId) -> Option<&Fact> {
        self.facts.get(need.index())
    }

    /// Tells whether a need is met.
    pub fn has(&self, need: NeedId) -> bool {
        self.get(need).is_some_and(|fact| !matches!(fact.state, FactState::Missing(_)))
    }

    /// Returns all facts.
    pub fn iter(&self) -> impl Iterator<Item = &Fact> {
        self.facts.iter()
    }
}

/// Everything that checks are made with.
#[derive(Clone, Copy)]
pub struct Prober<'a> {
    /// What the host offers.
    pub host: &'a Host,
    /// The C compiler, if there is one that works.
    pub compiler: Option<&'a Compiler>,
    /// Starts processes.
    pub launch: &'a dyn Launch,
    /// What was answered before.
    pub memo: &'a ProbeMemo,
}

/// Looks for every need of a board, all at once.
pub fn survey(board: &Board, prober: Prober<'_>) -> Facts {
    let facts = std::thread::scope(|scope| {
        let check = |(id, need)| scope.spawn(move || check::need(id, need, prober));
        let checks: Vec<_> = board.needs.iter().map(check).collect();
        checks.into_iter().map(|check| check.join()).collect::<Vec<_>>()
    });
    let panicked = |id| Fact {
        need: id,
        state: FactState::Missing(Missing::Unusable { reason: "the check itself failed".into() }),
        evidence: vec![],
    };
    let ids = board.needs.ids();
    Facts::new(facts.into_iter().zip(ids).map(|(fact, id)| fact.unwrap_or_else(|_| panicked(id))).collect())
}
