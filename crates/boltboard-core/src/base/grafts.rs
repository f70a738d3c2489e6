//! What lies elsewhere and counts as if it lay in the tree: fetched archives, and folders that bring more to a board.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::{Depth, Glob, RelPath};

/// Places of a tree with the folders or files elsewhere that stand for them. None lies below another.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Grafts {
    places: BTreeMap<RelPath, PathBuf>,
    /// Places that something will come to, and has not.
    awaited: BTreeSet<RelPath>,
}

impl Grafts {
    /// Lets a place of the tree be what lies at `real`. The first one counts where two have one place, or one lies below another.
    pub fn add(&mut self, at: RelPath, real: PathBuf) {
        let clashes = self.places.keys().any(|known| known.beneath(&at).is_some() || at.beneath(known).is_some());
        if !clashes {
            self.places.insert(at, real);
        }
    }

    /// Remembers that something will come to a place.
    pub fn await_at(&mut self, at: RelPath) {
        self.awaited.insert(at);
    }

    /// Tells whether a path of the tree lies where something will come to.
    pub fn awaits(&self, path: &RelPath) -> bool {
        self.awaited.iter().any(|at| path.beneath(at).is_some())
    }

    /// Tells whether a pattern may match what will come.
    pub fn awaits_for(&self, glob: &Glob) -> bool {
        let (folder, depth) = glob.place();
        let below = |at: &RelPath| depth == Depth::Below && at.beneath(&folder).is_some();
        self.awaits(&folder) || self.awaited.iter().any(|at| glob.matches(at) || below(at))
    }

    /// Returns whether nothing is to come any more.
    pub fn is_complete(&self) -> bool {
        self.awaited.is_empty()
    }

    /// Returns whether nothing lies elsewhere.
    pub fn is_empty(&self) -> bool {
        self.places.is_empty()
    }

    /// Returns all places with what stands for them, in order.
    pub fn iter(&self) -> impl Iterator<Item = (&RelPath, &Path)> {
        self.places.iter().map(|(at, real)| (at, real.as_path()))
    }

    /// Returns the place that a path is or lies below.
    pub fn over(&self, path: &RelPath) -> Option<&RelPath> {
        self.places.keys().find(|at| path.beneath(at).is_some())
    }

    /// Returns where a path of the tree at `root` really lies.
    pub fn real(&self, path: &RelPath, root: &Path) -> PathBuf {
        let found = self.iter().find_map(|(at, real)| Some(path.beneath(at)?.below(real)));
        found.unwrap_or_else(|| path.below(root))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_lead_to_where_things_lie() {
        let path = |text: &str| RelPath::parse(text).unwrap();
        let mut grafts = Grafts::default();
        grafts.add(path("third/zlib"), "/far/zlib".into());
        grafts.add(path("data.bin"), "/far/file".into());
        grafts.add(path("third/zlib/inner"), "/nowhere".into());
        grafts.add(path("third"), "/nowhere".into());
        let real = |text: &str| grafts.real(&path(text), Path::new("/tree")).display().to_string();
        assert_eq!(real("third/zlib/a.c"), "/far/zlib/a.c");
        assert_eq!(real("third/zlib"), "/far/zlib");
        assert_eq!(real("third/zlib/inner/x"), "/far/zlib/inner/x");
        assert_eq!(real("third/zlib-ng/a.c"), "/tree/third/zlib-ng/a.c");
        assert_eq!(real("data.bin"), "/far/file");
        assert_eq!(real("src/a.c"), "/tree/src/a.c");
        grafts.await_at(path("later"));
        assert!(grafts.awaits(&path("later/a.c")) && grafts.awaits(&path("later")) && !grafts.awaits(&path("late")));
        grafts.await_at(path("data/tides.dat"));
        let awaits = |text: &str| grafts.awaits_for(&Glob::parse(&RelPath::root(), text).unwrap());
        assert!(
            awaits("data/*.dat")
                && awaits("later/*.c")
                && awaits("**/*.c")
                && !awaits("data/*.c")
                && !awaits("src/*.c")
        );
    }
}
