//! Looking again at the places of a seal.

use std::borrow::Cow;
use std::cell::OnceCell;
use std::collections::{BTreeSet, HashSet};
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use rustix::fs::{AtFlags, CWD, Mode, OFlags, openat, readlinkat, statat};

use super::{
    Block, Chunk, Concern, Expected, Folder, HEAD, Head, MARK, Saying, Sealed, Variables, chunks_of, numbers, put,
    split,
};
use crate::base::files::read_regular;
use crate::base::{Digest, FileError};
use crate::board::PartId;
use crate::definitions::Listing;
use crate::work::Stamp;

/// With more changed places, all is planned anew.
const TOO_MANY: usize = 2000;

/// A seal that was read.
#[derive(Debug)]
pub struct SealFile {
    bytes: Vec<u8>,
    stamp: Stamp,
    path: PathBuf,
}

/// How a sealed build stands.
#[derive(Debug)]
pub enum Standing<'a> {
    /// Everything is as it was.
    Whole(Sealed),
    /// Some places are not as they were.
    Changed(Sweep<'a>),
}

/// A seal of which some places are not as they were.
#[derive(Debug)]
pub struct Sweep<'a> {
    /// What the build came to.
    pub sealed: Sealed,
    /// What its plan followed from, packed by who made it.
    pub basis: &'a [u8],
    /// Parts that are not done, whatever the places say.
    pub open: BTreeSet<PartId>,
    asked: Digest,
    variables: Variables,
    file: &'a SealFile,
    chunks: Vec<Packed<'a>>,
    /// Folder and name of what has changed.
    changed: HashSet<(&'a str, &'a str)>,
}

/// Folders that are unpacked when one of them is asked for.
#[derive(Debug)]
struct Packed<'a> {
    first: &'a str,
    bytes: &'a [u8],
    block: Block,
    folders: OnceCell<Vec<Folder<'a>>>,
}

impl<'a> Packed<'a> {
    fn folders(&self) -> &[Folder<'a>] {
        let unpacked =
            || postcard::from_bytes(self.bytes).expect("they were unpacked before, when they were looked at");
        self.folders.get_or_init(unpacked)
    }
}

impl SealFile {
    /// Reads a seal, if there is one.
    pub fn read(file: &Path) -> Option<SealFile> {
        let stamp = Stamp::of(file)?;
        Some(SealFile { bytes: read_regular(file).ok()?, stamp, path: file.to_path_buf() })
    }

    /// The head, and what follows it; `None` when it is damaged.
    fn head(&self) -> Option<(Head<'_>, &[u8])> {
        let (prefix, rest) = self.bytes.strip_prefix(MARK)?.split_at_checked(HEAD)?;
        let [a, b, c, d, check @ ..] = prefix else { return None };
        let length = u32::from_le_bytes([*a, *b, *c, *d]);
        let (head, rest) = rest.split_at_checked(length as usize)?;
        let whole = Block { length, check: check.try_into().ok()? }.holds(head);
        Some((whole.then(|| postcard::from_bytes(head).ok()).flatten()?, rest))
    }

