//! What was found out, with the evidence.

use std::collections::BTreeMap;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use crate::board::{Board, NeedId, PartId, Provider};

/// What was found out about one need.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Fact {
    /// The need.
    pub need: NeedId,
    /// What is there.
    pub state: FactState,
    /// What was looked at, in order.
    pub evidence: Vec<Evidence>,
    /// All copies that were seen, the one in use first. Fewer than two are no news.
    pub copies: Vec<Copy>,
    /// The needs that meet it, when it is made of others.
    pub met_by: Vec<NeedId>,
    /// Who a person wants it to be met by.
    pub provider: Option<Provider>,
    /// Whether it was looked for, or taken as told.
    pub source: FactSource,
}

/// Where a fact comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum FactSource {
    /// The host was looked at.
    Looked,
    /// It was assumed on the command line.
    Assumed,
    /// It was read from a file of facts.
    Saved,
}

/// What a built file says of a need that is found and has no version.
const FOUND: &str = "found";
/// What it says of one that is not found.
const MISSING: &str = "missing";
/// What it says before the part that stands in for one.
const OWN_COPY: &str = "the tree's own, ";

/// Whether a need is met.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum FactState {
    /// The host has it.
    Found(Found),
    /// The tree's own copy stands in.
    Bundled(PartId),
    /// It is not to be had.
    Missing(Missing),
}

/// How a found need is used.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Found {
    /// Its version, where it says one.
    pub version: Option<String>,
    /// Where it is: its metadata file, header, program or file.
    pub place: Option<PathBuf>,
    /// Flags for compiles that use it.
    pub compile_flags: Vec<String>,
    /// Flags for links that use it.
    pub link_flags: Vec<String>,
}

/// Why a need is not met.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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
    /// The person does not want it.
    SwitchedOff {
        /// Whether it would be there.
        there: Presence,
    },
    /// None of several was met, or not all of them.
    Others {
        /// The needs that are not met.
        lacking: Vec<NeedId>,
    },
    /// It could not be looked for, because the compiler does not work.
    NotAsked,
}

/// Whether what a person does not want is there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Presence {
    /// It is, with its version where it says one.
    There(Option<String>),
    /// It is not.
    NotThere,
}

/// One copy of what several copies were seen of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Copy {
    /// Where it is.
    pub place: PathBuf,
    /// Its version, where it says one without being run.
    pub version: Option<String>,
    /// Whether it is the one that counts.
    pub rank: CopyRank,
}

/// Which of several copies counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum CopyRank {
    /// The one in use.
    InUse,
    /// A later one in the order of searching.
    Later,
    /// One where nobody looks by default.
    Aside,
}

/// One thing that was tried.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Evidence {
    /// What was tried.
    pub tried: String,
    /// What came back: the first line that says it.
    pub found: String,
    /// The command that asks just this.
    pub command: Option<String>,
    /// The program that the command reads.
    pub program: Option<String>,
    /// All that came back.
    pub words: Vec<String>,
}

/// The facts about all needs of a board, in the order of needs.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Facts {
    facts: Vec<Fact>,
    /// Why the compiler cannot be asked, when it cannot.
    pub compiler_fault: Option<String>,
}

impl Fact {
    /// The fact in words, as a built file tells it; `None` where nobody asked.
    pub fn in_words(&self, board: &Board) -> Option<String> {
        Some(match &self.state {
            FactState::Found(found) => found.version.clone().unwrap_or_else(|| FOUND.into()),
            FactState::Bundled(part) => format!("{OWN_COPY}{}", board.parts[*part].name),
            FactState::Missing(Missing::NotAsked) => return None,
            FactState::Missing(_) => MISSING.into(),
        })
    }

    /// Makes a fact that has only a state.
    pub fn plain(need: NeedId, state: FactState, source: FactSource) -> Fact {
        Fact { need, state, evidence: Vec::new(), copies: Vec::new(), met_by: Vec::new(), provider: None, source }
    }

    /// Tells whether the need is met.
    pub fn is_met(&self) -> bool {
        !matches!(self.state, FactState::Missing(_))
    }

