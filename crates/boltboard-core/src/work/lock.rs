//! One build at a time in a work folder.

use std::fs::{File, TryLockError};
use std::io::{Read, Write};

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

impl WorkLock {
    /// Takes the lock. When another process has it, `on_wait` is told that process's number and this call waits.
    ///
    /// # Errors
    /// The lock file cannot be opened or locked.
    pub fn take(work: &WorkFolder, on_wait: &mut dyn FnMut(Option<u32>)) -> Result<WorkLock, LockFault> {
        let path = work.root().join("lock");
        let open = File::options().read(true).write(true).create(true).truncate(false).open(&path);
        let mut file = open.map_err(FileError::on("open", &path))?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                let mut text = String::new();
                // Who holds it is only for the message.
                let _ = file.read_to_string(&mut text);
                on_wait(text.trim().parse().ok());
                file.lock().map_err(FileError::on("lock", &path))?;
            }
            Err(TryLockError::Error(e)) => return Err(FileError::on("lock", &path)(e).into()),
        }
        let write = |file: &mut File| -> std::io::Result<()> {
            use std::io::Seek;
            file.rewind()?;
            file.set_len(0)?;
            writeln!(file, "{}", std::process::id())
        };
        write(&mut file).map_err(FileError::on("write", &path))?;
        Ok(WorkLock { _file: file })
    }
}
