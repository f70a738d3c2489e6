//! What a tree uses and does not carry: how it stands, and how it is got, checked and unpacked, once for each digest.
//!
//! What is not whole yet lies beside under another name; nothing is used that does not have the digest of its definition.

mod get;
mod unpack;

use std::fs::File;
use std::path::{Path, PathBuf};

use crate::base::files::{make_folder, remove_file, remove_folder};
use crate::base::{FileError, Sha256};
use crate::board::{FetchDef, FetchForm, Tree};
use crate::definitions::FetchPlace;

pub use get::{Attempt, AttemptFault, FetchProgress};
pub use unpack::{UnpackFault, unpack_named};

#[cfg(test)]
mod tests;

/// The folder of all that was fetched.
#[derive(Debug, Clone)]
pub struct Fetched {
    root: PathBuf,
}

/// How something stands that is to be fetched.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FetchState {
    /// The tree has something in its place, which is taken.
    InTree,
    /// It was fetched.
    Kept,
    /// So many bytes of it are there.
    Begun(u64),
    /// Nothing of it is there.
    Absent,
}

impl FetchState {
    /// Tells whether a build can use it.
    pub fn is_there(self) -> bool {
        matches!(self, FetchState::InTree | FetchState::Kept)
    }
}

/// Where files are looked for beside the addresses of their definitions.
#[derive(Debug, Clone, Default)]
pub struct FetchFrom {
    /// Folders of this machine, which are asked first.
    pub folders: Vec<PathBuf>,
    /// Addresses of folders elsewhere, which are asked next.
    pub mirrors: Vec<String>,
    /// Only folders are asked.
    pub offline: bool,
}

/// Where something came from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum GotFrom {
    /// It was there.
    Kept,
    /// A file of this machine.
    Folder(PathBuf),
    /// An address.
    Address(String),
}

/// Why something was not got. Nothing of it is used then; what was got of it is gone on from.
#[derive(Debug, thiserror::Error)]
pub enum FetchFault {
    /// A file cannot be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// Nobody had it.
    #[error("`{name}` could not be fetched")]
    Nowhere {
        /// Its name.
        name: String,
        /// All that was tried.
        attempts: Vec<Attempt>,
    },
    /// It is the right archive, and there is something wrong with it.
    #[error("`{name}` was fetched, and is not unpacked: {fault}")]
    Unpack {
        /// Its name.
        name: String,
        /// What is wrong with it.
        fault: UnpackFault,
    },
}

impl Fetched {
    /// Names a folder, whether or not it is there.
    pub fn at(root: &Path) -> Fetched {
        Fetched { root: root.to_path_buf() }
    }

    fn archive(&self, fetch: &FetchDef) -> PathBuf {
        self.root.join(fetch.sha256.to_string())
    }

    fn begun(&self, fetch: &FetchDef) -> PathBuf {
        self.root.join(format!("{}.begun", fetch.sha256))
    }

    /// Tells how something stands.
    pub fn state(&self, fetch: &FetchDef, tree: &Tree) -> FetchState {
        let place = FetchPlace::of(fetch);
        if place.is_in(&tree.source_root) {
            return FetchState::InTree;
        }
        if place.kept_in(&self.root).is_some() {
            return FetchState::Kept;
        }
        let size =
            |place: &Path| std::fs::metadata(place).ok().filter(std::fs::Metadata::is_file).map(|file| file.len());
        let size = |place: &Path| size(place).filter(|size| *size > 0);
        let begun = size(&self.archive(fetch)).or_else(|| size(&self.begun(fetch)));
        begun.map_or(FetchState::Absent, FetchState::Begun)
    }

