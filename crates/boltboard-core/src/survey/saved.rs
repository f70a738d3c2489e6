//! Facts as a file: saved, read on another machine, and compared.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::{Fact, FactSource, FactState, Facts, Found, Missing, Presence};
use crate::base::FileError;
use crate::base::files::{read_text, write_whole};
use crate::board::Board;

/// What is kept of a host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct HostRecord {
    format: u32,
    /// The tree that the facts are about.
    pub tree: String,
    /// The host itself.
    pub host: HostTraits,
    /// What was found out about each need, by name.
    #[serde(default)]
    pub need: BTreeMap<String, NeedRecord>,
}

/// What tells hosts apart.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct HostTraits {
    /// The distribution, such as `Debian 12`.
    pub distribution: String,
    /// The C compiler with its version, such as `gcc 12.2.0`.
    pub compiler: String,
    /// What the compiler makes programs for.
    pub target: String,
    /// How the compiler was called for.
    #[serde(default)]
    pub called: String,
    /// What the toolchain's environment sets.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub environment: BTreeMap<String, String>,
}

/// What is kept about a need.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct NeedRecord {
    /// Whether it is met, or why not.
    pub state: RecordedState,
    /// Its version.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// Where it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<PathBuf>,
    /// Why it cannot be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// Flags for compiles.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub compile_flags: Vec<String>,
    /// Flags for links.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub link_flags: Vec<String>,
    /// The needs that meet it, when it is made of others.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub met_by: Vec<String>,
    /// Who a person wanted it to be met by.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub provider: Option<String>,
}

/// The state of a need as it is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RecordedState {
    /// The host has it.
    Found,
    /// The tree's own copy stands in.
    Bundled,
    /// Nothing of it is there.
    Missing,
    /// It is there in a version that does not fit.
    WrongVersion,
    /// It is there and cannot be used.
    Unusable,
    /// The person does not want it.
    SwitchedOff,
    /// Needs that it is made of are not met.
    NotMet,
    /// It could not be looked for.
    NotAsked,
}

impl RecordedState {
    /// Says it in words.
    pub fn words(self) -> &'static str {
        match self {
            RecordedState::Found => "found",
            RecordedState::Bundled => "the bundled copy",
            RecordedState::Missing => "missing",
            RecordedState::WrongVersion => "does not fit",
            RecordedState::Unusable => "cannot be used",
            RecordedState::SwitchedOff => "switched off",
            RecordedState::NotMet => "not met",
            RecordedState::NotAsked => "not looked for",
        }
    }
}

/// Why a file of facts cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum RecordFault {
    /// It cannot be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// It is not there.
    #[error("there is no file {0}")]
    Absent(PathBuf),
    /// It is not in our format.
    #[error("{file}:{line}: {reason}")]
    Wrong {
        /// The file.
        file: PathBuf,
        /// The line, one-based.
        line: usize,
        /// What is wrong.
        reason: String,
    },
    /// It is about another tree.
    #[error("{file} holds facts for the tree `{found}`, not for `{tree}`")]
    OtherTree {
        /// The file.
        file: PathBuf,
        /// What it says.
        found: String,
        /// The tree at hand.
        tree: String,
    },
}

/// The format that is written.
const FORMAT: u32 = 1;
/// The largest file that is read, in bytes.
const MAX_FILE: u64 = 16 * 1024 * 1024;

impl HostRecord {
    /// Takes down facts.
    pub fn of(board: &Board, facts: &Facts, host: HostTraits) -> HostRecord {
        let need =
            facts.iter().map(|fact| (board.needs[fact.need].name.clone(), NeedRecord::of(board, fact))).collect();
        HostRecord { format: FORMAT, tree: board.tree.name.clone(), host, need }
    }

