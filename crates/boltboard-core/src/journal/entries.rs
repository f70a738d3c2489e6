//! What each step of a build last did. Most records lie by part in one file; what happened since is a second file of frames,
//! of which later ones win. Each frame has its length and a checksum; what a kill or a power cut has torn off at the end is left
//! out, and so is all that follows a damaged frame.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use foldhash::fast::FixedState;
use serde::{Deserialize, Serialize};

use super::file::{Block, RecordsFile};
use super::packed::{Number, PackedRecord, Renumbering, StepRecord, Tables};
use crate::base::files::{make_folder, read_regular, write_whole};
use crate::base::{Digest, FileError, packed_bytes};

/// What the file of frames begins with.
const MARK: &[u8] = b"boltboard journal 4\n";
/// Length and checksum of a frame, in bytes.
const HEAD: usize = 12;
/// From so many frames on, records are moved to their parts after a whole build.
const MANY: usize = 1000;
/// With more frames, reading them takes longer than it is worth for looking at a few parts.
const TOO_MANY: usize = 4 * MANY;

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
    /// The number of a step's name.
    Removed(Number),
}

/// The records of one build folder, by step name. It can be written to while another one that was opened with it, see
/// [`Journal::as_opened`], still shows what was there before.
#[derive(Debug)]
pub struct Journal {
    path: PathBuf,
    file: Option<File>,
    frames: usize,
    /// By the numbers of `tables`, which go on from those of `opened`.
    records: Records,
    tables: Tables,
    /// What the frames of the file name: their numbers are their own. None while they are those of `tables`, because there was
    /// nothing before.
    written: Option<Tables>,
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
    written: Arc<Tables>,
    frames: usize,
    /// How much of the file is whole, in bytes.
    whole: u64,
}

/// A journal of which records are read part by part.
pub struct Opening {
    path: PathBuf,
    parts: RecordsFile,
    /// What the frames say: by the numbers of steps' names in `written`.
    latest: BTreeMap<Number, Option<PackedRecord>>,
    written: Tables,
    frames: usize,
    whole: u64,
    /// What the numbers of `written` are in `tables`, once that was asked.
    renumbering: Option<Renumbering>,
    tables: Tables,
    records: Records,
    taken: BTreeSet<String>,
    damaged: bool,
}

impl Opening {
    /// Begins to open the journal of a build folder; none is an empty one, and so is one in a format of another version.
    ///
    /// # Errors
    /// A file is there and cannot be read.
    pub fn of(build: &Path) -> Result<Opening, FileError> {
        let path = build.join("journal");
        let bytes = match read_regular(&path) {
            Ok(bytes) => bytes,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Vec::new(),
            // Something else lies in its place, which the next build moves aside.
            Err(e) if e.kind() == std::io::ErrorKind::InvalidInput => b"damaged".to_vec(),
            Err(e) => return Err(FileError::on("read", &path)(e)),
        };
        let parts = RecordsFile::open(&build.join("records"))?;
        let mut opening = Opening {
            path,
            damaged: parts.damaged,
            parts,
            latest: BTreeMap::new(),
            written: Tables::default(),
            frames: 0,
            whole: 0,
            renumbering: None,
            tables: Tables::default(),
            records: Records::default(),
            taken: BTreeSet::new(),
        };
        let Some(mut rest) = bytes.strip_prefix(MARK) else {
            opening.damaged |= !bytes.is_empty();
            return Ok(opening);
        };
        opening.whole = MARK.len() as u64;
        while let Some((frame, after)) = next_frame(rest) {
            if !frame.is_some_and(|frame| opening.follow(frame)) {
                opening.damaged = true;
                break;
            }
            opening.whole += (rest.len() - after.len()) as u64;
            rest = after;
        }
        Ok(opening)
    }

