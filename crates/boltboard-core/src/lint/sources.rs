//! The definitions held against the files of the tree: sources that no part takes, macros that no source reads, macros that
//! sources test and nothing defines.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::OnceLock;

use regex::Regex;

use super::mentioned::Mentioned;
use super::{Detail, Finding, Spot, Subject, read};
use crate::base::RelPath;
use crate::board::{Board, FindingKind, Generator, OptionDef, PartKind};
use crate::definitions::Listing;
use crate::reading::{Dialects, NameIndex, Tokens, Usage};

/// Findings about files. A tree without sources of its own has none.
pub(super) fn findings(board: &Board, mentioned: &Mentioned, listing: &Listing, root: &Path) -> Vec<Finding> {
    let is_source = |file: &&RelPath| matches!(file.extension(), "c" | "cc" | "cpp" | "cxx" | "s" | "S");
    let is_text = |file: &&RelPath| is_source(file) || matches!(file.extension(), "h" | "hh" | "hpp" | "hxx" | "inc");
    let sources: Vec<&RelPath> = listing.files().iter().filter(is_source).collect();
    if sources.is_empty() {
        return Vec::new();
    }
    let mut findings = loose(board, listing, &sources);
    let mut usage = Usage::default();
    let mut seen = Seen::default();
    let prefixes: Vec<&str> =
        board.headers.iter().map(|(_, header)| header.prefix.as_str()).filter(|prefix| !prefix.is_empty()).collect();
    let templates = board.parts.iter().filter_map(|(_, part)| match &part.kind {
        PartKind::Generated(Generator::Template { from, .. }) => Some(from.clone()),
        _ => None,
    });
    for file in listing.files().iter().filter(is_text).cloned().chain(templates) {
        let text = read(root, &file);
        usage.add(Tokens::of(text.as_bytes(), &Dialects::default()).into());
        seen.look(&file, &text, &prefixes);
    }
    findings.extend(unread(board, &usage, mentioned));
    findings.extend(unknown(board, &seen));
    findings
}

/// Sources that no part takes under any condition.
fn loose(board: &Board, listing: &Listing, sources: &[&RelPath]) -> Vec<Finding> {
    let mut taken: BTreeSet<RelPath> = BTreeSet::new();
    for (_, part) in board.parts.iter() {
        part.sources.iter().for_each(|rule| taken.extend(listing.of_rule(rule)));
        if let PartKind::Generated(Generator::Command { reads, .. }) = &part.kind {
            reads.iter().for_each(|glob| taken.extend(listing.matching(glob).cloned()));
        }
    }
    let loose = sources.iter().filter(|file| !taken.contains(**file));
    loose
        .map(|file| Finding {
            kind: FindingKind::LooseSource,
            subject: Subject::File((*file).clone()),
            at: Spot::Source((*file).clone(), 1),
            detail: Detail::Plain,
        })
        .collect()
}

/// Macros that carry options into headers and that nothing names. A pick has a macro for each value; one that is named will do.
fn unread(board: &Board, usage: &Usage, mentioned: &Mentioned) -> Vec<Finding> {
    let mut findings = Vec::new();
    let carried = |option: &'_ OptionDef| -> Vec<String> {
        option.macros.iter().filter(|m| m.header.is_some()).map(|m| m.name.clone()).collect()
    };
    let all: Vec<String> = board.options.iter().flat_map(|(_, option)| carried(option)).collect();
    let index = NameIndex::of(all.iter().map(String::as_str));
    let seen = usage.seen(&index);
    for (id, option) in board.options.iter() {
        let names = || option.macros.iter().filter(|definition| definition.header.is_some()).map(|m| m.name.as_str());
        // An option that chooses parts, sources, flags or other values needs no reader.
        let Some(first) = names().next() else { continue };
        if !names().any(|name| seen.contains(name)) && !mentioned.option(id) {
            findings.push(Finding {
                kind: FindingKind::MacroUnread,
                subject: Subject::Macro(first.to_string()),
                at: Spot::Definition(option.place),
                detail: Detail::Plain,
            });
        }
    }
    findings
}

/// Macros like the board's that files test, and those that they define.
#[derive(Default)]
struct Seen {
    tested: BTreeMap<String, (RelPath, usize)>,
    defined: BTreeSet<String>,
}

impl Seen {
    fn look(&mut self, file: &RelPath, text: &str, prefixes: &[&str]) {
        static DIRECTIVE: OnceLock<Option<Regex>> = OnceLock::new();
        let pattern = r"(?m)^[ \t]*#[ \t]*(if|ifdef|ifndef|elif|elifdef|elifndef|define)\b(.*)$";
        let Some(directive) = DIRECTIVE.get_or_init(|| Regex::new(pattern).ok()) else { return };
        if !prefixes.iter().any(|prefix| text.contains(prefix)) {
            return;
        }
        for found in directive.captures_iter(text) {
            let (Some(word), Some(rest)) = (found.get(1), found.get(2)) else { continue };
            let mut names =
                rest.as_str().split(|c: char| !c.is_ascii_alphanumeric() && c != '_').filter(|n| !n.is_empty());
            if word.as_str() == "define" {
                self.defined.extend(names.next().map(str::to_string));
                continue;
            }
            for name in names.filter(|name| prefixes.iter().any(|prefix| name.starts_with(prefix))) {
                let line = text[..word.start()].matches('\n').count() + 1;
                self.tested.entry(name.to_string()).or_insert((file.clone(), line));
            }
        }
    }
}

fn unknown(board: &Board, seen: &Seen) -> Vec<Finding> {
    let mut known: BTreeSet<&str> = board.headers.iter().map(|(_, header)| header.guard.as_str()).collect();
    for (_, option) in board.options.iter() {
        known.extend(option.macros.iter().map(|definition| definition.name.as_str()));
    }
    let handed: BTreeSet<String> = board
        .parts
        .iter()
        .flat_map(|(_, part)| part.defines.iter().chain(&part.flags))
        .flat_map(|entry| entry.item.pieces.first())
        .filter_map(|piece| match piece {
            crate::board::Piece::Text(text) => {
                Some(text.trim_start_matches("-D").split('=').next().unwrap_or("").to_string())
            }
            _ => None,
        })
        .collect();
    let strange = seen
        .tested
        .iter()
        .filter(|(name, _)| !known.contains(name.as_str()) && !seen.defined.contains(*name) && !handed.contains(*name));
    strange
        .map(|(name, (file, line))| Finding {
            kind: FindingKind::MacroUnknown,
            subject: Subject::Macro(name.clone()),
            at: Spot::Source(file.clone(), *line),
            detail: Detail::Plain,
        })
        .collect()
}