    /// Reads a file of facts about this tree.
    ///
    /// # Errors
    /// See [`RecordFault`].
    pub fn load(path: &Path, tree: &str) -> Result<HostRecord, RecordFault> {
        let wrong = |line: usize, reason: String| RecordFault::Wrong { file: path.to_path_buf(), line, reason };
        if std::fs::metadata(path).is_ok_and(|status| status.len() > MAX_FILE) {
            return Err(wrong(1, "it is larger than 16 MiB".into()));
        }
        let text = read_text(path)?.ok_or_else(|| RecordFault::Absent(path.to_path_buf()))?;
        let record: HostRecord = toml_edit::de::from_str(&text).map_err(|e| {
            let at = e.span().map_or(0, |span| span.start.min(text.len()));
            wrong(text[..at].matches('\n').count() + 1, e.message().trim().replace('\n', "; "))
        })?;
        if record.format != FORMAT {
            return Err(wrong(
                1,
                format!("this program reads format {FORMAT}, the file is in format {}", record.format),
            ));
        }
        if record.tree != tree {
            let file = path.to_path_buf();
            return Err(RecordFault::OtherTree { file, found: record.tree, tree: tree.to_string() });
        }
        Ok(record)
    }

    /// Writes the facts, aside and then into place.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn save(&self, path: &Path) -> Result<(), FileError> {
        let head = "# What a survey found out about a host; `boltboard survey --against` reads it.\n";
        let text = toml_edit::ser::to_string_pretty(self).expect("facts are plain data");
        write_whole(path, format!("{head}{text}").as_bytes())
    }

    /// Returns the facts, as if this were the host that they were found on. A need that the file does not know was not asked.
    pub fn facts(&self, board: &Board) -> Facts {
        let fact = |(id, need): (crate::board::NeedId, &crate::board::NeedDef)| {
            let state = match self.need.get(&need.name) {
                Some(record) => record.state(board, need),
                None => FactState::Missing(Missing::NotAsked),
            };
            let mut fact = Fact::plain(id, state, FactSource::Saved);
            let met_by = self.need.get(&need.name).map_or(&[][..], |record| &record.met_by);
            fact.met_by = met_by.iter().filter_map(|name| board.need(name)).filter(|member| *member != id).collect();
            fact
        };
        Facts::new(board.needs.iter().map(fact).collect())
    }
}

impl NeedRecord {
    fn of(board: &Board, fact: &Fact) -> NeedRecord {
        let mut record = NeedRecord {
            state: RecordedState::Found,
            version: None,
            place: None,
            reason: None,
            compile_flags: Vec::new(),
            link_flags: Vec::new(),
            met_by: fact.met_by.iter().map(|need| board.needs[*need].name.clone()).collect(),
            provider: fact.provider.as_ref().map(|provider| provider.text(board)),
        };
        match &fact.state {
            FactState::Found(found) => {
                record.version.clone_from(&found.version);
                record.place.clone_from(&found.place);
                record.compile_flags.clone_from(&found.compile_flags);
                record.link_flags.clone_from(&found.link_flags);
            }
            FactState::Bundled(_) => record.state = RecordedState::Bundled,
            FactState::Missing(missing) => {
                record.state = match missing {
                    Missing::Absent => RecordedState::Missing,
                    Missing::WrongVersion { .. } => RecordedState::WrongVersion,
                    Missing::Unusable { .. } => RecordedState::Unusable,
                    Missing::SwitchedOff { .. } => RecordedState::SwitchedOff,
                    Missing::Others { .. } => RecordedState::NotMet,
                    Missing::NotAsked => RecordedState::NotAsked,
                };
                if let Missing::WrongVersion { found } = missing {
                    record.version = Some(found.clone());
                }
                if let Missing::Unusable { reason } = missing {
                    record.reason = Some(reason.clone());
                }
            }
        }
        record
    }

