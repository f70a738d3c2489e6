//! Sources and flags of parts in a terminal. What is the same for many parts is said once.

use std::collections::BTreeMap;

use super::text::{NAMED, title};
use super::{Comparison, FlagsTold};
use crate::render::text::{Cell, Role, columns, count};

/// From how many parts on flags that differ in the same way are told together.
const MANY: usize = 3;

/// A difference in flags, with the side that it is on.
type Way<'c> = (&'c str, &'static str, &'c [String], &'c [String]);

fn way<'c>(side: &'c str, flags: &'c FlagsTold) -> Way<'c> {
    (side, flags.verb, &flags.left, &flags.right)
}

/// Draws them; all names where `all` is asked for.
pub(super) fn text(compared: &Comparison, all: bool, width: usize) -> String {
    if compared.contents.is_empty() {
        return String::new();
    }
    let named = |names: &[String]| {
        let shown = if all { names.len() } else { names.len().min(NAMED) };
        let more = names.len() - shown;
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        format!("{}{more}", names[..shown].join(", "))
    };
    // The parts of each way, with how many commands.
    let mut ways: BTreeMap<Way<'_>, (Vec<String>, usize)> = BTreeMap::new();
    for contents in &compared.contents {
        for flags in &contents.flags {
            let (parts, commands) = ways.entry(way(&contents.side, flags)).or_default();
            parts.push(contents.part.clone());
            *commands += flags.commands;
        }
    }
    let shared = ways.iter().filter(|(_, (parts, _))| parts.len() >= MANY);
    let mut rows: Vec<Vec<Cell>> = shared
        .map(|(way, (parts, commands))| {
            vec![
                (Role::Name, count(parts.len(), "part", "parts")),
                (Role::Faint, commands_of(way.1, *commands)),
                (Role::Value, format!("{}  ({})", changed(compared, way), named(parts))),
            ]
        })
        .collect();
    let left = &compared.sides[0];
    for contents in &compared.contents {
        let mut first = true;
        let mut row = |what: String, said: String| {
            let part = if first { contents.part.clone() } else { String::new() };
            first = false;
            rows.push(vec![(Role::Name, part), (Role::Faint, what), (Role::Value, said)]);
        };
        for (side, sources) in [(left, &contents.left_sources), (&contents.side, &contents.right_sources)] {
            if !sources.is_empty() {
                row(format!("only {side}"), named(sources));
            }
        }
        for flags in &contents.flags {
            let way = way(&contents.side, flags);
            if ways[&way].0.len() < MANY {
                row(commands_of(flags.verb, flags.commands), changed(compared, &way));
            }
        }
    }
    title("Sources and flags") + &columns(&rows, 2, width)
}

fn commands_of(verb: &str, number: usize) -> String {
    count(number, verb, &format!("{verb}s"))
}

fn changed(compared: &Comparison, (other, _, left, right): &Way<'_>) -> String {
    let side = |words: &[String]| if words.is_empty() { "nothing".to_string() } else { words.join(" ") };
    let to = if compared.sides.len() > 2 { format!("  in {other}") } else { String::new() };
    format!("{}  →  {}{to}", side(left), side(right))
}
