//! The seal of a build: every place that it looked at, with what was there. While all of them are as they were, nothing can
//! have changed, and no plan need be made to know it.
//!
//! Places are grouped by folder, so that each is looked up from its folder and not from the root, in several threads.

use std::collections::HashMap;
use std::ffi::OsString;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::SystemTime;

use foldhash::fast::FixedState;
use rustix::fs::{AtFlags, CWD, Mode, OFlags, openat, readlinkat, statat};
use serde::{Deserialize, Serialize};

use super::status::{Stamp, StatusMemo};
use crate::base::files::write_whole;
use crate::base::{Digest, FileError};

/// What the file begins with.
const MARK: &[u8] = b"boltboard seal 1\n";
/// About how many places one thread takes at a time.
const CHUNK: usize = 2048;

/// What was at a place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
enum Expected {
    /// Something with this status.
    Status(Stamp),
    /// A file with this content, whose status says too little because it changed shortly before.
    Content(Digest),
    /// A link that leads there.
    Leads(String),
    /// Nothing.
    Nothing,
}

/// Collects the places that a build looked at.
#[derive(Debug)]
pub struct SealMaker<'a> {
    status: &'a StatusMemo,
    started: SystemTime,
    /// By the text of paths: paths compare by their parts, which takes long.
    places: HashMap<OsString, Expected, FixedState>,
    sound: bool,
}

/// What a build that is sealed came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Sealed {
    /// How many steps it has.
    pub steps: usize,
    /// How large the finished parts are, in bytes.
    pub output_bytes: u64,
}

#[derive(Serialize, Deserialize)]
struct Kept<'a> {
    asked: Digest,
    steps: usize,
    output_bytes: u64,
    #[serde(borrow)]
    chunks: Vec<&'a [u8]>,
}

#[derive(Serialize, Deserialize)]
struct Folder<'a> {
    #[serde(borrow)]
    path: &'a str,
    #[serde(borrow)]
    places: Vec<(&'a str, Expected)>,
}

impl<'a> SealMaker<'a> {
    /// Begins a collection; `started` is the time before the build looked at anything.
    pub fn new(status: &'a StatusMemo, started: SystemTime) -> SealMaker<'a> {
        SealMaker { status, started, places: HashMap::default(), sound: true }
    }

    /// Adds a file that was read; `stands` tells whether its content, as last seen, is what the build went by.
    pub fn read(&mut self, path: PathBuf, stands: impl FnOnce(Digest) -> bool) {
        match self.status.seen(&path) {
            Some((status, content)) if stands(content) => {
                self.places.insert(path.into_os_string(), status.map_or(Expected::Content(content), Expected::Status));
            }
            Some(_) | None => self.sound = false,
        }
    }

    /// Tells whether a place was added already.
    pub fn has(&self, path: &Path) -> bool {
        self.places.contains_key(path.as_os_str())
    }

    /// Adds a file or folder of which the names or the text count. What changed since shortly before the build began
    /// cannot be sealed.
    pub fn looked(&mut self, path: PathBuf) {
        match Stamp::of_any(&path) {
            Some(stamp) if stamp.is_settled(self.started) => {
                self.places.insert(path.into_os_string(), Expected::Status(stamp));
            }
            Some(_) => self.sound = false,
            None => {
                self.places.insert(path.into_os_string(), Expected::Nothing);
            }
        }
    }

    /// Adds a place where nothing was found.
    pub fn absent(&mut self, path: PathBuf) {
        self.places.insert(path.into_os_string(), Expected::Nothing);
    }

    /// Adds a link.
    pub fn leads(&mut self, path: PathBuf, target: &str) {
        self.places.insert(path.into_os_string(), Expected::Leads(target.to_string()));
    }

    /// Writes the seal; `asked` stands for all else that the build follows from. Where it cannot be sealed, nothing is
    /// written.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn write(self, file: &Path, asked: Digest, sealed: Sealed) -> Result<(), FileError> {
        match self.packed(asked, sealed) {
            Some(bytes) => write_whole(file, &bytes),
            None => Ok(()),
        }
    }

