//! What lies with a worker: contents that it was ever sent, and the files of one build at the same places as at home.

use std::collections::HashMap;
use std::fs::{DirBuilder, File};
use std::io::{Error, ErrorKind, Result};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use rustix::fs::{FlockOperation, flock};

use super::talk::Input;
use crate::base::Digest;
use crate::base::files::write_quickly;
use crate::step::Location;
use crate::work::Folders;

/// How much is kept of what was sent, in bytes.
const MOST_KEPT: u64 = 8 << 30;
/// What is kept when there is more.
const KEPT: u64 = 6 << 30;

/// The files of one build.
#[derive(Debug)]
pub(super) struct Mirror {
    contents: PathBuf,
    root: PathBuf,
    pub folders: Folders,
    /// What lies where.
    laid: HashMap<Location, Input>,
    /// Where a file of several names lies, with what it holds.
    files: HashMap<(u64, u64), (PathBuf, Digest)>,
    /// Held as long as the files are in use.
    _lock: File,
}

impl Mirror {
    /// Makes room for a build, and clears what killed workers left.
    ///
    /// # Errors
    /// The folder cannot be used.
    pub fn open(folder: &Path, host: &str) -> Result<Mirror> {
        own_folder(folder)?;
        let folder = folder.canonicalize()?;
        let plain = |c: char| c.is_ascii_alphanumeric() || "/._-+".contains(c);
        if !folder.to_str().is_some_and(|text| text.chars().all(plain)) {
            return Err(Error::new(
                ErrorKind::InvalidInput,
                format!(
                    "the folder {} has characters in its name that lists of compilers spell otherwise",
                    folder.display()
                ),
            ));
        }
        let (contents, runs) = (folder.join("contents"), folder.join("runs"));
        own_folder(&contents)?;
        own_folder(&runs)?;
        // Several machines may share the folder, and not know of each other's locks.
        let own = format!("run-{}-", &Digest::of(host.as_bytes()).to_string()[..8]);
        clear(&runs, &own);
        trim(&contents);
        let root = tempfile::Builder::new().prefix(&own).tempdir_in(&runs)?.keep();
        // Compilers may ask what may be done with a folder, which is to be the same as in most places.
        std::fs::set_permissions(&root, std::fs::Permissions::from_mode(0o755))?;
        // It is held before it has the name by which others find it.
        let lock = File::create(root.join("lock-to-be"))?;
        flock(&lock, FlockOperation::NonBlockingLockExclusive)?;
        std::fs::rename(root.join("lock-to-be"), root.join("lock"))?;
        let folders = Folders { tree: root.join("tree"), build: root.join("build") };
        for folder in [&folders.tree, &folders.aside(), &folders.made()] {
            std::fs::create_dir_all(folder)?;
        }
        Ok(Mirror { contents, root, folders, laid: HashMap::new(), files: HashMap::new(), _lock: lock })
    }

    fn content(&self, digest: &Digest) -> PathBuf {
        let name = digest.to_string();
        self.contents.join(&name[..2]).join(&name[2..])
    }

    /// Tells which contents of these files are not here.
    pub fn missing(&self, inputs: &[Input]) -> Vec<Digest> {
        let mut missing: Vec<Digest> =
            inputs.iter().map(|input| input.content).filter(|digest| !self.content(digest).is_file()).collect();
        missing.sort();
        missing.dedup();
        missing
    }

