//! What the programs behind a tool stand on: all that they read and looked for in vain, whatever it was that they were run for. It is
//! seen once for each class of steps, and holds for all of them.

use serde::{Deserialize, Serialize};

use super::content::{Store, remove};
use crate::base::files::{packed, read_regular, write_quickly_of};
use crate::base::{Digest, FileError};

/// Where footings lie in the store.
const SORT: &str = "footings";

/// What the steps of one class stand on beside what is their own.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Footing {
    /// Stands for all of it in what steps keep: as long as nothing of it has changed, it stays, also when more becomes known.
    pub generation: Digest,
    /// What was looked at, in kept form, with what stood for it; in order.
    pub looks: Vec<(String, Digest)>,
    /// Places where nothing was found; in order.
    pub absent: Vec<String>,
    /// Whether steps of the class were seen to look at what we did not know of, so that each of them is watched.
    pub surprises: bool,
}

impl Footing {
    /// Makes one of what was seen first.
    pub fn of(looks: Vec<(String, Digest)>, absent: Vec<String>, surprises: bool) -> Footing {
        let mut footing = Footing { generation: Digest::default(), looks, absent, surprises };
        footing.sort();
        // Of what was seen only in passing, such as the folders on the way, it is enough that it stays the same; programs found in other
        // folders are still the same programs.
        let decides = |look: &&(String, Digest)| !look.0.starts_with("mode>");
        let looks = footing.looks.iter().filter(decides);
        let all: Vec<String> = looks.flat_map(|(look, digest)| [look.clone(), digest.to_string()]).collect();
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
    /// Returns what is known of a class; a damaged file is none.
    pub fn footing(&self, class: &Digest) -> Option<Footing> {
        let bytes = read_regular(&self.path(SORT, class)).ok()?;
        let (check, content) = bytes.split_at_checked(8)?;
        (Digest::of(content).short() == *check).then(|| postcard::from_bytes(content).ok()).flatten()
    }

    /// Forgets a class that turned out to be known wrongly.
    ///
    /// # Errors
    /// It cannot be removed.
    pub fn drop_footing(&self, class: &Digest) -> Result<(), FileError> {
        remove(&self.path(SORT, class))
    }

    /// Keeps what is known of a class.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn keep_footing(&self, class: &Digest, footing: &Footing) -> Result<(), FileError> {
        let path = self.path(SORT, class);
        let content = packed(footing, &path)?;
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
        assert_eq!(store.footing(&class), None);
        let looks = vec![("system:/usr/bin/as".to_string(), Digest::of(b"as"))];
        let mut footing = Footing::of(looks, vec!["system:/usr/lib/specs".into()], false);
        store.keep_footing(&class, &footing).unwrap();
        assert_eq!(store.footing(&class).as_ref(), Some(&footing));
        let more = Footing::of(vec![], vec!["system:/x".into()], true);
        assert!(!footing.holds(&more) && footing.generation != more.generation);
        let elsewhere = Footing::of(footing.looks.clone(), vec!["system:/y".into()], false);
        assert_eq!(footing.generation, elsewhere.generation, "the same programs found on another way");
        let before = footing.generation;
        footing.take_in(more.clone());
        assert!(footing.holds(&more) && footing.surprises);
        assert_eq!(footing.generation, before);
        let file = store.path(SORT, &class);
        std::fs::write(&file, &std::fs::read(&file).unwrap()[..20]).unwrap();
        assert_eq!(store.footing(&class), None);
    }
}
