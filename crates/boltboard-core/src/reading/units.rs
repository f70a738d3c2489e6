//! What Fortran texts say of modules, kept by their content.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::{SourceForm, Units};
use crate::base::files::{packed, read_regular, unsealed, write_sealed};
use crate::base::{Digest, FileError};

/// What the kept file begins with.
const MARK: &[u8] = b"boltboard units 2\n";
/// With more contents than this, only those are kept that were asked for.
const MANY: usize = 100_000;

/// What texts say, read once for each content and form.
#[derive(Debug)]
pub struct UnitsMemo {
    file: PathBuf,
    /// Nothing until somebody asks.
    state: Mutex<Option<State>>,
}

type Known = BTreeMap<(Digest, SourceForm), Units>;

#[derive(Debug, Default)]
struct State {
    known: Known,
    used: Known,
    is_new: bool,
}

impl UnitsMemo {
    /// Keeps them in this file; nothing is read before somebody asks.
    pub fn at(file: PathBuf) -> UnitsMemo {
        UnitsMemo { file, state: Mutex::default() }
    }

    /// What a file says; one that cannot be read says nothing, and fails when it is compiled.
    pub fn of(&self, path: &Path, form: SourceForm) -> Units {
        let Ok(text) = read_regular(path) else { return Units::default() };
        let key = (Digest::of(&text), form);
        let mut state = self.lock();
        let state = state.get_or_insert_with(|| State { known: self.load(), ..State::default() });
        let units = state.known.get(&key).cloned().unwrap_or_else(|| {
            state.is_new = true;
            Units::of(&String::from_utf8_lossy(&text), form)
        });
        state.known.insert(key, units.clone());
        state.used.insert(key, units.clone());
        units
    }

    /// Writes what is new.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn save(&self) -> Result<(), FileError> {
        let mut state = self.lock();
        let Some(state) = state.as_mut().filter(|state| state.is_new) else { return Ok(()) };
        let kept = if state.known.len() > MANY { &state.used } else { &state.known };
        write_sealed(&self.file, MARK, &packed(kept, &self.file)?)?;
        state.is_new = false;
        Ok(())
    }

    fn load(&self) -> Known {
        let kept = read_regular(&self.file).ok();
        let known = kept.and_then(|bytes| postcard::from_bytes(unsealed(&bytes, MARK)?).ok());
        known.unwrap_or_default()
    }

    fn lock(&self) -> MutexGuard<'_, Option<State>> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_content_is_read_once_and_a_damaged_file_is_no_harm() {
        let folder = tempfile::tempdir().unwrap();
        let (source, file) = (folder.path().join("a.f90"), folder.path().join("units"));
        std::fs::write(&source, "module tide\nend module\n").unwrap();
        let memo = UnitsMemo::at(file.clone());
        memo.save().unwrap();
        assert!(!file.exists(), "nothing was asked");
        let told = memo.of(&source, SourceForm::Free);
        assert_eq!(told.modules.first().unwrap().name, "tide");
        memo.save().unwrap();
        // What is kept is believed for this content, and for no other one.
        let mut other = Known::new();
        other.insert((Digest::of(b"module tide\nend module\n"), SourceForm::Free), Units::default());
        write_sealed(&file, MARK, &packed(&other, &file).unwrap()).unwrap();
        assert!(UnitsMemo::at(file.clone()).of(&source, SourceForm::Free).is_empty());
        assert_eq!(UnitsMemo::at(file.clone()).of(&source, SourceForm::Fixed), Units::of("", SourceForm::Fixed));
        std::fs::write(&file, "damaged").unwrap();
        assert_eq!(UnitsMemo::at(file.clone()).of(&source, SourceForm::Free), told);
        std::fs::write(&source, "module wave\nend module\n").unwrap();
        assert_eq!(UnitsMemo::at(file).of(&source, SourceForm::Free).modules.first().unwrap().name, "wave");
    }
}
