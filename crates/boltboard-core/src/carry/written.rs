//! The file of a profile, read without a board, and written for another version. Comments and order stay.

use std::collections::BTreeSet;

use toml_edit::{DocumentMut, Item, Key, TableLike, Value};

use super::{CarriedChoice, Fate, Open, ValueReason};
use crate::board::{Board, NEED_PREFIX};
use crate::profile::CHANGE_PREFIX;
use crate::profile::document::{
    CHOOSE, PROVIDERS, REASONS, entries, patches, plain_text, put, reason, table, take_out, toml_value,
};

/// A text is no profile.
#[derive(Debug, Clone, thiserror::Error)]
#[error("line {line}: {reason}")]
pub struct Unreadable {
    /// The line, one-based.
    pub line: usize,
    /// What is wrong.
    pub reason: String,
}

/// A profile as it is written for another version.
#[derive(Debug, Clone)]
pub struct Written {
    /// The file.
    pub text: String,
    /// The version that it was written for, where it says one.
    pub from: Option<String>,
    /// Its choices and what became of them, in the order of the file.
    pub carried: Vec<CarriedChoice>,
}

/// A profile's choices as they stand in its file.
pub(super) struct Read {
    pub version: Option<String>,
    pub choices: Vec<RawChoice>,
}

/// A choice as it stands in a file.
pub(super) struct RawChoice {
    pub name: String,
    pub value: String,
    pub reason: Option<String>,
}

fn parse(text: &str) -> Result<DocumentMut, Unreadable> {
    text.parse().map_err(|e: toml_edit::TomlError| {
        let at = e.span().map_or(0, |span| span.start.min(text.len()));
        Unreadable { line: text[..at].matches('\n').count() + 1, reason: e.message().trim().replace('\n', "; ") }
    })
}

/// Reads a profile's choices as they stand there, whether or not a board knows them.
pub(super) fn read(text: &str) -> Result<Read, Unreadable> {
    let document = parse(text)?;
    let chosen = entries(&document, CHOOSE).map(|(name, item)| (name.to_string(), plain_text(item)));
    let provided = entries(&document, PROVIDERS);
    let provided = provided.map(|(name, item)| (format!("{NEED_PREFIX}{name}"), plain_text(item)));
    let choices = chosen.chain(provided).map(|(name, value)| {
        let reason = reason(&document, &name).map(str::to_string);
        RawChoice { name, value, reason }
    });
    let choices = choices.collect();
    let version = document.get("tree-version").and_then(Item::as_str).map(str::to_string);
    Ok(Read { version, choices })
}

/// Writes the profile anew with what became of its choices.
pub(super) fn write(
    read: &Read,
    text: &str,
    carried: Vec<CarriedChoice>,
    from: Option<String>,
    board: &Board,
) -> Written {
    // It was parsed just before.
    let mut document = parse(text).unwrap_or_default();
    let version = board.tree.version.as_str();
    put(document.as_table_mut(), "tree-version", version.into());
    let mut lost = Vec::new();
    for (table, prefix) in [(CHOOSE, ""), (PROVIDERS, NEED_PREFIX)] {
        let own = carried.iter().filter(|one| one.name.starts_with(NEED_PREFIX) != prefix.is_empty());
        rewrite(&mut document, table, prefix, own, board, &mut lost);
    }
    reasons(&mut document, &carried);
    loose_reasons(&mut document, &mut lost);
    only_with(&mut document, board, &mut lost);
    if !lost.is_empty() {
        let head = format!(
            "# Not carried from {} to {version}:",
            from.as_deref().or(read.version.as_deref()).unwrap_or("an earlier version")
        );
        remark(&mut document, &head, &lost);
    }
    Written { text: document.to_string(), from, carried }
}

/// Writes the entries of a table anew, in their order; those of a split stand where the old one stood.
fn rewrite<'c>(
    document: &mut DocumentMut,
    table: &str,
    prefix: &str,
    carried: impl Iterator<Item = &'c CarriedChoice>,
    board: &Board,
    lost: &mut Vec<String>,
) {
    let Some(old) = document.get_mut(table).and_then(Item::as_table_like_mut) else { return };
    let mut kept: Vec<(Key, Item)> = Vec::new();
    let mut there: BTreeSet<String> = BTreeSet::new();
    for one in carried {
        let plain = one.name.strip_prefix(prefix).unwrap_or(&one.name);
        let Some((key, item)) = old.get_key_value(plain).map(|(key, item)| (key.clone(), item.clone())) else {
            continue;
        };
        let now = one.now();
        if now.is_empty() {
            let around = key.leaf_decor().prefix().and_then(|raw| raw.as_str()).unwrap_or("");
            lost.extend(around.lines().map(str::trim).filter(|line| line.starts_with('#')).map(str::to_string));
            lost.push(comment(one));
            continue;
        }
        for (index, (name, value)) in now.into_iter().enumerate() {
            let plain = name.strip_prefix(prefix).unwrap_or(&name).to_string();
            if !there.insert(plain.clone()) {
                continue;
            }
            let mut new = Key::new(&plain);
            let mut item = item.clone();
            if index == 0 {
                *new.leaf_decor_mut() = key.leaf_decor().clone();
            } else if let Some(value) = item.as_value_mut() {
                value.decor_mut().clear();
            }
            if plain != one.name.strip_prefix(prefix).unwrap_or(&one.name) || plain_text(&item) != value {
                let decor = item.as_value().map(|value| value.decor().clone()).unwrap_or_default();
                let mut written = typed(&name, &value, board);
                *written.decor_mut() = decor;
                item = Item::Value(written);
            }
            kept.push((new, item));
        }
    }
    old.clear();
    for (key, item) in kept {
        old.entry_format(&key).or_insert(item);
    }
    if old.is_empty() && table != CHOOSE {
        document.remove(table);
    }
}

