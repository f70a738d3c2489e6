//! File access whose errors name the file, and writing that is never seen half done.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use std::path::{Path, PathBuf};

use super::Digest;

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
    write_aside(path, &Aside::default(), all_of(&[content]))
}

/// The same for a content in pieces.
///
/// # Errors
/// The file cannot be written; the old one is then still there.
pub fn write_whole_of(path: &Path, pieces: &[&[u8]]) -> Result<(), FileError> {
    write_aside(path, &Aside::default(), all_of(pieces))
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
    write_with_mode(path, pieces, Aside::default().mode)
}

/// The same as [`write_whole`] for a content that is made while it is written, because all of it would take much memory.
///
/// # Errors
/// The file cannot be written; the old one is then still there.
pub fn write_whole_by(path: &Path, make: impl FnOnce(&mut dyn Write) -> std::io::Result<()>) -> Result<(), FileError> {
    write_aside(path, &Aside::default(), make)
}

/// The same for a file that is written aside in another folder of the same file system: what a kill leaves of it lies there.
///
/// # Errors
/// The file cannot be written; the old one is then still there.
pub fn write_whole_from(folder: &Path, path: &Path, content: &[u8]) -> Result<(), FileError> {
    write_aside(path, &Aside { folder: Some(folder), ..Aside::default() }, all_of(&[content]))
}

/// The same as [`write_quickly_of`], with these permission bits.
///
/// # Errors
/// The file cannot be written; the old one is then still there.
pub fn write_with_mode(path: &Path, pieces: &[&[u8]], mode: u32) -> Result<(), FileError> {
    write_aside(path, &Aside { sync: Sync::Later, mode, folder: None }, all_of(pieces))
}

/// The same for a file that is written aside in another folder: what a kill leaves of it lies there. Where that is on another file system,
/// it is written beside its place.
///
/// # Errors
/// The file cannot be written; the old one is then still there.
pub fn write_from(folder: &Path, path: &Path, pieces: &[&[u8]], mode: u32) -> Result<(), FileError> {
    let aside = Aside { sync: Sync::Later, mode, folder: Some(folder) };
    match write_aside(path, &aside, all_of(pieces)) {
        Err(fault) if fault.source.kind() == std::io::ErrorKind::CrossesDevices => write_with_mode(path, pieces, mode),
        done => done,
    }
}

/// Makes a link, in the place of a file or link that may be there. It is made aside in another folder, like a file by [`write_from`].
///
/// # Errors
/// It cannot be made; what was there is then still there.
pub fn put_link(aside: &Path, path: &Path, to: &Path) -> Result<(), FileError> {
    let beside = path.parent().unwrap_or(Path::new("."));
    make_folder(beside)?;
    make_folder(aside)?;
    let from = |folder: &Path| {
        let made = tempfile::Builder::new().prefix(NEW).make_in(folder, |at| std::os::unix::fs::symlink(to, at));
        made.and_then(|made| made.into_temp_path().persist(path).map_err(|e| e.error))
    };
    let made = match from(aside) {
        Err(fault) if fault.kind() == std::io::ErrorKind::CrossesDevices => from(beside),
        made => made,
    };
    made.map_err(FileError::on("make the link", path))
}

/// Removes a file or link, if it is there.
///
/// # Errors
/// It is there and cannot be removed.
pub fn remove_file(path: &Path) -> Result<(), FileError> {
    match std::fs::remove_file(path) {
        Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(FileError::on("remove", path)(e)),
        _ => Ok(()),
    }
}

/// Removes a folder with all that is in it, if it is there.
///
/// # Errors
/// It is there and cannot be removed.
pub fn remove_folder(path: &Path) -> Result<(), FileError> {
    match std::fs::remove_dir_all(path) {
        Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(FileError::on("remove", path)(e)),
        _ => Ok(()),
    }
}

/// Removes the folders above a file and below `root`, the innermost first, as far as nothing is in them.
pub fn remove_empty_above(file: &Path, root: &Path) {
    let inside = file.ancestors().skip(1).take_while(|folder| *folder != root);
    // Fails as soon as a folder still holds something, which is where to stop.
    let _ = inside.map(std::fs::remove_dir).take_while(Result::is_ok).count();
}

