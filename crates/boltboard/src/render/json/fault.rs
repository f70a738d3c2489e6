//! What stands against a command, for machines.

use boltboard_core::base::Excerpt;
use serde::Serialize;
use serde_json::Value;

use super::FORMAT;
use crate::fault::{Diagnostic, FaultKind, Stop};

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ErrorsAnswer {
    format: u32,
    errors: Vec<ErrorAnswer>,
    exit: u8,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct ErrorAnswer {
    kind: FaultKind,
    message: String,
    places: Vec<PlaceAnswer>,
    notes: Vec<String>,
    near: Vec<String>,
    remedies: Vec<String>,
    next: Vec<NextAnswer>,
    clash: Option<Value>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct PlaceAnswer {
    file: String,
    line: usize,
    column: usize,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct NextAnswer {
    command: String,
    gives: String,
}

impl From<&Excerpt> for PlaceAnswer {
    fn from(excerpt: &Excerpt) -> PlaceAnswer {
        PlaceAnswer { file: excerpt.file.to_string(), line: excerpt.line, column: excerpt.column }
    }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct DoneAnswer {
    format: u32,
    message: String,
}

/// Answers with what was done.
pub fn done(text: &str) -> DoneAnswer {
    DoneAnswer { format: FORMAT, message: plain(text.trim_end()) }
}

/// Takes the paint off a text.
fn plain(text: &str) -> String {
    console::strip_ansi_codes(text).into_owned()
}

/// Answers with what went wrong.
pub fn errors(stop: &Stop) -> ErrorsAnswer {
    let one = |diagnostic: &Diagnostic| ErrorAnswer {
        kind: stop.kind,
        message: plain(&diagnostic.message),
        places: diagnostic
            .excerpt
            .iter()
            .chain(diagnostic.related.as_ref().map(|(_, at)| at))
            .map(PlaceAnswer::from)
            .collect(),
        notes: diagnostic.notes.iter().map(|note| plain(note)).collect(),
        near: diagnostic.near.clone(),
        remedies: diagnostic.help.iter().map(|help| plain(help)).collect(),
        next: diagnostic
            .next
            .iter()
            .map(|next| NextAnswer { command: next.command.clone(), gives: plain(&next.gives) })
            .collect(),
        clash: diagnostic.detail.clone(),
    };
    ErrorsAnswer { format: FORMAT, errors: stop.diagnostics.iter().map(one).collect(), exit: stop.exit as u8 }
}
