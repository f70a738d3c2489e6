//! What a tree's board takes from outside of the tree.

use std::path::{Path, PathBuf};

use crate::base::{Grafts, RelPath};
use crate::board::FetchDef;

/// The places outside of a tree that its board takes something from.
#[derive(Debug, Clone, Default)]
pub struct Outside {
    /// The folder of what was fetched.
    pub fetched: Option<PathBuf>,
}

impl Outside {
    /// Returns what lies elsewhere and counts as if it lay in a tree with these sources. What the sources have themselves is theirs.
    pub fn grafts(&self, fetches: impl Iterator<Item = FetchPlace>, sources: &Path) -> Grafts {
        let mut grafts = Grafts::default();
        for FetchPlace { into, kept_as } in fetches {
            if into.below(sources).exists() {
                continue;
            }
            match self.fetched.as_ref().map(|folder| folder.join(kept_as)).filter(|kept| kept.exists()) {
                Some(kept) => grafts.add(into, kept),
                None => grafts.await_at(into),
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
}
