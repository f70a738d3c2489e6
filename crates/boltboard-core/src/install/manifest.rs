//! The record of an installation.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::Content;
use crate::base::files::{read_text, write_whole};
use crate::base::{Digest, FileError};

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
}

impl Installed {
    /// Returns its content as installed.
    pub fn content(&self) -> Option<Content> {
        self.digest.map(Content::File).or_else(|| self.link.clone().map(Content::Link))
    }
}

impl Manifest {
    /// Reads a record; none when it is not there or not ours.
    ///
    /// # Errors
    /// The file is there and cannot be read.
    pub fn read(path: &Path) -> Result<Option<Manifest>, FileError> {
        let text = read_text(path)?;
        Ok(text.and_then(|text| serde_json::from_str(&text).ok()).filter(|m: &Manifest| m.format == 1))
    }

    /// Writes the record.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn write(&self, path: &Path) -> Result<(), FileError> {
        write_whole(path, serde_json::to_string_pretty(self).unwrap_or_default().as_bytes())
    }
}
