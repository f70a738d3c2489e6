//! A board with its clauses and its search index: from the form in which it was kept when nothing has changed since, else
//! from the definitions.
//!
//! The kept form names every definition file, and every folder in which a further one could appear, with its status. It
//! counts only when all of these are as they were, when its digest is right, and when this very program wrote it.

mod kept;

use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::time::SystemTime;

use crate::base::Digest;
use crate::board::Board;
use crate::definitions::{Outside, Reading, read_tree};
use crate::logic::{Logic, encode};
use crate::search::SearchIndex;
use crate::work::WorkFolder;

#[cfg(test)]
mod tests;

/// A board that is ready for use.
#[derive(Debug)]
pub struct Loaded {
    /// The board.
    pub board: Board,
    /// Its rules as clauses.
    pub logic: Logic,
    /// Its search index.
    pub search: LazySearch,
    /// Where it comes from.
    pub source: LoadedFrom,
}

/// A search index that is read, or made and kept, when somebody searches.
#[derive(Debug, Default)]
pub struct LazySearch {
    index: OnceLock<SearchIndex>,
    /// Where it is kept, and the digest of what it is made of.
    place: Option<(PathBuf, Digest)>,
}

impl LazySearch {
    fn at(file: &Path, content: Digest) -> LazySearch {
        LazySearch { index: OnceLock::new(), place: Some((file.with_extension("words"), content)) }
    }

    /// Returns the index of this board.
    pub fn of(&self, board: &Board) -> &SearchIndex {
        self.index.get_or_init(|| {
            let Some((file, content)) = &self.place else { return SearchIndex::of(board) };
            if let Some(index) = kept::recall_index(file, *content) {
                return index;
            }
            let index = SearchIndex::of(board);
            kept::keep_index(file, *content, &index);
            index
        })
    }
}

/// Where a board comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LoadedFrom {
    /// It was kept.
    Kept,
    /// It was read from its definitions.
    Definitions,
}

/// Where the kept form lies, and who may use it.
#[derive(Debug, Clone)]
pub struct KeptPlace {
    /// The file.
    pub file: PathBuf,
    /// What tells this program from others, and from other versions of it.
    pub program: String,
    /// The work folder that it lies in; nothing is kept in that of another tree.
    pub work: WorkFolder,
}

impl Loaded {
    /// Makes a board ready for use.
    pub fn of(board: Board) -> Loaded {
        let logic = encode(&board);
        Loaded { board, logic, search: LazySearch::default(), source: LoadedFrom::Definitions }
    }
}

/// Loads the tree at `root` with what comes from outside of it; `sources` overrides where its sources lie. What was read is kept at `place`, where there is one.
///
/// # Errors
/// The definitions are wrong: the reading with all problems.
pub fn load(
    root: &Path,
    sources: Option<&Path>,
    outside: &Outside,
    place: Option<&KeptPlace>,
) -> Result<Loaded, Box<Reading>> {
    let started = SystemTime::now();
    if let Some(loaded) = place.and_then(|place| kept::recall(root, sources, outside, place, started)) {
        return Ok(loaded);
    }
    let mut reading = read_tree(root, sources, outside);
    let Some(board) = reading.board.take() else { return Err(Box::new(reading)) };
    let Some(place) = place.filter(|place| place.work.check(&board.tree.name).is_ok()) else {
        return Ok(Loaded::of(board));
    };
    // Packing takes as long as finding the clauses, and needs none of them.
    let (logic, packed) = std::thread::scope(|scope| {
        let packed = scope.spawn(|| kept::Contents::of(&board, reading.listing.as_ref(), root, started));
        (encode(&board), packed.join())
    });
    let content = packed.ok().flatten().and_then(|packed| kept::keep(packed, &board, &logic, sources, place));
    let search = content.map(|content| LazySearch::at(&place.file, content)).unwrap_or_default();
    Ok(Loaded { board, logic, search, source: LoadedFrom::Definitions })
}
