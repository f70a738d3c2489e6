//! Handing over what was built: steps leave finished parts in one folder, and people find them in another, each with its record.
//! So a record is never what a step reads, and other choices make no step run.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use super::{Covers, FileMark, HEADER, Packed, REST, Record, SECTION, elf, framed};
use crate::base::files::{
    make_room, packed, put_link, read_regular, remove_empty_above, remove_file, remove_folder, unsealed, write_from,
    write_sealed,
};
use crate::base::{Digest, FileError, RelPath};
use crate::work::{Folders, Stamp};

/// What the kept file begins with.
const MARK: &[u8] = b"boltboard handed 1\n";

/// The longest record that is not packed, in bytes: a program reads its own more easily so.
const PLAIN_OF_ALL: usize = 64 << 10;
/// The same of one that tells only what its part names: there are many.
const PLAIN_OF_NAMED: usize = 4 << 10;

/// What was handed over of a build, and how the files stood then.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Handed {
    entries: BTreeMap<String, Entry>,
    /// Where things went that lay where files are to be.
    #[serde(skip)]
    pub set_aside: Vec<PathBuf>,
    /// What was not as it was handed over, though the finished part was, and was handed over again.
    #[serde(skip)]
    pub mended: Vec<String>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct Entry {
    part: String,
    /// What its record says that others say as well, if it says that.
    common: Option<Digest>,
    /// Stands for what only its own says.
    own: Digest,
    sort: Sort,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
enum Sort {
    /// A file: as the step left it, and as it was handed over.
    File { plain: Stamp, out: Stamp, mark: FileMark },
    /// A link with where it leads.
    Link(PathBuf),
}

/// A record as a file carries it.
#[derive(Debug, Clone)]
pub struct Carried {
    /// The record.
    pub record: Record,
    /// What it shares with others, where that is much.
    pub rest: Option<Arc<Packed>>,
}

/// In what way a file that was handed over is not as it was.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Amiss {
    /// It was changed.
    Changed,
    /// It is not there.
    Missing,
}

/// A file to hand over.
pub struct Item {
    /// Where it lies among the finished parts.
    pub path: RelPath,
    /// The part that it is of.
    pub part: String,
    /// Stands for what its record says.
    pub says: Recorded,
}

/// What stands for a record without its having been put together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Recorded {
    /// For what many records of the build say, if it says that.
    pub common: Option<Digest>,
    /// For what only this one says.
    pub own: Digest,
}

impl Handed {
    /// Reads what is known of a build, also of one that was cut off.
    pub fn load(folders: &Folders) -> Handed {
        Handed::read(&folders.handed()).or_else(|| Handed::read(&folders.handed_before())).unwrap_or_default()
    }

    fn read(path: &Path) -> Option<Handed> {
        let bytes = read_regular(path).ok()?;
        postcard::from_bytes(unsealed(&bytes, MARK)?).ok()
    }