/// All files and links below a folder; none where there is no such folder.
pub fn files_below(folder: &Path) -> BTreeSet<PathBuf> {
    let mut files = BTreeSet::new();
    let mut open = vec![folder.to_path_buf()];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(&folder).into_iter().flatten().filter_map(Result::ok) {
            match entry.file_type() {
                Ok(sort) if sort.is_dir() => open.push(entry.path()),
                _ => drop(files.insert(entry.path())),
            }
        }
    }
    files
}

/// What the name of a file begins with that is not in its place yet.
pub const NEW: &str = ".new-";

/// How a file is written aside.
struct Aside<'f> {
    sync: Sync,
    /// Its permission bits. Temporary files are private; results are as readable as what the person's own tools make.
    mode: u32,
    /// Where it lies meanwhile; beside its place unless told otherwise.
    folder: Option<&'f Path>,
}

impl Default for Aside<'_> {
    fn default() -> Self {
        Aside { sync: Sync::Now, mode: 0o644, folder: None }
    }
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
    aside: &Aside<'_>,
    make: impl FnOnce(&mut dyn Write) -> std::io::Result<()>,
) -> Result<(), FileError> {
    let folder = path.parent().unwrap_or(Path::new("."));
    make_folder(folder)?;
    let failed = || FileError::on("write", path);
    let from = aside.folder.unwrap_or(folder);
    let new = || tempfile::Builder::new().prefix(NEW).tempfile_in(from);
    let made = match new() {
        Err(fault) if fault.kind() == std::io::ErrorKind::NotFound => {
            make_folder(from)?;
            new()
        }
        made => made,
    };
    let mut file = made.map_err(failed())?;
    make(file.as_file_mut()).map_err(failed())?;
    if aside.sync == Sync::Now {
        file.as_file().sync_data().map_err(failed())?;
    }
    let mode = std::os::unix::fs::PermissionsExt::from_mode(aside.mode);
    file.as_file().set_permissions(mode).map_err(failed())?;
    file.persist(path).map_err(|e| failed()(e.error))?;
    Ok(())
}

/// Packs a value for a file.
///
/// # Errors
/// It cannot be packed; what would be written instead must not look whole.
pub fn packed<T: serde::Serialize + ?Sized>(value: &T, path: &Path) -> Result<Vec<u8>, FileError> {
    postcard::to_stdvec(value).map_err(|e| FileError::on("pack what belongs into", path)(std::io::Error::other(e)))
}

/// Writes texts to files below a folder, which is made where it is not there, as are theirs.
///
/// # Errors
/// One of them cannot be written; those before it are.
pub fn write_below(folder: &Path, texts: &BTreeMap<String, String>) -> Result<(), FileError> {
    for (place, text) in texts {
        let path = folder.join(place);
        path.parent().map(make_folder).transpose()?;
        write_whole(&path, text.as_bytes())?;
    }
    Ok(())
}

/// Writes a file of ours with a checksum: `mark` says what it is and in which version.
///
/// # Errors
/// It cannot be written.
pub fn write_sealed(path: &Path, mark: &[u8], content: &[u8]) -> Result<(), FileError> {
    let digest = packed(&Digest::of(content), path)?;
    write_whole_of(path, &[mark, &digest, content])
}

/// Returns what such a file holds, `None` when it has another mark or is damaged.
pub fn unsealed<'b>(bytes: &'b [u8], mark: &[u8]) -> Option<&'b [u8]> {
    let (digest, content) = bytes.strip_prefix(mark)?.split_at_checked(32)?;
    (postcard::from_bytes::<Digest>(digest).ok()? == Digest::of(content)).then_some(content)
}

/// The largest file that is read as a whole, in bytes. What is larger was not written by us or by hand.
const MAX_FILE: u64 = 1 << 30;

/// Reads a regular file. A queue, a device or a folder in its place is an error at once, and so is a file without an end.
///
/// # Errors
/// What the system says, or that it is no regular file.
pub fn read_regular(path: &Path) -> std::io::Result<Vec<u8>> {
    use std::os::unix::fs::OpenOptionsExt;
    // Without waiting: to open a queue takes as long as nobody writes to it.
    let flags = i32::try_from(rustix::fs::OFlags::NONBLOCK.bits()).unwrap_or(0);
    let mut file = std::fs::File::options().read(true).custom_flags(flags).open(path)?;
    let status = file.metadata()?;
    let refused = |why: &str| Err(std::io::Error::new(std::io::ErrorKind::InvalidInput, why));
    if !status.is_file() {
        return refused("it is not a regular file");
    }
    if status.len() > MAX_FILE {
        return refused("it is larger than 1 GiB");
    }
    let mut bytes = Vec::with_capacity(usize::try_from(status.len()).unwrap_or(0));
    std::io::Read::read_to_end(&mut file, &mut bytes)?;
    Ok(bytes)
}

