//! A profile of one version of a tree becomes one of another version.
//!
//! The newer board says what became of options: old names, values that are called something else, options that were split or are gone. Each
//! choice of the profile has a fate; none is lost: what cannot be carried stays in the file as a comment, with the reason.

mod value;
mod written;

use std::collections::BTreeMap;

use crate::base::{Version, near_matches};
use crate::board::{Board, DecidedBy, NEED_PREFIX, Provider, ValueFault};

use value::ValueNow;
pub use written::{Unreadable, Written};

/// What became of a choice.
#[derive(Debug, Clone, PartialEq)]
pub enum Fate {
    /// It is as it was.
    Kept,
    /// The option has another name; its value, too, where `to` says one.
    Renamed {
        /// The name now.
        name: String,
        /// The value now, where it is another one.
        to: Option<Becomes>,
    },
    /// The value is another one.
    Changed(Becomes),
    /// The option is several now.
    Split {
        /// What is chosen instead, as `OPTION=VALUE`.
        into: Vec<String>,
        /// A word about it.
        note: String,
    },
    /// The option is gone.
    Gone {
        /// The first version without it.
        since: Option<String>,
        /// What to use instead.
        note: String,
    },
    /// It cannot be carried; a person has to decide.
    Open(Open),
}

/// Another value that keeps the meaning.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Becomes {
    /// The value.
    pub value: String,
    /// ValueReason it is this one.
    pub why: ValueReason,
}

/// ValueReason a value is carried as another one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ValueReason {
    /// The board says so.
    Said,
    /// The option is of another kind, in which this is the same.
    Kind,
    /// It is the nearest in a range that is smaller now, which ends in these words.
    Nearest(String),
    /// A person said so.
    Person,
}

/// ValueReason a choice cannot be carried.
#[derive(Debug, Clone, PartialEq)]
pub enum Open {
    /// There is no such option, and nothing is said about it.
    Unknown {
        /// Names that come near.
        near: Vec<String>,
    },
    /// The option does not accept the value.
    Value {
        /// The option's name now.
        name: String,
        /// What is wrong.
        fault: ValueFault,
    },
    /// The option was split, and nothing is said about this value.
    SplitValue {
        /// A word about it.
        note: String,
    },
    /// Nobody chooses the option any more.
    Derived {
        /// The option's name now.
        name: String,
    },
    /// Another choice says something else about the same option.
    Twice {
        /// The option's name now.
        name: String,
        /// What the other one says.
        other: String,
    },
    /// There is no such need, or it cannot be met so.
    Need {
        /// Names that come near.
        near: Vec<String>,
    },
}

/// A choice with its fate.
#[derive(Debug, Clone, PartialEq)]
pub struct CarriedChoice {
    /// The option, or `need:NAME`, as the profile names it.
    pub name: String,
    /// The value that it has there.
    pub value: String,
    /// ValueReason a person chose it.
    pub reason: Option<String>,
    /// What became of it.
    pub fate: Fate,
}

/// What a person says about a choice that cannot be carried.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Decision {
    /// The option has this name now.
    Name(String),
    /// The value is this one now.
    Value(String),
}

/// Carries the choices of a profile file to a board. `from` is the version that the profile was written for; `decide` is asked about each
/// choice that cannot be carried, as long as it gives an answer that helps.
///
/// # Errors
/// The text is no profile.
pub fn carry(
    text: &str,
    from: Option<&str>,
    board: &Board,
    decide: &mut dyn FnMut(&CarriedChoice) -> Option<Decision>,
) -> Result<Written, Unreadable> {
    let read = written::read(text)?;
    let from = from.map(str::to_string).or_else(|| read.version.clone());
    let carrier = Carrier { board, from: from.as_deref().map(Version::new), names: old_names(board) };
    let mut carried: Vec<CarriedChoice> = Vec::new();
    for choice in &read.choices {
        let mut one = CarriedChoice {
            name: choice.name.clone(),
            value: choice.value.clone(),
            reason: choice.reason.clone(),
            fate: carrier.fate(&choice.name, &choice.value),
        };
        // A wrong answer leads to the same question again; a few are enough.
        for _ in 0..3 {
            let Some(decision) = matches!(one.fate, Fate::Open(_)).then(|| decide(&one)).flatten() else { break };
            one.fate = carrier.decided(&one, &decision);
        }
        carried.push(one);
    }
    each_once(&mut carried, board);
    Ok(written::write(&read, text, carried, from, board))
}

/// The options by the names that they had.
fn old_names(board: &Board) -> BTreeMap<&str, &str> {
    let past = board.history.options.iter();
    past.flat_map(|(option, past)| past.was.iter().map(|was| (was.as_str(), board.options[*option].name.as_str())))
        .collect()
}

/// Names of one version by those that they have in a later one, where these differ.
pub fn renamed(board: &Board) -> BTreeMap<String, String> {
    old_names(board).into_iter().map(|(old, new)| (old.to_string(), new.to_string())).collect()
}

struct Carrier<'a> {
    board: &'a Board,
    from: Option<Version>,
    names: BTreeMap<&'a str, &'a str>,
}