    /// Notes that from now on finished parts may differ from what was handed over.
    ///
    /// # Errors
    /// The build's folder cannot be written.
    pub fn open(folders: &Folders) -> Result<(), FileError> {
        let path = folders.handed();
        match std::fs::rename(&path, folders.handed_before()) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(FileError::on("move aside", &path)(e)),
            _ => Ok(()),
        }
    }

    /// Notes that all is handed over.
    ///
    /// # Errors
    /// The build's folder cannot be written.
    pub fn close(&self, folders: &Folders) -> Result<(), FileError> {
        let path = folders.handed();
        write_sealed(&path, MARK, &packed(self, &path)?)?;
        remove_file(&folders.handed_before())
    }

    /// Tells whether everything of a build lies where it was handed over, as it was then. Whether it is still what is finished, those know
    /// that look at steps.
    pub fn is_whole(folders: &Folders) -> bool {
        let known = Handed::read(&folders.handed());
        known.is_some_and(|handed| handed.entries.iter().all(|(path, entry)| entry.is_as_handed(path, folders)))
    }

    /// What lies where it was handed over and is not as it was then, though the finished part is.
    pub fn amiss(&self, folders: &Folders) -> Vec<(String, Amiss)> {
        let amiss = |(path, entry): (&String, &Entry)| Some((path.clone(), entry.amiss(path, folders)?));
        self.entries.iter().filter_map(amiss).collect()
    }

    /// Tells whether nothing was handed over.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// Tells whether a file was handed over with this record, and is as it was then.
    pub fn is_current(&self, path: &RelPath, says: Recorded, folders: &Folders) -> bool {
        let entry = self.entries.get(path.as_str());
        entry.is_some_and(|e| e.common == says.common && e.own == says.own && e.stands(path.as_str(), folders))
    }

    /// The parts, with what was handed over of them, whose records say something else now that many records say.
    pub fn behind(&self, common: Digest) -> Vec<(String, RelPath)> {
        let other = self.entries.iter().filter(|(_, entry)| entry.common.is_some_and(|then| then != common));
        other.filter_map(|(path, entry)| Some((entry.part.clone(), RelPath::of_file(path).ok()?))).collect()
    }

    /// Hands files over: those that are not as they should be are written, whole or not at all. `record` puts together the record of a part;
    /// a part without one is handed over as it is.
    ///
    /// # Errors
    /// A file cannot be read or written.
    pub fn hand_over(
        &mut self,
        folders: &Folders,
        items: &[Item],
        record: &(dyn Fn(&Item) -> Option<Carried> + Sync),
    ) -> Result<(), FileError> {
        let mut due = Vec::new();
        for item in items {
            if !self.is_current(&item.path, item.says, folders) {
                let known = self.entries.get(item.path.as_str());
                let amiss = known.and_then(|entry| entry.amiss(item.path.as_str(), folders));
                self.mended.extend(amiss.map(|_| item.path.to_string()));
                let out = item.path.below(&folders.outputs());
                self.set_aside.extend(make_room(&out, &folders.build, &folders.set_aside())?);
                due.push(item);
            }
        }
        if due.is_empty() {
            return Ok(());
        }
        // What a kill left there.
        remove_folder(&folders.aside())?;
        let known = &self.entries;
        let workers = std::thread::available_parallelism().map_or(1, usize::from).min(due.len().max(1));
        let share = due.len().div_ceil(workers).max(1);
        let done: Vec<Result<Vec<(String, Entry)>, FileError>> = std::thread::scope(|scope| {
            let work = |share: &[&Item]| {
                share.iter().filter_map(|item| one(item, folders, known, record).transpose()).collect()
            };
            let started: Vec<_> = due.chunks(share).map(|share| scope.spawn(move || work(share))).collect();
            started.into_iter().map(|worker| worker.join().unwrap_or_else(|e| std::panic::resume_unwind(e))).collect()
        });
        for entries in done {
            self.entries.extend(entries?);
        }
        remove_folder(&folders.aside())
    }

    /// Takes away what was handed over of parts that are no longer made.
    ///
    /// # Errors
    /// A file cannot be removed.
    pub fn drop_gone(&mut self, folders: &Folders) -> Result<(), FileError> {
        let is_there = |path: &String| folders.parts().join(path).symlink_metadata().is_ok();
        let (kept, gone) = std::mem::take(&mut self.entries).into_iter().partition(|(path, _)| is_there(path));
        self.entries = kept;
        let gone: BTreeMap<String, Entry> = gone;
        for path in gone.keys().map(|path| folders.outputs().join(path)) {
            remove_file(&path)?;
            remove_empty_above(&path, &folders.build);
        }
        Ok(())
    }
}

impl Entry {
    /// The finished part is as it was.
    fn is_as_made(&self, path: &str, folders: &Folders) -> bool {
        let plain = folders.parts().join(path);
        match &self.sort {
            Sort::File { plain: then, .. } => Stamp::of(&plain) == Some(*then),
            Sort::Link(to) => leads_to(&plain).as_ref() == Some(to),
        }
    }

