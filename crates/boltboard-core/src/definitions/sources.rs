//! The files of a tree, and which of them the parts' patterns take.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use super::find::WORK_MARK;
use super::problem::{Fault, Problem};
use super::read::side_by_side;
use crate::base::{Depth, Digest, Glob, Grafts, RelPath, is_source, near_matches};
use crate::board::{Board, Generator, PartId, PartKind, SourceRule};

/// All files of a tree, sorted. Hidden folders, work folders and what lies behind links to folders are left out.
#[derive(Debug, Default)]
pub struct Listing {
    files: Vec<RelPath>,
    folders: Vec<RelPath>,
    unnamed: Vec<Unnamed>,
}

impl Listing {
    /// Looks at the tree at `root`. What cannot be looked into is left out.
    pub fn of(root: &Path) -> Listing {
        let mut listing = Listing::default();
        let mut level = vec![RelPath::root()];
        // Folders of one depth do not depend on each other.
        while !level.is_empty() {
            let look = |(_, folders): (usize, &[RelPath])| {
                folders.iter().filter_map(|folder| entries_of(root, folder)).collect::<Vec<_>>()
            };
            let seen: Vec<(RelPath, Entries)> = side_by_side(&level, look).into_iter().flatten().collect();
            level.clear();
            for (folder, entries) in seen {
                listing.folders.push(folder);
                listing.files.extend(entries.files);
                listing.unnamed.extend(entries.unnamed);
                level.extend(entries.folders);
            }
        }
        listing.files.sort();
        listing.folders.sort();
        listing
    }

    /// Takes files as told, wherever they lie.
    pub(super) fn told(mut files: Vec<RelPath>) -> Listing {
        files.sort();
        Listing { files, ..Listing::default() }
    }

    /// Looks at the tree at `root` with all that counts as if it lay there.
    pub fn with_grafts(root: &Path, grafts: &Grafts) -> Listing {
        Listing::of(root).and_grafts(grafts)
    }

    /// Takes in what counts as if it lay in the tree; it hides what really lies there.
    pub fn and_grafts(mut self, grafts: &Grafts) -> Listing {
        if grafts.is_empty() {
            return self;
        }
        self.files.retain(|file| grafts.iter().all(|(at, _)| file.beneath(at).is_none()));
        for (at, real) in grafts.iter() {
            if real.is_dir() {
                let there = Listing::of(real);
                self.files.extend(there.files.iter().map(|file| at.child(file.as_str())));
                let below = there.folders.iter().filter(|folder| !folder.as_str().is_empty());
                self.folders.extend(below.map(|folder| at.child(folder.as_str())));
                self.unnamed.extend(there.unnamed.iter().map(|one| Unnamed {
                    path: at.child(one.path.as_str()),
                    shown: at.child(&one.shown).to_string(),
                    is_folder: one.is_folder,
                }));
                self.folders.push(at.clone());
            } else {
                self.files.push(at.clone());
            }
        }
        self.files.sort();
        self.folders.sort();
        self.folders.dedup();
        self
    }

