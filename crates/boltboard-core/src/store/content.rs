//! Results by content, and notes about which step made them from what.

use std::collections::BTreeSet;
use std::fs::File;
use std::io::{ErrorKind, Seek, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::elsewhere::Elsewhere;
use super::note::Note;
use crate::base::files::{
    make_folder, move_file, packed, read_regular, read_text, remove_file, write_from, write_quickly, write_quickly_of,
};
use crate::base::{Digest, FileError};

/// How many notes are kept for one command; the oldest go first.
const MAX_NOTES: usize = 32;

/// Results of steps. Files are copied out, and each is checked by its digest then, so an edit in place spoils nothing.
#[derive(Debug, Clone)]
pub struct Store {
    pub(super) root: PathBuf,
    pub(super) elsewhere: Option<Arc<dyn Elsewhere>>,
}

impl Store {
    /// Names a store.
    pub fn at(root: &Path) -> Store {
        Store { root: root.to_path_buf(), elsewhere: None }
    }

    /// The same store, which asks elsewhere for what it does not have.
    pub fn with(self, elsewhere: Arc<dyn Elsewhere>) -> Store {
        Store { elsewhere: Some(elsewhere), ..self }
    }

    /// Returns where it lies.
    pub fn root(&self) -> &Path {
        &self.root
    }

    pub(super) fn path(&self, sort: &str, digest: &Digest) -> PathBuf {
        let text = digest.to_string();
        // Few folders: each costs more than a file, and all can hold many.
        self.root.join(sort).join(&text[..1]).join(&text[1..])
    }

    /// Takes in the content of a file that was moved into place and is not written to again: by another name for it where the
    /// file system has those. Should someone edit it in place all the same, its digest tells, and it is dropped.
    ///
    /// # Errors
    /// It cannot be read or written.
    pub fn put(&self, file: &Path, digest: &Digest) -> Result<(), FileError> {
        let path = self.path("content", digest);
        let link = |()| std::fs::hard_link(file, &path);
        match link(()).map_err(|e| e.kind()) {
            Ok(()) | Err(ErrorKind::AlreadyExists) => Ok(()),
            Err(ErrorKind::NotFound) => {
                make_folder(path.parent().unwrap_or(&self.root))?;
                if link(()).is_ok() { Ok(()) } else { self.copy(file, digest) }
            }
            Err(_) => self.copy(file, digest),
        }
    }

    /// Takes in the content of a file that people write to.
    ///
    /// # Errors
    /// It cannot be read or written.
    pub fn copy(&self, file: &Path, digest: &Digest) -> Result<(), FileError> {
        let path = self.path("content", digest);
        if path.exists() {
            return Ok(());
        }
        let folder = path.parent().unwrap_or(&self.root);
        make_folder(folder)?;
        let aside = tempfile::Builder::new().prefix(".new-").tempfile_in(folder);
        let aside = aside.map_err(FileError::on("write", &path))?;
        std::fs::copy(file, aside.path()).map_err(FileError::on("copy", file))?;
        aside.persist(&path).map_err(|e| FileError::on("write", &path)(e.error))?;
        Ok(())
    }

    /// All files of a sort.
    pub(super) fn files_of(&self, sort: &str) -> Vec<PathBuf> {
        let entries = |folder: &Path| std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok);
        let folders: Vec<PathBuf> = entries(&self.root.join(sort)).map(|entry| entry.path()).collect();
        folders.iter().flat_map(|folder| entries(folder)).map(|entry| entry.path()).collect()
    }

    /// The digest that a file of the store is named by.
    pub(super) fn digest_of(path: &Path) -> Option<Digest> {
        let part = |path: &Path| path.file_name().and_then(|name| name.to_str()).map(str::to_string);
        (part(path.parent()?)? + &part(path)?).parse().ok()
    }

    /// Where a content lies, if it is kept.
    pub fn place_of(&self, digest: &Digest) -> PathBuf {
        self.path("content", digest)
    }

    /// Drops every content that is not among these.
    ///
    /// # Errors
    /// One cannot be removed.
    pub fn keep_only(&self, wanted: &BTreeSet<Digest>) -> Result<(), FileError> {
        for path in self.files_of("content") {
            if Store::digest_of(&path).is_none_or(|digest| !wanted.contains(&digest)) {
                remove_file(&path)?;
            }
        }
        Ok(())
    }

    /// Tells whether a content is kept.
    pub fn has(&self, digest: &Digest) -> bool {
        self.path("content", digest).is_file() || self.elsewhere.as_ref().is_some_and(|other| other.has(digest))
    }

    /// How many bytes a kept content has.
    pub fn size_of(&self, digest: &Digest) -> Option<u64> {
        std::fs::metadata(self.path("content", digest))
            .ok()
            .filter(std::fs::Metadata::is_file)
            .map(|status| status.len())
    }

    /// Puts a kept content in place, from a folder `aside` in which a kill may leave something. Returns `false` when it is not kept or was
    /// damaged (a damaged one is dropped).
    ///
    /// # Errors
    /// It cannot be written there.
    pub fn restore(&self, digest: &Digest, aside: &Path, to: &Path, mode: u32) -> Result<bool, FileError> {
        let path = self.path("content", digest);
        if let Ok(content) = read_regular(&path) {
            if Digest::of(&content) == *digest {
                write_from(aside, to, &[&content], mode)?;
                // It may have come from others a moment ago.
                self.elsewhere.iter().for_each(|other| other.took(digest));
                return Ok(true);
            }
            std::fs::remove_file(&path).map_err(FileError::on("remove", &path))?;
        }
        let Some((other, content)) = self.elsewhere.as_ref().and_then(|other| Some((other, other.content(digest)?)))
        else {
            return Ok(false);
        };
        write_from(aside, to, &[&content], mode)?;
        // What cannot be kept comes again.
        let _ = self.put(to, digest);
        other.took(digest);
        Ok(true)
    }

    /// Returns a kept content, `None` when it is not kept or was damaged.
    pub fn read(&self, digest: &Digest) -> Option<Vec<u8>> {
        let own = read_regular(&self.path("content", digest)).ok().filter(|content| Digest::of(content) == *digest);
        own.or_else(|| self.elsewhere.as_ref()?.content(digest))
    }

    /// Returns what follows from a content alone; works it out once and keeps it.
    pub fn derived(&self, sort: &str, content: &Digest, work_out: &dyn Fn() -> Option<Digest>) -> Option<Digest> {
        let path = self.path(sort, content);
        let kept = read_text(&path).ok().flatten().and_then(|text| text.trim().parse().ok());
        kept.or_else(|| {
            let digest = work_out()?;
            // What cannot be kept is worked out again; who only looks makes no store.
            if self.root.is_dir() {
                let _ = write_quickly(&path, digest.to_string().as_bytes());
            }
            Some(digest)
        })
    }

    /// Returns the notes for a command, newest first, and then those of others. A damaged file of notes counts as none.
    pub fn notes(&self, key: &Digest) -> Vec<Note> {
        let mut notes = self.own_notes(key);
        if let Some(other) = &self.elsewhere {
            let more = other.notes(key).into_iter().filter(|note| notes.iter().all(|own| !own.is_like(note)));
            notes.extend(more.collect::<Vec<_>>());
        }
        notes
    }

    /// Returns the notes for a command that are kept here.
    pub fn own_notes(&self, key: &Digest) -> Vec<Note> {
        let bytes = read_regular(&self.path("notes", key)).unwrap_or_default();
        let sound = bytes.split_at_checked(8).filter(|(check, content)| Digest::of(content).short() == **check);
        sound.and_then(|(_, content)| postcard::from_bytes(content).ok()).unwrap_or_default()
    }

    /// Keeps a note that was gone by, should it be one of others.
    pub fn keep_of_others(&self, key: &Digest, note: &Note) {
        if let Some(other) = &self.elsewhere
            && self.own_notes(key).iter().all(|own| !own.is_like(note))
        {
            other.keep(key, note);
        }
    }

    /// Takes in that a step was made here, for others.
    pub fn tell_others(&self, key: &Digest, note: &Note) {
        if let Some(other) = &self.elsewhere {
            other.made(key, note);
        }
    }

    /// Drops a content that turned out to be wrong.
    ///
    /// # Errors
    /// It cannot be removed.
    pub fn drop_content(&self, digest: &Digest) -> Result<(), FileError> {
        remove_file(&self.path("content", digest))
    }

    /// Drops all notes for a command.
    ///
    /// # Errors
    /// They cannot be removed.
    pub fn drop_notes(&self, key: &Digest) -> Result<(), FileError> {
        remove_file(&self.path("notes", key))
    }

    /// Remembers that the notes for a command were used now, so that they are dropped later than others.
    pub fn used(&self, key: &Digest) {
        let open = File::options().append(true).open(self.path("notes", key));
        let _ = open.and_then(|file| file.set_modified(std::time::SystemTime::now()));
    }

    /// Adds a note for a command. `scrap` is a file that nobody needs any more, on the store's file system if that can be: it
    /// becomes the note's file, because on many file systems a new one costs more than all that is written to it.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn add_note(&self, key: &Digest, note: &Note, scrap: Option<&Path>) -> Result<(), FileError> {
        let mut notes = self.own_notes(key);
        notes.retain(|old| !old.is_like(note));
        notes.insert(0, note.clone());
        notes.truncate(MAX_NOTES);
        let path = self.path("notes", key);
        let content = packed(&notes, &path)?;
        let check = Digest::of(&content).short();
        match scrap {
            Some(scrap) if refill(scrap, &[&check, &content]).is_ok() && move_file(scrap, &path).is_ok() => Ok(()),
            _ => write_quickly_of(&path, &[&check, &content]),
        }
    }
}

/// Gives a file another content.
fn refill(file: &Path, pieces: &[&[u8]]) -> std::io::Result<()> {
    let mut file = File::options().write(true).open(file)?;
    let before = file.metadata()?.len();
    pieces.iter().try_for_each(|piece| file.write_all(piece))?;
    let now = file.stream_position()?;
    if now < before { file.set_len(now) } else { Ok(()) }
}
