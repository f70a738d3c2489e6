//! Putting a file in place, whole or not at all.

use std::io::ErrorKind;
use std::os::fd::AsRawFd;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::Path;

use rustix::fs::{AtFlags, CWD, Mode, OFlags};

use crate::base::FileError;
use crate::base::files::{NEW, make_folder};

/// Puts a file with this content and mode in place. What comes to lie in a new place meanwhile is not overwritten. `ours` is a folder in
/// which a name may be left by a kill.
pub(super) fn lay(
    target: &Path,
    content: &Path,
    mode: u32,
    replaces: bool,
    ours: Option<&Path>,
) -> Result<(), FileError> {
    let folder = target.parent().unwrap_or(Path::new("/"));
    make_folder(folder)?;
    let laid = match nameless(content, mode, folder) {
        Some(made) => made.and_then(|made| name_it(&made, target, replaces, ours)),
        None => through(target, replaces, ours, |at| {
            let made = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(at)?;
            fill(content, mode, &made)
        }),
    };
    laid.map_err(FileError::on("write", target))
}

/// Puts a link in place, likewise.
pub(super) fn link_to(target: &Path, to: &Path, replaces: bool, ours: Option<&Path>) -> Result<(), FileError> {
    make_folder(target.parent().unwrap_or(Path::new("/")))?;
    let link = |at: &Path| std::os::unix::fs::symlink(to, at);
    let laid = if replaces { through(target, replaces, ours, link) } else { link(target) };
    laid.map_err(FileError::on("write", target))
}

/// Makes something under a name that is there for a moment, and moves it into place. Killed in that moment, we leave the name: it lies
/// among what is ours, where it is looked for, unless that is on another file system.
fn through(
    target: &Path,
    replaces: bool,
    ours: Option<&Path>,
    make: impl Fn(&Path) -> std::io::Result<()>,
) -> std::io::Result<()> {
    let moved = |folder: &Path| {
        let aside = tempfile::Builder::new().prefix(NEW).make_in(folder, &make)?.into_temp_path();
        if replaces { aside.persist(target) } else { aside.persist_noclobber(target) }.map_err(|e| e.error)
    };
    match ours.map(moved) {
        Some(Err(e)) if e.kind() == ErrorKind::CrossesDevices => {}
        Some(done) => return done,
        None => {}
    }
    moved(target.parent().unwrap_or(Path::new("/")))
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

/// Gives a nameless file its name. Another file is replaced through a name aside.
fn name_it(made: &std::fs::File, target: &Path, replaces: bool, ours: Option<&Path>) -> std::io::Result<()> {
    let own = format!("/proc/self/fd/{}", made.as_raw_fd());
    let link = |to: &Path| Ok(rustix::fs::linkat(CWD, own.as_str(), CWD, to, AtFlags::SYMLINK_FOLLOW)?);
    if replaces { through(target, replaces, ours, link) } else { link(target) }
}

#[cfg(test)]
mod tests {
    use std::cell::RefCell;
    use std::path::PathBuf;

    use super::*;

    /// Where names for a moment were taken while something was put in place.
    fn asides(target: &Path, replaces: bool, ours: Option<&Path>) -> (std::io::Result<()>, Vec<PathBuf>) {
        let seen = RefCell::new(Vec::new());
        let done = through(target, replaces, ours, |at| {
            seen.borrow_mut().push(at.parent().expect("a folder").to_path_buf());
            std::fs::write(at, "new")
        });
        (done, seen.into_inner())
    }

    #[test]
    fn a_name_for_a_moment_lies_among_what_is_ours() {
        let folder = tempfile::tempdir().unwrap();
        let (ours, theirs) = (folder.path().join("ours"), folder.path().join("theirs"));
        std::fs::create_dir_all(&ours).unwrap();
        std::fs::create_dir_all(&theirs).unwrap();
        let target = theirs.join("file");
        std::fs::write(&target, "old").unwrap();
        let (done, seen) = asides(&target, true, Some(&ours));
        assert!(done.is_ok());
        assert_eq!((seen, std::fs::read_to_string(&target).unwrap()), (vec![ours.clone()], "new".to_string()));
        // Where nothing is ours, beside the target; what lies there is not overwritten unless it is to be.
        let (done, seen) = asides(&target, false, None);
        assert_eq!(done.unwrap_err().kind(), ErrorKind::AlreadyExists);
        assert_eq!(seen, std::slice::from_ref(&theirs));
        assert_eq!(std::fs::read_dir(&ours).unwrap().count() + std::fs::read_dir(&theirs).unwrap().count(), 1);
    }

    #[test]
    fn what_lies_on_another_file_system_is_replaced_as_well() {
        let Ok(memory) = tempfile::tempdir_in("/dev/shm") else { return };
        let folder = tempfile::tempdir().unwrap();
        if same_device(memory.path(), folder.path()) {
            return;
        }
        let target = memory.path().join("file");
        std::fs::write(&target, "old").unwrap();
        let (done, seen) = asides(&target, true, Some(folder.path()));
        assert!(done.is_ok());
        assert_eq!(seen, [folder.path(), memory.path()]);
        assert_eq!(std::fs::read_to_string(&target).unwrap(), "new");
        // The same by a file that has no name yet, and by a link.
        let content = folder.path().join("content");
        std::fs::write(&content, "laid").unwrap();
        lay(&target, &content, 0o640, true, Some(folder.path())).unwrap();
        assert_eq!(std::fs::read_to_string(&target).unwrap(), "laid");
        assert_eq!(std::fs::metadata(&target).unwrap().permissions().mode() & 0o777, 0o640);
        link_to(&target, Path::new("elsewhere"), true, Some(folder.path())).unwrap();
        assert_eq!(std::fs::read_link(&target).unwrap(), Path::new("elsewhere"));
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1, "only the content");
    }

    fn same_device(one: &Path, other: &Path) -> bool {
        use std::os::unix::fs::MetadataExt;
        let device = |path: &Path| std::fs::metadata(path).map(|status| status.dev()).ok();
        device(one) == device(other)
    }
}
