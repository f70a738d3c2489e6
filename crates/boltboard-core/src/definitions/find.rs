//! Finding a tree and reading its definition files within limits.

use std::path::{Path, PathBuf};

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::fields::{Log, Table};
use super::problem::{Fault, Problem};
use super::sources::Listing;
use crate::base::files::read_regular;
use crate::base::{FileId, Glob, Grafts, Place, RelPath, SourceFiles};
use crate::board::KIT_FILE;

/// The largest definition file, in bytes.
pub(super) const MAX_FILE: u64 = 16 * 1024 * 1024;
/// The largest number of definition files.
pub(super) const MAX_FILES: usize = 50_000;
/// The file that marks a work folder; no source is looked for beside it.
pub const WORK_MARK: &str = "boltboard-work";

/// Why no tree was found.
#[derive(Debug, thiserror::Error)]
pub enum TreeFault {
    /// Neither this folder nor one above it is a tree.
    #[error("no `boltboard.toml` with a [tree] table in {0} or above it")]
    NoTree(PathBuf),
    /// The folder cannot be looked at.
    #[error("cannot read the folder {folder}")]
    Folder {
        /// The folder.
        folder: PathBuf,
        /// What the system says.
        source: std::io::Error,
    },
}

/// A definition file that was read as TOML; it borrows the texts.
pub(super) struct RawFile<'a> {
    pub id: FileId,
    pub folder: RelPath,
    pub table: Table<'a>,
}

/// Returns the root of the tree that `from` lies in: the nearest folder whose `boltboard.toml` has a `[tree]` table.
///
/// # Errors
/// See [`TreeFault`].
pub fn find_root(from: &Path) -> Result<PathBuf, TreeFault> {
    let start = from.canonicalize().map_err(|source| TreeFault::Folder { folder: from.into(), source })?;
    for folder in start.ancestors() {
        let file = folder.join("boltboard.toml");
        // A file that cannot be read as text still marks the tree: reading it will say what is wrong.
        match read_regular(&file) {
            Ok(bytes) => {
                let text = String::from_utf8_lossy(&bytes);
                if marks_a_tree(&text) || std::str::from_utf8(&bytes).is_err() {
                    return Ok(folder.to_path_buf());
                }
            }
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => {}
            Err(_) => return Ok(folder.to_path_buf()),
        }
    }
    Err(TreeFault::NoTree(start))
}

/// Tells whether a text looks like the root file of a tree. That of an add-on names its tree within a table.
fn marks_a_tree(text: &str) -> bool {
    let lines = || text.lines().map(str::trim_start);
    let is_key = |line: &str| ["tree =", "tree=", "tree."].iter().any(|key| line.starts_with(key));
    lines().any(|line| line.starts_with("[tree]")) || lines().take_while(|line| !line.starts_with('[')).any(is_key)
}

/// Returns the name that a folder gives itself as an add-on, if it is one.
pub fn add_on_in(folder: &Path) -> Option<String> {
    said_of_add_on(folder, "name")
}

/// Returns the tree that an add-on says it is for.
pub fn tree_of_add_on(folder: &Path) -> Option<String> {
    said_of_add_on(folder, "tree")
}

fn said_of_add_on(folder: &Path, key: &str) -> Option<String> {
    let bytes = read_regular(&folder.join("boltboard.toml")).ok().filter(|bytes| bytes.len() as u64 <= MAX_FILE)?;
    let text = String::from_utf8(bytes).ok()?;
    let table = DeTable::parse(&text).ok()?.into_inner();
    Some(table.get("add-on")?.get_ref().as_table()?.get(key)?.get_ref().as_str()?.to_string())
}

/// A definition file that is to be read.
pub(super) struct NamedFile {
    path: RelPath,
    /// Where its name, or a pattern that takes it, is written.
    named_at: Option<Place>,
    leads: Leads,
}

impl NamedFile {
    /// The file that makes the root a kit.
    pub fn of_kit() -> NamedFile {
        NamedFile { path: RelPath::root().child(KIT_FILE), named_at: None, leads: Leads::Anywhere }
    }

    /// The root definition file of the tree, or that of an add-on that counts as lying there.
    pub fn root_of(folder: &RelPath) -> NamedFile {
        NamedFile { path: folder.child("boltboard.toml"), named_at: None, leads: Leads::Anywhere }
    }
}

/// Reads one file's text. Files do not depend on each other here, so several can be read at once.
pub(super) fn read_text(root: &Path, grafts: &Grafts, named: &NamedFile) -> Result<String, Fault> {
    match grafts.iter().find_map(|(at, real)| Some((real, named.path.beneath(at)?))) {
        Some((real, rest)) => text_of(real, &rest, named.leads),
        None => text_of(root, &named.path, named.leads),
    }
}

/// Takes a text in, or logs why there is none.
pub(super) fn take_text(
    named: &NamedFile,
    text: Result<String, Fault>,
    files: &mut SourceFiles,
    log: &Log,
) -> Option<FileId> {
    match text {
        Ok(text) => Some(files.add(named.path.as_str(), text)),
        Err(fault) => {
            log.add(Problem { fault, place: named.named_at, related: None, near: vec![] });
            None
        }
    }
}