impl Carrier<'_> {
    fn fate(&self, name: &str, value: &str) -> Fate {
        if let Some(need) = name.strip_prefix(NEED_PREFIX) {
            return self.provider(need, value);
        }
        let history = &self.board.history;
        if self.board.option(name).is_some() {
            return self.of_option(name, name, value);
        }
        if let Some(now) = self.names.get(name) {
            return self.of_option(now, name, value);
        }
        if let Some(split) = history.split.get(name) {
            let note = split.note.clone();
            return match split.choices(value) {
                Some(into) => Fate::Split { into, note },
                None => Fate::Open(Open::SplitValue { note }),
            };
        }
        if let Some(gone) = history.gone.get(name) {
            return Fate::Gone { since: gone.since.clone(), note: gone.note.clone() };
        }
        let near = near_matches(name, self.board.option_names.iter());
        Fate::Open(Open::Unknown { near })
    }

    fn of_option(&self, now: &str, was: &str, value: &str) -> Fate {
        let Some(option) = self.board.option(now) else { return Fate::Open(Open::Unknown { near: Vec::new() }) };
        let definition = &self.board.options[option];
        if definition.decided_by != DecidedBy::People {
            return Fate::Open(Open::Derived { name: now.to_string() });
        }
        let past = self.board.history.options.get(&option);
        let changed = past
            .and_then(|past| past.changed.as_ref())
            .filter(|changed| self.from.as_ref().is_none_or(|from| *from < Version::new(&changed.version)));
        match (value::now(&definition.kind, changed, value), now == was) {
            (ValueNow::Same, true) => Fate::Kept,
            (ValueNow::Same, false) => Fate::Renamed { name: now.to_string(), to: None },
            (ValueNow::Becomes(to), true) => Fate::Changed(to),
            (ValueNow::Becomes(to), false) => Fate::Renamed { name: now.to_string(), to: Some(to) },
            (ValueNow::Cannot(fault), _) => Fate::Open(Open::Value { name: now.to_string(), fault }),
        }
    }

    fn provider(&self, need: &str, text: &str) -> Fate {
        let found = self.board.need(need);
        match found.map(|need| Provider::read(self.board, need, text)) {
            Some(Ok(_)) => Fate::Kept,
            Some(Err(_)) => Fate::Open(Open::Need { near: Vec::new() }),
            None => Fate::Open(Open::Need { near: self.board.needs_near(need) }),
        }
    }

    /// What a person's word makes of a choice.
    fn decided(&self, one: &CarriedChoice, decision: &Decision) -> Fate {
        match decision {
            Decision::Name(name) if self.board.option(name).is_some() => self.of_option(name, &one.name, &one.value),
            Decision::Value(value) => {
                let now = match &one.fate {
                    Fate::Open(Open::Value { name, .. }) => name.clone(),
                    _ => one.name.clone(),
                };
                let Some(option) = self.board.option(&now) else { return one.fate.clone() };
                match self.board.options[option].kind.read(value) {
                    Ok(_) => {
                        let to = Becomes { value: value.clone(), why: ValueReason::Person };
                        if now == one.name { Fate::Changed(to) } else { Fate::Renamed { name: now, to: Some(to) } }
                    }
                    Err(fault) => Fate::Open(Open::Value { name: now, fault }),
                }
            }
            Decision::Name(_) => one.fate.clone(),
        }
    }
}

impl CarriedChoice {
    /// What is chosen now, as pairs of option and value.
    pub fn now(&self) -> Vec<(String, String)> {
        match &self.fate {
            Fate::Kept => vec![(self.name.clone(), self.value.clone())],
            Fate::Changed(to) => vec![(self.name.clone(), to.value.clone())],
            Fate::Renamed { name, to } => {
                vec![(name.clone(), to.as_ref().map_or_else(|| self.value.clone(), |to| to.value.clone()))]
            }
            Fate::Split { into, .. } => {
                let pair =
                    |text: &String| text.split_once('=').map(|(o, v)| (o.trim().to_string(), v.trim().to_string()));
                into.iter().filter_map(pair).collect()
            }
            Fate::Gone { .. } | Fate::Open(_) => Vec::new(),
        }
    }
}

/// Where two choices came to be about one option, the one that names it itself counts, then one that was renamed, then one that was split.
fn each_once(carried: &mut [CarriedChoice], board: &Board) {
    let rank = |fate: &Fate| match fate {
        Fate::Kept | Fate::Changed(_) => 0,
        Fate::Renamed { .. } => 1,
        Fate::Split { .. } => 2,
        Fate::Gone { .. } | Fate::Open(_) => 3,
    };
    let mut order: Vec<usize> = (0..carried.len()).collect();
    order.sort_by_key(|at| rank(&carried[*at].fate));
    let mut taken: BTreeMap<String, String> = BTreeMap::new();
    for at in order {
        // A split may name what is not chosen any more, or a value that is none.
        if let Fate::Split { into, .. } = &carried[at].fate
            && let Some(wrong) = into.iter().find_map(|choice| board.read_asked(choice).err())
        {
            carried[at].fate = Fate::Open(Open::SplitValue { note: wrong.to_string() });
        }
        for (name, value) in carried[at].now() {
            match taken.get(&name) {
                Some(other) if *other != value => {
                    carried[at].fate = Fate::Open(Open::Twice { name, other: other.clone() });
                    break;
                }
                _ => drop(taken.insert(name, value)),
            }
        }
    }
}

#[cfg(test)]
mod tests;
