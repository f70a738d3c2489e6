//! `install --check` as data.

use std::path::PathBuf;

use boltboard_core::install::{SmokeRun, Smoked, Unready, UnreadyService};
use serde::Serialize;

use super::FORMAT;
use crate::render::ready::command;

#[derive(Default, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct UnreadyAnswer {
    what: &'static str,
    file: Option<String>,
    library: Option<String>,
    first: Option<String>,
    user: Option<String>,
    port: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    add_on: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    built_against: Option<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    differs: Vec<String>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct CheckAnswer {
    format: u32,
    unready: Vec<UnreadyAnswer>,
    smoke: Vec<SmokeTold>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct SmokeTold {
    name: String,
    works: bool,
    why: Option<String>,
    said: Option<String>,
    command: String,
}

/// Answers `install --check`.
pub fn checked(all: &[Unready], smoked: &[(SmokeRun, Smoked)]) -> CheckAnswer {
    let told = |(run, outcome): &(SmokeRun, Smoked)| {
        let (why, said) = match outcome {
            Smoked::Works => (None, None),
            Smoked::Fails { why, said } => (Some(why.clone()), Some(said.clone())),
        };
        SmokeTold { name: run.name.clone(), works: *outcome == Smoked::Works, why, said, command: command(run) }
    };
    CheckAnswer {
        format: FORMAT,
        unready: all.iter().map(UnreadyAnswer::of).collect(),
        smoke: smoked.iter().map(told).collect(),
    }
}

impl UnreadyAnswer {
    /// Puts one thing as data.
    pub fn of(one: &Unready) -> UnreadyAnswer {
        let text = |path: &PathBuf| Some(path.display().to_string());
        let answer = |what, file: &PathBuf| UnreadyAnswer { what, file: text(file), ..UnreadyAnswer::default() };
        match one {
            Unready::OtherProgram { ours, first } => {
                UnreadyAnswer { first: text(first), ..answer("another-program", ours) }
            }
            Unready::NotSearched { folder, .. } => answer("not-searched", folder),
            Unready::NoLibrary { file, library, .. } => {
                UnreadyAnswer { library: Some(library.clone()), ..answer("no-library", file) }
            }
            Unready::OtherLibrary { file, ours, first } => {
                UnreadyAnswer { library: text(ours), first: text(first), ..answer("another-library", file) }
            }
            Unready::Misfit(one) => UnreadyAnswer {
                what: "misfit",
                add_on: Some(one.name.clone()),
                built_against: Some(one.then.clone()),
                differs: one.differs.iter().map(ToString::to_string).collect(),
                ..UnreadyAnswer::default()
            },
            Unready::Service(one) => match one {
                UnreadyService::OtherUnit { ours, first, .. } => {
                    UnreadyAnswer { first: text(first), ..answer("another-unit", ours) }
                }
                UnreadyService::UnitNotRead(unit) => answer("unit-not-read", unit),
                UnreadyService::OtherPrefix { unit, runs, .. } => {
                    UnreadyAnswer { first: text(runs), ..answer("another-prefix", unit) }
                }
                UnreadyService::NoUser { user, .. } => {
                    UnreadyAnswer { what: "no-user", user: Some(user.clone()), ..UnreadyAnswer::default() }
                }
                UnreadyService::NoFolder { folder, .. } => answer("no-folder", folder),
                UnreadyService::NoFile { file, .. } => answer("no-file", file),
                UnreadyService::NoRight { path, user, .. } => {
                    UnreadyAnswer { user: Some(user.clone()), ..answer("no-right", path) }
                }
                UnreadyService::PortTaken { port, by, .. } => UnreadyAnswer {
                    what: "port-taken",
                    port: Some(port.to_string()),
                    first: by.as_ref().and_then(text),
                    ..UnreadyAnswer::default()
                },
            },
        }
    }
}
