//! Finding the records in a file. Files come from anywhere: only what is needed of them is read, and within limits.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

use object::read::archive::ArchiveFile;
use object::{CompressionFormat, FileKind, Object, ObjectSection, ReadCache, ReadRef};

use super::text::{MAX_TEXT, texts_in};
use super::{HEADER, REST, Record, RecordFault, SECTION, records_in};
use crate::base::{DigestOf, FileError};

/// The most members of an archive that are looked at.
const MAX_MEMBERS: usize = 200_000;

/// A record, and where in the file it lies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Seen {
    /// The member of an archive that it lies in, if it is one of an object there.
    pub member: Option<String>,
    /// The record.
    pub record: Result<Record, RecordFault>,
    /// How the file stands to it.
    pub standing: Standing,
}

/// How a file stands to its record.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Standing {
    /// It is as it was made.
    AsMade,
    /// It was changed since, as by a stripper.
    Changed,
    /// The record does not tell.
    NotTold,
}

/// Why there is nothing to read.
#[derive(Debug, thiserror::Error)]
pub enum ReadFault {
    /// The file cannot be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// It is no regular file.
    #[error("{} is {what}, not a file", .path.display())]
    NotAFile {
        /// The path.
        path: PathBuf,
        /// What it is.
        what: &'static str,
    },
    /// No process has that number.
    #[error("there is no process {0}")]
    NoProcess(u32),
    /// It is no file that programs are linked to or of.
    #[error("{} is no program, library, module or archive of objects", .0.display())]
    NotBuilt(PathBuf),
    /// It is one, and its own tables contradict themselves.
    #[error("{} is damaged: {why}", .path.display())]
    Damaged {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        why: String,
    },
}

/// Reads all records of a file: of a program, library or module those in its section, of an archive those of all its members.
///
/// # Errors
/// See [`ReadFault`]. A file without a record has none in the list.
pub fn read_records(path: &Path) -> Result<Vec<Seen>, ReadFault> {
    let failed = || FileError::on("read", path);
    let status = std::fs::metadata(path).map_err(failed())?;
    if !status.is_file() {
        let what = if status.is_dir() { "a folder" } else { "a device or a queue" };
        return Err(ReadFault::NotAFile { path: path.to_path_buf(), what });
    }
    let file = File::open(path).map_err(failed())?;
    let cache = ReadCache::new(&file);
    let damaged = |e: object::Error| ReadFault::Damaged { path: path.to_path_buf(), why: e.to_string() };
    let mut seen = match FileKind::parse(&cache) {
        Ok(FileKind::Elf32 | FileKind::Elf64) => of_object(&cache, None).map_err(damaged)?,
        Ok(FileKind::Archive) => of_archive(&cache).map_err(damaged)?,
        Ok(_) | Err(_) => return Err(ReadFault::NotBuilt(path.to_path_buf())),
    };
    for one in &mut seen {
        let mark = one.record.as_ref().ok().and_then(|record| record.file.as_ref());
        if let Some(mark) = mark {
            let now = digest_of_rest(&file, mark.bytes).map_err(failed())?;
            one.standing = if now == mark.digest { Standing::AsMade } else { Standing::Changed };
        }
    }
    Ok(seen)
}

fn of_archive<'d, R: ReadRef<'d>>(data: R) -> object::Result<Vec<Seen>> {
    let archive = ArchiveFile::parse(data)?;
    let mut seen = Vec::new();
    for member in archive.members().take(MAX_MEMBERS) {
        let member = member?;
        if archive.is_thin() {
            continue;
        }
        let (from, size) = member.file_range();
        let name = String::from_utf8_lossy(member.name()).into_owned();
        let own = name == super::elf::MEMBER;
        // What is in an archive and no object has no record of ours.
        let within = Within { data, from, size };
        seen.extend(of_object(within, (!own).then_some(name)).unwrap_or_default());
    }
    Ok(seen)
}

/// A stretch of a file.
#[derive(Clone, Copy)]
struct Within<R> {
    data: R,
    from: u64,
    size: u64,
}

impl<'d, R: ReadRef<'d>> ReadRef<'d> for Within<R> {
    fn len(self) -> Result<u64, ()> {
        Ok(self.size)
    }

    fn read_bytes_at(self, offset: u64, size: u64) -> Result<&'d [u8], ()> {
        if offset.checked_add(size).is_none_or(|end| end > self.size) {
            return Err(());
        }
        self.data.read_bytes_at(self.from.checked_add(offset).ok_or(())?, size)
    }

    fn read_bytes_at_until(self, range: std::ops::Range<u64>, delimiter: u8) -> Result<&'d [u8], ()> {
        let end = range.end.min(self.size);
        let place = |at: u64| self.from.checked_add(at).ok_or(());
        self.data.read_bytes_at_until(place(range.start)?..place(end)?, delimiter)
    }
}

fn of_object<'d, R: ReadRef<'d>>(data: R, member: Option<String>) -> object::Result<Vec<Seen>> {
    let file = object::File::parse(data)?;
    let named = |name: &'static str| file.sections().filter(move |section| section.name() == Ok(name));
    let mut rests = BTreeMap::new();
    for section in named(REST) {
        let texts = content(&section).map(|bytes| texts_in(&bytes)).unwrap_or_default();
        rests.extend(texts.into_iter().filter_map(Result::ok));
    }
    let mut seen = Vec::new();
    for section in named(SECTION) {
        let records = match content(&section) {
            Ok(bytes) => records_in(&bytes, &rests),
            Err(fault) => vec![Err(fault)],
        };
        let one = |record| Seen { member: member.clone(), record, standing: Standing::NotTold };
        seen.extend(records.into_iter().map(one));
    }
    Ok(seen)
}

fn content<'d>(section: &impl ObjectSection<'d>) -> Result<Vec<u8>, RecordFault> {
    let damaged = |e: object::Error| RecordFault::Damaged(e.to_string());
    let range = section.compressed_file_range().map_err(damaged)?;
    let longest = MAX_TEXT as u64;
    if range.compressed_size > longest || range.uncompressed_size > longest {
        return Err(RecordFault::TooLong);
    }
    let data = section.compressed_data().map_err(damaged)?;
    match data.format {
        CompressionFormat::None => Ok(data.data.to_vec()),
        CompressionFormat::Zlib => {
            let mut text = Vec::new();
            let unpacker = flate2::read::ZlibDecoder::new(data.data);
            unpacker.take(longest + 1).read_to_end(&mut text).map_err(|e| RecordFault::Damaged(e.to_string()))?;
            if text.len() as u64 > longest { Err(RecordFault::TooLong) } else { Ok(text) }
        }
        _ => Err(RecordFault::Damaged("it is packed in a way that nobody here packs".into())),
    }
}

/// Stands for the first bytes of a file, but for those of its header.
fn digest_of_rest(mut file: &File, bytes: u64) -> std::io::Result<String> {
    file.seek(SeekFrom::Start(HEADER))?;
    let mut rest = file.take(bytes.saturating_sub(HEADER));
    let mut digest = DigestOf::default();
    let mut buffer = vec![0; 1 << 16];
    loop {
        let read = rest.read(&mut buffer)?;
        if read == 0 {
            return Ok(digest.end().to_string());
        }
        digest.add(&buffer[..read]);
    }
}