    /// Gets something: from what is there, else from a folder, else from an address. It is checked, and unpacked where it is an archive.
    /// Only one process does so at a time; another one waits.
    ///
    /// # Errors
    /// See [`FetchFault`].
    pub fn get(
        &self,
        fetch: &FetchDef,
        sources: &FetchFrom,
        told: &mut dyn FnMut(FetchProgress),
    ) -> Result<GotFrom, FetchFault> {
        make_folder(&self.root)?;
        let lock = self.root.join("lock");
        let held = File::options().write(true).create(true).truncate(false).open(&lock);
        let held = held.map_err(FileError::on("open", &lock))?;
        held.lock().map_err(FileError::on("lock", &lock))?;
        let archive = self.archive(fetch);
        let unpacked = self.root.join(fetch.kept_as());
        let origin = if is_whole(&archive, fetch) {
            GotFrom::Kept
        } else {
            // What is there under this name and is something else was spoilt.
            remove_file(&archive)?;
            self.obtain(fetch, sources, told)?
        };
        if let FetchForm::Tar(compression) = fetch.form
            && !unpacked.exists()
        {
            told(FetchProgress::Unpacking);
            let aside = tempfile::Builder::new().prefix(".new-").tempdir_in(&self.root);
            let aside = aside.map_err(FileError::on("make a folder in", &self.root))?;
            unpack::unpack(&archive, compression, fetch.folder.as_ref(), aside.path(), fetch.size)
                .map_err(|fault| FetchFault::Unpack { name: fetch.name.clone(), fault })?;
            let aside = aside.keep();
            if let Err(error) = std::fs::rename(&aside, &unpacked) {
                remove_folder(&aside)?;
                return Err(FileError::on("make", &unpacked)(error).into());
            }
        }
        Ok(origin)
    }

    fn obtain(
        &self,
        fetch: &FetchDef,
        sources: &FetchFrom,
        told: &mut dyn FnMut(FetchProgress),
    ) -> Result<GotFrom, FetchFault> {
        let (begun, archive) = (self.begun(fetch), self.archive(fetch));
        let mut attempts = Vec::new();
        let name = fetch.file_name();
        for folder in &sources.folders {
            for file in [folder.join(name), folder.join(fetch.sha256.to_string())] {
                match get::from_file(&file, fetch, &begun)? {
                    Ok(()) => {
                        keep(&begun, &archive)?;
                        return Ok(GotFrom::Folder(file));
                    }
                    Err(fault) => attempts.push(Attempt { from: file.display().to_string(), fault }),
                }
            }
        }
        let mirrored = sources.mirrors.iter().map(|mirror| format!("{}/{name}", mirror.trim_end_matches('/')));
        let addresses = mirrored.chain(fetch.from.iter().cloned()).filter(|_| !sources.offline);
        for address in addresses {
            match get::from_address(&address, fetch, &begun, told)? {
                Ok(()) => {
                    keep(&begun, &archive)?;
                    return Ok(GotFrom::Address(address));
                }
                Err(fault) => attempts.push(Attempt { from: address, fault }),
            }
        }
        Err(FetchFault::Nowhere { name: fetch.name.clone(), attempts })
    }

    /// Copies what was fetched into a folder under its own name, for a machine without a network.
    ///
    /// # Errors
    /// It is not there, or cannot be copied.
    pub fn copy_to(&self, fetch: &FetchDef, folder: &Path) -> Result<PathBuf, FileError> {
        make_folder(folder)?;
        let place = folder.join(fetch.file_name());
        let aside =
            tempfile::Builder::new().prefix(".new-").tempfile_in(folder).map_err(FileError::on("write", folder))?;
        std::fs::copy(self.archive(fetch), aside.path()).map_err(FileError::on("copy to", &place))?;
        aside.persist(&place).map_err(|e| FileError::on("write", &place)(e.error))?;
        Ok(place)
    }
}

fn keep(begun: &Path, archive: &Path) -> Result<(), FileError> {
    std::fs::rename(begun, archive).map_err(FileError::on("make", archive))
}

/// Tells whether a file is there and is what it is to be.
fn is_whole(file: &Path, fetch: &FetchDef) -> bool {
    let size = std::fs::metadata(file).ok().filter(std::fs::Metadata::is_file).map(|status| status.len());
    size == Some(fetch.size) && Sha256::of_file(file).is_ok_and(|digest| digest == fetch.sha256)
}