    /// What people get is as it was.
    fn is_as_handed(&self, path: &str, folders: &Folders) -> bool {
        let out = folders.outputs().join(path);
        match &self.sort {
            Sort::File { out: handed, .. } => own_stamp(&out) == Some(*handed),
            Sort::Link(to) => leads_to(&out).as_ref() == Some(to),
        }
    }

    fn stands(&self, path: &str, folders: &Folders) -> bool {
        self.is_as_made(path, folders) && self.is_as_handed(path, folders)
    }

    fn amiss(&self, path: &str, folders: &Folders) -> Option<Amiss> {
        let there = folders.outputs().join(path).symlink_metadata().is_ok();
        let how = if there { Amiss::Changed } else { Amiss::Missing };
        (self.is_as_made(path, folders) && !self.is_as_handed(path, folders)).then_some(how)
    }
}

fn leads_to(path: &Path) -> Option<PathBuf> {
    std::fs::read_link(path).ok()
}

/// The status of a file that is no link.
fn own_stamp(path: &Path) -> Option<Stamp> {
    if path.is_symlink() { None } else { Stamp::of(path) }
}

/// By which a file is known again without its record.
pub fn mark_of(bytes: &[u8]) -> FileMark {
    let rest = usize::try_from(HEADER).ok().and_then(|header| bytes.get(header..)).unwrap_or_default();
    FileMark { bytes: bytes.len() as u64, digest: Digest::of(rest).to_string() }
}

/// What a file is that is handed over: other first bytes, the rest as it is, and what comes behind it.
pub fn content<'b>(bytes: &'b [u8], carried: Option<Carried>, mark: &FileMark) -> [Cow<'b, [u8]>; 3] {
    let addition = carried.and_then(|Carried { record, rest }| {
        let longest = if record.covers == Covers::All { PLAIN_OF_ALL } else { PLAIN_OF_NAMED };
        let text = framed(&Record { file: Some(mark.clone()), ..record }.text());
        let packed = (text.len() > longest).then(|| Packed::of(text.as_bytes()));
        let own = packed.as_ref().map_or(elf::Text::Plain(text.as_bytes()), elf::Text::Packed);
        let mut sections = vec![(SECTION, own)];
        sections.extend(rest.as_ref().map(|rest| (REST, elf::Text::Packed(rest))));
        elf::addition(bytes, &sections)
    });
    let (head, tail) = addition.map_or_else(Default::default, |addition| (addition.head, addition.tail));
    let rest = &bytes[head.len()..];
    [head.into(), rest.into(), tail.into()]
}

/// Hands one file over; `None` where there is nothing at its place.
fn one(
    item: &Item,
    folders: &Folders,
    known: &BTreeMap<String, Entry>,
    record: &(dyn Fn(&Item) -> Option<Carried> + Sync),
) -> Result<Option<(String, Entry)>, FileError> {
    let (plain, out) = (item.path.below(&folders.parts()), item.path.below(&folders.outputs()));
    let entry = |sort| {
        let Recorded { common, own } = item.says;
        Some((item.path.to_string(), Entry { part: item.part.clone(), common, own, sort }))
    };
    if let Some(to) = leads_to(&plain) {
        put_link(&folders.aside(), &out, &to)?;
        return Ok(entry(Sort::Link(to)));
    }
    let Some(stamp) = Stamp::of(&plain) else { return Ok(None) };
    let bytes = read_regular(&plain).map_err(FileError::on("read", &plain))?;
    let mark = match known.get(item.path.as_str()).map(|entry| &entry.sort) {
        Some(Sort::File { plain: then, mark, .. }) if *then == stamp => mark.clone(),
        _ => mark_of(&bytes),
    };
    let [head, rest, tail] = content(&bytes, record(item), &mark);
    let mode = std::fs::metadata(&plain).map_err(FileError::on("read", &plain))?.permissions().mode();
    write_from(&folders.aside(), &out, &[&head, &rest, &tail], mode & 0o7777)?;
    let Some(handed) = own_stamp(&out) else { return Ok(None) };
    Ok(entry(Sort::File { plain: stamp, out: handed, mark }))
}