    /// Looks how things stand, if the seal is one for what is asked in such an environment. Too much that has changed is no
    /// answer.
    pub fn look(&self, asked: Digest, variable: impl Fn(&str) -> Option<String>) -> Option<Standing<'_>> {
        let (head, rest) = self.head().filter(|(head, _)| head.asked == asked)?;
        if head.variables.iter().any(|(name, value)| variable(name) != *value) {
            return None;
        }
        let (basis, mut rest) = rest.split_at_checked(head.basis.length as usize)?;
        let mut chunks = Vec::with_capacity(head.chunks.len());
        for (first, block) in &head.chunks {
            let (bytes, after) = rest.split_at_checked(block.length as usize)?;
            chunks.push(Packed { first, bytes, block: *block, folders: OnceCell::new() });
            rest = after;
        }
        let packed: Vec<(&[u8], Block)> = chunks.iter().map(|chunk| (chunk.bytes, chunk.block)).collect();
        let (next, broken) = (AtomicUsize::new(0), AtomicBool::new(false));
        let changed = Mutex::new(HashSet::new());
        let look = || {
            while let Some((bytes, block)) = packed.get(next.fetch_add(1, Ordering::Relaxed)) {
                if broken.load(Ordering::Relaxed) {
                    return;
                }
                let folders = block.holds(bytes).then(|| postcard::from_bytes::<Vec<Folder<'_>>>(bytes).ok());
                let Some(folders) = folders.flatten() else { return broken.store(true, Ordering::Relaxed) };
                for folder in &folders {
                    let others = folder.changed();
                    if !others.is_empty() {
                        let mut changed = changed.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
                        changed.extend(others.into_iter().map(|name| (folder.path, name)));
                        broken.fetch_or(changed.len() > TOO_MANY, Ordering::Relaxed);
                    }
                }
            }
        };
        let threads = std::thread::available_parallelism().map_or(1, usize::from).min(packed.len());
        std::thread::scope(|scope| {
            (1..threads).for_each(|_| {
                scope.spawn(look);
            });
            look();
        });
        if broken.into_inner() {
            return None;
        }
        let sealed = Sealed { steps: head.steps, output_bytes: head.output_bytes };
        let changed = changed.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        if changed.is_empty() && head.open.is_empty() {
            return Some(Standing::Whole(sealed));
        }
        let whole = head.basis.holds(basis);
        let Head { open, variables, .. } = head;
        let sweep = Sweep { sealed, basis, open, asked, variables, file: self, chunks, changed };
        whole.then_some(Standing::Changed(sweep))
    }
}

impl<'a> Sweep<'a> {
    /// Tells whether the seal still lies where it was read.
    pub fn is_fresh(&self) -> bool {
        Stamp::of(&self.file.path) == Some(self.file.stamp)
    }

    /// Writes the seal as it was, but for parts that are not done now; the next build looks at them in any case.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn leave_open(&self, open: &BTreeSet<PartId>, steps: usize) -> Result<(), FileError> {
        let as_it_was =
            |chunk: &Packed<'a>| Chunk { first: chunk.first, folders: Cow::Borrowed(chunk.bytes), block: chunk.block };
        let chunks: Vec<Chunk<'_>> = self.chunks.iter().map(as_it_was).collect();
        let saying = Saying {
            asked: self.asked,
            sealed: Sealed { steps, ..self.sealed },
            basis: self.basis.to_vec(),
            variables: self.variables.clone(),
        };
        put(&self.file.path, &saying, &self.open | open, &chunks)
    }

    /// Returns all places that are not as they were, and whom each concerns.
    pub fn changed(&self) -> impl Iterator<Item = (PathBuf, BTreeSet<Concern>)> {
        self.changed.iter().map(|(folder, name)| {
            let path = Path::new(folder).join(name);
            let concerns = self.whom(&path);
            (path, concerns)
        })
    }

    /// Returns whom a place concerns; nobody, if nobody ever looked at it.
    pub fn whom(&self, path: &Path) -> BTreeSet<Concern> {
        let at = path.to_str().and_then(split).and_then(|(folder, name)| self.at(folder, name));
        at.into_iter().flat_map(|(_, concerns)| numbers(concerns)).map(Concern::from).collect()
    }

    /// Returns the status of a file that is as it was, if that tells its content.
    pub fn status(&self, path: &Path) -> Option<Stamp> {
        let (folder, name) = split(path.to_str()?)?;
        let known = self.at(folder, name)?.0.status();
        known.filter(|_| !self.changed.contains(&(folder, name))).copied()
    }

    /// Tells whether a place is a folder of the tree, of which the names count.
    pub fn has_names(&self, path: &Path) -> bool {
        let at = path.to_str().and_then(split).and_then(|(folder, name)| self.at(folder, name));
        at.is_some_and(|(expected, _)| match expected {
            Expected::Names(_) => true,
            Expected::All(all) => all.iter().any(|one| matches!(one, Expected::Names(_))),
            _ => false,
        })
    }

    /// Returns how large a file was.
    pub fn size(&self, path: &Path) -> Option<u64> {
        let (folder, name) = split(path.to_str()?)?;
        self.at(folder, name)?.0.status().map(Stamp::size)
    }

    /// What was at a place that is as it was.
    pub(super) fn unchanged(&self, folder: &str, name: &str) -> Option<&Expected> {
        let known = self.at(folder, name)?.0;
        (!self.changed.contains(&(folder, name))).then_some(known)
    }

    pub(super) fn at(&self, folder: &str, name: &str) -> Option<(&Expected, &'a [u8])> {
        let folders = self.chunks.get(self.chunk_of(folder))?.folders();
        let folder = folders.binary_search_by(|known| known.path.cmp(folder)).ok()?;
        let places = &folders[folder].places;
        let at = places.binary_search_by(|(known, ..)| (*known).cmp(name)).ok()?;
        Some((&places[at].1, places[at].2))
    }

    /// The chunk that holds a folder, or would.
    fn chunk_of(&self, folder: &str) -> usize {
        self.chunks.partition_point(|chunk| chunk.first <= folder).saturating_sub(1)
    }

    /// Packs all places that are as they were, and these.
    pub(super) fn with<'n>(&'n self, newer: Vec<Folder<'n>>) -> Option<Vec<Chunk<'n>>> {
        let mut of_chunks: Vec<Vec<Folder<'n>>> = self.chunks.iter().map(|_| Vec::new()).collect();
        for folder in newer {
            of_chunks.get_mut(self.chunk_of(folder.path))?.push(folder);
        }
        let changed: BTreeSet<usize> = self.changed.iter().map(|(folder, _)| self.chunk_of(folder)).collect();
        let mut chunks = Vec::with_capacity(self.chunks.len());
        for (at, (chunk, newer)) in self.chunks.iter().zip(of_chunks).enumerate() {
            if newer.is_empty() && !changed.contains(&at) {
                let folders = Cow::Borrowed(chunk.bytes);
                chunks.push(Chunk { first: chunk.first, folders, block: chunk.block });
            } else {
                chunks.extend(chunks_of(&self.merged(chunk.folders(), newer))?);
            }
        }
        Some(chunks)
    }

    fn merged<'n>(&'n self, older: &'n [Folder<'a>], newer: Vec<Folder<'n>>) -> Vec<Folder<'n>> {
        let mut newer = newer.into_iter().peekable();
        let mut all: Vec<Folder<'_>> = Vec::with_capacity(older.len());
        for old in older {
            while let Some(folder) = newer.next_if(|folder| folder.path < old.path) {
                all.push(folder);
            }
            let own = newer.next_if(|folder| folder.path == old.path).map_or(Vec::new(), |folder| folder.places);
            let replaced = |name: &str| own.binary_search_by(|(known, ..)| (*known).cmp(name)).is_ok();
            let stays = |name: &str| !self.changed.contains(&(old.path, name)) && !replaced(name);
            let mut places: Vec<(&str, Expected, &[u8])> =
                old.places.iter().filter(|(name, ..)| stays(name)).cloned().collect();
            places.extend(own);
            places.sort_unstable_by_key(|(name, ..)| *name);
            if !places.is_empty() {
                all.push(Folder { path: old.path, places });
            }
        }
        all.extend(newer);
        all
    }
}