/// Reads one file as TOML, or logs what is wrong with it.
pub(super) fn parse_file<'a>(id: FileId, files: &'a SourceFiles, log: &Log) -> Option<RawFile<'a>> {
    match DeTable::parse(files.text(id)) {
        Ok(table) => {
            let folder = RelPath::parse(files.name(id)).map_or(RelPath::root(), |path| path.parent());
            Some(RawFile { id, folder, table: table.into_inner() })
        }
        Err(e) => {
            let place = Place::new(id, e.span().unwrap_or(0..0));
            let message = e.message().trim().replace('\n', "; ");
            log.add(Problem::at(place, Fault::Toml(message)));
            None
        }
    }
}

/// Whether the folders on the way to a file may be links.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Leads {
    /// It was come upon by a walk, which follows none.
    Walked,
    /// Its path was written down.
    Anywhere,
}

fn text_of(root: &Path, path: &RelPath, leads: Leads) -> Result<String, Fault> {
    let shown = path.to_string();
    let real = path.below(root);
    let unreadable = |e: std::io::Error| Fault::Unreadable { file: shown.clone(), reason: e.to_string() };
    let status = std::fs::symlink_metadata(&real).map_err(unreadable)?;
    let linked = status.is_symlink() || leads == Leads::Anywhere;
    let status = if linked { std::fs::metadata(&real).map_err(unreadable)? } else { status };
    if status.len() > MAX_FILE {
        return Err(Fault::Limit { what: shown, limit: format!("{} MiB", MAX_FILE >> 20) });
    }
    // The file a link leads to must lie in the tree as well. The root's path is free of links already.
    if linked && matches!(real.canonicalize(), Ok(there) if !there.starts_with(root)) {
        return Err(Fault::LinkOut(shown));
    }
    let bytes = read_regular(&real).map_err(unreadable)?;
    String::from_utf8(bytes).map_err(|e| Fault::NotUtf8 { file: shown, offset: e.utf8_error().valid_up_to() })
}

/// Returns the nested definition files that these patterns name, sorted. Patterns that are wrong name none.
pub fn boards_named(patterns: &[String], listing: &Listing) -> Vec<RelPath> {
    let mut named = std::collections::BTreeSet::new();
    for text in patterns {
        let Ok(glob) = Glob::parse(&RelPath::root(), text) else { continue };
        named.extend(boards_of(&glob, text, listing));
    }
    named.remove(&RelPath::root().child("boltboard.toml"));
    named.into_iter().collect()
}

fn boards_of(glob: &Glob, text: &str, listing: &Listing) -> Vec<RelPath> {
    if let Some(plain) = glob.plain() {
        return vec![plain.clone()];
    }
    let is_board = |path: &&RelPath| path.name() == "boltboard.toml" || !text.ends_with('*') && path.name() != KIT_FILE;
    listing.matching(glob).filter(is_board).cloned().collect()
}

/// Returns the nested definition files that a root one names, sorted. The files of the tree are listed when they are first asked for.
pub(super) fn named_boards(
    (root, grafts): (&Path, &Grafts),
    file: &RawFile<'_>,
    listing: &mut Option<Listing>,
    log: &Log,
) -> Vec<NamedFile> {
    let mut named = std::collections::BTreeMap::new();
    for item in patterns_of(file) {
        // A wrong type is reported when the table is read in full.
        let Some(text) = item.get_ref().as_str() else { continue };
        let place = Place::new(file.id, item.span());
        let glob = match Glob::parse(&file.folder, text) {
            Ok(glob) => glob,
            Err(fault) => {
                log.add(Problem::at(place, fault));
                continue;
            }
        };
        if let Some(plain) = glob.plain() {
            named.entry(plain.clone()).or_insert((place, Leads::Anywhere));
            continue;
        }
        let listing = listing.get_or_insert_with(|| Listing::with_grafts(root, grafts));
        let found = boards_of(&glob, text, listing);
        for path in &found {
            named.entry(path.clone()).or_insert((place, Leads::Walked));
        }
        if found.is_empty() {
            log.add(Problem::at(place, Fault::NothingMatches(text.to_string())));
        }
    }
    named.remove(&file.folder.child("boltboard.toml"));
    // What an add-on brings is named by itself.
    named.retain(|path, _| grafts.over(path) == grafts.over(&file.folder));
    let file = |(path, (place, leads))| NamedFile { path, named_at: Some(place), leads };
    named.into_iter().map(file).collect()
}

/// The patterns of further files, in the table by which a root file is one.
fn patterns_of<'f, 'a>(file: &'f RawFile<'a>) -> impl Iterator<Item = &'f Spanned<DeValue<'a>>> {
    let tables = ["tree", "add-on"].into_iter().filter_map(|key| file.table.get(key)?.get_ref().as_table());
    tables.filter_map(|table| table.get("more")?.get_ref().as_array()).flatten()
}

/// Returns an add-on's root file and the patterns of its further ones, as paths of the tree.
pub(super) fn more_of(file: &RawFile<'_>) -> Vec<String> {
    let texts = patterns_of(file).filter_map(|item| item.get_ref().as_str());
    ["boltboard.toml"].into_iter().chain(texts).map(|text| file.folder.child(text).to_string()).collect()
}