    fn follow(&mut self, frame: Frame) -> bool {
        self.frames += 1;
        frame.texts.into_iter().for_each(|text| {
            self.written.texts.add(text);
        });
        frame.digests.into_iter().for_each(|digest| {
            self.written.digests.add(digest);
        });
        match frame.event {
            Event::Done(record) if self.written.hold(&record) => {
                self.latest.insert(record.step, Some(*record));
                true
            }
            Event::Done(_) => false,
            Event::Removed(step) => {
                self.latest.insert(step, None);
                self.written.text(step).is_some()
            }
        }
    }

    /// Tells whether reading it part by part is worth while, and everything can be relied on.
    pub fn serves_parts(&self) -> bool {
        self.frames <= TOO_MANY && !self.damaged
    }

    /// Takes the records of a part; those of `""` serve all. Returns the files that its steps made, by their kept names.
    pub fn take(&mut self, part: &str) -> Vec<String> {
        if !self.taken.insert(part.to_string()) {
            return Vec::new();
        }
        let Some(block) = self.parts.block(part) else {
            self.damaged = true;
            return Vec::new();
        };
        let mut taken = Vec::new();
        let renumbering = self.tables.adopt(block.texts.iter(), block.digests.iter());
        for packed in &block.records {
            let name = block.texts.get(packed.step as usize);
            let later =
                name.and_then(|name| self.written.find_text(name)).is_some_and(|n| self.latest.contains_key(&n));
            match renumbering.of(packed) {
                Some(_) if later => {}
                Some(record) => taken.push(record),
                None => self.damaged = true,
            }
        }
        let own = |record: &PackedRecord| self.written.text(record.part).is_some_and(|name| **name == *part);
        let later: Vec<&PackedRecord> = self.latest.values().flatten().filter(|record| own(record)).collect();
        if !later.is_empty() {
            let adopt = || self.tables.adopt(self.written.texts.since(0), self.written.digests.since(0));
            let renumbering = self.renumbering.get_or_insert_with(adopt);
            taken.extend(later.into_iter().filter_map(|packed| renumbering.of(packed)));
        }
        let outputs = taken.iter().filter_map(|record| record.note.as_ref()).flat_map(|note| &note.outputs);
        let outputs = outputs.filter_map(|(file, ..)| self.tables.text(*file)).map(|file| file.to_string()).collect();
        self.records.extend(taken.into_iter().map(|record| (record.step, Some(record))));
        outputs
    }

    fn take_all(&mut self) {
        let names: Vec<String> = self.parts.parts().map(str::to_string).collect();
        let (texts, digests, records) = self.parts.counts;
        self.tables.reserve(texts, digests);
        self.records.reserve(records);
        for part in names {
            let Some(block) = self.parts.block(&part) else {
                self.damaged = true;
                continue;
            };
            let renumbering = self.tables.adopt(block.texts.iter(), block.digests.iter());
            for packed in &block.records {
                match renumbering.of(packed) {
                    Some(record) => {
                        self.records.insert(record.step, Some(record));
                    }
                    None => self.damaged = true,
                }
            }
        }
        let renumbering = self.tables.adopt(self.written.texts.since(0), self.written.digests.since(0));
        for (step, latest) in &self.latest {
            match latest {
                Some(packed) => self.records.extend(renumbering.of(packed).map(|record| (record.step, Some(record)))),
                None => {
                    let known = self.written.text(*step).and_then(|name| self.tables.find_text(name));
                    known.and_then(|step| self.records.remove(&step));
                }
            }
        }
    }

    /// Returns the journal with what was taken.
    pub fn end(self) -> Journal {
        let opened = Opened {
            tables: Arc::new(self.tables),
            records: Arc::new(self.records),
            written: Arc::new(self.written),
            frames: self.frames,
            whole: self.whole,
        };
        Journal { damaged: self.damaged, ..Journal::after(self.path, opened) }
    }
}

impl Journal {
    /// Reads the journal of a build folder; none is an empty one, and so is one in a format of another version.
    ///
    /// # Errors
    /// A file is there and cannot be read.
    pub fn open(build: &Path) -> Result<Journal, FileError> {
        let mut opening = Opening::of(build)?;
        opening.take_all();
        Ok(opening.end())
    }

