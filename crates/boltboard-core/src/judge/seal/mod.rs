//! The seal of a build: every place that it looked at, with what was there and whom it concerns. While all of them are as they
//! were, nothing can have changed, and no plan need be made to know it; when some are not, only whom they concern need be planned.
//!
//! Places are grouped by folder, so that each is looked up from its folder and not from the root, in several threads.

mod collect;
mod sweep;

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsString;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use foldhash::fast::FixedState;
use indexmap::IndexMap;
use indexmap::map::Entry;
use serde::{Deserialize, Serialize};

pub use collect::{SealWanted, Since, seal_build};
pub use sweep::{SealFile, Standing, Sweep};

use crate::base::files::{remove_file, write_quickly_of, write_whole_by};
use crate::base::{Digest, FileError};
use crate::board::PartId;
use crate::definitions::Listing;
use crate::work::{Stamp, StatusMemo};

/// What the file begins with.
const MARK: &[u8] = b"boltboard seal 4\n";
/// What comes after the mark: length and checksum of the head, in bytes.
const HEAD: usize = 12;
/// About how many places one thread takes at a time.
const CHUNK: usize = 2048;

/// Whom a place concerns.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Concern {
    /// The plan as a whole: definitions, tools, the host.
    Plan,
    /// What was chosen.
    Choices,
    /// What every plan holds, whatever it is made for.
    Common,
    /// A part.
    Part(PartId),
}

impl From<Concern> for u32 {
    fn from(concern: Concern) -> u32 {
        match concern {
            Concern::Plan => 0,
            Concern::Choices => 1,
            Concern::Common => 2,
            Concern::Part(part) => u32::try_from(part.index()).map_or(0, |part| part.saturating_add(3)),
        }
    }
}

impl From<u32> for Concern {
    fn from(number: u32) -> Concern {
        match number {
            0 => Concern::Plan,
            1 => Concern::Choices,
            2 => Concern::Common,
            part => Concern::Part(PartId::new(part as usize - 3)),
        }
    }
}

/// What was at a place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
enum Expected {
    /// Something with this status.
    Status(Stamp),
    /// A file with this content, whose status says too little because it changed shortly before.
    Content(Digest),
    /// A folder with these names; as long as its status is this one, they need not be read.
    Names(Box<(Option<Stamp>, Digest)>),
    /// A link that leads there.
    Leads(Box<str>),
    /// Something of this sort, with these permission bits.
    Mode(u32),
    /// Nothing.
    Nothing,
    /// All of these.
    All(Vec<Expected>),
}

impl Expected {
    /// Returns what holds only when both hold.
    fn and(self, other: Expected) -> Expected {
        match (self, other) {
            (known, other) if known == other => known,
            // A status changes with the mode.
            (known @ Expected::Status(_), Expected::Mode(_)) | (Expected::Mode(_), known @ Expected::Status(_)) => {
                known
            }
            (Expected::All(known), other) if known.contains(&other) => Expected::All(known),
            (Expected::All(mut known), other) => {
                known.push(other);
                Expected::All(known)
            }
            (known, other) => Expected::All(vec![known, other]),
        }
    }

    /// Returns the same with what others asked of the place before; its content may be another one since.
    fn and_more_of(self, before: &Expected) -> Expected {
        match before {
            Expected::All(all) => all.iter().fold(self, Expected::and_more_of),
            Expected::Leads(_) | Expected::Names(_) => self.and(before.clone()),
            Expected::Mode(_) if matches!(self, Expected::Content(_)) => self.and(before.clone()),
            Expected::Mode(_) | Expected::Status(_) | Expected::Content(_) | Expected::Nothing => self,
        }
    }

    /// Returns the status, if there must be just one.
    fn status(&self) -> Option<&Stamp> {
        match self {
            Expected::Status(stamp) => Some(stamp),
            Expected::All(all) => all.iter().find_map(Expected::status),
            Expected::Content(_) | Expected::Names(_) | Expected::Leads(_) | Expected::Mode(_) | Expected::Nothing => {
                None
            }
        }
    }
}

#[derive(Debug)]
struct Place {
    expected: Expected,
    /// Most places concern one part.
    first: Concern,
    more: Vec<Concern>,
}

