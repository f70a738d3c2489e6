//! What a tree's board takes from outside of the tree.

use std::path::{Path, PathBuf};

use crate::base::{Grafts, RelPath};
use crate::board::{ADD_ONS, FetchDef};

/// The places outside of a tree that its board takes something from.
#[derive(Debug, Clone, Default)]
pub struct Outside {
    /// The folder of what was fetched.
    pub fetched: Option<PathBuf>,
    /// Folders that bring more to the board, in the order in which they were added.
    pub add_ons: Vec<AddOnPlace>,
}

/// Where an add-on really lies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AddOnPlace {
    /// Its name.
    pub name: String,
    /// Its folder.
    pub folder: PathBuf,
}

impl AddOnPlace {
    /// Returns where it counts as lying, as a path of the tree.
    pub fn at(&self) -> RelPath {
        RelPath::root().child(ADD_ONS).child(&self.name)
    }
}

impl Outside {
    /// Returns the folders of add-ons.
    pub fn folders(&self) -> Grafts {
        let mut grafts = Grafts::default();
        self.add_ons.iter().for_each(|add_on| grafts.add(add_on.at(), add_on.folder.clone()));
        grafts
    }

    /// Returns what lies elsewhere and counts as if it lay in a tree with these sources. What the sources have themselves is theirs.
    pub fn grafts(&self, fetches: impl Iterator<Item = FetchPlace>, sources: &Path) -> Grafts {
        let mut grafts = self.folders();
        for place in fetches {
            if place.is_in(sources) {
                continue;
            }
            match self.fetched.as_ref().and_then(|folder| place.kept_in(folder)) {
                Some(kept) => grafts.add(place.into, kept),
                None => grafts.await_at(place.into),
            }
        }
        grafts
    }
}

/// Where something that is fetched counts as lying, and the name under which it is kept.
#[derive(Debug, Clone)]
pub struct FetchPlace {
    /// A path of the tree.
    pub into: RelPath,
    /// The name.
    pub kept_as: String,
}

impl FetchPlace {
    /// Returns the places of a definition.
    pub fn of(fetch: &FetchDef) -> FetchPlace {
        FetchPlace { into: fetch.into.clone(), kept_as: fetch.kept_as() }
    }

    /// Tells whether the sources have something there themselves, which is taken.
    pub fn is_in(&self, sources: &Path) -> bool {
        self.into.below(sources).exists()
    }

    /// Returns where it is kept below the folder of what was fetched, if it is.
    pub fn kept_in(&self, fetched: &Path) -> Option<PathBuf> {
        Some(fetched.join(&self.kept_as)).filter(|kept| kept.exists())
    }
}
