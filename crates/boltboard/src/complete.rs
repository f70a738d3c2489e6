//! Completion of names: the shell asks this program, which looks at the tree around the current folder. Nothing is run, nothing is
//! written, and what cannot be read completes to nothing.

use std::ffi::OsStr;

use boltboard_core::board::{Board, Kind, Level, NEED_PREFIX};
use boltboard_core::search::State;
use boltboard_core::session::Session;
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};

use crate::args::Global;
use crate::session::open_silently;

/// A name with what it is.
type Word = (String, String);

fn completer(words: fn(&Session, &str) -> Vec<Word>) -> ArgValueCompleter {
    ArgValueCompleter::new(move |current: &OsStr| {
        let current = current.to_string_lossy();
        let Some(session) = open_silently(&typed()) else { return Vec::new() };
        let candidate = |(word, about): Word| {
            let about = (!about.is_empty()).then(|| about.into());
            word.starts_with(&*current).then(|| CompletionCandidate::new(word).help(about))
        };
        words(&session, &current).into_iter().filter_map(candidate).collect()
    })
}

/// Where to look, as far as it stands on the command line already.
fn typed() -> Global {
    let words: Vec<String> = std::env::args_os().map(|word| word.to_string_lossy().into_owned()).collect();
    let value = |flag: &str| words.iter().position(|word| word == flag).and_then(|at| words.get(at + 1)).cloned();
    Global {
        tree: value("--tree").map(Into::into),
        work: value("--work").map(Into::into).or_else(|| std::env::var_os("BOLTBOARD_WORK").map(Into::into)),
        ..Global::default()
    }
}

fn option_words(board: &Board) -> Vec<Word> {
    board.options.iter().map(|(_, option)| (option.name.clone(), option.summary.clone())).collect()
}

/// The values of the option that stands before the `=`.
fn value_words(board: &Board, current: &str) -> Option<Vec<Word>> {
    let (name, _) = current.split_once('=')?;
    if let Some(need) = name.strip_prefix(NEED_PREFIX).and_then(|need| board.need(need)) {
        let bundled = board.needs[need].bundled.map(|_| "bundled");
        let words = ["system", "off"].into_iter().chain(bundled);
        return Some(words.map(|word| (format!("{name}={word}"), String::new())).collect());
    }
    let kind = &board.options[board.option(name)?].kind;
    let word = |value: &str| (format!("{name}={value}"), kind.summary_of(value).unwrap_or_default().to_string());
    Some(kind.listed().into_iter().map(word).collect())
}

fn need_words(board: &Board) -> Vec<Word> {
    board.needs.iter().map(|(_, need)| (need.name.clone(), need.summary.clone())).collect()
}

/// Options.
pub fn options() -> ArgValueCompleter {
    completer(|session, _| option_words(&session.board))
}

/// Options, and `OPTION=VALUE`.
pub fn values() -> ArgValueCompleter {
    completer(|session, current| value_words(&session.board, current).unwrap_or_else(|| option_words(&session.board)))
}

/// What can be chosen: `OPTION=VALUE` and `need:NAME=PROVIDER`.
pub fn choices() -> ArgValueCompleter {
    completer(|session, current| {
        let board = &session.board;
        if let Some(values) = value_words(board, current) {
            return values;
        }
        let options = option_words(board).into_iter().map(|(name, about)| (format!("{name}="), about));
        let needs = need_words(board).into_iter().map(|(name, about)| (format!("{NEED_PREFIX}{name}="), about));
        options.chain(needs).collect()
    })
}

/// What can be undone: options and needs that the profile in use chooses.
pub fn chosen() -> ArgValueCompleter {
    completer(|session, _| {
        let Ok(choices) = session.choices_of(&session.profile) else { return Vec::new() };
        let board = &session.board;
        let options = choices.items.iter().map(|choice| {
            let option = &board.options[choice.option];
            (option.name.clone(), format!("is {}", choice.value))
        });
        let needs = choices.providers.keys().map(|need| {
            let need = &board.needs[*need];
            (format!("{NEED_PREFIX}{}", need.name), need.summary.clone())
        });
        options.chain(needs).collect()
    })
}

/// Needs.
pub fn needs() -> ArgValueCompleter {
    completer(|session, _| need_words(&session.board))
}

/// Parts.
pub fn parts() -> ArgValueCompleter {
    completer(|session, _| {
        session.board.parts.iter().map(|(_, part)| (part.name.clone(), part.summary.clone())).collect()
    })
}

/// Add-ons.
pub fn add_ons() -> ArgValueCompleter {
    completer(|session, _| {
        session.board.add_ons.iter().map(|add_on| (add_on.name.clone(), add_on.summary.clone())).collect()
    })
}

/// What is fetched.
pub fn fetches() -> ArgValueCompleter {
    completer(|session, _| {
        session.board.fetches.iter().map(|(_, fetch)| (fetch.name.clone(), fetch.summary.clone())).collect()
    })
}

/// Tests, and parts that they run.
pub fn tests() -> ArgValueCompleter {
    completer(|session, _| session.board.tests.iter().map(|(_, test)| (test.name.clone(), String::new())).collect())
}

/// Sections.
pub fn sections() -> ArgValueCompleter {
    completer(|session, _| {
        session.board.sections.iter().map(|(_, section)| (section.name.clone(), section.title.clone())).collect()
    })
}

/// Filters of `options`.
pub fn filters() -> ArgValueCompleter {
    completer(|session, current| {
        let board = &session.board;
        if current.starts_with("in:") {
            return board.sections.iter().map(|(_, one)| (format!("in:{}", one.name), one.title.clone())).collect();
        }
        if current.starts_with("needs:") {
            return board.needs.iter().map(|(_, one)| (format!("needs:{}", one.name), one.summary.clone())).collect();
        }
        let kinds = Kind::NAMES.iter().map(|name| format!("kind:{name}"));
        let levels = [Level::Everyday, Level::Tuning, Level::Expert].map(|level| format!("level:{}", level.name()));
        let states = State::NAMED.iter().map(|(name, _)| (*name).to_string());
        let words = states.chain(["in:".into(), "needs:".into()]).chain(kinds).chain(levels);
        words.map(|word| (word, String::new())).collect()
    })
}

/// Names for other machines.
pub fn crews() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let file = boltboard_core::workers::CrewFile::read(&crate::session::crew_file()).unwrap_or_default();
        let names = file.crews().keys().filter(|name| name.starts_with(&*typed.to_string_lossy()));
        names.map(CompletionCandidate::new).collect()
    })
}

/// Profiles.
pub fn profiles() -> ArgValueCompleter {
    completer(|session, _| {
        let profiles = session.shelf.list().unwrap_or_default();
        profiles.keys().map(|name| (name.to_string(), String::new())).collect()
    })
}
