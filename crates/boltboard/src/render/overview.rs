//! What a tree is, what it makes, and what it asks of the host.

use std::collections::BTreeMap;

use boltboard_core::board::{Board, Kind};
use boltboard_core::work::LedgerEntry;

use super::text::{Cell, Role, bytes, columns, count, duration, paint, wrap};

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
    add("options", Role::Value, format!("{}: {}", board.options.len(), listed.join(", ")));
    let mut parts: BTreeMap<&str, (usize, usize)> = BTreeMap::new();
    for ((_, part), made) in board.parts.iter().zip(&overview.made) {
        let entry = parts.entry(part.kind.name()).or_default();
        entry.1 += 1;
        entry.0 += usize::from(*made);
    }
    let total = overview.made.iter().filter(|made| **made).count();
    add("parts", Role::Value, format!("{} of {} made with these options", total, board.parts.len()));
    for (kind, (made, all)) in parts {
        let names: Vec<&str> =
            board.parts.iter().filter(|(_, p)| p.kind.name() == kind).map(|(_, p)| p.name.as_str()).collect();
        for (index, line) in
            wrap(&format!("{kind} {made}/{all}: {}", names.join(", ")), width.saturating_sub(16)).iter().enumerate()
        {
            add("", Role::Faint, if index == 0 { line.clone() } else { format!("  {line}") });
        }
    }
    let needs = match overview.missing.as_slice() {
        [] => format!("{}, all on this host", board.needs.len()),
        missing => format!("{}, of which this host lacks {}", board.needs.len(), missing.join(", ")),
    };
    add("needs", if overview.missing.is_empty() { Role::Value } else { Role::Warn }, needs);
    add("profile", Role::Value, format!("{} with {}", overview.profile, count(overview.choices, "choice", "choices")));
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
            format!("{word}, {} run of {} in {}", last.ran, last.steps, duration(last.wall_ms)),
        );
    }
    text.push_str(&columns(&rows, 2, width));
    let next: &[(&str, &str)] = if overview.missing.is_empty() {
        &[("boltboard options", "what there is to choose"), ("boltboard preview", "what a build would do")]
    } else {
        &[
            ("boltboard survey", "what is missing and the ways out"),
            ("boltboard options", "what there is to choose"),
            ("boltboard preview", "what a build would do"),
        ]
    };
    text.push('\n');
    for (command, does) in next {
        text.push_str(&format!(
            "  {}  {}\n",
            paint(Role::Good, &super::text::pad(command, 18)),
            paint(Role::Faint, does)
        ));
    }
    text
}