    /// Keeps a content. Returns its digest.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn keep(&self, content: &[u8]) -> Result<Digest> {
        let digest = Digest::of(content);
        let place = self.content(&digest);
        std::fs::create_dir_all(place.parent().unwrap_or(&self.contents))?;
        write_quickly(&place, content).map_err(|e| e.source)?;
        Ok(digest)
    }

    /// Tells whether laying these out would change a file that already lies there.
    pub fn would_change(&self, inputs: &[Input]) -> bool {
        let differs = |input: &Input| {
            let at: Option<Location> = input.at.parse().ok();
            at.and_then(|at| self.laid.get(&at)).is_some_and(|laid| laid != input)
        };
        inputs.iter().any(differs)
    }

    /// Makes folders of the tree and the build.
    ///
    /// # Errors
    /// A place is none of theirs, or cannot be made.
    pub fn make_folders(&self, folders: &[String]) -> Result<()> {
        for text in folders {
            std::fs::create_dir_all(own_place(text)?.path(&self.folders))?;
        }
        Ok(())
    }

    /// Puts files in their places.
    ///
    /// # Errors
    /// A place is none of the tree's or the build's, a content is spoilt, or a file cannot be written.
    pub fn lay_out(&mut self, inputs: &[Input]) -> Result<()> {
        for input in inputs {
            let at = own_place(&input.at)?;
            if self.laid.get(&at) == Some(input) {
                continue;
            }
            let place = at.path(&self.folders);
            std::fs::create_dir_all(place.parent().unwrap_or(&self.root))?;
            let _ = std::fs::remove_file(&place);
            let known = input.file.and_then(|file| self.files.get(&file));
            match known.filter(|(same, content)| *same != place && *content == input.content) {
                Some((same, _)) => std::fs::hard_link(same, &place)?,
                None => self.copy(input, &place)?,
            }
            if let Some(file) = input.file {
                self.files.insert(file, (place, input.content));
            }
            self.laid.insert(at, input.clone());
        }
        Ok(())
    }

    fn copy(&self, input: &Input, place: &Path) -> Result<()> {
        let kept = self.content(&input.content);
        let content = std::fs::read(&kept)?;
        if Digest::of(&content) != input.content {
            // It is asked for again the next time.
            let _ = std::fs::remove_file(&kept);
            return Err(Error::other(format!("what was kept for {} is spoilt", input.at)));
        }
        std::fs::write(place, &content)?;
        let (seconds, nanoseconds) = input.modified;
        let since = Duration::new(seconds.unsigned_abs(), nanoseconds);
        let time = if seconds < 0 { UNIX_EPOCH.checked_sub(since) } else { UNIX_EPOCH.checked_add(since) };
        File::options().write(true).open(place)?.set_modified(time.unwrap_or(UNIX_EPOCH))
    }

    /// Tells whether a path leads into the folder aside, as far as its words say.
    pub fn is_aside(&self, path: &Path) -> bool {
        let plain = path.components().all(|part| !matches!(part, std::path::Component::ParentDir));
        plain && path.strip_prefix(self.folders.aside()).is_ok_and(|rest| rest.components().next().is_some())
    }
}

impl Drop for Mirror {
    fn drop(&mut self) {
        // What stays is cleared by the next worker.
        let _ = std::fs::remove_dir_all(&self.root);
    }
}

/// Reads a place of the tree or the build.
fn own_place(text: &str) -> Result<Location> {
    let at: Location = text.parse().map_err(|_| Error::other(format!("{text} is no place")))?;
    match at {
        Location::Tree(_) | Location::Made(_) => Ok(at),
        Location::Object(_) | Location::Output(_) | Location::System(_) => {
            Err(Error::other(format!("{at} is no place for a file of a build")))
        }
    }
}

/// Makes a folder that nobody else can put anything into, or makes sure that it is one.
fn own_folder(folder: &Path) -> Result<()> {
    DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
    let status = std::fs::metadata(folder)?;
    if status.uid() != rustix::process::geteuid().as_raw() || status.mode() & 0o022 != 0 {
        return Err(Error::new(
            ErrorKind::PermissionDenied,
            format!("others can write into {}, so that nothing is kept there", folder.display()),
        ));
    }
    Ok(())
}

/// Removes the files of this machine's workers that are gone.
fn clear(runs: &Path, own: &str) {
    let all = std::fs::read_dir(runs).into_iter().flatten().flatten();
    for run in all.filter(|run| run.file_name().to_string_lossy().starts_with(own)) {
        let path = run.path();
        let free = match File::open(path.join("lock")) {
            Ok(lock) => flock(&lock, FlockOperation::NonBlockingLockExclusive).is_ok(),
            // One that is just being made has none yet.
            Err(_) => age(&path).is_some_and(|age| age > Duration::from_secs(60)),
        };
        if free {
            let _ = std::fs::remove_dir_all(&path);
        }
    }
}

fn age(path: &Path) -> Option<Duration> {
    SystemTime::now().duration_since(std::fs::metadata(path).ok()?.modified().ok()?).ok()
}

/// Removes what was kept longest where there is too much.
fn trim(contents: &Path) {
    let folders = std::fs::read_dir(contents).into_iter().flatten().flatten();
    let files = folders.flat_map(|folder| std::fs::read_dir(folder.path()).into_iter().flatten().flatten());
    let mut all: Vec<(SystemTime, u64, PathBuf)> = files
        .filter_map(|file| {
            let status = file.metadata().ok()?;
            Some((status.modified().ok()?, status.len(), file.path()))
        })
        .collect();
    let mut size: u64 = all.iter().map(|(_, size, _)| size).sum();
    if size <= MOST_KEPT {
        return;
    }
    all.sort();
    for (_, bytes, path) in all {
        if size <= KEPT {
            return;
        }
        if std::fs::remove_file(path).is_ok() {
            size -= bytes;
        }
    }
}
