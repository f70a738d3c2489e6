//! One command at a time changes what is installed below a prefix.

use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};

use rustix::fs::{FlockOperation, flock};

use super::InstallFault;
use super::apply::missing_folders;
use super::change::Yard;
use crate::base::FileError;
use crate::base::files::{NEW, make_folder, remove_folder};

/// The longest list of folders that is read, in bytes.
const MAX_LIST: u64 = 1 << 16;

/// Held while what is installed is changed. The file says which folders were made for it, so that they are known as ours even when a command
/// is killed before anything else says so. They go again where nothing is installed in the end.
#[derive(Debug)]
pub struct Lock {
    made: Vec<PathBuf>,
    yard: Yard,
    held: File,
}

impl Lock {
    /// Takes the lock of the tree whose record lies there.
    ///
    /// # Errors
    /// Another command has it, or there may be no such file.
    pub fn take(manifest: &Path) -> Result<Lock, InstallFault> {
        let yard = Yard::of(manifest);
        let file = yard.lock();
        let mut made = Vec::new();
        missing_folders(&file, &mut made);
        make_folder(&yard.root)?;
        let failed = || FileError::on("write", &file);
        let held = File::options().read(true).write(true).create(true).truncate(false).open(&file).map_err(failed())?;
        match flock(&held, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => {}
            Err(rustix::io::Errno::WOULDBLOCK) => {
                return Err(InstallFault::Busy(manifest.parent().unwrap_or(manifest).to_path_buf()));
            }
            Err(e) => return Err(FileError::on("lock", &file)(e.into()).into()),
        }
        let mut known = String::new();
        // What is no list says nothing.
        let _ = (&held).take(MAX_LIST).read_to_string(&mut known);
        let above = |folder: &PathBuf| yard.root.starts_with(folder) && folder.is_dir() && !made.contains(folder);
        let mut all: Vec<PathBuf> = known.lines().map(PathBuf::from).filter(above).collect();
        all.append(&mut made);
        let lock = Lock { made: all, yard, held };
        lock.claim()?;
        Ok(lock)
    }

    /// Writes down which folders were made for it.
    fn claim(&self) -> Result<(), FileError> {
        use std::io::{Seek, Write};
        let lines: String = self.made.iter().map(|folder| format!("{}\n", folder.display())).collect();
        let mut file = &self.held;
        let written = file.rewind().and_then(|()| file.set_len(0)).and_then(|()| file.write_all(lines.as_bytes()));
        written.map_err(FileError::on("write", &self.yard.lock()))
    }

    /// Takes the lock where something is known of an installation, or was begun; makes nothing where there is none.
    ///
    /// # Errors
    /// As for [`Lock::take`].
    pub fn of_installed(manifest: &Path) -> Result<Option<Lock>, InstallFault> {
        let is_there = manifest.exists() || Yard::of(manifest).root.is_dir();
        is_there.then(|| Lock::take(manifest)).transpose()
    }

    pub(super) fn yard(&self) -> &Yard {
        &self.yard
    }

    /// Folders that were made for it.
    pub(super) fn made(&self) -> &[PathBuf] {
        &self.made
    }
}

impl Drop for Lock {
    fn drop(&mut self) {
        if self.yard.is_vacant() {
            let _ = remove_folder(self.yard.kept.root());
            for entry in std::fs::read_dir(&self.yard.root).into_iter().flatten().filter_map(Result::ok) {
                let _ = std::fs::remove_file(entry.path());
            }
            for folder in self.made.iter().rev() {
                // Fails when something of others is in it, which is how it must be.
                let _ = std::fs::remove_dir(folder);
            }
        }
    }
}

impl Yard {
    pub(super) fn lock(&self) -> PathBuf {
        self.root.join("lock")
    }

    /// Tells whether nothing is installed, and nothing is being done.
    fn is_vacant(&self) -> bool {
        let names = |name: &str| ["lock", "kept", "limits.json"].contains(&name) || name.starts_with(NEW);
        let others = std::fs::read_dir(&self.root).into_iter().flatten().filter_map(Result::ok);
        let mut others = others.filter(|entry| !entry.file_name().to_str().is_some_and(names));
        !self.manifest.exists() && others.next().is_none()
    }

    /// Notes which folders go with a removal, for whoever comes after a kill.
    pub(super) fn claim(&self, folders: &[PathBuf]) -> Result<(), FileError> {
        let above = folders.iter().filter(|folder| self.root.starts_with(folder));
        let lines: String = above.map(|folder| format!("{}\n", folder.display())).collect();
        let lock = self.lock();
        // In its place: whoever holds the lock holds this very file.
        std::fs::write(&lock, lines).map_err(FileError::on("write", &lock))
    }
}