    /// Tells whether it could not be looked for, because the compiler does not work.
    pub fn was_not_asked(&self) -> bool {
        self.state == FactState::Missing(Missing::NotAsked)
    }

    /// Returns how it is used, when the host has it.
    pub fn found(&self) -> Option<&Found> {
        match &self.state {
            FactState::Found(found) => Some(found),
            FactState::Bundled(_) | FactState::Missing(_) => None,
        }
    }
}

impl Facts {
    /// Returns the facts as if the host had these needs too.
    pub fn with_assumed(&self, needs: &[NeedId]) -> Facts {
        let mut facts = self.clone();
        for fact in facts.facts.iter_mut().filter(|fact| needs.contains(&fact.need)) {
            *fact = Fact::plain(fact.need, FactState::Found(Found::default()), FactSource::Assumed);
        }
        facts
    }

    /// Returns the facts of another host as a built file tells them, in words by need; of needs that it does not tell of, these stay.
    pub fn as_told(&self, board: &Board, told: &BTreeMap<String, String>) -> Facts {
        let mut facts = self.clone();
        for fact in &mut facts.facts {
            let Some(words) = told.get(&board.needs[fact.need].name) else { continue };
            // How it is used is known only where the same is here.
            if fact.in_words(board).as_ref() == Some(words) {
                continue;
            }
            let version = (words != FOUND).then(|| words.clone());
            let state = match words.strip_prefix(OWN_COPY).and_then(|part| board.part(part)) {
                Some(part) => FactState::Bundled(part),
                None if words == MISSING => FactState::Missing(Missing::Absent),
                None => FactState::Found(Found { version, ..Found::default() }),
            };
            *fact = Fact::plain(fact.need, state, FactSource::Saved);
        }
        facts
    }

    /// Takes facts in the order of needs.
    pub fn new(facts: Vec<Fact>) -> Facts {
        Facts { facts, compiler_fault: None }
    }

    /// Tells whether these can be facts about a board: one for each need, naming only what is on it.
    pub(super) fn fit(&self, board: &Board) -> bool {
        let known = |need: &NeedId| need.index() < board.needs.len();
        let fits = |(index, fact): (usize, &Fact)| {
            let part = match &fact.state {
                FactState::Bundled(part) => part.index() < board.parts.len(),
                FactState::Missing(Missing::Others { lacking }) => lacking.iter().all(known),
                FactState::Found(_) | FactState::Missing(_) => true,
            };
            let provider = match &fact.provider {
                Some(Provider::Need(need)) => known(need),
                Some(_) | None => true,
            };
            fact.need.index() == index && part && provider && fact.met_by.iter().all(known)
        };
        self.facts.len() == board.needs.len() && self.facts.iter().enumerate().all(fits)
    }

    /// Returns the fact about a need.
    pub fn get(&self, need: NeedId) -> Option<&Fact> {
        self.facts.get(need.index())
    }

    /// Tells whether a need is met.
    pub fn has(&self, need: NeedId) -> bool {
        self.get(need).is_some_and(Fact::is_met)
    }

    /// Returns the facts that meet a need: its own, or those of the needs that it is made of.
    pub fn meeting(&self, need: NeedId) -> Vec<&Fact> {
        match self.get(need) {
            Some(fact) if fact.met_by.is_empty() => vec![fact],
            Some(fact) => fact.met_by.iter().flat_map(|member| self.meeting(*member)).collect(),
            None => Vec::new(),
        }
    }

    /// Returns all facts.
    pub fn iter(&self) -> impl Iterator<Item = &Fact> {
        self.facts.iter()
    }

    /// Returns these facts with the one about a need taken from others.
    pub fn with(mut self, other: Facts, need: NeedId) -> Facts {
        if let (Some(mine), Some(theirs)) =
            (self.facts.get_mut(need.index()), other.facts.into_iter().nth(need.index()))
        {
            *mine = theirs;
        }
        self
    }

    /// Tells whether any fact was assumed or read rather than looked for.
    pub fn any_not_looked_for(&self) -> bool {
        self.facts.iter().any(|fact| fact.source != FactSource::Looked)
    }
}