/// A place by its folder and name.
type Known<'p> = (&'p str, &'p str, &'p Place);

/// Collects the places that a build looked at.
#[derive(Debug)]
pub struct SealMaker<'a> {
    status: &'a StatusMemo,
    started: SystemTime,
    /// By the text of paths: paths compare by their parts, which takes long.
    places: IndexMap<OsString, Place, FixedState>,
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

/// What a seal says beside its places.
#[derive(Debug, Clone)]
pub struct Saying {
    /// Stands for all that the build follows from and that no file says.
    pub asked: Digest,
    /// What it came to.
    pub sealed: Sealed,
    /// What the plan followed from, packed by who made it.
    pub basis: Vec<u8>,
    /// Variables of the environment that steps were given, with their values.
    pub variables: Variables,
}

/// Variables of the environment, with their values where they are set.
pub type Variables = BTreeMap<String, Option<String>>;

/// What the file says first. The basis and the chunks follow, one after the other.
#[derive(Serialize, Deserialize)]
struct Head<'a> {
    asked: Digest,
    steps: usize,
    output_bytes: u64,
    /// Parts that are not done, whatever the places say.
    open: BTreeSet<PartId>,
    variables: Variables,
    basis: Block,
    /// Folders in order, some at a time, each time with the path of the first.
    #[serde(borrow)]
    chunks: Vec<(&'a str, Block)>,
}

/// Some bytes of the file.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
struct Block {
    length: u32,
    check: [u8; 8],
}

impl Block {
    fn of(bytes: &[u8]) -> Block {
        Block { length: u32::try_from(bytes.len()).unwrap_or(0), check: Digest::of(bytes).short() }
    }

    fn holds(&self, bytes: &[u8]) -> bool {
        Digest::of(bytes).short() == self.check
    }
}

/// Some folders, packed, with the path of the first.
struct Chunk<'a> {
    first: &'a str,
    folders: Cow<'a, [u8]>,
    block: Block,
}

#[derive(Debug, Serialize, Deserialize)]
struct Folder<'a> {
    #[serde(borrow)]
    path: &'a str,
    /// Name, what was there, and the numbers of whom it concerns.
    #[serde(borrow)]
    places: Vec<(&'a str, Expected, &'a [u8])>,
}

