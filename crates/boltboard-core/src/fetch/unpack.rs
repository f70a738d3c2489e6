//! Unpacking archives of strangers: nothing leaves the folder, nothing but files, folders and links comes out, and not more than can be.

use std::collections::BTreeSet;
use std::fs::File;
use std::io::{BufReader, Read};
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Component, Path, PathBuf};

use tar::{Archive, EntryType};

use crate::base::files::make_folder;
use crate::base::{FileError, RelPath};
use crate::board::{Compression, FetchForm};

/// How many files, folders and links an archive may hold.
const MAX_ENTRIES: usize = 500_000;
/// How much may come out of an archive, whatever its size.
const ALWAYS: u64 = 1 << 30;
/// How much may come out of a byte beyond that.
const GROWTH: u64 = 200;

/// What is wrong with an archive.
#[derive(Debug, thiserror::Error)]
pub enum UnpackFault {
    /// A file cannot be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// It is no such archive, or is damaged.
    #[error("it is no whole archive of this form ({0})")]
    Damaged(String),
    /// A name leads out of it.
    #[error("`{0}` leads out of the archive")]
    Leaves(String),
    /// Something is neither a file nor a folder nor a link.
    #[error("`{0}` is neither a file nor a folder nor a link")]
    Odd(String),
    /// There is too much in it.
    #[error("more comes out of it than {0}")]
    TooMuch(String),
    /// The folder that is to be taken is not in it.
    #[error("there is no folder `{folder}` in it; it has: {there}")]
    NoFolder {
        /// The folder.
        folder: String,
        /// What is at its top.
        there: String,
    },
}

/// Unpacks a file that is an archive by its name into an empty folder; `false` where it is none.
///
/// # Errors
/// See [`UnpackFault`].
pub fn unpack_named(file: &Path, into: &Path) -> Result<bool, UnpackFault> {
    let name = file.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let FetchForm::Tar(compression) = FetchForm::of_name(&name) else { return Ok(false) };
    let size = std::fs::metadata(file).map_err(FileError::on("read", file))?.len();
    unpack(file, compression, None, into, size)?;
    Ok(true)
}

/// Unpacks an archive of so many bytes into an empty folder.
///
/// # Errors
/// See [`UnpackFault`].
pub(super) fn unpack(
    file: &Path,
    compression: Compression,
    folder: Option<&RelPath>,
    into: &Path,
    size: u64,
) -> Result<(), UnpackFault> {
    let packed = BufReader::new(File::open(file).map_err(FileError::on("read", file))?);
    let damaged = |e: std::io::Error| UnpackFault::Damaged(e.to_string());
    let plain: Box<dyn Read> = match compression {
        Compression::None => Box::new(packed),
        Compression::Gzip => Box::new(flate2::bufread::MultiGzDecoder::new(packed)),
        Compression::Xz => Box::new(liblzma::bufread::XzDecoder::new_multi_decoder(packed)),
        Compression::Zstd => Box::new(zstd::stream::read::Decoder::with_buffer(packed).map_err(damaged)?),
    };
    let limit = ALWAYS.saturating_add(size.saturating_mul(GROWTH));
    let mut unpacking =
        Unpacking { into, folder, links: BTreeSet::new(), left: limit, tops: BTreeSet::new(), taken: 0 };
    let mut archive = Archive::new(Limited { inner: plain, left: limit.saturating_mul(2) });
    for (count, entry) in archive.entries().map_err(damaged)?.enumerate() {
        if count >= MAX_ENTRIES {
            return Err(UnpackFault::TooMuch(format!("{MAX_ENTRIES} files")));
        }
        let entry = entry.map_err(damaged)?;
        unpacking.take(entry)?;
    }
    if unpacking.taken == 0 {
        if let Some(folder) = folder {
            let tops: Vec<&str> = unpacking.tops.iter().map(String::as_str).take(5).collect();
            return Err(UnpackFault::NoFolder { folder: folder.to_string(), there: tops.join(", ") });
        }
        return Err(UnpackFault::Damaged("nothing is in it".into()));
    }
    Ok(())
}

/// Stops reading where nobody could want so much.
struct Limited<R> {
    inner: R,
    left: u64,
}

impl<R: Read> Read for Limited<R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.left = self.left.checked_sub(read as u64).ok_or_else(|| std::io::Error::other("it does not end"))?;
        Ok(read)
    }
}

struct Unpacking<'a> {
    into: &'a Path,
    folder: Option<&'a RelPath>,
    /// Links that were made, as paths of the archive: nothing is written through one.
    links: BTreeSet<PathBuf>,
    left: u64,
    tops: BTreeSet<String>,
    taken: usize,
}