    fn after(path: PathBuf, opened: Opened) -> Journal {
        Journal {
            path,
            file: None,
            frames: opened.frames,
            records: Records::default(),
            tables: Tables::after(Arc::clone(&opened.tables)),
            written: (opened.tables.counts() != (0, 0) || opened.written.counts() != (0, 0))
                .then(|| Tables::after(Arc::clone(&opened.written))),
            opened,
            damaged: false,
        }
    }

    /// Returns what was there when it was opened, whatever is written from now on.
    pub fn as_opened(&self) -> Journal {
        Journal { damaged: self.damaged, ..Journal::after(self.path.clone(), self.opened.clone()) }
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
        let from = self.written().own_counts();
        let packed = self.tables.pack(record);
        let written = match &mut self.written {
            Some(written) => written.repack(&packed, &self.tables),
            None => Some(packed.clone()),
        };
        if let Some(written) = written {
            self.write(from, Event::Done(Box::new(written)))?;
        }
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
        let from = self.written().own_counts();
        let written = self.written.as_mut().map_or(number, |written| written.add_text(step));
        self.write(from, Event::Removed(written))?;
        self.records.insert(number, None);
        Ok(())
    }

    /// What the frames of the file name.
    fn written(&self) -> &Tables {
        self.written.as_ref().unwrap_or(&self.tables)
    }

    /// Writes a frame with the texts and digests that were added from these on.
    fn write(&mut self, (texts, digests): (usize, usize), event: Event) -> Result<(), FileError> {
        let texts = self.written().texts.since(texts).cloned().collect();
        let digests = self.written().digests.since(digests).copied().collect();
        let frame = framed(&Frame { texts, digests, event });
        if self.file.is_none() {
            make_folder(self.path.parent().unwrap_or(Path::new(".")))?;
            let open = File::options().create(true).append(true).open(&self.path);
            let mut file = open.map_err(FileError::on("open", &self.path))?;
            // What an earlier kill has cut off, or damage, ends here.
            file.set_len(self.opened.whole).map_err(FileError::on("write", &self.path))?;
            if self.opened.whole == 0 {
                file.write_all(MARK).map_err(FileError::on("write", &self.path))?;
            }
            self.file = Some(file);
        }
        self.frames += 1;
        match &mut self.file {
            Some(file) => file.write_all(&frame).map_err(FileError::on("write", &self.path)),
            None => Ok(()),
        }
    }

    /// Moves the records to their parts when there are many frames. It must have been opened as a whole.
    ///
    /// # Errors
    /// A file cannot be written; nothing is lost then.
    pub fn settle(&mut self) -> Result<(), FileError> {
        if self.frames < MANY.min(self.all().count() / 4 + 100) {
            return Ok(());
        }
        let mut parts: BTreeMap<&str, Vec<&PackedRecord>> = BTreeMap::new();
        for record in self.all() {
            parts.entry(self.text(record.part)).or_default().push(record);
        }
        let block = |mut records: Vec<&PackedRecord>| {
            records.sort_unstable_by_key(|record| self.text(record.step));
            Block::of(records.into_iter(), &self.tables)
        };
        let blocks = parts.into_iter().map(|(part, records)| (part, block(records)));
        let (texts, digests) = self.tables.counts();
        let counts = (texts, digests, self.all().count());
        RecordsFile::write(&self.path.with_file_name("records"), blocks, counts)?;
        // Frames that are still there after a kill here say what the records say.
        write_whole(&self.path, MARK)?;
        (self.file, self.frames) = (None, 0);
        self.written = Some(Tables::default());
        self.opened = Opened { written: Arc::default(), frames: 0, whole: MARK.len() as u64, ..self.opened.clone() };
        Ok(())
    }
}

fn framed(frame: &Frame) -> Vec<u8> {
    let payload = packed_bytes(frame);
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
        StepRecord {
            step: step.into(),
            part: "p".into(),
            base_key: digest,
            command: vec![step.into()],
            tool: digest,
            note: None,
        }
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
