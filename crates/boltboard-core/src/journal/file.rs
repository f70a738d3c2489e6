//! The records of all steps, by the parts that they belong to: who wants to know about one part need not read the others.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use super::packed::{PackedRecord, Tables};
use crate::base::files::write_whole_by;
use crate::base::{Digest, FileError};

/// What the file begins with.
const MARK: &[u8] = b"boltboard records 3\n";
/// What it ends with, after the blocks and the index: length and checksum of the index, in bytes.
const TAIL: u64 = 12;

/// Where a part's records lie in the file.
#[derive(Debug, Serialize, Deserialize)]
struct Entry {
    part: String,
    /// From the beginning of the file.
    at: u64,
    length: u32,
    check: [u8; 8],
}

/// The records of one part. Their numbers are those of its own texts and digests.
#[derive(Debug, Default, Serialize, Deserialize)]
pub(super) struct Block {
    pub texts: Vec<Arc<str>>,
    pub digests: Vec<Digest>,
    pub records: Vec<PackedRecord>,
}

#[derive(Debug, Default, Serialize, Deserialize)]
struct Index {
    entries: Vec<Entry>,
    /// How many texts, digests and records there are, at most.
    counts: (usize, usize, usize),
}

/// The file, open, with its index read.
#[derive(Debug, Default)]
pub(super) struct RecordsFile {
    file: Option<File>,
    index: Vec<Entry>,
    /// How many texts, digests and records there are, at most.
    pub counts: (usize, usize, usize),
    /// Whether there is a file that cannot be relied on.
    pub damaged: bool,
}

impl Block {
    /// Packs records on their own.
    pub fn of<'a>(records: impl Iterator<Item = &'a PackedRecord>, tables: &Tables) -> Block {
        let mut own = Tables::default();
        let records = records.filter_map(|record| Some(own.pack(&tables.unpack(record)?))).collect();
        let (texts, digests) = own.into_items();
        Block { texts, digests, records }
    }
}

impl RecordsFile {
    /// Opens the file; none is one without records, and so is one in a format of another version.
    ///
    /// # Errors
    /// The file is there and cannot be read.
    pub fn open(path: &Path) -> Result<RecordsFile, FileError> {
        if std::fs::metadata(path).is_ok_and(|status| !status.is_file()) {
            // To open a queue takes as long as nobody writes to it.
            return Ok(RecordsFile { damaged: true, ..RecordsFile::default() });
        }
        let file = match File::open(path) {
            Ok(file) => file,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(RecordsFile::default()),
            Err(e) => return Err(FileError::on("read", path)(e)),
        };
        let index = read_index(&file);
        let damaged = index.is_none();
        let Index { entries, counts } = index.unwrap_or_default();
        Ok(RecordsFile { file: Some(file), index: entries, counts, damaged })
    }

    /// Returns the parts that have records.
    pub fn parts(&self) -> impl Iterator<Item = &str> {
        self.index.iter().map(|entry| entry.part.as_str())
    }

    /// Reads a part's records; one that has none has an empty block, and `None` is a damaged one.
    pub fn block(&self, part: &str) -> Option<Block> {
        let Ok(at) = self.index.binary_search_by(|entry| entry.part.as_str().cmp(part)) else {
            return Some(Block::default());
        };
        let entry = &self.index[at];
        let mut bytes = vec![0; entry.length as usize];
        self.file.as_ref()?.read_exact_at(&mut bytes, entry.at).ok()?;
        (Digest::of(&bytes).short() == entry.check).then(|| postcard::from_bytes(&bytes).ok()).flatten()
    }

    /// Writes a file anew.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn write<'a>(
        path: &Path,
        blocks: impl Iterator<Item = (&'a str, Block)>,
        counts: (usize, usize, usize),
    ) -> Result<(), FileError> {
        write_whole_by(path, |file| {
            file.write_all(MARK)?;
            let (mut index, mut at) = (Index { entries: Vec::new(), counts }, MARK.len() as u64);
            for (part, block) in blocks {
                let bytes = postcard::to_stdvec(&block).map_err(std::io::Error::other)?;
                file.write_all(&bytes)?;
                let length = u32::try_from(bytes.len()).unwrap_or(0);
                index.entries.push(Entry { part: part.to_string(), at, length, check: Digest::of(&bytes).short() });
                at += bytes.len() as u64;
            }
            let index = postcard::to_stdvec(&index).map_err(std::io::Error::other)?;
            file.write_all(&index)?;
            let length = u32::try_from(index.len()).unwrap_or(0).to_le_bytes();
            file.write_all(&[&length[..], &Digest::of(&index).short()].concat())
        })
    }
}

fn read_index(file: &File) -> Option<Index> {
    let mut mark = [0; MARK.len()];
    file.read_exact_at(&mut mark, 0).ok()?;
    let end = file.metadata().ok()?.len().checked_sub(TAIL).filter(|_| mark == MARK)?;
    let mut tail = [0; TAIL as usize];
    file.read_exact_at(&mut tail, end).ok()?;
    let [a, b, c, d, check @ ..] = &tail;
    let length = u32::from_le_bytes([*a, *b, *c, *d]);
    let start = end.checked_sub(u64::from(length)).filter(|start| *start >= MARK.len() as u64)?;
    let mut index = vec![0; length as usize];
    file.read_exact_at(&mut index, start).ok()?;
    (Digest::of(&index).short() == *check).then(|| postcard::from_bytes(&index).ok()).flatten()
}