impl<'a> SealMaker<'a> {
    /// Begins a collection; `started` is the time before the build looked at anything.
    pub fn new(status: &'a StatusMemo, started: SystemTime) -> SealMaker<'a> {
        SealMaker { status, started, places: IndexMap::default(), sound: true }
    }

    /// Makes room for about so many places.
    pub fn reserve(&mut self, places: usize) {
        self.places.reserve(places);
    }

    fn add(&mut self, path: PathBuf, expected: Expected, concern: Concern) {
        match self.places.entry(path.into_os_string()) {
            Entry::Occupied(mut known) => {
                let known = known.get_mut();
                known.more.push(concern);
                if known.expected != expected {
                    let before = std::mem::replace(&mut known.expected, Expected::Nothing);
                    known.expected = before.and(expected);
                }
            }
            Entry::Vacant(free) => {
                free.insert(Place { expected, first: concern, more: Vec::new() });
            }
        }
    }

    /// Adds a file that was read; `stands` tells whether its content, as last seen, is what the build went by.
    pub fn read(&mut self, path: PathBuf, concern: Concern, stands: impl FnOnce(Digest) -> bool) {
        match self.status.seen(&path) {
            Some((status, content)) if stands(content) => {
                self.add(path, status.map_or(Expected::Content(content), Expected::Status), concern);
            }
            Some(_) | None => self.sound = false,
        }
    }

    /// Adds whom a place concerns, if that place is known.
    pub fn concerns(&mut self, path: &Path, concerns: impl Iterator<Item = Concern>) -> bool {
        let place = self.places.get_mut(path.as_os_str());
        place.map(|place| place.more.extend(concerns)).is_some()
    }

    /// Adds a file or folder of which the names or the text count. What changed since shortly before the build began
    /// cannot be sealed.
    pub fn looked(&mut self, path: PathBuf, concern: Concern) {
        match Stamp::of_any(&path) {
            Some(stamp) if stamp.is_settled(self.started) => self.add(path, Expected::Status(stamp), concern),
            Some(_) => self.sound = false,
            None => self.add(path, Expected::Nothing, concern),
        }
    }

    /// Adds a folder of the tree, of which the names count.
    pub fn names(&mut self, path: PathBuf) {
        let stamp = Stamp::of_any(&path).filter(|stamp| stamp.is_settled(self.started));
        let names = Listing::names_in(&path);
        self.add(path, Expected::Names(Box::new((stamp, names))), Concern::Plan);
    }

    /// Adds a place where nothing was found.
    pub fn absent(&mut self, path: PathBuf, concern: Concern) {
        self.add(path, Expected::Nothing, concern);
    }

    /// Adds a place of which only the sort and the permission bits count.
    pub fn has_mode(&mut self, path: PathBuf, concern: Concern) {
        match std::fs::metadata(&path) {
            Ok(status) => self.add(path, Expected::Mode(status.mode()), concern),
            Err(_) => self.sound = false,
        }
    }

    /// Adds a place that nobody knows whether it is the same: the build cannot be sealed.
    pub fn unseen(&mut self) {
        self.sound = false;
    }

    /// Adds a link.
    pub fn leads(&mut self, path: PathBuf, target: &str, concern: Concern) {
        self.add(path, Expected::Leads(target.into()), concern);
    }

    /// Writes the seal; what `before` says stays, but for places that have changed since or are known better now. Where it
    /// cannot be sealed, nothing is written.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn write(self, file: &Path, saying: &Saying, before: Option<&Sweep<'_>>) -> Result<(), FileError> {
        let Some(places) = self.sorted() else { return Ok(()) };
        let Some(sweep) = before else { return put_in_turn(file, saying, &places) };
        let concerns: Vec<Vec<u8>> = places.iter().map(|place| concerns_of(place, before)).collect();
        let known = |folder: &str, name: &str, now: &Expected| match sweep.unchanged(folder, name) {
            Some(before) => now.clone().and_more_of(before),
            None => now.clone(),
        };
        let chunks = sweep.with(folders_of(&places, &concerns, known));
        chunks.map_or(Ok(()), |chunks| put(file, saying, BTreeSet::new(), &chunks))
    }

    /// All places by folder and name; `None` where they cannot be sealed.
    fn sorted(&self) -> Option<Vec<Known<'_>>> {
        if !self.sound {
            return None;
        }
        let mut places: Vec<Known<'_>> = Vec::with_capacity(self.places.len());
        for (path, place) in &self.places {
            let (folder, name) = split(path.to_str()?)?;
            places.push((folder, name, place));
        }
        places.sort_unstable_by_key(|(folder, name, _)| (*folder, *name));
        Some(places)
    }
}

