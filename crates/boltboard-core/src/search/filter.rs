//! Filters in a question: `off blocked kind:module in:links fog`.

use crate::base::near_matches;
use crate::board::{Board, Kind, Level, NeedId, SectionId};

/// What an option must be to be listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Filter {
    /// Its value or effect is so.
    State(State),
    /// It is of this kind.
    Kind(&'static str),
    /// It is for these people.
    Level(Level),
    /// It lies in this section, or in one within it.
    In(SectionId),
    /// It, or one of its values, asks for this need.
    Needs(NeedId),
}

/// What is so with an option's value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum State {
    /// It is not the plain default.
    Changed,
    /// It was not there at the last build.
    New,
    /// It is off.
    Off,
    /// It is a switch or module and not off.
    On,
    /// Something keeps it from its default.
    Blocked,
    /// It has no effect.
    NoEffect,
    /// A person chose it.
    Chosen,
}

impl State {
    /// All states with their words.
    pub const NAMED: [(&'static str, State); 7] = [
        ("changed", State::Changed),
        ("new", State::New),
        ("off", State::Off),
        ("on", State::On),
        ("blocked", State::Blocked),
        ("no-effect", State::NoEffect),
        ("chosen", State::Chosen),
    ];
}

/// A filter that means nothing.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{filter}` is not a filter: there is no {what} `{name}`")]
pub struct FilterFault {
    /// The filter as typed.
    pub filter: String,
    /// What was looked for.
    pub what: &'static str,
    /// The name that is not there.
    pub name: String,
    /// Names that come near.
    pub near: Vec<String>,
}

/// Parts a question into its filters and the words to look for.
///
/// # Errors
/// A filter such as `kind:…` names something that is not there.
pub fn read_filters(board: &Board, words: &[String]) -> Result<(Vec<Filter>, String), FilterFault> {
    let mut filters = Vec::new();
    let mut rest: Vec<&str> = Vec::new();
    for word in words.iter().flat_map(|text| text.split_whitespace()) {
        if let Some((_, state)) = State::NAMED.iter().find(|(name, _)| *name == word) {
            filters.push(Filter::State(*state));
            continue;
        }
        let Some((key, name)) = word.split_once(':') else {
            rest.push(word);
            continue;
        };
        let fault = |what: &'static str, near: Vec<String>| FilterFault {
            filter: word.to_string(),
            what,
            name: name.to_string(),
            near,
        };
        filters.push(match key {
            "kind" => {
                let found = Kind::NAMES.into_iter().find(|kind| *kind == name);
                Filter::Kind(found.ok_or_else(|| fault("kind", near_matches(name, Kind::NAMES)))?)
            }
            "level" => {
                let found = Level::ALL.iter().find(|(level, _)| *level == name);
                let near = || near_matches(name, Level::ALL.iter().map(|(level, _)| *level));
                Filter::Level(found.ok_or_else(|| fault("level", near()))?.1)
            }
            "in" => Filter::In(board.section(name).ok_or_else(|| {
                fault("section", near_matches(name, board.sections.iter().map(|(_, section)| section.name.as_str())))
            })?),
            "needs" => Filter::Needs(board.need(name).ok_or_else(|| fault("need", board.needs_near(name)))?),
            _ => {
                let keys = ["kind", "level", "in", "needs"];
                return Err(FilterFault {
                    filter: word.to_string(),
                    what: "filter",
                    name: key.to_string(),
                    near: near_matches(key, keys),
                });
            }
        });
    }
    Ok((filters, rest.join(" ")))
}
