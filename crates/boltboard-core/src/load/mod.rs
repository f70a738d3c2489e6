//! A board with its clauses and its search index: from the form in which it was kept when nothing has changed since, else
//! from the definitions.
//!
//! The kept form names every definition file, and every folder in which a further one could appear, with its status. It
//! counts only when all of these are as they were, when its digest is right, and when this very program wrote it.

mod kept;

use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::time::SystemTime;

use crate::board::Board;
use crate::definitions::{Reading, read_tree};
use crate::logic::{Logic, encode};
use crate::search::SearchIndex;

use kept::Section;

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

/// A search index that is unpacked, or made, when somebody searches.
#[derive(Debug, Default)]
pub struct LazySearch {
    index: OnceLock<SearchIndex>,
    kept: Option<Section>,
}

impl LazySearch {
    fn kept(section: Section) -> LazySearch {
        LazySearch { index: OnceLock::new(), kept: Some(section) }
    }

    /// Returns the index of this board.
    pub fn of(&self, board: &Board) -> &SearchIndex {
        self.index.get_or_init(|| {
            let kept = self.kept.as_ref().and_then(|section| postcard::from_bytes(section.bytes()).ok());
            kept.unwrap_or_else(|| SearchIndex::of(board))
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
}

impl Loaded {
    /// Makes a board ready for use.
    pub fn of(board: Board) -> Loaded {
        let logic = encode(&board);
        Loaded { board, logic, search: LazySearch::default(), source: LoadedFrom::Definitions }
    }

    /// The same with the search index, for what is kept.
    fn whole(board: Board) -> Loaded {
        let (logic, index) = std::thread::scope(|scope| {
            let index = scope.spawn(|| SearchIndex::of(&board));
            (encode(&board), index.join())
        });
        let search = LazySearch::default();
        // A search index that cannot be made is made when somebody searches.
        let _ = index.map(|index| search.index.set(index));
        Loaded { board, logic, search, source: LoadedFrom::Definitions }
    }
}

/// Loads the tree at `root`; `sources` overrides where its sources lie. What was read is kept at `place`, where there is one.
///
/// # Errors
/// The definitions are wrong: the reading with all problems.
pub fn load(root: &Path, sources: Option<&Path>, place: Option<&KeptPlace>) -> Result<Loaded, Reading> {
    let started = SystemTime::now();
    if let Some(loaded) = place.and_then(|place| kept::recall(root, sources, place, started)) {
        return Ok(loaded);
    }
    let mut reading = read_tree(root, sources);
    let Some(board) = reading.board.take() else { return Err(reading) };
    let Some(place) = place else { return Ok(Loaded::of(board)) };
    let loaded = Loaded::whole(board);
    kept::keep(&loaded, root, sources, place, started);
    Ok(loaded)
}
