//! What each step of a build last did: a file of frames, later ones win. Each frame has its length and a checksum; what a kill or
//! a power cut has torn off at the end is left out, and so is all that follows a damaged frame.

use std::collections::{BTreeMap, HashMap};
use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use foldhash::fast::FixedState;
use serde::{Deserialize, Serialize};

use super::record::{Number, PackedRecord, StepRecord, Tables};
use crate::base::files::{make_folder, write_whole};
use crate::base::{Digest, FileError};

/// What the file begins with.
const MARK: &[u8] = b"boltboard journal 2\n";
/// Length and checksum of a frame, in bytes.
const HEAD: usize = 12;

/// One frame: texts and digests that no earlier frame names, and what happened to a step.
#[derive(Serialize, Deserialize)]
struct Frame {
    texts: Vec<Arc<str>>,
    digests: Vec<Digest>,
    event: Event,
}

#[derive(Serialize, Deserialize)]
enum Event {
    Done(Box<PackedRecord>),
    Removed(Number),
}

/// The records of one build folder, by step name. It can be written to while another one that was opened with it, see
/// [`Journal::as_opened`], still shows what was there before.
#[derive(Debug)]
pub struct Journal {
    path: PathBuf,
    file: Option<File>,
    /// How much of the file is whole, in bytes.
    whole: u64,
    frames: usize,
    tables: Tables,
    records: Records,
    /// What was read when it was opened; what `records` holds comes before it.
    opened: Opened,
    /// Whether something in the middle was damaged, so that steps whose records are gone run again.
    pub damaged: bool,
}

/// By the numbers of steps' names; none for what was removed.
type Records = HashMap<Number, Option<PackedRecord>, FixedState>;

#[derive(Debug, Clone, Default)]
struct Opened {
    tables: Arc<Tables>,
    records: Arc<Records>,
}

impl Journal {
    /// Reads the journal of a build folder; none is an empty one, and so is one in a format of another version.
    ///
    /// # Errors
    /// The file is there and cannot be read.
    pub fn open(build: &Path) -> Result<Journal, FileError> {
        let path = build.join("journal");
        let bytes = match std::fs::read(&path) {
            Ok(bytes) => bytes,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Vec::new(),
            Err(e) => return Err(FileError::on("read", &path)(e)),
        };
        let mut journal = Journal::empty(path);
        let Some(mut rest) = bytes.strip_prefix(MARK) else {
            journal.damaged = !bytes.is_empty();
            return Ok(journal);
        };
        journal.whole = MARK.len() as u64;
        while let Some((frame, after)) = next_frame(rest) {
            let taken = frame.is_some_and(|frame| journal.take(frame));
            if !taken {
                journal.damaged = true;
                break;
            }
            journal.whole += (rest.len() - after.len()) as u64;
            rest = after;
        }
        journal.opened = Opened {
            tables: Arc::new(std::mem::take(&mut journal.tables)),
            records: Arc::new(std::mem::take(&mut journal.records)),
        };
        journal.tables = Tables::after(Arc::clone(&journal.opened.tables));
        Ok(journal)
    }

    fn empty(path: PathBuf) -> Journal {
        Journal {
            path,
            file: None,
            whole: 0,
            frames: 0,
            tables: Tables::default(),
            records: Records::default(),
            opened: Opened::default(),
            damaged: false,
        }
    }

    /// Returns what was there when it was opened, whatever is written from now on.
    pub fn as_opened(&self) -> Journal {
        let mut journal = Journal::empty(self.path.clone());
        journal.opened = self.opened.clone();
        journal.tables = Tables::after(Arc::clone(&self.opened.tables));
        journal
    }

