//! The files of a tree, and which of them the parts' patterns take.

use std::collections::BTreeMap;
use std::path::Path;

use super::find::WORK_MARK;
use super::problem::{Fault, Problem};
use crate::base::{Glob, RelPath};
use crate::board::{Board, Generator, PartId, PartKind, SourceRule};

/// All files of a tree, sorted. Hidden folders, work folders and what lies behind links to folders are left out.
#[derive(Debug)]
pub struct Listing {
    files: Vec<RelPath>,
    folders: Vec<RelPath>,
}

impl Listing {
    /// Looks at the tree at `root`.
    pub fn of(root: &Path) -> Listing {
        let walk = walkdir::WalkDir::new(root).follow_links(false).into_iter().filter_entry(|entry| {
            let hidden = entry.depth() > 0 && entry.file_name().to_string_lossy().starts_with('.');
            let work = entry.file_type().is_dir() && entry.path().join(WORK_MARK).is_file();
            !hidden && !work
        });
        let (mut files, mut folders) = (Vec::new(), Vec::new());
        for entry in walk.filter_map(Result::ok) {
            let Some(path) = RelPath::of(entry.path(), root) else { continue };
            if entry.file_type().is_dir() {
                folders.push(path);
            } else if entry.file_type().is_file() || (entry.file_type().is_symlink() && entry.path().is_file()) {
                files.push(path);
            }
        }
        files.sort();
        folders.sort();
        Listing { files, folders }
    }

    /// Returns all folders that were looked into, the root among them.
    pub fn folders(&self) -> &[RelPath] {
        &self.folders
    }

    /// Returns all files.
    pub fn files(&self) -> &[RelPath] {
        &self.files
    }

    /// Returns the files that match a pattern.
    pub fn matching<'a>(&'a self, glob: &'a Glob) -> impl Iterator<Item = &'a RelPath> {
        let plain = glob.plain().map(|path| self.files.binary_search(path).ok().map(|at| &self.files[at]));
        let (one, many) = match plain {
            Some(found) => (found, &[][..]),
            None => (None, &self.files[..]),
        };
        one.into_iter().chain(many.iter().filter(|path| glob.matches(path)))
    }

    /// Returns the files that one rule takes, sorted.
    pub fn of_rule(&self, rule: &SourceRule) -> Vec<RelPath> {
        let mut files: Vec<RelPath> = rule
            .globs
            .iter()
            .flat_map(|glob| self.matching(glob))
            .filter(|path| !rule.except.iter().any(|glob| glob.matches(path)))
            .cloned()
            .collect();
        files.sort();
        files.dedup();
        files
    }
}

/// Checks what definitions say about files: patterns that match nothing, sources that cannot be compiled, and two
/// parts that make one file.
pub fn check_sources(board: &Board, listing: &Listing) -> Vec<Problem> {
    let mut problems = Vec::new();
    for (_, part) in board.parts.iter() {
        let compiled = !matches!(part.kind, PartKind::Data | PartKind::Generated(_));
        for rule in &part.sources {
            for glob in rule.globs.iter().filter(|g| listing.matching(g).next().is_none()) {
                problems.push(Problem::at(rule.place, Fault::NothingMatches(glob.as_str().to_string())));
            }
            for file in listing.of_rule(rule) {
                if compiled && language_ending(&file).is_none() {
                    problems.push(Problem::at(rule.place, Fault::NotASource(file.to_string())));
                }
            }
        }
        if let PartKind::Generated(Generator::Command { reads, .. }) = &part.kind {
            for glob in reads.iter().filter(|glob| listing.matching(glob).next().is_none()) {
                problems.push(Problem::at(part.place, Fault::NothingMatches(glob.as_str().to_string())));
            }
        }
        if let PartKind::Generated(Generator::Template { from, .. }) = &part.kind
            && listing.files.binary_search(from).is_err()
        {
            problems.push(Problem::at(part.place, Fault::NothingMatches(from.to_string())));
        }
    }
    problems.extend(same_files(board));
    problems
}

fn language_ending(path: &RelPath) -> Option<&str> {
    Some(path.extension()).filter(|e| matches!(*e, "c" | "cc" | "cpp" | "cxx" | "s" | "S"))
}

fn same_files(board: &Board) -> Vec<Problem> {
    let mut makers: BTreeMap<String, PartId> = BTreeMap::new();
    let mut problems = Vec::new();
    for (id, part) in board.parts.iter() {
        let made: Vec<String> = match &part.kind {
            PartKind::Generated(Generator::Command { writes, .. }) => {
                writes.iter().map(|w| format!("made/{w}")).collect()
            }
            PartKind::Generated(Generator::Template { to, .. }) => vec![format!("made/{to}")],
            PartKind::Generated(Generator::ModuleTable(table)) => vec![format!("made/{}", table.to)],
            PartKind::Objects | PartKind::Data => vec![],
            PartKind::Program | PartKind::StaticLibrary | PartKind::SharedLibrary { .. } | PartKind::Module(_) => {
                vec![part.output.to_string()]
            }
        };
        for file in made {
            if let Some(first) = makers.insert(file.clone(), id)
                && !excluded(board, first, id)
            {
                let fault = Fault::SameFile { first: board.parts[first].name.clone(), second: part.name.clone(), file };
                let related = Some(board.parts[first].place);
                problems.push(Problem { fault, place: Some(part.place), related, near: vec![] });
            }
        }
    }
    problems
}

/// Parts with conditions of their own may be two versions of one thing; the plan checks that only one is made.
fn excluded(board: &Board, first: PartId, second: PartId) -> bool {
    board.parts[first].when.is_some() && board.parts[second].when.is_some()
}