    fn state(&self, board: &Board, need: &crate::board::NeedDef) -> FactState {
        let missing = |missing| FactState::Missing(missing);
        match (self.state, need.bundled) {
            (RecordedState::Found, _) => FactState::Found(Found {
                version: self.version.clone(),
                place: self.place.clone(),
                compile_flags: self.compile_flags.clone(),
                link_flags: self.link_flags.clone(),
            }),
            (RecordedState::Bundled, Some(part)) => FactState::Bundled(part),
            (RecordedState::Missing | RecordedState::Bundled, _) => missing(Missing::Absent),
            (RecordedState::WrongVersion, _) => {
                missing(Missing::WrongVersion { found: self.version.clone().unwrap_or_default() })
            }
            (RecordedState::Unusable, _) => {
                missing(Missing::Unusable { reason: self.reason.clone().unwrap_or_default() })
            }
            (RecordedState::SwitchedOff, _) => missing(Missing::SwitchedOff { there: Presence::NotThere }),
            (RecordedState::NotMet, _) => {
                missing(Missing::Others { lacking: self.met_by.iter().filter_map(|name| board.need(name)).collect() })
            }
            (RecordedState::NotAsked, _) => missing(Missing::NotAsked),
        }
    }

    /// Says what is there, in a few words.
    pub fn words(&self) -> String {
        let version = self.version.as_ref().map_or(String::new(), |version| format!(" {version}"));
        let place = self.place.as_ref().map_or(String::new(), |place| format!(" at {}", place.display()));
        let by = if self.met_by.is_empty() { String::new() } else { format!(" by {}", self.met_by.join(", ")) };
        match self.state {
            RecordedState::Found if version.is_empty() => format!("found{by}{place}"),
            RecordedState::Found => format!("version{version}{by}{place}"),
            other => format!("{}{version}", other.words()),
        }
    }
}

/// Something in which two hosts differ.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostDifference {
    /// What differs.
    pub what: Differing,
    /// How it was, or is on the first host.
    pub before: String,
    /// How it is now, or on the second host.
    pub after: String,
}

/// What can differ between hosts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Differing {
    /// The distribution.
    Distribution,
    /// The compiler.
    Compiler,
    /// What programs are made for.
    Target,
    /// What the toolchain's environment sets a variable to.
    Variable(String),
    /// A need, by name.
    Need(String),
}

/// Returns what has changed on one host by itself: not what a person asked for in between, such as another compiler or provider.
pub fn changes(before: &HostRecord, after: &HostRecord) -> Vec<HostDifference> {
    if before.host.called != after.host.called {
        return Vec::new();
    }
    let provider = |record: &HostRecord, name: &str| record.need.get(name).and_then(|need| need.provider.clone());
    let mut list = differences(before, after);
    list.retain(|difference| match &difference.what {
        Differing::Need(name) => provider(before, name) == provider(after, name),
        Differing::Distribution | Differing::Compiler | Differing::Target | Differing::Variable(_) => true,
    });
    list
}

/// Returns all in which two hosts differ, needs in the order of their names.
pub fn differences(before: &HostRecord, after: &HostRecord) -> Vec<HostDifference> {
    let mut list = Vec::new();
    let mut add = |what, before: String, after: String| {
        if before != after {
            list.push(HostDifference { what, before, after });
        }
    };
    add(Differing::Distribution, before.host.distribution.clone(), after.host.distribution.clone());
    add(Differing::Compiler, before.host.compiler.clone(), after.host.compiler.clone());
    add(Differing::Target, before.host.target.clone(), after.host.target.clone());
    let set = |record: &HostRecord, name: &str| record.host.environment.get(name).cloned().unwrap_or_default();
    let variables: BTreeSet<&String> = before.host.environment.keys().chain(after.host.environment.keys()).collect();
    for name in variables {
        add(Differing::Variable(name.clone()), set(before, name), set(after, name));
    }
    for (name, now) in &after.need {
        // A need that is new on the board is no difference of the hosts.
        let Some(was) = before.need.get(name) else { continue };
        if was.state == RecordedState::NotAsked || now.state == RecordedState::NotAsked {
            continue;
        }
        let same =
            (was.state, &was.version, &was.place, &was.met_by) == (now.state, &now.version, &now.place, &now.met_by);
        if !same {
            add(Differing::Need(name.clone()), was.words(), now.words());
        }
    }
    list
}
