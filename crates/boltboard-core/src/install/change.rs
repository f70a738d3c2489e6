//! A change of what is installed: all or nothing. All contents are laid aside first, by what they are, those that go as well as those that
//! come; then the change is written down; then it is made, place by place. Killed before it is written down, nothing was changed; killed
//! after, whoever comes next can finish it, or take it back.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsString;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::manifest::{Manifest, copy_of};
use super::place::{Content, content_of};
use super::put::{lay, link_to};
use crate::base::files::{
    NEW, make_folder, packed, read_regular, remove_file, remove_folder, unsealed, write_sealed, write_whole_from,
};
use crate::base::{Digest, FileError};
use crate::store::Store;

/// What the file begins with that says what is being done.
const MARK: &[u8] = b"boltboard change 1\n";

/// What lies at a place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum State {
    /// Nothing.
    Nothing,
    /// A file.
    File {
        /// Its content.
        digest: Digest,
        /// Its permission bits.
        mode: u32,
    },
    /// A link that leads there.
    Link(OsString),
}

/// What is to become of a place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Move {
    /// The place.
    pub path: PathBuf,
    /// What lies there before.
    pub before: State,
    /// What lies there after.
    pub after: State,
}

/// What is being done.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Doing {
    /// Something is installed.
    Install,
    /// It goes back to an earlier generation.
    Back,
    /// All is removed.
    Remove,
}

/// A change as it is written down.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Change {
    /// What is being done.
    pub doing: Doing,
    /// What becomes of each place.
    pub moves: Vec<Move>,
    /// Folders that are made for it, outermost first.
    pub folders: Vec<PathBuf>,
    /// Folders that go with it where nothing is in them, outermost first.
    pub leaving: Vec<PathBuf>,
    /// The text of what is recorded then; nothing where all is removed.
    pub after: Option<String>,
    /// The number of the generation that it is.
    pub generation: u32,
}

/// How a change ended.
#[derive(Debug, Clone, Default)]
pub struct Changed {
    /// Places that were changed, in the order in which it was done.
    pub done: Vec<PathBuf>,
    /// Places where something else lay by then; they were left.
    pub left: Vec<PathBuf>,
}

/// What became of a change that was cut off.
#[derive(Debug, Clone)]
pub enum Recovered {
    /// It was finished.
    Finished(Doing),
    /// It was taken back, because it could not be finished.
    TakenBack(Doing, String),
}

/// Why a change was not made.
#[derive(Debug, thiserror::Error)]
pub enum ChangeFault {
    /// It could not be begun. Nothing was changed.
    #[error(transparent)]
    File(#[from] FileError),
    /// It could not be finished, and was taken back.
    #[error("{0}: {source}; what had been changed is as it was before", source = .0.source)]
    TakenBack(FileError),
    /// It could be neither finished nor taken back.
    #[error("{0}: {source}; it could not be taken back either: {1}", source = .0.source)]
    Stuck(FileError, FileError),
}

/// Where all that is known of an installation lies: its generations, what they need and does not lie in place, and what is being done.
#[derive(Debug, Clone)]
pub(super) struct Yard {
    /// The folder.
    pub root: PathBuf,
    /// Contents.
    pub kept: Store,
    /// The record of what is in place.
    pub manifest: PathBuf,
}

impl State {
    /// Looks at a place; `None` where something lies that no installation makes.
    pub fn of(path: &Path) -> Result<Option<State>, FileError> {
        Ok(match content_of(path)? {
            None => Some(State::Nothing),
            Some(Content::File(digest)) => {
                let status = std::fs::symlink_metadata(path).map_err(FileError::on("look at", path))?;
                Some(State::File { digest, mode: status.permissions().mode() & 0o7777 })
            }
            Some(Content::Link(_)) => {
                let to = std::fs::read_link(path).map_err(FileError::on("read", path))?;
                Some(State::Link(to.into_os_string()))
            }
            Some(Content::Other(_)) => None,
        })
    }

    fn digest(&self) -> Option<&Digest> {
        match self {
            State::File { digest, .. } => Some(digest),
            State::Nothing | State::Link(_) => None,
        }
    }
}

impl Yard {
    pub fn of(manifest: &Path) -> Yard {
        let root = manifest.with_extension("");
        Yard { kept: Store::at(&root.join("kept")), root, manifest: manifest.to_path_buf() }
    }