/// A value as a profile writes one of this option.
fn typed(name: &str, value: &str, board: &Board) -> Value {
    let read = board.option(name).and_then(|option| board.options[option].kind.read(value).ok());
    read.map_or_else(|| value.into(), |value| toml_value(&value))
}

/// A choice that is not carried, on one line.
fn comment(one: &CarriedChoice) -> String {
    let why = match &one.fate {
        Fate::Gone { since, note } => {
            let since = since.as_ref().map_or(String::new(), |since| format!(" since {since}"));
            format!("gone{since}: {note}")
        }
        Fate::Open(open) => open.words(),
        Fate::Kept | Fate::Renamed { .. } | Fate::Changed(_) | Fate::Split { .. } => String::new(),
    };
    let reason = one.reason.as_ref().map_or(String::new(), |reason| format!("; chosen because: {reason}"));
    // What people wrote stays on the line of the comment.
    let line: String = format!("{} = {:?}  ({why}{reason})", one.name, one.value);
    format!("#   {}", line.replace(char::is_control, " "))
}

/// Reasons go with their choices.
fn reasons(document: &mut DocumentMut, carried: &[CarriedChoice]) {
    for one in carried {
        let now = one.now();
        let Some(said) = reason(document, &one.name).map(str::to_string) else { continue };
        if now.iter().any(|(name, _)| *name == one.name) {
            continue;
        }
        take_out(document, REASONS, &one.name);
        for (name, _) in now {
            if reason(document, &name).is_none() {
                put(table(document, REASONS), &name, said.as_str().into());
            }
        }
    }
}

/// Reasons of nothing go into the comment.
fn loose_reasons(document: &mut DocumentMut, lost: &mut Vec<String>) {
    let changes = entries(document, "replaced").map(|(name, _)| name).chain(patches(document));
    let changes = changes.map(|name| format!("{CHANGE_PREFIX}{name}"));
    let needs = entries(document, PROVIDERS).map(|(name, _)| format!("{NEED_PREFIX}{name}"));
    let chosen = entries(document, CHOOSE).map(|(name, _)| name.to_string());
    let known: BTreeSet<String> = chosen.chain(needs).chain(changes).collect();
    let said = entries(document, REASONS).map(|(name, item)| (name.to_string(), plain_text(item)));
    let loose: Vec<(String, String)> = said.filter(|(name, _)| !known.contains(name)).collect();
    for (name, said) in loose {
        // What is not carried took its reason along.
        if !lost.iter().any(|lost| lost.starts_with(&format!("#   {name} = "))) {
            let line = format!("{name}: {said:?}");
            lost.push(format!("#   a reason for {}  (it is not chosen)", line.replace(char::is_control, " ")));
        }
        take_out(document, REASONS, &name);
    }
}

/// Needs that a profile is only for and that there are no more go into the comment.
fn only_with(document: &mut DocumentMut, board: &Board, lost: &mut Vec<String>) {
    let mut narrow = |table: &mut dyn TableLike| {
        let Some(list) = table.get_mut("needs").and_then(Item::as_array_mut) else { return };
        list.retain(|need| {
            let known = need.as_str().is_some_and(|name| board.need(name).is_some());
            if !known {
                lost.push(format!("#   only with the need {}  (there is no such need)", need.to_string().trim()));
            }
            known
        });
    };
    match document.get_mut("only-with") {
        Some(Item::ArrayOfTables(tables)) => tables.iter_mut().for_each(|table| narrow(table)),
        Some(item) => {
            if let Some(table) = item.as_table_like_mut() {
                narrow(table);
            }
        }
        None => {}
    }
}

/// Puts lines before the table of choices, or at the end where there is none.
fn remark(document: &mut DocumentMut, head: &str, lines: &[String]) {
    let block = format!("{head}\n{}\n", lines.join("\n"));
    if let Some(table) = document.get_mut(CHOOSE).and_then(Item::as_table_mut) {
        let decor = table.decor_mut();
        let old = decor.prefix().and_then(|raw| raw.as_str()).unwrap_or("\n").to_string();
        decor.set_prefix(format!("{}{block}", if old.is_empty() { "\n" } else { &old }));
    } else {
        let old = document.trailing().as_str().unwrap_or("").to_string();
        document.set_trailing(format!("{old}\n{block}"));
    }
}

impl Open {
    /// Says it in words.
    pub fn words(&self) -> String {
        match self {
            Open::Unknown { .. } => "there is no such option".into(),
            Open::Value { name, fault } => format!("{name} {fault}"),
            Open::SplitValue { note } => format!("split, and nothing is said about this value: {note}"),
            Open::Derived { name } => format!("nobody chooses {name} any more: its value follows from others"),
            Open::Twice { name, other } => format!("{name} is {other} by another choice"),
            Open::Need { .. } => "there is no such need, or it is not met so".into(),
        }
    }

    /// Names or values that may be meant.
    pub fn near(&self) -> &[String] {
        match self {
            Open::Unknown { near } | Open::Need { near } => near,
            Open::Value { fault, .. } => &fault.near,
            Open::SplitValue { .. } | Open::Derived { .. } | Open::Twice { .. } => &[],
        }
    }
}

impl ValueReason {
    /// Says it in words.
    pub fn words(&self) -> String {
        match self {
            ValueReason::Said => "it means the same".into(),
            ValueReason::Kind => "it means the same in its new kind".into(),
            ValueReason::Nearest(range) => format!("the nearest in its range, {range} now"),
            ValueReason::Person => "as you said".into(),
        }
    }
}
