//! What a tree is, what it makes, and what it asks of the host.

use std::collections::BTreeMap;

use boltboard_core::board::{Board, Kind, PartDef, PartOrigin};
use boltboard_core::work::LedgerEntry;

use super::text::{Cell, Role, bytes, columns, count, duration, next_lines, paint, wrap};
use crate::fault::Next;

/// What an overview tells.
pub struct Overview {
    /// How many sources there are.
    pub sources: usize,
    /// How large they are.
    pub source_bytes: u64,
    /// Needs that the host lacks.
    pub missing: Vec<String>,
    /// Whether each part is made, in the order of parts.
    pub made: Vec<bool>,
    /// Changes to the sources that it carries.
    pub changes: Vec<String>,
    /// Add-ons with their versions.
    pub add_ons: Vec<String>,
    /// How many files are to be fetched that the values want, and their bytes.
    pub to_fetch: (usize, u64),
    /// The profile in use.
    pub profile: String,
    /// How many choices count.
    pub choices: usize,
    /// Profiles that can be used.
    pub profiles: Vec<String>,
    /// The last build.
    pub last: Option<LedgerEntry>,
}

/// Draws an overview.
pub fn text(board: &Board, overview: &Overview, width: usize) -> String {
    let tree = &board.tree;
    let mut text = format!("{}  {}\n\n", paint(Role::Title, &format!("{} {}", tree.name, tree.version)), tree.summary);
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    let mut add =
        |name: &str, role: Role, value: String| rows.push(vec![(Role::Faint, name.to_string()), (role, value)]);
    add(
        "sources",
        Role::Value,
        format!("{}, {}", count(overview.sources, "file", "files"), bytes(overview.source_bytes)),
    );
    let mut kinds: BTreeMap<&str, usize> = BTreeMap::new();
    board.options.iter().for_each(|(_, option)| *kinds.entry(option.kind.name()).or_default() += 1);
    let plural = |name: &str, n: usize| match (name, n) {
        ("switch", n) if n > 1 => format!("{n} switches"),
        ("words", n) => format!("{n} of words"),
        (name, 1) => format!("1 {name}"),
        (name, n) => format!("{n} {name}s"),
    };
    let listed: Vec<String> = Kind::NAMES.iter().filter_map(|name| kinds.get(name).map(|n| plural(name, *n))).collect();
    let options = match board.options.len() {
        0 => "none".to_string(),
        number => format!("{number}: {}", listed.join(", ")),
    };
    add("options", Role::Value, options);
    let mut parts: BTreeMap<&str, (usize, usize)> = BTreeMap::new();
    // What a kit does not have is no part here.
    let there = || board.parts.iter().zip(&overview.made).filter(|((_, part), _)| part.origin != PartOrigin::Absent);
    for ((_, part), made) in there() {
        let entry = parts.entry(part.kind.name()).or_default();
        entry.1 += 1;
        entry.0 += usize::from(*made);
    }
    let total = overview.made.iter().filter(|made| **made).count();
    add("parts", Role::Value, format!("{} of {} made with these options", total, there().count()));
    for (kind, (made, all)) in parts {
        let of_kind = |wanted: bool| -> Vec<&str> {
            let parts = there();
            // What lists give is counted; nobody reads thousands of names.
            let told = |part: &PartDef| part.kind.name() == kind && !part.is_listed();
            let parts = parts.filter(|((_, part), made)| told(part) && **made == wanted);
            parts.map(|((_, part), _)| part.name.as_str()).collect()
        };
        let (names, not) = (of_kind(true), of_kind(false));
        let number = if made == all { made.to_string() } else { format!("{made} of {all}") };
        let listed = there().filter(|((_, part), _)| part.kind.name() == kind && part.is_listed()).count();
        let counted = match listed {
            0 => String::new(),
            listed if listed == all => " in lists".to_string(),
            listed => format!(" ({listed} of them in lists)"),
        };
        let names = if names.is_empty() { String::new() } else { format!(": {}", names.join(", ")) };
        let mut told = vec![format!("{kind} {number}{counted}{names}")];
        told.extend((!not.is_empty()).then(|| format!("not made: {}", not.join(", "))));
        for line in told.iter().flat_map(|text| wrap(text, width.saturating_sub(16))).enumerate() {
            add("", Role::Faint, if line.0 == 0 { line.1 } else { format!("  {}", line.1) });
        }
    }
    let needs = match overview.missing.as_slice() {
        [] if board.needs.is_empty() => "none".to_string(),
        [] => format!("{}, all met", board.needs.len()),
        missing => format!("{}, not met: {}", board.needs.len(), missing.join(", ")),
    };
    add("needs", if overview.missing.is_empty() { Role::Value } else { Role::Warn }, needs);
    add("profile", Role::Value, format!("{} with {}", overview.profile, count(overview.choices, "choice", "choices")));
    if let Some(kit) = &board.kit {
        let stand = count(kit.values.len(), "value stands", "values stand");
        add("kit", Role::Value, format!("of {} as it was built and installed: {stand}", tree.name));
    }
    if !overview.add_ons.is_empty() {
        add("add-ons", Role::Value, overview.add_ons.join(", "));
    }
    if let (files @ 1.., size) = overview.to_fetch {
        add("to fetch", Role::Warn, format!("{}, {}", count(files, "file", "files"), bytes(size)));
    }
    if !overview.changes.is_empty() {
        let carried = count(overview.changes.len(), "change to the sources", "changes to the sources");
        add("carries", Role::Warn, format!("{carried}: {}", overview.changes.join(", ")));
    }
    if !overview.profiles.is_empty() {
        add("profiles", Role::Faint, overview.profiles.join(", "));
    }
    if let Some(last) = &overview.last {
        let word = match last.outcome {
            boltboard_core::work::LedgerOutcome::Done => "done",
            boltboard_core::work::LedgerOutcome::Failed => "failed",
            boltboard_core::work::LedgerOutcome::Interrupted => "interrupted",
        };
        add(
            "last build",
            Role::Value,
            format!("{word}: {} of {} steps ran, in {}", last.ran, last.steps, duration(last.wall_ms)),
        );
    }
    text.push_str(&columns(&rows, 2, width));
    let mut next = Vec::new();
    if overview.to_fetch.0 > 0 {
        next.push(Next::new("boltboard fetch", "get what the tree does not carry"));
    }
    if !overview.missing.is_empty() {
        next.push(Next::new("boltboard survey", "what is missing, and the ways out"));
    }
    next.push(Next::new("boltboard options", "what there is to choose"));
    next.push(Next::new("boltboard preview", "what a build would do"));
    text.push('\n');
    text.push_str(&next_lines(&next, 2));
    text
}