    fn pending(&self) -> PathBuf {
        self.root.join("pending")
    }

    pub fn generation(&self, number: u32) -> PathBuf {
        self.root.join(format!("{number}.json"))
    }

    /// The change that was begun and not ended, with what stands for its text.
    pub fn begun(&self) -> Option<(Change, Digest)> {
        let bytes = read_regular(&self.pending()).ok()?;
        let content = unsealed(&bytes, MARK)?;
        Some((postcard::from_bytes(content).ok()?, Digest::of(content)))
    }

    /// Makes a change. `sources` says where contents lie that come; `seals` is told of all that is written down, before.
    pub fn make(
        &self,
        change: &Change,
        sources: &BTreeMap<Digest, PathBuf>,
        seals: &mut dyn FnMut(Digest) -> Result<(), FileError>,
    ) -> Result<Changed, ChangeFault> {
        self.write_down(change, sources, seals)?;
        self.go_on(change)
    }

    /// Lays all contents of a change aside, then writes down what is to be done. From then on it can be finished, and taken back.
    pub(super) fn write_down(
        &self,
        change: &Change,
        sources: &BTreeMap<Digest, PathBuf>,
        seals: &mut dyn FnMut(Digest) -> Result<(), FileError>,
    ) -> Result<(), FileError> {
        for one in &change.moves {
            for (state, place) in [(&one.before, Some(&one.path)), (&one.after, None)] {
                let Some(digest) = state.digest().filter(|digest| !self.kept.has(digest)) else { continue };
                if let Some(from) = place.or_else(|| sources.get(digest)) {
                    self.lay_aside(from, digest, change.doing)?;
                }
            }
        }
        let content = packed(change, &self.pending())?;
        seals(Digest::of(&content))?;
        // The record that there will be is known again as written from here.
        change.after.as_ref().map_or(Ok(()), |text| seals(Digest::of(text.as_bytes())))?;
        sync(&self.root);
        write_sealed(&self.pending(), MARK, &content)
    }

    /// Lays a content aside; it must still be that. Where all is removed it is kept only until that is done, for which another name will do.
    fn lay_aside(&self, from: &Path, digest: &Digest, doing: Doing) -> Result<(), FileError> {
        match doing {
            Doing::Remove => self.kept.put(from, digest)?,
            Doing::Install | Doing::Back => self.kept.copy(from, digest)?,
        }
        let copy = self.kept.place_of(digest);
        if Digest::of_file(&copy).map_err(FileError::on("read", &copy))? == *digest {
            return Ok(());
        }
        self.kept.drop_content(digest)?;
        Err(FileError::on("read", from)(std::io::Error::other("it changes all the time")))
    }

    /// Makes what is written down, or takes it back.
    fn go_on(&self, change: &Change) -> Result<Changed, ChangeFault> {
        match self.forward(change) {
            Ok(changed) => Ok(changed),
            Err(fault) => match self.take_back(change) {
                Ok(()) => Err(ChangeFault::TakenBack(fault)),
                Err(second) => Err(ChangeFault::Stuck(fault, second)),
            },
        }
    }

    fn forward(&self, change: &Change) -> Result<Changed, FileError> {
        for folder in &change.folders {
            make_folder(folder)?;
        }
        let mut changed = Changed::default();
        for one in in_order(&change.moves) {
            let list =
                if self.bring(&one.path, &one.before, &one.after)? { &mut changed.done } else { &mut changed.left };
            list.push(one.path.clone());
        }
        self.sync_places(change);
        match &change.after {
            Some(text) => {
                self.write(&self.generation(change.generation), text)?;
                self.write(&self.manifest, text)?;
                self.write(&copy_of(&self.manifest), text)?;
                self.end()?;
            }
            None => {
                // What is being done is known until all else is gone, and which folders are ours until they are.
                Manifest::remove(&self.manifest)?;
                self.clear()?;
                let apart = change.leaving.iter().rev().filter(|folder| !self.root.starts_with(folder));
                apart.for_each(|folder| drop(std::fs::remove_dir(folder)));
                self.claim(&change.leaving)?;
                self.end()?;
                remove_file(&self.lock())?;
                let _ = std::fs::remove_dir(&self.root);
            }
        }
        for folder in change.leaving.iter().rev() {
            // Fails when something of others is in it, which is how it must be.
            let _ = std::fs::remove_dir(folder);
        }
        Ok(changed)
    }

