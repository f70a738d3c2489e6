//! What is nobody else's business: places of this machine and its person stay here.

use std::path::PathBuf;

use crate::store::Note;

/// Places that nothing that is shared may name.
#[derive(Debug, Clone, Default)]
pub(super) struct Private {
    places: Vec<Vec<u8>>,
}

impl Private {
    /// Keeps these folders to oneself. The root of the file system is no place of one's own.
    pub fn of(folders: &[PathBuf]) -> Private {
        let is_own = |folder: &&PathBuf| folder.is_absolute() && folder.components().count() > 1;
        let bytes = |folder: &PathBuf| folder.as_os_str().as_encoded_bytes().to_vec();
        let mut places: Vec<Vec<u8>> = folders.iter().filter(is_own).map(bytes).collect();
        places.sort();
        places.dedup();
        Private { places }
    }

    /// Tells whether a content names one of them.
    pub fn is_in(&self, content: &[u8]) -> bool {
        self.places.iter().any(|place| memchr::memmem::find(content, place).is_some())
    }

    /// Tells whether a note does: where it looked, or what was said.
    pub fn is_in_note(&self, note: &Note) -> bool {
        let looked = note.inputs.iter().map(|(look, _)| look).chain(&note.absent).chain([&note.said]);
        looked.into_iter().any(|text| self.is_in(text.as_bytes()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_names_a_place_of_ones_own_is_seen() {
        let private = Private::of(&["/home/keeper".into(), "/srv/harbour".into(), "/".into()]);
        assert!(private.is_in(b"/srv/harbour") && !private.is_in(b"/usr/include"));
        assert!(private.is_in(b"\x00made in /srv/harbour/src\x00"));
        assert!(!private.is_in(b"made in /srv/other"));
        let note = |look: &str, said: &str| Note {
            inputs: vec![(look.into(), Default::default())],
            said: said.into(),
            ..Note::default()
        };
        assert!(private.is_in_note(&note("system:/home/keeper/include/a.h", "")));
        assert!(private.is_in_note(&note("tree:a.c", "/srv/harbour/a.c: warning")));
        assert!(!private.is_in_note(&note("system:/usr/include/a.h", "a.c: warning")));
    }
}
