//! What the programs behind a tool stand on: all that they read and looked for in vain, whatever it was that they were run for. It is
//! seen once for each class of steps, and holds for all of them.

use std::time::{SystemTime, UNIX_EPOCH};

use serde::{Deserialize, Serialize};

use super::content::Store;
use crate::base::files::remove_file;
use crate::base::files::{packed, read_regular, write_quickly_of};
use crate::base::{Digest, FileError};

/// Where footings lie in the store.
const SORT: &str = "footings";
/// How many are kept of one class: of hosts as they were, and of other places where programs are looked for.
const KEPT: usize = 12;

/// What the steps of one class stand on beside what is their own, in one state of the host.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Footing {
    /// Stands for all of it in what steps keep: no two are the same, and it stays as long as nothing of it has changed, also when more
    /// becomes known.
    pub generation: Digest,
    /// Where programs were looked for.
    pub search_path: String,
    /// What was looked at, in kept form, with what stood for it; in order.
    pub looks: Vec<(String, Digest)>,
    /// Places where nothing was found; in order.
    pub absent: Vec<String>,
    /// Whether steps of the class were seen to look at what we did not know of, so that each of them is watched.
    pub surprises: bool,
}

impl Footing {
    /// Makes one of what was seen first.
    pub fn of(search_path: &str, looks: Vec<(String, Digest)>, absent: Vec<String>, surprises: bool) -> Footing {
        let mut footing =
            Footing { generation: Digest::default(), search_path: search_path.into(), looks, absent, surprises };
        footing.sort();
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_nanos().to_string();
        let all = footing.looks.iter().flat_map(|(look, digest)| [look.clone(), digest.to_string()]);
        let all: Vec<String> = all.chain(footing.absent.iter().cloned()).chain([now]).collect();
        footing.generation = Digest::of_parts(all.iter().map(String::as_str));
        footing
    }

    fn sort(&mut self) {
        self.looks.sort();
        self.looks.dedup_by(|a, b| a.0 == b.0);
        self.absent.sort();
        self.absent.dedup();
    }

    /// Tells whether all that another one names is known.
    pub fn holds(&self, other: &Footing) -> bool {
        let look = |look: &(String, Digest)| self.looks.binary_search(look).is_ok();
        let absent = |place: &String| self.absent.binary_search(place).is_ok();
        (self.surprises || !other.surprises) && other.looks.iter().all(look) && other.absent.iter().all(absent)
    }

    /// Takes in what another step of the class was seen to stand on.
    pub fn take_in(&mut self, other: Footing) {
        self.looks.extend(other.looks);
        self.absent.extend(other.absent);
        self.surprises |= other.surprises;
        self.sort();
    }
}

impl Store {
    /// Returns what is known of a class, the newest first, and then what others know of it.
    pub fn footings(&self, class: &Digest) -> Vec<Footing> {
        let mut all = self.own_footings(class);
        if let Some(other) = &self.elsewhere {
            let known: Vec<Digest> = all.iter().map(|footing| footing.generation).collect();
            all.extend(other.footings(class).into_iter().filter(|footing| !known.contains(&footing.generation)));
        }
        all
    }

    /// Returns what is known here of a class; nothing where the file is damaged.
    pub fn own_footings(&self, class: &Digest) -> Vec<Footing> {
        let read = || {
            let bytes = read_regular(&self.path(SORT, class)).ok()?;
            let (check, content) = bytes.split_at_checked(8)?;
            (Digest::of(content).short() == *check).then(|| postcard::from_bytes(content).ok()).flatten()
        };
        read().unwrap_or_default()
    }

    /// Forgets a class that turned out to be known wrongly.
    ///
    /// # Errors
    /// It cannot be removed.
    pub fn drop_footings(&self, class: &Digest) -> Result<(), FileError> {
        remove_file(&self.path(SORT, class))
    }

    /// Keeps a footing of a class, in the place of that of its generation or before all others.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn keep_footing(&self, class: &Digest, footing: Footing) -> Result<(), FileError> {
        let mut all = self.own_footings(class);
        match all.iter_mut().find(|known| known.generation == footing.generation) {
            Some(known) => *known = footing,
            None => all.insert(0, footing),
        }
        all.truncate(KEPT);
        let path = self.path(SORT, class);
        let content = packed(&all, &path)?;
        write_quickly_of(&path, &[&Digest::of(&content).short(), &content])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn footings_come_back_and_grow() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::at(folder.path());
        let class = Digest::of(b"class");
        assert_eq!(store.footings(&class), []);
        let looks = vec![("system:/usr/bin/as".to_string(), Digest::of(b"as"))];
        let mut first = Footing::of("/usr/bin", looks, vec!["system:/usr/lib/specs".into()], false);
        store.keep_footing(&class, first.clone()).unwrap();
        assert_eq!(store.footings(&class), [first.clone()]);
        let more = Footing::of("/usr/bin", vec![], vec!["system:/x".into()], true);
        assert!(!first.holds(&more));
        let before = first.generation;
        first.take_in(more.clone());
        assert!(first.holds(&more) && first.surprises);
        assert_eq!(first.generation, before);
        store.keep_footing(&class, first.clone()).unwrap();
        assert_eq!(store.footings(&class), [first.clone()], "in its own place");
        let again = Footing::of("/usr/bin", first.looks.clone(), first.absent.clone(), true);
        assert_ne!(again.generation, before, "no two are the same: what steps keep of one never stands for another");
        for _ in 0..KEPT + 3 {
            store.keep_footing(&class, Footing::of("/bin", vec![], vec![], false)).unwrap();
        }
        assert_eq!(store.footings(&class).len(), KEPT);
        let file = store.path(SORT, &class);
        std::fs::write(&file, &std::fs::read(&file).unwrap()[..20]).unwrap();
        assert_eq!(store.footings(&class), []);
        store.keep_footing(&class, more.clone()).unwrap();
        assert_eq!(store.footings(&class), [more]);
    }
}