    /// Looks only where files may be that match these patterns.
    pub fn for_patterns<'a>(root: &Path, globs: impl Iterator<Item = &'a Glob>) -> Listing {
        let mut places: BTreeMap<RelPath, Depth> = BTreeMap::new();
        for glob in globs {
            let (folder, depth) = glob.place();
            let known = places.entry(folder).or_insert(depth);
            *known = (*known).max(depth);
        }
        let mut listing = Listing::default();
        let mut waiting: Vec<(RelPath, Depth)> = places.into_iter().collect();
        let mut seen = BTreeSet::new();
        while let Some((folder, depth)) = waiting.pop() {
            if !seen.insert((folder.clone(), depth)) || !is_listed(root, &folder) {
                continue;
            }
            let Some((folder, entries)) = entries_of(root, &folder) else { continue };
            listing.folders.push(folder);
            listing.files.extend(entries.files);
            listing.unnamed.extend(entries.unnamed);
            if depth == Depth::Below {
                waiting.extend(entries.folders.into_iter().map(|folder| (folder, depth)));
            }
        }
        for list in [&mut listing.files, &mut listing.folders] {
            list.sort();
            list.dedup();
        }
        listing
    }

    /// Returns a digest of the names in a folder that a listing looks at.
    pub fn names_in(folder: &Path) -> Digest {
        let Some((_, entries)) = entries_of(folder, &RelPath::root()) else { return Digest::of(b"left out") };
        let kept = |name: &&RelPath| !name.below(folder).join(WORK_MARK).is_file();
        let folders = entries.folders.iter().filter(kept).map(|name| format!("{name}/"));
        let mut names: Vec<String> = entries.files.iter().map(RelPath::to_string).chain(folders).collect();
        names.extend(entries.unnamed.into_iter().map(|one| one.shown));
        names.sort_unstable();
        Digest::of_parts(names.iter().map(String::as_str))
    }

    /// Returns all folders that were looked into, the root among them.
    pub fn folders(&self) -> &[RelPath] {
        &self.folders
    }

    /// Tells whether there is something whose name is no text, so that it is missing here.
    pub fn lacks_some(&self) -> bool {
        !self.unnamed.is_empty()
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
            None => (None, self.beginning_with(glob.beginning())),
        };
        one.into_iter().chain(many.iter().filter(|path| glob.matches(path)))
    }

    /// The files whose paths begin so: they stand together.
    fn beginning_with(&self, text: &str) -> &[RelPath] {
        let start = self.files.partition_point(|file| file.as_str() < text);
        let rest = &self.files[start..];
        &rest[..rest.partition_point(|file| file.as_str().starts_with(text))]
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

#[derive(Default)]
struct Entries {
    files: Vec<RelPath>,
    folders: Vec<RelPath>,
    unnamed: Vec<Unnamed>,
}

/// Something whose name is no text, so that no definition can name it.
#[derive(Debug, Clone)]
struct Unnamed {
    /// Its path, with a sign for each byte that is none of a text.
    path: RelPath,
    /// The same as people write it.
    shown: String,
    is_folder: bool,
}

impl Unnamed {
    /// Tells whether a rule would take it, or something in it, if its name were one.
    fn is_meant_by(&self, rule: &SourceRule) -> bool {
        let within = |glob: &Glob| {
            let (folder, depth) = glob.place();
            depth == Depth::Below && self.path.beneath(&folder).is_some()
        };
        let meant = |glob: &Glob| if self.is_folder { within(glob) } else { glob.matches(&self.path) };
        rule.globs.iter().any(meant) && !rule.except.iter().any(meant)
    }
}

/// Tells whether nothing on the way to a folder keeps it out of listings.
fn is_listed(root: &Path, folder: &RelPath) -> bool {
    let mut at = root.to_path_buf();
    folder.as_str().split('/').filter(|name| !name.is_empty()).all(|name| {
        let work = at.join(WORK_MARK).is_file();
        at.push(name);
        !work && !name.starts_with('.') && !at.is_symlink()
    })
}

/// What lies in a folder, unless that is a work folder.
fn entries_of(root: &Path, folder: &RelPath) -> Option<(RelPath, Entries)> {
    let mut entries = Entries::default();
    for entry in std::fs::read_dir(folder.below(root)).ok()?.filter_map(Result::ok) {
        let (name, Ok(kind)) = (entry.file_name(), entry.file_type()) else { continue };
        if name.as_encoded_bytes().starts_with(b".") {
            continue;
        }
        let Some(name) = name.to_str() else {
            let path = folder.child(&name.to_string_lossy());
            let shown = folder.child(&name.as_encoded_bytes().escape_ascii().to_string()).to_string();
            entries.unnamed.push(Unnamed { path, shown, is_folder: kind.is_dir() });
            continue;
        };
        if name == WORK_MARK && entry.path().is_file() {
            return None;
        }
        if kind.is_dir() {
            entries.folders.push(folder.child(name));
        } else if kind.is_file() || (kind.is_symlink() && entry.path().is_file()) {
            entries.files.push(folder.child(name));
        }
    }
    Some((folder.clone(), entries))
}

/// Checks what definitions say about files: patterns that match nothing, sources that cannot be compiled, and two
/// parts that make one file.
pub fn check_sources(board: &Board, listing: &Listing) -> Vec<Problem> {
    let mut problems = Vec::new();
    for (_, part) in board.parts.iter() {
        let compiled = part.kind.ending().is_some();
        for rule in &part.sources {
            for glob in rule.globs.iter().filter(|glob| is_missing(board, listing, glob)) {
                problems.push(Problem::at(rule.place, Fault::NothingMatches(glob.as_str().to_string())));
            }
            for unnamed in listing.unnamed.iter().filter(|one| one.is_meant_by(rule)) {
                problems.push(Problem::at(rule.place, Fault::NoText { path: unnamed.shown.clone() }));
            }
            for file in listing.of_rule(rule) {
                if compiled && !is_source(&file) && file.extension() != "o" {
                    problems.push(Problem::at(rule.place, Fault::NotASource { path: file.to_string() }));
                }
            }
        }
        for file in part.beside().into_iter().filter(|file| !board.tree.definition(file).is_file()) {
            problems.push(Problem::at(part.place, Fault::NothingMatches(format!("beside:{file}"))));
        }
        for stub in part.modules.iter().filter_map(|modules| modules.stub.as_ref()) {
            if listing.files.binary_search(stub).is_err() {
                problems.push(Problem::at(part.place, Fault::NothingMatches(stub.to_string())));
            }
        }
        if let Some(generator) = part.kind.generator() {
            for glob in generator.reads().iter().filter(|glob| is_missing(board, listing, glob)) {
                problems.push(Problem::at(part.place, Fault::NothingMatches(glob.as_str().to_string())));
            }
            let absent =
                |file: &&RelPath| listing.files.binary_search(file).is_err() && !board.tree.grafts.awaits(file);
            for file in generator.files().into_iter().filter(absent) {
                problems.push(Problem::at(part.place, Fault::NothingMatches(file.to_string())));
            }
        }
    }
    problems.extend(not_made(board));
    problems.extend(same_files(board));
    problems
}

/// Whether a pattern matches nothing, and will not once everything is fetched.
fn is_missing(board: &Board, listing: &Listing, glob: &Glob) -> bool {
    listing.matching(glob).next().is_none() && !board.tree.grafts.awaits_for(glob)
}

/// The files that a generated part makes, below the folder of generated files.
fn made_by(kind: &PartKind) -> Vec<&RelPath> {
    kind.generator().map_or_else(Vec::new, Generator::makes)
}

/// Sources that are to be generated, and that no part generates.
fn not_made(board: &Board) -> Vec<Problem> {
    let made: BTreeSet<&RelPath> = board.parts.iter().flat_map(|(_, part)| made_by(&part.kind)).collect();
    let rules = board.parts.iter().flat_map(|(_, part)| &part.sources);
    let wanted = rules.flat_map(|rule| rule.made.iter().map(move |file| (file, rule.place)));
    let absent = wanted.filter(|(file, _)| !made.contains(file));
    absent
        .map(|(file, place)| {
            let near = near_matches(file.as_str(), made.iter().map(|made| made.as_str()));
            Problem::at(place, Fault::NotMade(file.to_string())).with_near(near)
        })
        .collect()
}

fn same_files(board: &Board) -> Vec<Problem> {
    let mut makers: BTreeMap<String, PartId> = BTreeMap::new();
    let mut problems = Vec::new();
    for (id, part) in board.parts.iter() {
        let mut made: Vec<String> = made_by(&part.kind).iter().map(|file| format!("made/{file}")).collect();
        if part.kind.is_linked() {
            made.push(part.output.to_string());
        }
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
