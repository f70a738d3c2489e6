//! File access whose errors name the file, and writing that is never seen half done.

use std::io::Write;
use std::path::{Path, PathBuf};

/// A file operation that failed.
#[derive(Debug, thiserror::Error)]
#[error("cannot {action} {path}")]
pub struct FileError {
    /// What was tried, as in "read".
    pub action: &'static str,
    /// The file.
    pub path: PathBuf,
    /// What the system says.
    pub source: std::io::Error,
}

impl FileError {
    /// Makes a function that adds what was tried to an error of the system.
    pub fn on(action: &'static str, path: &Path) -> impl FnOnce(std::io::Error) -> FileError + use<> {
        let path = path.to_path_buf();
        move |source| FileError { action, path, source }
    }

    /// Tells whether the disk is full.
    pub fn is_full(&self) -> bool {
        matches!(self.source.kind(), std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded)
    }

    /// Tells whether the place may not be written to.
    pub fn is_read_only(&self) -> bool {
        matches!(self.source.kind(), std::io::ErrorKind::ReadOnlyFilesystem | std::io::ErrorKind::PermissionDenied)
    }
}

/// Makes a folder with all that lead to it.
///
/// # Errors
/// The folder cannot be made.
pub fn make_folder(path: &Path) -> Result<(), FileError> {
    std::fs::create_dir_all(path).map_err(FileError::on("make the folder", path))
}

/// Moves a file to a place whose folder is made if it is not there, which is seldom.
///
/// # Errors
/// It cannot be moved.
pub fn move_file(file: &Path, target: &Path) -> Result<(), FileError> {
    let moved = match std::fs::rename(file, target) {
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
            make_folder(target.parent().unwrap_or(Path::new(".")))?;
            std::fs::rename(file, target)
        }
        moved => moved,
    };
    moved.map_err(FileError::on("move into place", target))
}

/// Writes a file aside, syncs it and moves it into place: readers see the old content or the new one.
///
/// # Errors
/// The file cannot be written; the old one is then still there.
pub fn write_whole(path: &Path, content: &[u8]) -> Result<(), FileError> {
    write_aside(path, Sync::Now, all_of(&[content]))
}

/// The same for a content in pieces.
///
/// # Errors
/// The file cannot be written; the old one is then still there.
pub fn write_whole_of(path: &Path, pieces: &[&[u8]]) -> Result<(), FileError> {
    write_aside(path, Sync::Now, all_of(pieces))
}

/// The same without a sync, for what can be made again and tells by itself that it is whole: after a power cut it may be gone.
///
/// # Errors
/// The file cannot be written; the old one is then still there.
pub fn write_quickly(path: &Path, content: &[u8]) -> Result<(), FileError> {
    write_quickly_of(path, &[content])
}

/// The same for a content in pieces.
///
/// # Errors
/// The file cannot be written; the old one is then still there.
pub fn write_quickly_of(path: &Path, pieces: &[&[u8]]) -> Result<(), FileError> {
    write_aside(path, Sync::Later, all_of(pieces))
}

/// The same as [`write_whole`] for a content that is made while it is written, because all of it would take much memory.
///
/// # Errors
/// The file cannot be written; the old one is then still there.
pub fn write_whole_by(path: &Path, make: impl FnOnce(&mut dyn Write) -> std::io::Result<()>) -> Result<(), FileError> {
    write_aside(path, Sync::Now, make)
}

#[derive(PartialEq)]
enum Sync {
    Now,
    Later,
}

fn all_of<'p>(pieces: &'p [&'p [u8]]) -> impl FnOnce(&mut dyn Write) -> std::io::Result<()> + use<'p> {
    move |file| pieces.iter().try_for_each(|piece| file.write_all(piece))
}

fn write_aside(
    path: &Path,
    sync: Sync,
    make: impl FnOnce(&mut dyn Write) -> std::io::Result<()>,
) -> Result<(), FileError> {
    let folder = path.parent().unwrap_or(Path::new("."));
    make_folder(folder)?;
    let failed = || FileError::on("write", path);
    let mut file = tempfile::Builder::new().prefix(".new-").tempfile_in(folder).map_err(failed())?;
    make(file.as_file_mut()).map_err(failed())?;
    if sync == Sync::Now {
        file.as_file().sync_data().map_err(failed())?;
    }
    // Temporary files are private; results are as readable as what the person's own tools make.
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o644);
    file.as_file().set_permissions(mode).map_err(failed())?;
    file.persist(path).map_err(|e| failed()(e.error))?;
    Ok(())
}

/// Reads a text file, `None` when it is not there.
///
/// # Errors
/// The file is there and cannot be read as UTF-8.
pub fn read_text(path: &Path) -> Result<Option<String>, FileError> {
    match std::fs::read_to_string(path) {
        Ok(text) => Ok(Some(text)),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(e) => Err(FileError::on("read", path)(e)),
    }
}
