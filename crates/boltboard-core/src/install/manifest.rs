//! The record of an installation.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::{Against, Content};
use crate::base::files::{read_regular, remove_file};
use crate::base::{Digest, FileError};
use crate::board::{Board, KIT_FILE};
use crate::record::Record as BuiltRecord;

/// What was installed, so that exactly that can be removed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Manifest {
    /// The format of this record.
    pub format: u32,
    /// The tree.
    pub tree: String,
    /// Its version.
    pub version: String,
    /// The profile that it was built with.
    pub profile: String,
    /// The changes to the sources that it was built with.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub patches: Vec<String>,
    /// The compiler that it was built with, in a few words.
    #[serde(default)]
    pub compiler: String,
    /// What the toolchain's environment set then.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub environment: BTreeMap<String, String>,
    /// Its number among those that were installed here; 0 in a record from before they had one.
    #[serde(default)]
    pub generation: u32,
    /// When it was installed, in seconds since 1970.
    #[serde(default)]
    pub installed_s: u64,
    /// The installed tree that it was built against, where it is no tree by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub against: Option<Against>,
    /// What it was built from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub record: Option<BuiltRecord>,
    /// The files, by path.
    pub files: Vec<Installed>,
    /// Folders that the installation made, outermost first.
    pub folders: Vec<PathBuf>,
}

/// One installed file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Installed {
    /// Where it is.
    pub path: PathBuf,
    /// Its content as installed; none for a link.
    pub digest: Option<Digest>,
    /// What it leads to, if it is a link.
    pub link: Option<String>,
    /// Whether it is a configuration file.
    pub config: bool,
    /// Its permission bits, if it is a file; not told by a record from before they counted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<u32>,
}

impl Installed {
    /// Returns its content as installed.
    pub fn content(&self) -> Option<Content> {
        self.digest.map(Content::File).or_else(|| self.link.clone().map(Content::Link))
    }
}

/// What lies where the record of an installation is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Recorded {
    /// Nothing.
    Nothing,
    /// A record of this tree.
    Whole(Box<Manifest>),
    /// Something that is no record of this tree, and its copy is none either.
    Damaged,
}

impl Manifest {
    /// Reads the record of a tree's installation; where it is damaged, its copy.
    ///
    /// # Errors
    /// The file is there and cannot be read.
    pub fn read(path: &Path, board: &Board) -> Result<Recorded, FileError> {
        let read = |path: &Path| match read_regular(path) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(e) if matches!(e.kind(), std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory) => Ok(None),
            Err(e) => Err(FileError::on("read", path)(e)),
        };
        let parsed = |bytes: &[u8]| {
            let mut found: Option<Manifest> = serde_json::from_slice(bytes).ok();
            // As we write them; whoever looks one up goes by it.
            found.iter_mut().for_each(|found| found.files.sort_by(|a, b| a.path.cmp(&b.path)));
            found.filter(|found| found.format == 1 && found.tree == board.delivered().name)
        };
        let Some(bytes) = read(path)? else { return Ok(Recorded::Nothing) };
        let found = match parsed(&bytes) {
            Some(found) => Some(found),
            None => read(&copy_of(path)).ok().flatten().and_then(|bytes| parsed(&bytes)),
        };
        Ok(found.map_or(Recorded::Damaged, |found| Recorded::Whole(Box::new(found))))
    }

    /// Writes the record, and a copy of it for the day on which it is damaged.
    ///
    /// # Errors
    /// It cannot be written.
    #[cfg(test)]
    pub fn write(&self, path: &Path) -> Result<(), FileError> {
        crate::base::files::write_whole(path, self.text().as_bytes())?;
        crate::base::files::write_whole(&copy_of(path), self.text().as_bytes())
    }

    /// Returns what was installed at a place.
    pub fn file(&self, path: &Path) -> Option<&Installed> {
        self.files.binary_search_by(|file| file.path.as_path().cmp(path)).ok().map(|at| &self.files[at])
    }

    /// The kits that it has, as folders.
    pub fn kits(&self) -> impl Iterator<Item = &Path> {
        let files = self.files.iter().filter(|file| file.path.file_name().is_some_and(|name| name == KIT_FILE));
        files.filter_map(|file| file.path.parent())
    }

    /// The files that are there to be run, loaded or read where they lie: not those that a kit has.
    pub fn outside_kits(&self) -> impl Iterator<Item = &Installed> {
        let kits: Vec<&Path> = self.kits().collect();
        self.files.iter().filter(move |file| kits.iter().all(|kit| !file.path.starts_with(kit)))
    }

    /// Removes the record and its copy.
    ///
    /// # Errors
    /// It is there and cannot be removed.
    pub(super) fn remove(path: &Path) -> Result<(), FileError> {
        remove_file(&copy_of(path))?;
        remove_file(path)
    }

    /// Returns what stands for this very record: whoever knows it has written it.
    pub fn seal(&self) -> Digest {
        Digest::of(self.text().as_bytes())
    }

    /// The text of it.
    pub(super) fn text(&self) -> String {
        serde_json::to_string_pretty(self).expect("paths and digests can always be written")
    }
}

/// Where the copy of a record lies.
pub(super) fn copy_of(path: &Path) -> PathBuf {
    path.with_extension("copy.json")
}