    fn packed(self, asked: Digest, sealed: Sealed) -> Option<Vec<u8>> {
        if !self.sound {
            return None;
        }
        let mut places: Vec<(&str, &str, &Expected)> = Vec::with_capacity(self.places.len());
        for (path, expected) in &self.places {
            let path = path.to_str()?;
            let (folder, name) = path.rsplit_once('/')?;
            places.push((if folder.is_empty() { "/" } else { folder }, name, expected));
        }
        places.sort_unstable_by_key(|(folder, name, _)| (*folder, *name));
        let mut folders: Vec<(&str, Vec<(&str, Expected)>)> = Vec::new();
        for (folder, name, expected) in places {
            match folders.last_mut().filter(|(last, _)| *last == folder) {
                Some((_, names)) => names.push((name, expected.clone())),
                None => folders.push((folder, vec![(name, expected.clone())])),
            }
        }
        let mut chunks: Vec<Vec<u8>> = Vec::new();
        let mut chunk: Vec<Folder<'_>> = Vec::new();
        let mut size = 0;
        for (folder, places) in folders {
            size += places.len();
            chunk.push(Folder { path: folder, places });
            if size >= CHUNK {
                chunks.push(postcard::to_stdvec(&std::mem::take(&mut chunk)).ok()?);
                size = 0;
            }
        }
        chunks.push(postcard::to_stdvec(&chunk).ok()?);
        let chunks = chunks.iter().map(Vec::as_slice).collect();
        let kept = Kept { asked, steps: sealed.steps, output_bytes: sealed.output_bytes, chunks };
        let content = postcard::to_stdvec(&kept).ok()?;
        Some([MARK, Digest::of(&content).to_string().as_bytes(), &content].concat())
    }
}

/// Returns what a sealed build came to, if there is one for what is asked and everything is as it was.
pub fn sealed(file: &Path, asked: Digest) -> Option<Sealed> {
    let bytes = std::fs::read(file).ok()?;
    let (digest, content) = bytes.strip_prefix(MARK)?.split_at_checked(64)?;
    if Digest::of(content).to_string().as_bytes() != digest {
        return None;
    }
    let kept: Kept<'_> = postcard::from_bytes(content).ok()?;
    if kept.asked != asked {
        return None;
    }
    let (next, stands) = (AtomicUsize::new(0), AtomicBool::new(true));
    let look = || {
        while let Some(chunk) = kept.chunks.get(next.fetch_add(1, Ordering::Relaxed)) {
            if !stands.load(Ordering::Relaxed) {
                return;
            }
            let folders = postcard::from_bytes::<Vec<Folder<'_>>>(chunk).unwrap_or_default();
            if folders.is_empty() && kept.chunks.len() > 1 || !folders.iter().all(Folder::stands) {
                stands.store(false, Ordering::Relaxed);
            }
        }
    };
    let threads = std::thread::available_parallelism().map_or(1, usize::from).min(kept.chunks.len());
    std::thread::scope(|scope| {
        (1..threads).for_each(|_| {
            scope.spawn(look);
        });
        look();
    });
    stands.into_inner().then_some(Sealed { steps: kept.steps, output_bytes: kept.output_bytes })
}

/// Takes a seal away, before anything that it stands for is changed.
///
/// # Errors
/// It is there and cannot be removed.
pub fn break_seal(file: &Path) -> Result<(), FileError> {
    match std::fs::remove_file(file) {
        Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(FileError::on("remove", file)(e)),
        _ => Ok(()),
    }
}

