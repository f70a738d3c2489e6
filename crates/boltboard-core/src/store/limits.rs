//! How large and how old the store may grow, and making it smaller.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use serde::{Deserialize, Serialize};

use super::content::Store;
use crate::base::files::{read_text, remove_file, write_whole};
use crate::base::{Digest, FileError, json_text};

/// What the store may take.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct StoreLimits {
    /// At most so many bytes.
    pub bytes: u64,
    /// What was not used for so many days goes.
    pub days: u64,
}

impl Default for StoreLimits {
    fn default() -> StoreLimits {
        StoreLimits { bytes: 20 * 1024 * 1024 * 1024, days: 90 }
    }
}

impl StoreLimits {
    /// Reads the limits that a person set; without any, or when they cannot be read, the usual ones.
    pub fn load(place: &Path) -> StoreLimits {
        let text = read_text(place).ok().flatten().unwrap_or_default();
        serde_json::from_str(&text).unwrap_or_default()
    }

    /// Keeps the limits.
    ///
    /// # Errors
    /// They cannot be written.
    pub fn save(&self, place: &Path) -> Result<(), FileError> {
        write_whole(place, (json_text(self) + "\n").as_bytes())
    }
}

/// What a clean-up came to.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Trimmed {
    /// How many results were dropped.
    pub results: usize,
    /// How much was freed, in bytes.
    pub freed: u64,
    /// How much is left, in bytes.
    pub left: u64,
}

struct Kept {
    path: PathBuf,
    used: SystemTime,
    outputs: Vec<Digest>,
}

impl Store {
    /// Drops what was not used for longest until the store is within its limits, and every content that no note names. Results
    /// that lie in a build as well take no room there.
    ///
    /// A kill in between leaves a note whose content is gone, which counts as none.
    ///
    /// # Errors
    /// Something cannot be removed.
    pub fn trim(&self, limits: StoreLimits, now: SystemTime) -> Result<Trimmed, FileError> {
        let oldest = now.checked_sub(Duration::from_secs(limits.days.saturating_mul(24 * 60 * 60)));
        let mut notes: Vec<Kept> = self.files_of("notes").into_iter().filter_map(|path| self.kept(path)).collect();
        notes.sort_by(|a, b| b.used.cmp(&a.used).then_with(|| a.path.cmp(&b.path)));
        let mut trimmed = Trimmed::default();
        let mut wanted: HashSet<Digest> = HashSet::new();
        let mut full = false;
        for note in notes {
            let fresh: Vec<Digest> = note.outputs.iter().copied().filter(|digest| !wanted.contains(digest)).collect();
            let size: u64 = fresh.iter().map(|digest| self.size(digest)).sum();
            full |= trimmed.left + size > limits.bytes;
            if full || oldest.is_some_and(|oldest| note.used < oldest) {
                remove_file(&note.path)?;
                trimmed.results += 1;
            } else {
                trimmed.left += size;
                wanted.extend(fresh);
            }
        }
        for path in self.files_of("content") {
            let digest = Store::digest_of(&path);
            if digest.is_none_or(|digest| !wanted.contains(&digest)) && self.is_old(&path, now) {
                trimmed.freed += own_size(&path);
                remove_file(&path)?;
            }
        }
        Ok(trimmed)
    }

    /// What was put in a moment ago may belong to a note that is about to be written, or be a header's earlier text.
    fn is_old(&self, path: &Path, now: SystemTime) -> bool {
        const MOMENT: Duration = Duration::from_secs(60);
        let changed = std::fs::metadata(path).and_then(|status| status.modified());
        changed.is_ok_and(|changed| now.duration_since(changed).is_ok_and(|age| age > MOMENT))
    }

    fn kept(&self, path: PathBuf) -> Option<Kept> {
        let key = Store::digest_of(&path)?;
        let used = std::fs::metadata(&path).and_then(|status| status.modified()).ok()?;
        let outputs = self.notes(&key).into_iter().flat_map(|note| note.outputs).map(|output| output.digest).collect();
        Some(Kept { path, used, outputs })
    }

    fn size(&self, digest: &Digest) -> u64 {
        own_size(&self.path("content", digest))
    }
}

/// What a file takes beyond its other names.
fn own_size(path: &Path) -> u64 {
    use std::os::unix::fs::MetadataExt;
    std::fs::metadata(path).map_or(0, |status| if status.nlink() > 1 { 0 } else { status.len() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::store::{Note, Output};

    #[test]
    fn what_was_not_used_for_longest_goes_first() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::at(&folder.path().join("store"));
        let now = SystemTime::now() + Duration::from_secs(1000);
        let add = |name: &str, age_days: u64| {
            let file = folder.path().join(name);
            std::fs::write(&file, format!("{name:>100}")).unwrap();
            let digest = Digest::of_file(&file).unwrap();
            store.copy(&file, &digest).unwrap();
            let key = Digest::of(name.as_bytes());
            let output = Output { location: format!("object:{name}"), digest, mode: 0o644 };
            let note = Note {
                inputs: vec![],
                absent: vec![],
                macros: vec![],
                macro_names: key,
                outputs: vec![output],
                said: String::new(),
                work_ms: 1,
                memory: 0,
                text: None,
                closely: false,
            };
            store.add_note(&key, &note, None).unwrap();
            let used = now - Duration::from_secs(age_days * 24 * 60 * 60);
            std::fs::File::options().write(true).open(store.path("notes", &key)).unwrap().set_modified(used).unwrap();
            digest
        };
        let (new, middle, old) = (add("new", 0), add("middle", 5), add("old", 50));
        let stray = folder.path().join("stray");
        std::fs::write(&stray, "nobody's").unwrap();
        store.copy(&stray, &Digest::of(b"nobody's")).unwrap();
        let left = || [new, middle, old, Digest::of(b"nobody's")].map(|digest| store.has(&digest));
        let wide = StoreLimits { bytes: 1000, days: 30 };
        let trimmed = store.trim(wide, now).unwrap();
        assert_eq!((trimmed, left()), (Trimmed { results: 1, freed: 108, left: 200 }, [true, true, false, false]));
        let trimmed = store.trim(StoreLimits { bytes: 150, days: 30 }, now).unwrap();
        assert_eq!((trimmed, left()), (Trimmed { results: 1, freed: 100, left: 100 }, [true, false, false, false]));
        assert_eq!(store.trim(wide, now).unwrap().results, 0);
    }

    #[test]
    fn limits_are_kept_and_damaged_ones_are_the_usual() {
        let folder = tempfile::tempdir().unwrap();
        let place = folder.path().join("limits");
        assert_eq!(StoreLimits::load(&place), StoreLimits::default());
        let mine = StoreLimits { bytes: 5, days: 7 };
        mine.save(&place).unwrap();
        assert_eq!(StoreLimits::load(&place), mine);
        std::fs::write(&place, "{\"bytes\":").unwrap();
        assert_eq!(StoreLimits::load(&place), StoreLimits::default());
    }
}