    fn take(&mut self, frame: Frame) -> bool {
        self.frames += 1;
        frame.texts.into_iter().for_each(|text| {
            self.tables.texts.add(text);
        });
        frame.digests.into_iter().for_each(|digest| {
            self.tables.digests.add(digest);
        });
        match frame.event {
            Event::Done(record) if self.tables.hold(&record) => {
                self.records.insert(record.step, Some(*record));
                true
            }
            Event::Done(_) => false,
            Event::Removed(step) => {
                self.records.remove(&step);
                true
            }
        }
    }

    /// Returns a step's record.
    pub fn get(&self, step: &str) -> Option<StepRecord> {
        self.tables.unpack(self.packed(step)?)
    }

    /// Returns a step's record as it is kept.
    pub fn packed(&self, step: &str) -> Option<&PackedRecord> {
        self.numbered(self.tables.find_text(step)?)
    }

    fn numbered(&self, step: Number) -> Option<&PackedRecord> {
        self.records.get(&step).or_else(|| self.opened.records.get(&step))?.as_ref()
    }

    /// Returns a text by its number.
    pub fn text(&self, number: Number) -> &str {
        self.tables.text(number).map_or("", |text| text)
    }

    /// Returns a digest by its number.
    pub fn digest(&self, number: Number) -> Digest {
        self.tables.digest(number).unwrap_or_default()
    }

    /// Returns the number of a text.
    pub fn number(&self, text: &str) -> Option<Number> {
        self.tables.find_text(text)
    }

    /// Returns how many texts there are; their numbers are below that.
    pub fn texts(&self) -> usize {
        self.tables.counts().0
    }

    /// Returns the names of all steps that have a record, sorted.
    pub fn names(&self) -> Vec<&str> {
        let mut names: Vec<&str> = self.all().map(|record| self.text(record.step)).collect();
        names.sort_unstable();
        names
    }

    /// Returns all records as they are kept, in no order.
    pub fn all(&self) -> impl Iterator<Item = &PackedRecord> {
        let before = self.opened.records.iter().filter(|(step, _)| !self.records.contains_key(step));
        before.chain(self.records.iter()).filter_map(|(_, record)| record.as_ref())
    }

    /// Adds a step's record.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn add(&mut self, record: &StepRecord) -> Result<(), FileError> {
        let from = (self.tables.texts.len(), self.tables.digests.len());
        let packed = self.tables.pack(record);
        let frame = self.frame(from, Event::Done(Box::new(packed.clone())));
        self.write(&frame)?;
        self.records.insert(packed.step, Some(packed));
        Ok(())
    }

    /// Takes a step's record out.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn remove(&mut self, step: &str) -> Result<(), FileError> {
        let Some(number) = self.tables.find_text(step).filter(|number| self.numbered(*number).is_some()) else {
            return Ok(());
        };
        let frame = self.frame((self.tables.texts.len(), self.tables.digests.len()), Event::Removed(number));
        self.write(&frame)?;
        self.records.insert(number, None);
        Ok(())
    }

    /// A frame with the texts and digests that were added from these on.
    fn frame(&self, (texts, digests): (usize, usize), event: Event) -> Vec<u8> {
        let number = |at: usize| Number::try_from(at).unwrap_or(Number::MAX);
        let texts = (texts..self.tables.texts.len()).filter_map(|at| self.tables.texts.get(number(at)).cloned());
        let digests =
            (digests..self.tables.digests.len()).filter_map(|at| self.tables.digests.get(number(at)).copied());
        framed(&Frame { texts: texts.collect(), digests: digests.collect(), event })
    }

    fn write(&mut self, frame: &[u8]) -> Result<(), FileError> {
        let failed = FileError::on("write", &self.path);
        if self.file.is_none() {
            make_folder(self.path.parent().unwrap_or(Path::new(".")))?;
            let open = File::options().create(true).append(true).open(&self.path);
            let mut file = open.map_err(FileError::on("open", &self.path))?;
            // What an earlier kill has cut off, or damage, ends here.
            file.set_len(self.whole).map_err(FileError::on("write", &self.path))?;
            if self.whole == 0 {
                file.write_all(MARK).map_err(FileError::on("write", &self.path))?;
                self.whole = MARK.len() as u64;
            }
            self.file = Some(file);
        }
        self.frames += 1;
        match &mut self.file {
            Some(file) => file.write_all(frame).map_err(failed),
            None => Ok(()),
        }
    }

    /// Writes the journal anew when most of its frames no longer count.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn compact(&mut self) -> Result<(), FileError> {
        if self.frames < 4 * self.all().count() + 100 {
            return Ok(());
        }
        let records: BTreeMap<&str, StepRecord> =
            self.all().filter_map(|record| Some((self.text(record.step), self.tables.unpack(record)?))).collect();
        let mut fresh = Journal::empty(self.path.clone());
        let mut bytes = MARK.to_vec();
        for record in records.values() {
            let from = (fresh.tables.texts.len(), fresh.tables.digests.len());
            let packed = fresh.tables.pack(record);
            bytes.extend(fresh.frame(from, Event::Done(Box::new(packed.clone()))));
            fresh.records.insert(packed.step, Some(packed));
            fresh.frames += 1;
        }
        write_whole(&self.path, &bytes)?;
        fresh.whole = bytes.len() as u64;
        *self = fresh;
        Ok(())
    }
}

