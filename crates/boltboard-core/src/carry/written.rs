//! The file of a profile, read without a board, and written for another version. Comments and order stay.

use std::collections::BTreeSet;

use toml_edit::{DocumentMut, Item, Key, TableLike, Value};

use super::{Carried, Fate, Open, Why};
use crate::board::{Board, Kind, NEED_PREFIX};
use crate::profile::{CHANGE_PREFIX, plain_text};

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
    pub carried: Vec<Carried>,
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

fn entries(document: &DocumentMut, table: &str) -> Vec<(String, Item)> {
    let table = document.get(table).and_then(Item::as_table_like);
    table.into_iter().flat_map(|table| table.iter().map(|(name, item)| (name.to_string(), item.clone()))).collect()
}

/// Reads a profile's choices as they stand there, whether or not a board knows them.
pub(super) fn read(text: &str) -> Result<Read, Unreadable> {
    let document = parse(text)?;
    let reasons = document.get("reasons").and_then(Item::as_table_like);
    let reason = |key: &str| reasons.and_then(|r| r.get(key)).and_then(Item::as_str).map(str::to_string);
    let chosen = entries(&document, "choose").into_iter().map(|(name, item)| (name, plain_text(&item)));
    let provided = entries(&document, "providers").into_iter();
    let provided = provided.map(|(name, item)| (format!("{NEED_PREFIX}{name}"), plain_text(&item)));
    let choices = chosen.chain(provided).map(|(name, value)| RawChoice { reason: reason(&name), name, value });
    let version = document.get("tree-version").and_then(Item::as_str).map(str::to_string);
    Ok(Read { version, choices: choices.collect() })
}

/// Writes the profile anew with what became of its choices.
pub(super) fn write(read: &Read, text: &str, carried: Vec<Carried>, from: Option<String>, board: &Board) -> Written {
    // It was parsed just before.
    let mut document = parse(text).unwrap_or_default();
    let version = board.tree.version.as_str();
    put(document.as_table_mut(), "tree-version", version.into());
    let mut lost = Vec::new();
    for (table, prefix) in [("choose", ""), ("providers", NEED_PREFIX)] {
        if document.get(table).and_then(Item::as_table_like).is_none() {
            continue;
        }
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

/// Replaces a value but keeps what stands around it.
fn put(table: &mut dyn TableLike, key: &str, mut new: Value) {
    match table.get_mut(key).and_then(Item::as_value_mut) {
        Some(old) => {
            *new.decor_mut() = old.decor().clone();
            *old = new;
        }
        None => drop(table.insert(key, Item::Value(new))),
    }
}

/// Writes the entries of a table anew, in their order; those of a split stand where the old one stood.
fn rewrite<'c>(
    document: &mut DocumentMut,
    table: &str,
    prefix: &str,
    carried: impl Iterator<Item = &'c Carried>,
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
    if old.is_empty() && table != "choose" {
        document.remove(table);
    }
}

/// A value as a profile writes one of this option.
fn typed(name: &str, value: &str, board: &Board) -> Value {
    let kind = board.option(name).map(|option| &board.options[option].kind);
    match (kind, value.parse::<i64>()) {
        (Some(Kind::Number(_)), Ok(number)) => number.into(),
        (Some(Kind::Words(_)), _) => Value::Array(value.split_whitespace().collect()),
        _ => value.into(),
    }
}

/// A choice that is not carried, on one line.
fn comment(one: &Carried) -> String {
    let why = match &one.fate {
        Fate::Gone { since, note } => {
            let since = since.as_ref().map_or(String::new(), |since| format!(" since {since}"));
            format!("gone{since}: {note}")
        }
        Fate::Open(Open::Unknown { .. }) => "there is no such option".to_string(),
        Fate::Open(Open::Value { name, fault }) => format!("{name} {fault}"),
        Fate::Open(Open::SplitValue { note }) => format!("split, and nothing is said about this value: {note}"),
        Fate::Open(Open::Derived { name }) => format!("nobody chooses {name} any more: its value follows from others"),
        Fate::Open(Open::Twice { name, other }) => format!("{name} is {other} by another choice"),
        Fate::Open(Open::Need { .. }) => "there is no such need, or it is not met so".to_string(),
        Fate::Kept | Fate::Renamed { .. } | Fate::Changed(_) | Fate::Split { .. } => String::new(),
    };
    let reason = one.reason.as_ref().map_or(String::new(), |reason| format!("; chosen because: {reason}"));
    // What people wrote stays on the line of the comment.
    let line: String = format!("{} = {:?}  ({why}{reason})", one.name, one.value);
    format!("#   {}", line.replace(char::is_control, " "))
}

/// Reasons go with their choices.
fn reasons(document: &mut DocumentMut, carried: &[Carried]) {
    let Some(table) = document.get_mut("reasons").and_then(Item::as_table_like_mut) else { return };
    for one in carried {
        let now = one.now();
        let Some(item) = table.get(&one.name).cloned() else { continue };
        if now.iter().any(|(name, _)| *name == one.name) {
            continue;
        }
        table.remove(&one.name);
        for (name, _) in now {
            if table.get(&name).is_none() {
                table.insert(&name, item.clone());
            }
        }
    }
    if table.is_empty() {
        document.remove("reasons");
    }
}

/// Reasons of nothing go into the comment.
fn loose_reasons(document: &mut DocumentMut, lost: &mut Vec<String>) {
    let names = |table: &str| entries(document, table).into_iter().map(|(name, _)| name);
    let patches = document.get("patches").and_then(Item::as_array);
    let patches = patches.into_iter().flatten().filter_map(|patch| patch.as_str().map(str::to_string));
    let changes = names("replaced").chain(patches).map(|name| format!("{CHANGE_PREFIX}{name}"));
    let needs = names("providers").map(|name| format!("{NEED_PREFIX}{name}"));
    let known: BTreeSet<String> = names("choose").chain(needs).chain(changes).collect();
    let loose = entries(document, "reasons").into_iter().filter(|(name, _)| !known.contains(name));
    for (name, item) in loose.collect::<Vec<_>>() {
        let line = format!("{name}: {:?}", plain_text(&item));
        // What is not carried took its reason along.
        if !lost.iter().any(|lost| lost.starts_with(&format!("#   {name} = "))) {
            lost.push(format!("#   a reason for {}  (it is not chosen)", line.replace(char::is_control, " ")));
        }
        if let Some(table) = document.get_mut("reasons").and_then(Item::as_table_like_mut) {
            table.remove(&name);
        }
    }
    if document.get("reasons").and_then(Item::as_table_like).is_some_and(|table| table.is_empty()) {
        document.remove("reasons");
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
    if let Some(table) = document.get_mut("choose").and_then(Item::as_table_mut) {
        let decor = table.decor_mut();
        let old = decor.prefix().and_then(|raw| raw.as_str()).unwrap_or("\n").to_string();
        decor.set_prefix(format!("{}{block}", if old.is_empty() { "\n" } else { &old }));
    } else {
        let old = document.trailing().as_str().unwrap_or("").to_string();
        document.set_trailing(format!("{old}\n{block}"));
    }
}

impl Why {
    /// Says it in words.
    pub fn words(&self) -> String {
        match self {
            Why::Said => "it means the same".into(),
            Why::Kind => "it means the same in its new kind".into(),
            Why::Nearest(range) => format!("the nearest in its range, {range} now"),
            Why::Person => "as you said".into(),
        }
    }
}