impl Folder<'_> {
    fn stands(&self) -> bool {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        match openat(CWD, self.path, flags, Mode::empty()) {
            Ok(folder) => self.places.iter().all(|(name, expected)| self.holds(&folder, name, expected)),
            Err(_) => self.places.iter().all(|(_, expected)| *expected == Expected::Nothing),
        }
    }

    fn holds(&self, folder: &OwnedFd, name: &str, expected: &Expected) -> bool {
        let status = || statat(folder, name, AtFlags::empty());
        match expected {
            Expected::Status(stamp) => status().is_ok_and(|now| Stamp::from(&now) == *stamp),
            Expected::Nothing => status().is_err(),
            Expected::Content(content) => {
                Digest::of_file(&Path::new(self.path).join(name)).is_ok_and(|now| now == *content)
            }
            Expected::Leads(target) => {
                readlinkat(folder, name, Vec::new()).is_ok_and(|now| now.to_bytes() == target.as_bytes())
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn settled() -> SystemTime {
        SystemTime::now() + std::time::Duration::from_secs(1)
    }

    #[test]
    fn a_seal_stands_while_every_place_is_as_it_was() {
        let asked = Digest::of(b"asked");
        let mine = Sealed { steps: 3, output_bytes: 70 };
        type Change = fn(&Path);
        let changes: [(&str, Change, bool); 8] = [
            ("nothing", |_| {}, true),
            ("an edit", |root| std::fs::write(root.join("read.c"), "other").unwrap(), false),
            ("an edit of the same size", |root| std::fs::write(root.join("young.c"), "YOUNG").unwrap(), false),
            ("a file that is gone", |root| std::fs::remove_file(root.join("read.c")).unwrap(), false),
            ("a new name in a folder", |root| std::fs::write(root.join("sub/new"), "").unwrap(), false),
            ("something where nothing was", |root| std::fs::write(root.join("missing.h"), "").unwrap(), false),
            (
                "another link",
                |root| {
                    std::fs::remove_file(root.join("link")).unwrap();
                    std::os::unix::fs::symlink("elsewhere", root.join("link")).unwrap();
                },
                false,
            ),
            (
                "a damaged seal",
                |root| {
                    let mut bytes = std::fs::read(root.join("seal")).unwrap();
                    let last = bytes.len() - 1;
                    bytes[last] ^= 1;
                    std::fs::write(root.join("seal"), bytes).unwrap();
                },
                false,
            ),
        ];
        for (case, change, want) in changes {
            let folder = tempfile::tempdir().unwrap();
            let root = folder.path();
            std::fs::create_dir(root.join("sub")).unwrap();
            std::fs::write(root.join("read.c"), "read").unwrap();
            std::fs::write(root.join("young.c"), "young").unwrap();
            std::os::unix::fs::symlink("read.c", root.join("link")).unwrap();
            let status = StatusMemo::default();
            let young = status.digest(&root.join("young.c")).unwrap();
            std::thread::sleep(std::time::Duration::from_millis(60));
            let read = status.digest(&root.join("read.c")).unwrap();
            let mut maker = SealMaker::new(&status, settled());
            maker.read(root.join("read.c"), |content| content == read);
            maker.read(root.join("young.c"), |content| content == young);
            maker.looked(root.join("sub"));
            maker.absent(root.join("missing.h"));
            maker.leads(root.join("link"), "read.c");
            maker.write(&root.join("seal"), asked, mine).unwrap();
            change(root);
            assert_eq!(sealed(&root.join("seal"), asked), want.then_some(mine), "{case}");
            assert_eq!(sealed(&root.join("seal"), Digest::of(b"else")), None);
        }
    }

    #[test]
    fn what_changed_during_the_build_is_not_sealed() {
        let folder = tempfile::tempdir().unwrap();
        let (file, seal) = (folder.path().join("a.c"), folder.path().join("seal"));
        std::fs::write(&file, "one").unwrap();
        let status = StatusMemo::default();
        let (asked, sum) = (Digest::of(b""), Sealed { steps: 1, output_bytes: 1 });
        let mut maker = SealMaker::new(&status, SystemTime::now());
        maker.looked(file.clone());
        maker.write(&seal, asked, sum).unwrap();
        assert!(!seal.exists(), "it is as young as the build");
        let before = status.digest(&file).unwrap();
        std::fs::write(&file, "two!").unwrap();
        status.digest(&file).unwrap();
        let mut maker = SealMaker::new(&status, settled());
        maker.read(file, |content| content == before);
        maker.write(&seal, asked, sum).unwrap();
        assert!(!seal.exists(), "a step read it before it was edited");
    }
}