/// Writes places that are sorted, some folders at a time: there are many, so they are packed twice and never lie there packed all
/// together. What cannot be packed is not written.
fn put_in_turn(file: &Path, saying: &Saying, places: &[Known<'_>]) -> Result<(), FileError> {
    let mut blocks = Vec::new();
    let packable = in_turn(places, |first, packed| {
        blocks.push((first, Block::of(packed)));
        Ok(())
    });
    let Some(head) = packable.ok().and_then(|()| head_of(saying, BTreeSet::new(), blocks)) else { return Ok(()) };
    write_whole_by(file, |out| {
        beginning(&head, saying).iter().try_for_each(|piece| out.write_all(piece))?;
        in_turn(places, |_, packed| out.write_all(packed))
    })
}

/// Packs places that are sorted, some folders at a time; each time with the path of the first.
fn in_turn<'p>(
    places: &[Known<'p>],
    mut each: impl FnMut(&'p str, &[u8]) -> std::io::Result<()>,
) -> std::io::Result<()> {
    let mut rest = places;
    while let (Some((first, ..)), Some((last, ..))) = (rest.first(), rest.get(CHUNK.min(rest.len()).saturating_sub(1)))
    {
        let (some, after) = rest.split_at(rest.partition_point(|(folder, ..)| folder <= last));
        let concerns: Vec<Vec<u8>> = some.iter().map(|place| concerns_of(place, None)).collect();
        each(
            first,
            &postcard::to_stdvec(&folders_of(some, &concerns, |_, _, now| now.clone()))
                .map_err(std::io::Error::other)?,
        )?;
        rest = after;
    }
    Ok(())
}

/// The numbers of all that a place concerns, with those that are known from before.
fn concerns_of((folder, name, place): &Known<'_>, before: Option<&Sweep<'_>>) -> Vec<u8> {
    let known = before.and_then(|sweep| sweep.at(folder, name)).map_or(&[][..], |(_, concerns)| concerns);
    let mut concerns: Vec<u32> =
        std::iter::once(&place.first).chain(&place.more).map(|concern| u32::from(*concern)).collect();
    concerns.extend(numbers(known));
    concerns.sort_unstable();
    concerns.dedup();
    concerns.iter().flat_map(|number| number.to_le_bytes()).collect()
}

fn folders_of<'p>(
    places: &[Known<'p>],
    concerns: &'p [Vec<u8>],
    expected: impl Fn(&str, &str, &Expected) -> Expected,
) -> Vec<Folder<'p>> {
    let mut folders: Vec<Folder<'_>> = Vec::new();
    for ((folder, name, place), concerns) in places.iter().zip(concerns) {
        let place = (*name, expected(folder, name, &place.expected), concerns.as_slice());
        match folders.last_mut().filter(|last| last.path == *folder) {
            Some(last) => last.places.push(place),
            None => folders.push(Folder { path: folder, places: vec![place] }),
        }
    }
    folders
}

/// Writes the file, quickly: in a power cut it may be lost, and a whole build makes another. What cannot be packed is not written.
fn put(file: &Path, saying: &Saying, open: BTreeSet<PartId>, chunks: &[Chunk<'_>]) -> Result<(), FileError> {
    let of_chunks = chunks.iter().map(|chunk| (chunk.first, chunk.block)).collect();
    let Some(head) = head_of(saying, open, of_chunks) else { return Ok(()) };
    let mut pieces = beginning(&head, saying).to_vec();
    pieces.extend(chunks.iter().map(|chunk| &*chunk.folders));
    write_quickly_of(file, &pieces)
}

/// The head, packed, with its length and checksum before it.
fn head_of(saying: &Saying, open: BTreeSet<PartId>, chunks: Vec<(&str, Block)>) -> Option<Vec<u8>> {
    let Saying { asked, sealed: Sealed { steps, output_bytes }, basis, variables } = saying;
    let (asked, steps, output_bytes, variables) = (*asked, *steps, *output_bytes, variables.clone());
    let head = Head { asked, steps, output_bytes, open, variables, basis: Block::of(basis), chunks };
    let head = postcard::to_stdvec(&head).ok()?;
    let Block { length, check } = Block::of(&head);
    Some([&length.to_le_bytes()[..], &check, &head].concat())
}

/// What comes before the chunks.
fn beginning<'a>(head: &'a [u8], saying: &'a Saying) -> [&'a [u8]; 3] {
    [MARK, head, &saying.basis]
}

fn split(path: &str) -> Option<(&str, &str)> {
    let (folder, name) = path.rsplit_once('/')?;
    Some((if folder.is_empty() { "/" } else { folder }, name))
}

fn numbers(concerns: &[u8]) -> impl Iterator<Item = u32> {
    concerns.chunks_exact(4).filter_map(|four| four.try_into().ok()).map(u32::from_le_bytes)
}

fn chunks_of<'a>(folders: &[Folder<'a>]) -> Option<Vec<Chunk<'a>>> {
    let mut chunks = Vec::new();
    let (mut from, mut size) = (0, 0);
    for (at, folder) in folders.iter().enumerate() {
        size += folder.places.len();
        if size >= CHUNK || at + 1 == folders.len() {
            let packed = postcard::to_stdvec(&folders[from..=at]).ok()?;
            chunks.push(Chunk { first: folders[from].path, block: Block::of(&packed), folders: Cow::Owned(packed) });
            (from, size) = (at + 1, 0);
        }
    }
    Some(chunks)
}

/// Takes a seal away, before anything that it stands for is changed.
///
/// # Errors
/// It is there and cannot be removed.
pub fn break_seal(file: &Path) -> Result<(), FileError> {
    remove_file(file)
}

#[cfg(test)]
mod tests;
