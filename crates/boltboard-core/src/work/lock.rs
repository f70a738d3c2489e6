//! One build at a time in a work folder.

use std::fs::{File, TryLockError};
use std::io::{Read, Seek, Write};
use std::path::{Path, PathBuf};

use super::WorkFolder;
use crate::base::FileError;

/// Held while a build runs; dropping it, or the end of the process, lets the next one go.
#[derive(Debug)]
pub struct WorkLock {
    _file: File,
}

/// Why the lock was not had.
#[derive(Debug, thiserror::Error)]
pub enum LockFault {
    /// The lock file cannot be used.
    #[error(transparent)]
    File(#[from] FileError),
}

/// What came of asking for the lock.
#[derive(Debug)]
pub enum Locking {
    /// It is had.
    Taken(WorkLock),
    /// Another process has it.
    Held(Waiting),
}

/// A lock that another process has.
#[derive(Debug)]
pub struct Waiting {
    /// That process's number, if it is known.
    pub holder: Option<u32>,
    file: File,
    path: PathBuf,
}

impl WorkLock {
    /// Asks for the lock.
    ///
    /// # Errors
    /// The lock file cannot be opened or locked.
    pub fn ask(work: &WorkFolder) -> Result<Locking, LockFault> {
        let path = work.root().join("lock");
        let open = File::options().read(true).write(true).create(true).truncate(false).open(&path);
        let mut file = open.map_err(FileError::on("open", &path))?;
        match file.try_lock() {
            Ok(()) => WorkLock::of(file, &path).map(Locking::Taken),
            Err(TryLockError::WouldBlock) => {
                let mut text = String::new();
                // Who holds it is only for the message.
                let _ = file.read_to_string(&mut text);
                Ok(Locking::Held(Waiting { holder: text.trim().parse().ok(), file, path }))
            }
            Err(TryLockError::Error(e)) => Err(FileError::on("lock", &path)(e).into()),
        }
    }

    /// Notes who has the lock.
    fn of(mut file: File, path: &Path) -> Result<WorkLock, LockFault> {
        let mut write = || -> std::io::Result<()> {
            file.rewind()?;
            file.set_len(0)?;
            writeln!(file, "{}", std::process::id())
        };
        write().map_err(FileError::on("write", path))?;
        Ok(WorkLock { _file: file })
    }
}

impl Waiting {
    /// Waits until the other process lets it go.
    ///
    /// # Errors
    /// The lock file cannot be locked.
    pub fn wait(self) -> Result<WorkLock, LockFault> {
        self.file.lock().map_err(FileError::on("lock", &self.path))?;
        WorkLock::of(self.file, &self.path)
    }
}
