//! The definitions held against the files of the tree: sources that no part takes, patterns and folders that match nothing.

use std::collections::BTreeSet;

use super::macros::Macros;
use super::mentioned::Mentioned;
use super::{Detail, Finding, Spot, Subject, read};
use crate::base::{RelPath, is_source};
use crate::board::{Board, FindingKind, Generator, SourceFile};
use crate::definitions::Listing;
use crate::reading::{Dialects, Tokens};

/// Findings about files. A tree without sources of its own has none.
pub(super) fn findings(board: &Board, mentioned: &Mentioned, listing: &Listing) -> Vec<Finding> {
    let is_text = |file: &&RelPath| is_source(file) || matches!(file.extension(), "h" | "hh" | "hpp" | "hxx" | "inc");
    let sources: Vec<&RelPath> = listing.files().iter().filter(|file| is_source(file)).collect();
    if sources.is_empty() {
        return Vec::new();
    }
    let mut included = Included::default();
    let mut macros = Macros::of(board);
    let templates = board.parts.iter().filter_map(|(_, part)| match part.kind.generator() {
        Some(Generator::Template { from: SourceFile::Tree(from), .. }) => Some(from.clone()),
        _ => None,
    });
    for file in listing.files().iter().filter(is_text).cloned().chain(templates) {
        let text = read(&board.tree, &file);
        let tokens = Tokens::of(text.as_bytes(), &Dialects::default());
        included.names.extend(tokens.includes.iter().map(|include| ending_of(&include.name).to_string()));
        macros.look(&file, &text, tokens);
    }
    let mut findings = loose(board, listing, &sources, &included);
    findings.extend(without_match(board, listing));
    findings.extend(macros.findings(board, mentioned, listing));
    findings
}

/// What texts include.
#[derive(Default)]
struct Included {
    /// The names, without ways up before them.
    names: BTreeSet<String>,
}

impl Included {
    /// Whether some text includes a file, by its name or by the end of its path.
    fn has(&self, file: &RelPath) -> bool {
        let path = file.as_str();
        let ends = path.match_indices('/').map(|(at, _)| &path[at + 1..]).chain([path]);
        ends.into_iter().any(|end| self.names.contains(end))
    }
}

/// A name as it is included, from behind what leads up or nowhere.
fn ending_of(name: &str) -> &str {
    let mut rest = name;
    while let Some(after) = rest.strip_prefix("../").or_else(|| rest.strip_prefix("./")) {
        rest = after;
    }
    rest
}

/// Sources that no part takes under any condition, and that no other text includes.
fn loose(board: &Board, listing: &Listing, sources: &[&RelPath], included: &Included) -> Vec<Finding> {
    let mut taken: BTreeSet<RelPath> = BTreeSet::new();
    for (_, part) in board.parts.iter() {
        part.sources.iter().for_each(|rule| taken.extend(listing.of_rule(rule)));
        if let Some(generator) = part.kind.generator() {
            generator.reads().iter().for_each(|glob| taken.extend(listing.matching(glob).cloned()));
            taken.extend(generator.files().into_iter().cloned());
        }
    }
    // What was fetched is what it is, and an add-on may lie within the tree.
    let of_add_on = |file: &RelPath| {
        let place = file.below(&board.tree.source_root);
        board.tree.grafts.iter().any(|(_, real)| place.starts_with(real))
    };
    let own =
        |file: &RelPath| board.fetches.iter().all(|(_, fetch)| file.beneath(&fetch.into).is_none()) && !of_add_on(file);
    let loose = sources.iter().filter(|file| !taken.contains(**file) && !included.has(file) && own(file));
    loose
        .map(|file| Finding {
            kind: FindingKind::LooseSource,
            subject: Subject::File((*file).clone()),
            at: Spot::Source((*file).clone(), 1),
            detail: Detail::Plain,
        })
        .collect()
}

/// What is left out of a part's sources and is not there, and folders to search that are not.
fn without_match(board: &Board, listing: &Listing) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (id, part) in board.parts.iter() {
        let except = part.sources.iter().flat_map(|rule| &rule.except);
        let mut texts: BTreeSet<String> = except
            .filter(|glob| listing.matching(glob).next().is_none())
            .map(|glob| format!("except `{}`", glob.as_str()))
            .collect();
        let folders = part.includes.iter().chain(&part.public_includes).map(|entry| &entry.item);
        let awaited = |folder: &RelPath| board.tree.grafts.awaits(folder);
        let absent = |folder: &&RelPath| listing.folders().binary_search(folder).is_err() && !awaited(folder);
        texts.extend(folders.filter(absent).map(|folder| format!("include `{folder}`")));
        findings.extend(texts.into_iter().map(|text| Finding {
            kind: FindingKind::PatternEmpty,
            subject: Subject::Part(id),
            at: Spot::Definition(part.place),
            detail: Detail::Text(text),
        }));
    }
    findings
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_included_is_told_by_the_end_of_its_path() {
        let included = Included { names: ["a.c", "sub/b.c"].map(str::to_string).into() };
        let has = |path: &str| included.has(&RelPath::parse(path).unwrap());
        assert!(has("a.c") && has("deep/a.c") && has("x/sub/b.c"));
        assert!(!has("b.c") && !has("xa.c") && !has("x/b.c"));
        assert_eq!(ending_of("../../x/y.c"), "x/y.c");
    }
}