impl Unpacking<'_> {
    fn take(&mut self, mut entry: tar::Entry<'_, impl Read>) -> Result<(), UnpackFault> {
        let kind = entry.header().entry_type();
        if matches!(kind, EntryType::XGlobalHeader) {
            return Ok(());
        }
        let damaged = |e: std::io::Error| UnpackFault::Damaged(e.to_string());
        let path = entry.path().map_err(damaged)?.into_owned();
        let shown = path.display().to_string();
        let path = plain(&path).ok_or_else(|| UnpackFault::Leaves(shown.clone()))?;
        self.tops.extend(path.iter().next().map(|top| top.to_string_lossy().into_owned()));
        let Some(path) = self.within(&path) else { return Ok(()) };
        let place = self.into.join(&path);
        self.taken += 1;
        if path.as_os_str().is_empty() {
            return if kind == EntryType::Directory { Ok(()) } else { Err(UnpackFault::Odd(shown)) };
        }
        if path.ancestors().skip(1).any(|above| self.links.contains(above)) {
            return Err(UnpackFault::Leaves(shown));
        }
        if kind == EntryType::Directory {
            return Ok(make_folder(&place)?);
        }
        let above = place.parent().unwrap_or(self.into);
        make_folder(above)?;
        // A later entry of a name counts.
        if place.symlink_metadata().is_ok_and(|there| !there.is_dir()) {
            std::fs::remove_file(&place).map_err(FileError::on("remove", &place))?;
            self.links.remove(&path);
        }
        match kind {
            EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse => {
                let size = entry.size();
                self.left =
                    self.left.checked_sub(size).ok_or_else(|| UnpackFault::TooMuch("its size allows".into()))?;
                let mut file = File::create_new(&place).map_err(FileError::on("write", &place))?;
                std::io::copy(&mut entry, &mut file).map_err(|e| match e.kind() {
                    std::io::ErrorKind::StorageFull => UnpackFault::File(FileError::on("write", &place)(e)),
                    _ => damaged(e),
                })?;
                // Whoever edits one would edit what stands for its digest.
                let runs = entry.header().mode().is_ok_and(|mode| mode & 0o111 != 0);
                let mode = std::fs::Permissions::from_mode(if runs { 0o555 } else { 0o444 });
                file.set_permissions(mode).map_err(FileError::on("write", &place))?;
            }
            EntryType::Symlink => {
                let to = entry.link_name().map_err(damaged)?.ok_or_else(|| UnpackFault::Odd(shown.clone()))?;
                let from = path.parent().unwrap_or(Path::new(""));
                if !leads_up_first(&to) || plain(&from.join(&to)).is_none() {
                    return Err(UnpackFault::Leaves(shown));
                }
                symlink(&to, &place).map_err(FileError::on("make the link", &place))?;
                self.links.insert(path);
            }
            EntryType::Link => {
                let to = entry.link_name().map_err(damaged)?.ok_or_else(|| UnpackFault::Odd(shown.clone()))?;
                let to =
                    plain(&to).and_then(|to| self.within(&to)).ok_or_else(|| UnpackFault::Leaves(shown.clone()))?;
                let through = to.ancestors().any(|above| self.links.contains(above));
                let source = self.into.join(&to);
                if through || !source.symlink_metadata().is_ok_and(|there| there.is_file()) {
                    return Err(UnpackFault::Leaves(shown));
                }
                std::fs::hard_link(&source, &place).map_err(FileError::on("make the link", &place))?;
            }
            _ => return Err(UnpackFault::Odd(shown)),
        }
        Ok(())
    }

    /// What is left of a path below the folder that is taken.
    fn within(&self, path: &Path) -> Option<PathBuf> {
        match self.folder {
            None => Some(path.to_path_buf()),
            Some(folder) => path.strip_prefix(folder.as_str()).ok().map(Path::to_path_buf),
        }
    }
}

/// Whether a link leads up only before it leads down: what it goes through could be a link itself, and `..` behind that leads elsewhere.
fn leads_up_first(to: &Path) -> bool {
    let down = to.components().skip_while(|component| matches!(component, Component::ParentDir | Component::CurDir));
    down.into_iter().all(|component| matches!(component, Component::Normal(_)))
}

/// A path of an archive without `.` and `..`, unless it leads out.
fn plain(path: &Path) -> Option<PathBuf> {
    let mut plain = PathBuf::new();
    for component in path.components() {
        match component {
            Component::Normal(name) => plain.push(name),
            Component::CurDir => {}
            Component::ParentDir if plain.pop() => {}
            Component::ParentDir | Component::RootDir | Component::Prefix(_) => return None,
        }
    }
    Some(plain)
}
