//! One command at a time changes what is installed below a prefix.

use std::fs::File;
use std::path::{Path, PathBuf};

use rustix::fs::{FlockOperation, flock};

use super::InstallFault;
use super::apply::missing_folders;
use super::change::Yard;
use crate::base::FileError;
use crate::base::files::make_folder;

/// Held while what is installed is changed. Folders that were made for it go again unless something is in them.
#[derive(Debug)]
pub struct Lock {
    made: Vec<PathBuf>,
    file: PathBuf,
    _held: File,
}

impl Lock {
    /// Takes the lock of the tree whose record lies there.
    ///
    /// # Errors
    /// Another command has it, or there may be no such file.
    pub fn take(manifest: &Path) -> Result<Lock, InstallFault> {
        let root = Yard::of(manifest).root;
        let file = root.join("lock");
        let mut made = Vec::new();
        missing_folders(&file, &mut made);
        make_folder(&root)?;
        let held = File::create(&file).map_err(FileError::on("write", &file))?;
        let lock = Lock { made, file: file.clone(), _held: held };
        match flock(&lock._held, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => Ok(lock),
            Err(rustix::io::Errno::WOULDBLOCK) => {
                let busy = InstallFault::Busy(manifest.parent().unwrap_or(manifest).to_path_buf());
                // It is the other's.
                std::mem::forget(lock);
                Err(busy)
            }
            Err(e) => Err(FileError::on("lock", &file)(e.into()).into()),
        }
    }

    /// Folders that were made for it.
    pub(super) fn made(&self) -> &[PathBuf] {
        &self.made
    }
}

impl Drop for Lock {
    fn drop(&mut self) {
        let only_lock =
            self.file.parent().and_then(|root| std::fs::read_dir(root).ok()).is_some_and(|all| all.count() == 1);
        if only_lock {
            let _ = std::fs::remove_file(&self.file);
        }
        for folder in self.made.iter().rev() {
            let _ = std::fs::remove_dir(folder);
        }
    }
}