fn framed(frame: &Frame) -> Vec<u8> {
    let payload = postcard::to_stdvec(frame).unwrap_or_default();
    let length = u32::try_from(payload.len()).unwrap_or(0);
    [&length.to_le_bytes()[..], &Digest::of(&payload).short(), &payload].concat()
}

/// Reads the next frame: `Some(None)` for a damaged one, `None` where nothing whole follows.
fn next_frame(bytes: &[u8]) -> Option<(Option<Frame>, &[u8])> {
    let (head, rest) = bytes.split_at_checked(HEAD)?;
    let [a, b, c, d, check @ ..] = head else { return None };
    let length = u32::from_le_bytes([*a, *b, *c, *d]) as usize;
    let (payload, after) = rest.split_at_checked(length)?;
    let sound = Digest::of(payload).short() == *check;
    Some((sound.then(|| postcard::from_bytes(payload).ok()).flatten(), after))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn record(step: &str) -> StepRecord {
        let digest = Digest::of(step.as_bytes());
        StepRecord { step: step.into(), base_key: digest, command: vec![step.into()], tool: digest, note: None }
    }

    #[test]
    fn a_torn_or_damaged_end_costs_only_itself() {
        for (case, damaged) in [("torn", false), ("damaged", true)] {
            let folder = tempfile::tempdir().unwrap();
            let mut journal = Journal::open(folder.path()).unwrap();
            journal.add(&record("a")).unwrap();
            journal.add(&record("b")).unwrap();
            drop(journal);
            let path = folder.path().join("journal");
            let mut bytes = std::fs::read(&path).unwrap();
            let last = bytes.len() - 1;
            if damaged {
                bytes[last] ^= 1
            } else {
                bytes.truncate(last - 20)
            }
            std::fs::write(&path, bytes).unwrap();
            let mut journal = Journal::open(folder.path()).unwrap();
            assert_eq!((journal.names(), journal.damaged), (vec!["a"], damaged), "{case}");
            journal.add(&record("c")).unwrap();
            let again = Journal::open(folder.path()).unwrap();
            assert_eq!((again.names(), again.damaged), (vec!["a", "c"], false), "{case}");
            assert_eq!(again.get("c"), Some(record("c")));
        }
    }

    #[test]
    fn what_is_no_journal_is_set_aside() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("journal"), "boltboard journal 99\nsomething").unwrap();
        let mut journal = Journal::open(folder.path()).unwrap();
        assert!(journal.damaged && journal.names().is_empty());
        journal.add(&record("a")).unwrap();
        assert_eq!(Journal::open(folder.path()).unwrap().names(), ["a"]);
    }
}