impl<'a> Folder<'a> {
    /// Returns the names of what is not as it was.
    fn changed(&self) -> Vec<&'a str> {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = openat(CWD, self.path, flags, Mode::empty()).ok();
        let holds = |name: &str, expected: &Expected| match &folder {
            Some(folder) => self.holds(folder, name, expected),
            None => *expected == Expected::Nothing,
        };
        self.places.iter().filter(|(name, expected, _)| !holds(name, expected)).map(|(name, ..)| *name).collect()
    }

    fn holds(&self, folder: &OwnedFd, name: &str, expected: &Expected) -> bool {
        let status = || statat(folder, name, AtFlags::empty());
        match expected {
            Expected::Status(stamp) => status().is_ok_and(|now| Stamp::from(&now) == *stamp),
            Expected::Names(known) => {
                let (stamp, names) = &**known;
                let same = stamp.is_some_and(|stamp| status().is_ok_and(|now| Stamp::from(&now) == stamp));
                same || Listing::names_in(&Path::new(self.path).join(name)) == *names
            }
            Expected::Nothing => status().is_err(),
            Expected::All(all) => all.iter().all(|one| self.holds(folder, name, one)),
            Expected::Content(content) => {
                Digest::of_file(&Path::new(self.path).join(name)).is_ok_and(|now| now == *content)
            }
            Expected::Mode(mode) => status().is_ok_and(|now| now.st_mode == *mode),
            Expected::Leads(target) => {
                readlinkat(folder, name, Vec::new()).is_ok_and(|now| now.to_bytes() == target.as_bytes())
            }
        }
    }
}
