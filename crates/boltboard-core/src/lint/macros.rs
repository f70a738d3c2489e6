//! The macros of the definitions held against those in the files of the tree.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, OnceLock};

use regex::Regex;

use super::mentioned::Mentioned;
use super::{Detail, Finding, Spot, Subject};
use crate::base::RelPath;
use crate::board::{Board, FindingKind, Interp, OptionDef, PartId, Piece};
use crate::definitions::Listing;
use crate::reading::{NameIndex, Tokens, Usage};

/// How many options' macros must begin alike for others that do to be taken for theirs.
const ALIKE: usize = 2;

/// What files name, test and define.
pub(super) struct Macros {
    /// What macros of the board begin with.
    prefixes: Vec<String>,
    files: BTreeMap<RelPath, Arc<Tokens>>,
    tested: BTreeMap<String, (RelPath, usize)>,
    defined: BTreeSet<String>,
}

impl Macros {
    /// Begins with what the board's macros are like.
    pub fn of(board: &Board) -> Macros {
        let mut prefixes: BTreeSet<String> =
            board.headers.iter().map(|(_, header)| header.prefix.clone()).filter(|prefix| !prefix.is_empty()).collect();
        // `HAVE_X` and `HAVE_Y`, where options name theirs.
        let mut begin: BTreeMap<&str, usize> = BTreeMap::new();
        for name in board.options.iter().filter_map(|(_, option)| option.macros.first()).map(|one| one.name.as_str()) {
            let word = name.find('_').filter(|at| *at > 0).map(|at| &name[..=at]);
            word.into_iter().for_each(|word| *begin.entry(word).or_default() += 1);
        }
        prefixes.extend(begin.into_iter().filter(|(_, count)| *count >= ALIKE).map(|(word, _)| word.to_string()));
        let (files, tested, defined) = Default::default();
        Macros { prefixes: prefixes.into_iter().collect(), files, tested, defined }
    }

    /// Takes in a file.
    pub fn look(&mut self, file: &RelPath, text: &str, tokens: Tokens) {
        self.files.insert(file.clone(), Arc::new(tokens));
        static DIRECTIVE: OnceLock<Option<Regex>> = OnceLock::new();
        let pattern = r"(?m)^[ \t]*#[ \t]*(if|ifdef|ifndef|elif|elifdef|elifndef|define)\b(.*)$";
        let Some(directive) = DIRECTIVE.get_or_init(|| Regex::new(pattern).ok()) else { return };
        if !self.prefixes.iter().any(|prefix| text.contains(prefix)) {
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
            for name in names.filter(|name| self.prefixes.iter().any(|prefix| name.starts_with(prefix))) {
                let line = text[..word.start()].matches('\n').count() + 1;
                self.tested.entry(name.to_string()).or_insert((file.clone(), line));
            }
        }
    }

    /// All findings about macros.
    pub fn findings(&self, board: &Board, mentioned: &Mentioned, listing: &Listing) -> Vec<Finding> {
        let mut findings = self.unknown(board);
        // What is not fetched yet may name them.
        if board.tree.grafts.is_complete() {
            findings.extend(self.unread(board, mentioned));
            findings.extend(self.unread_defines(board, listing));
        }
        findings
    }