/// Reads a text file, `None` when it is not there.
///
/// # Errors
/// The file is there and cannot be read as UTF-8.
pub fn read_text(path: &Path) -> Result<Option<String>, FileError> {
    let bytes = match read_regular(path) {
        Ok(bytes) => bytes,
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(e) => return Err(FileError::on("read", path)(e)),
    };
    let text = String::from_utf8(bytes).map_err(std::io::Error::other);
    text.map(Some).map_err(FileError::on("read", path))
}

/// Makes room for a file below `root`: what is no regular file or link at its place, or no folder on the way to it, is moved into the folder
/// `aside`. Returns where it was moved to, if something was.
///
/// # Errors
/// It cannot be moved.
pub fn make_room(path: &Path, root: &Path, aside: &Path) -> Result<Option<PathBuf>, FileError> {
    let below = path.ancestors().skip(1).take_while(|folder| *folder != root && folder.starts_with(root));
    let in_the_way =
        below.filter(|folder| folder.symlink_metadata().is_ok_and(|status| !status.is_dir() && !folder.is_dir()));
    let itself = path.symlink_metadata().is_ok_and(|status| !status.is_file() && !status.is_symlink());
    let Some(found) = in_the_way.last().or_else(|| itself.then_some(path)) else { return Ok(None) };
    make_folder(aside)?;
    let name = found.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let free =
        (1..).map(|number| aside.join(format!("{name}.{number}"))).find(|place| place.symlink_metadata().is_err());
    let Some(place) = free else { return Ok(None) };
    std::fs::rename(found, &place).map_err(FileError::on("move aside", found))?;
    Ok(Some(place))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_regular_files_are_read() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::write(at("file"), "text").unwrap();
        std::fs::create_dir(at("folder")).unwrap();
        let queue = std::process::Command::new("mkfifo").arg(at("queue")).status();
        assert!(queue.is_ok_and(|status| status.success()));
        assert_eq!(read_regular(&at("file")).unwrap(), b"text");
        for other in [at("folder"), at("queue"), "/dev/zero".into()] {
            assert!(read_regular(&other).is_err(), "{}", other.display());
        }
    }

    #[test]
    fn what_lies_in_the_way_is_moved_aside() {
        let folder = tempfile::tempdir().unwrap();
        let (root, aside) = (folder.path().join("build"), folder.path().join("aside"));
        for (case, make, want) in [
            ("a file", "made/a/b.txt/", None),
            ("a folder in its place", "made/c.txt/x/", Some("made/c.txt")),
            ("a file in the place of a folder", "made/d/", Some("made/d")),
        ] {
            let made = root.join(make.trim_end_matches('/'));
            std::fs::create_dir_all(made.parent().unwrap()).unwrap();
            std::fs::write(&made, "").unwrap();
            let target = root.join(match case {
                "a file" => "made/a/b.txt",
                "a folder in its place" => "made/c.txt",
                _ => "made/d/e/f.txt",
            });
            let moved = make_room(&target, &root, &aside).unwrap();
            assert_eq!(moved.is_some(), want.is_some(), "{case}");
            assert!(want.is_none_or(|gone| !root.join(gone).exists()), "{case}");
        }
    }

    #[test]
    fn what_is_not_there_needs_no_removal_and_what_cannot_go_is_told() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        remove_file(&at("nothing")).unwrap();
        remove_folder(&at("nothing")).unwrap();
        std::fs::create_dir_all(at("full/of")).unwrap();
        let told = remove_file(&at("full")).unwrap_err().to_string();
        assert!(told.starts_with("cannot remove ") && told.ends_with("/full"), "{told}");
        // A link goes, and what it leads to stays.
        std::os::unix::fs::symlink(at("full"), at("link")).unwrap();
        remove_file(&at("link")).unwrap();
        assert!(at("full/of").is_dir() && at("link").symlink_metadata().is_err());
        remove_folder(&at("full")).unwrap();
        assert!(!at("full").exists());
    }

    #[test]
    fn empty_folders_go_up_to_the_first_that_holds_something() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().join("root");
        std::fs::create_dir_all(root.join("a/b/c/d")).unwrap();
        std::fs::write(root.join("a/kept"), "").unwrap();
        remove_empty_above(&root.join("a/b/c/d/file"), &root);
        assert!(root.join("a/kept").exists() && !root.join("a/b").exists());
        std::fs::remove_file(root.join("a/kept")).unwrap();
        remove_empty_above(&root.join("a/file"), &root);
        assert!(!root.join("a").exists() && root.exists(), "the root itself stays");
    }

    #[test]
    fn all_files_and_links_are_found_and_no_link_is_followed() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::create_dir_all(at("a/empty")).unwrap();
        std::fs::write(at("a/z"), "").unwrap();
        std::fs::write(at("b"), "").unwrap();
        std::os::unix::fs::symlink(folder.path(), at("a/around")).unwrap();
        let found: Vec<PathBuf> = files_below(folder.path()).into_iter().collect();
        assert_eq!(found, [at("a/around"), at("a/z"), at("b")]);
        assert!(files_below(&at("b")).is_empty() && files_below(&at("nothing")).is_empty());
    }

    #[test]
    fn a_link_takes_the_place_of_what_may_go_and_of_nothing_else() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        put_link(&at("aside"), &at("new/link"), Path::new("one")).unwrap();
        put_link(&at("aside"), &at("new/link"), Path::new("two")).unwrap();
        assert_eq!(std::fs::read_link(at("new/link")).unwrap(), Path::new("two"));
        std::fs::create_dir_all(at("full/of")).unwrap();
        assert!(put_link(&at("aside"), &at("full"), Path::new("one")).is_err());
        assert!(at("full/of").is_dir(), "what was there is still there");
        let left = files_below(folder.path());
        assert_eq!(left.into_iter().collect::<Vec<_>>(), [at("new/link")], "nothing lies beside it");
    }

    #[test]
    fn a_file_that_is_written_elsewhere_at_first_goes_to_another_file_system_all_the_same() {
        // Only where memory is a file system of its own.
        let Ok(memory) = tempfile::tempdir_in("/dev/shm") else { return };
        let folder = tempfile::tempdir().unwrap();
        for root in [folder.path(), memory.path()] {
            let (aside, file, link) = (folder.path().join("aside"), root.join("new/file"), root.join("new/link"));
            write_from(&aside, &file, &[b"a", b"b"], 0o750).unwrap();
            put_link(&aside, &link, Path::new("file")).unwrap();
            assert_eq!(std::fs::read(&link).unwrap(), b"ab");
            assert_eq!(files_below(root).into_iter().collect::<Vec<_>>(), [file, link], "nothing lies beside it");
        }
    }

    #[test]
    fn files_have_the_modes_that_they_are_given_and_fail_whole() {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        let mode = |name: &str| at(name).metadata().unwrap().permissions().mode() & 0o7777;
        write_whole(&at("plain"), b"one").unwrap();
        write_with_mode(&at("run"), &[b"a", b"b"], 0o750).unwrap();
        std::fs::create_dir(at("yard")).unwrap();
        write_whole_from(&at("yard"), &at("deep/er"), b"two").unwrap();
        assert_eq!([mode("plain"), mode("run"), mode("deep/er")], [0o644, 0o750, 0o644]);
        assert_eq!(std::fs::read(at("run")).unwrap(), b"ab");
        // One whose content cannot be made leaves the old one, and nothing beside it.
        let broken = write_whole_by(&at("plain"), |file| {
            file.write_all(b"half of ")?;
            Err(std::io::Error::other("broken"))
        });
        assert!(broken.is_err());
        assert_eq!(std::fs::read(at("plain")).unwrap(), b"one");
        assert_eq!(files_below(folder.path()).len(), 3);
    }

    #[test]
    fn a_sealed_file_is_believed_only_as_it_was_written() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("sealed");
        write_sealed(&path, b"mark 1\n", b"content").unwrap();
        let whole = std::fs::read(&path).unwrap();
        assert_eq!(unsealed(&whole, b"mark 1\n"), Some(&b"content"[..]));
        assert_eq!(unsealed(&whole, b"mark 2\n"), None);
        for end in 0..whole.len() {
            assert_eq!(unsealed(&whole[..end], b"mark 1\n"), None, "cut off at {end}");
        }
        for at in 0..whole.len() {
            let mut other = whole.clone();
            other[at] ^= 1;
            assert_eq!(unsealed(&other, b"mark 1\n"), None, "another byte at {at}");
        }
    }
}