    fn take_back(&self, change: &Change) -> Result<(), FileError> {
        for one in in_order(&change.moves).into_iter().rev() {
            self.bring(&one.path, &one.after, &one.before)?;
        }
        self.sync_places(change);
        for folder in change.folders.iter().rev() {
            let _ = std::fs::remove_dir(folder);
        }
        self.end()
    }

    /// Writes a text whole or not at all. What a kill leaves of it lies among what is ours.
    fn write(&self, path: &Path, text: &str) -> Result<(), FileError> {
        write_whole_from(&self.root, path, text.as_bytes())
    }

    /// Removes all that is known of an installation, but for what is being done.
    fn clear(&self) -> Result<(), FileError> {
        remove_folder(self.kept.root())?;
        for entry in std::fs::read_dir(&self.root).into_iter().flatten().filter_map(Result::ok) {
            let path = entry.path();
            if path != self.pending() && path != self.lock() {
                remove_file(&path)?;
            }
        }
        Ok(())
    }

    /// Forgets what was being done, and takes away what a kill left of names that were there for a moment.
    fn end(&self) -> Result<(), FileError> {
        for entry in std::fs::read_dir(&self.root).into_iter().flatten().filter_map(Result::ok) {
            if entry.file_name().as_encoded_bytes().starts_with(NEW.as_bytes()) {
                remove_file(&entry.path())?;
            }
        }
        remove_file(&self.pending())
    }

    /// Finishes a change that was cut off, or takes it back.
    pub fn recover(&self, change: &Change) -> Result<Recovered, ChangeFault> {
        match self.go_on(change) {
            Ok(_) => Ok(Recovered::Finished(change.doing)),
            Err(ChangeFault::TakenBack(fault)) => {
                Ok(Recovered::TakenBack(change.doing, format!("{fault}: {}", fault.source)))
            }
            Err(fault) => Err(fault),
        }
    }

    /// Brings a place from one state to another; `false` where something else lies there.
    fn bring(&self, path: &Path, from: &State, to: &State) -> Result<bool, FileError> {
        let now = State::of(path)?;
        if now.as_ref() == Some(to) {
            return Ok(true);
        }
        if now.as_ref() != Some(from) {
            return Ok(false);
        }
        let replaces = *from != State::Nothing;
        match to {
            State::Nothing => std::fs::remove_file(path).map_err(FileError::on("remove", path))?,
            State::Link(target) => link_to(path, Path::new(target), replaces, Some(&self.root))?,
            State::File { digest, mode } => lay(path, &self.kept.place_of(digest), *mode, replaces, Some(&self.root))?,
        }
        Ok(true)
    }

    /// Sees to it that all that lies in changed places outlasts a power cut.
    fn sync_places(&self, change: &Change) {
        let mut devices = BTreeSet::new();
        let folders = change.moves.iter().filter_map(|one| one.path.parent());
        for folder in folders.chain([self.root.as_path()]) {
            let device = std::fs::metadata(folder).map(|status| status.dev());
            if device.is_ok_and(|device| devices.insert(device)) {
                sync(folder);
            }
        }
    }
}

/// Files first, then links, which lead to them, then what goes.
fn in_order(moves: &[Move]) -> Vec<&Move> {
    let rank = |one: &&Move| match one.after {
        State::File { .. } => 0,
        State::Link(_) => 1,
        State::Nothing => 2,
    };
    let mut all: Vec<&Move> = moves.iter().collect();
    all.sort_by_key(rank);
    all
}

/// Writes out all that the file system of a folder has in memory. Where that cannot be asked for, the system does it in time.
fn sync(folder: &Path) {
    if let Ok(open) = std::fs::File::open(folder) {
        let _ = rustix::fs::syncfs(&open);
    }
}