    /// Macros that carry options into headers and that nothing names. A pick has a macro for each value; one that is named will do.
    fn unread(&self, board: &Board, mentioned: &Mentioned) -> Vec<Finding> {
        let mut findings = Vec::new();
        let carried = |option: &'_ OptionDef| -> Vec<String> {
            option.macros.iter().filter(|m| m.header.is_some()).map(|m| m.name.clone()).collect()
        };
        let all: Vec<String> = board.options.iter().flat_map(|(_, option)| carried(option)).collect();
        let index = NameIndex::of(all.iter().map(String::as_str));
        let usage = usage(self.files.values());
        let seen = usage.seen(&index);
        for (id, option) in board.options.iter() {
            let names =
                || option.macros.iter().filter(|definition| definition.header.is_some()).map(|m| m.name.as_str());
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

    /// Macros that parts hand to their sources and that neither these nor any header names.
    fn unread_defines(&self, board: &Board, listing: &Listing) -> Vec<Finding> {
        let mut findings = Vec::new();
        let is_header = |file: &RelPath| matches!(file.extension(), "h" | "hh" | "hpp" | "hxx" | "inc");
        let headers: Vec<&Arc<Tokens>> =
            self.files.iter().filter(|(file, _)| is_header(file)).map(|(_, tokens)| tokens).collect();
        for (id, part) in board.parts.iter().filter(|(_, part)| !part.defines.is_empty()) {
            let names: Vec<String> = part.defines.iter().filter_map(|entry| defined_by(&entry.item)).collect();
            let index = NameIndex::of(names.iter().map(String::as_str));
            let sources = part.sources.iter().flat_map(|rule| listing.of_rule(rule));
            let own: Vec<&Arc<Tokens>> = sources.filter_map(|file| self.files.get(&file)).collect();
            // What is generated can name anything.
            if part.sources.iter().any(|rule| !rule.made.is_empty()) {
                continue;
            }
            let usage = usage(own.into_iter().chain(headers.iter().copied()));
            let seen = usage.seen(&index);
            let unread: BTreeSet<&String> = names.iter().filter(|name| !seen.contains(name.as_str())).collect();
            findings.extend(unread.into_iter().map(|name| define_unread(id, name, part.place)));
        }
        findings
    }

    /// Macros like the board's that files test, and that neither the board nor a file defines.
    fn unknown(&self, board: &Board) -> Vec<Finding> {
        let mut known: BTreeSet<&str> = board.headers.iter().map(|(_, header)| header.guard.as_str()).collect();
        for (_, option) in board.options.iter() {
            known.extend(option.macros.iter().map(|definition| definition.name.as_str()));
        }
        let of_parts = board.parts.iter().flat_map(|(_, part)| {
            let of_rules = part.sources.iter().flat_map(|rule| &rule.flags);
            part.defines.iter().chain(&part.flags).map(|entry| &entry.item).chain(of_rules)
        });
        let of_all =
            board.toolchains.both().into_iter().flat_map(|chain| chain.lists()).flatten().map(|entry| &entry.item);
        let handed: BTreeSet<String> = of_parts.chain(of_all).filter_map(defined_by).collect();
        let strange = self.tested.iter().filter(|(name, _)| {
            !known.contains(name.as_str()) && !self.defined.contains(*name) && !handed.contains(*name)
        });
        strange
            .map(|(name, (file, line))| Finding {
                kind: FindingKind::MacroUnknown,
                subject: Subject::Macro(name.clone()),
                at: Spot::Source(file.clone(), *line),
                detail: Detail::Plain,
            })
            .collect()
    }
}

fn define_unread(part: PartId, name: &str, place: crate::base::Place) -> Finding {
    let (kind, subject, at) = (FindingKind::DefineUnread, Subject::Part(part), Spot::Definition(place));
    Finding { kind, subject, at, detail: Detail::Text(name.to_string()) }
}

fn usage<'t>(files: impl Iterator<Item = &'t Arc<Tokens>>) -> Usage {
    let mut usage = Usage::default();
    files.for_each(|tokens| usage.add(Arc::clone(tokens)));
    usage
}

/// The macro that a define or a flag `-D…` defines, where its name does not follow from an option.
fn defined_by(text: &Interp) -> Option<String> {
    let Piece::Text(first) = text.pieces.first()? else { return None };
    let name = first.trim_start_matches("-D").split('=').next()?;
    let whole = text.pieces.len() == 1 || first.contains('=');
    (whole && crate::base::is_c_name(name)).then(|| name.to_string())
}
