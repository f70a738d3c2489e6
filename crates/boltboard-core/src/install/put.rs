//! Putting a file in place, whole or not at all.

use std::ffi::OsString;
use std::os::fd::AsRawFd;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use rustix::fs::{AtFlags, CWD, Mode, OFlags};

use crate::base::FileError;
use crate::base::files::{NEW, make_folder, put_link};

/// Puts a file with this content and mode in place. What comes to lie in a new place meanwhile is not overwritten.
pub(super) fn lay(target: &Path, content: &Path, mode: u32, replaces: bool) -> Result<(), FileError> {
    let folder = target.parent().unwrap_or(Path::new("/"));
    make_folder(folder)?;
    let failed = || FileError::on("write", target);
    match nameless(content, mode, folder) {
        Some(made) => name_it(&made.map_err(failed())?, target, replaces).map_err(failed()),
        None => {
            let aside = tempfile::Builder::new().prefix(NEW).tempfile_in(folder).map_err(failed())?;
            fill(content, mode, aside.as_file()).map_err(failed())?;
            if replaces { aside.persist(target) } else { aside.persist_noclobber(target) }
                .map(|_| ())
                .map_err(|e| failed()(e.error))
        }
    }
}

/// Puts a link in place.
pub(super) fn link_to(target: &Path, to: &Path, replaces: bool) -> Result<(), FileError> {
    if replaces {
        return put_link(target, to);
    }
    make_folder(target.parent().unwrap_or(Path::new("/")))?;
    std::os::unix::fs::symlink(to, target).map_err(FileError::on("write", target))
}

/// Writes a file that has no name yet, so that nothing is left of it when we are killed. `None` where a file system has no such files.
fn nameless(content: &Path, mode: u32, folder: &Path) -> Option<std::io::Result<std::fs::File>> {
    let flags = OFlags::TMPFILE | OFlags::RDWR | OFlags::CLOEXEC;
    let made = std::fs::File::from(rustix::fs::open(folder, flags, Mode::RUSR | Mode::WUSR).ok()?);
    Some(fill(content, mode, &made).map(|()| made))
}

fn fill(content: &Path, mode: u32, mut to: &std::fs::File) -> std::io::Result<()> {
    std::io::copy(&mut std::fs::File::open(content)?, &mut to)?;
    to.set_permissions(std::fs::Permissions::from_mode(mode))
}

/// Gives a nameless file its name. Another file is replaced through a name aside, which is there for a moment only.
fn name_it(made: &std::fs::File, target: &Path, replaces: bool) -> std::io::Result<()> {
    let own = format!("/proc/self/fd/{}", made.as_raw_fd());
    let link = |to: &Path| rustix::fs::linkat(CWD, own.as_str(), CWD, to, AtFlags::SYMLINK_FOLLOW);
    if !replaces {
        return Ok(link(target)?);
    }
    let folder = target.parent().unwrap_or(Path::new("/"));
    let mut prefix = OsString::from(NEW);
    prefix.push(target.file_name().unwrap_or_default());
    let aside = tempfile::Builder::new().prefix(&prefix).make_in(folder, |aside| Ok(link(aside)?))?;
    aside.into_temp_path().persist(target).map_err(|e| e.error)
}
