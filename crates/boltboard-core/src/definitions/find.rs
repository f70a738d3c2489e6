//! Finding a tree and reading its definition files within limits.

use std::path::{Path, PathBuf};

use toml_edit::Document;

use super::fields::Log;
use super::problem::{Fault, Problem};
use super::sources::Listing;
use crate::base::{FileId, Glob, Place, RelPath, SourceFiles};

/// The largest definition file, in bytes.
const MAX_FILE: u64 = 16 * 1024 * 1024;
/// The largest number of definition files.
pub(super) const MAX_FILES: usize = 50_000;
/// The file that marks a work folder; no source is looked for beside it.
pub const WORK_MARK: &str = "boltboard-work";

/// Why no tree was found.
#[derive(Debug, thiserror::Error)]
pub enum TreeFault {
    /// Neither this folder nor one above it is a tree.
    #[error("no `board.toml` with a [tree] table in {0} or above it")]
    NoTree(PathBuf),
    /// The folder cannot be looked at.
    #[error("cannot look at {folder}")]
    Folder {
        /// The folder.
        folder: PathBuf,
        /// What the system says.
        source: std::io::Error,
    },
}

/// A definition file that was read as TOML.
pub(super) struct RawFile {
    pub id: FileId,
    pub folder: RelPath,
    pub document: Document<String>,
}

/// Returns the root of the tree that `from` lies in: the nearest folder whose `board.toml` has a `[tree]` table.
///
/// # Errors
/// See [`TreeFault`].
pub fn find_root(from: &Path) -> Result<PathBuf, TreeFault> {
    let start = from.canonicalize().map_err(|source| TreeFault::Folder { folder: from.into(), source })?;
    for folder in start.ancestors() {
        let file = folder.join("board.toml");
        // A file that cannot be read as text still marks the tree: reading it will say what is wrong.
        match std::fs::read(&file) {
            Ok(bytes) => {
                let text = String::from_utf8_lossy(&bytes);
                let marks = text
                    .lines()
                    .map(str::trim_start)
                    .any(|l| ["[tree]", "tree =", "tree=", "tree."].iter().any(|m| l.starts_with(m)));
                if marks || std::str::from_utf8(&bytes).is_err() {
                    return Ok(folder.to_path_buf());
                }
            }
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => {}
            Err(_) => return Ok(folder.to_path_buf()),
        }
    }
    Err(TreeFault::NoTree(start))
}

pub(super) fn read_file(
    root: &Path,
    path: &RelPath,
    named_at: Option<Place>,
    files: &mut SourceFiles,
    log: &Log,
) -> Option<RawFile> {
    let shown = path.to_string();
    let whole = |fault: Fault| log.add(Problem { fault, place: named_at, related: None, near: vec![] });
    let real = path.below(root);
    let unreadable = |e: std::io::Error| Fault::Unreadable { file: shown.clone(), reason: e.to_string() };
    match std::fs::metadata(&real) {
        Ok(status) if status.len() > MAX_FILE => {
            whole(Fault::Limit { what: shown, limit: format!("{} MiB", MAX_FILE >> 20) });
            return None;
        }
        Ok(_) => {}
        Err(e) => {
            whole(unreadable(e));
            return None;
        }
    }
    // The file a link leads to must lie in the tree as well.
    let inside = root.canonicalize().and_then(|root| Ok(real.canonicalize()?.starts_with(root)));
    if matches!(inside, Ok(false)) {
        whole(Fault::LinkOut(shown));
        return None;
    }
    let bytes = match std::fs::read(&real) {
        Ok(bytes) => bytes,
        Err(e) => {
            whole(unreadable(e));
            return None;
        }
    };
    let text = match String::from_utf8(bytes) {
        Ok(text) => text,
        Err(e) => {
            whole(Fault::NotUtf8 { file: shown, offset: e.utf8_error().valid_up_to() });
            return None;
        }
    };
    let id = files.add(&shown, &text);
    match Document::parse(text) {
        Ok(document) => Some(RawFile { id, folder: path.parent(), document }),
        Err(e) => {
            let place = Place::new(id, e.span().unwrap_or(0..0));
            let message = e.message().trim().replace('\n', "; ");
            log.add(Problem::at(place, Fault::Toml(message)));
            None
        }
    }
}

/// Returns the nested definition files that these patterns name, sorted. Patterns that are wrong name none.
pub fn boards_named(patterns: &[String], listing: &Listing) -> Vec<RelPath> {
    let mut named = std::collections::BTreeSet::new();
    for text in patterns {
        let Ok(glob) = Glob::parse(&RelPath::root(), text) else { continue };
        named.extend(boards_of(&glob, text, listing));
    }
    named.remove(&RelPath::root().child("board.toml"));
    named.into_iter().collect()
}

fn boards_of(glob: &Glob, text: &str, listing: &Listing) -> Vec<RelPath> {
    if let Some(plain) = glob.plain() {
        return vec![plain.clone()];
    }
    let is_board = |path: &&RelPath| path.name() == "board.toml" || !text.ends_with('*');
    listing.matching(glob).filter(is_board).cloned().collect()
}

/// Returns the nested definition files that the root one names, sorted.
pub(super) fn named_boards(root: &Path, file: &RawFile, log: &Log) -> Vec<(RelPath, Place)> {
    let Some(boards) = file.document.get("tree").and_then(|t| t.get("boards")).and_then(|b| b.as_array()) else {
        return Vec::new();
    };
    let mut named = std::collections::BTreeMap::new();
    let mut listing = None;
    for item in boards {
        // A wrong type is reported when the table is read in full.
        let Some(text) = item.as_str() else { continue };
        let place = Place::new(file.id, item.span().unwrap_or(0..0));
        let glob = match Glob::parse(&RelPath::root(), text) {
            Ok(glob) => glob,
            Err(fault) => {
                log.add(Problem::at(place, fault));
                continue;
            }
        };
        if let Some(plain) = glob.plain() {
            named.entry(plain.clone()).or_insert(place);
            continue;
        }
        let listing = listing.get_or_insert_with(|| Listing::of(root));
        let found = boards_of(&glob, text, listing);
        for path in &found {
            named.entry(path.clone()).or_insert(place);
        }
        if found.is_empty() {
            log.add(Problem::at(place, Fault::NothingMatches(text.to_string())));
        }
    }
    named.remove(&RelPath::root().child("board.toml"));
    named.into_iter().collect()
}
