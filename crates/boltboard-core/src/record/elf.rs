//! A section more behind an ELF file, or a member more behind an archive of them.

use std::io::Write;

use object::elf::{
    ELFCOMPRESS_ZLIB, ET_REL, FileHeader32, FileHeader64, SHF_COMPRESSED, SHF_STRINGS, SHT_PROGBITS, SHT_STRTAB,
};
use object::read::archive::ArchiveFile;
use object::read::elf::{FileHeader, SectionHeader};
use object::{Endianness, FileKind};

/// The member of an archive.
pub(super) const MEMBER: &str = "boltboard.o";
/// Section numbers from here on are told in another way.
const MANY_SECTIONS: usize = 0xff00 - 1;
/// The section that says that no code runs on the stack; a linker takes its absence for the contrary.
const STACK: &str = ".note.GNU-stack";
/// The section that says what all code of a file keeps to; a linker takes its absence for the contrary.
const PROPERTY: &str = ".note.gnu.property";

/// What is written instead of a file's first bytes, and behind its last.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Addition {
    pub head: Vec<u8>,
    pub tail: Vec<u8>,
}

/// A text, and how it is put down.
#[derive(Clone, Copy)]
pub(super) enum Text<'t> {
    /// As it is: a program can read its own.
    Plain(&'t [u8]),
    /// Compressed as the format of the files has it.
    Packed(&'t Packed),
}

/// A text that is compressed already, because many files carry it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Packed {
    length: usize,
    zlib: Vec<u8>,
}

impl Packed {
    /// Compresses a text.
    pub fn of(text: &[u8]) -> Packed {
        let mut packer = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::default());
        // Memory takes all.
        let zlib = packer.write_all(text).and_then(|()| packer.finish()).unwrap_or_default();
        Packed { length: text.len(), zlib }
    }
}

/// A section to add: its name and its content.
pub(super) type Section<'t> = (&'t str, Text<'t>);

/// How numbers are written.
#[derive(Clone, Copy)]
struct Form {
    wide: bool,
    little: bool,
}

/// A row of the table of sections.
#[derive(Default, Clone)]
struct Row {
    name: u32,
    sort: u32,
    flags: u64,
    offset: u64,
    size: u64,
    align: u64,
}

impl Form {
    fn number(self, out: &mut Vec<u8>, value: u64, bytes: usize) {
        let little = value.to_le_bytes();
        if self.little {
            out.extend(&little[..bytes]);
        } else {
            out.extend(little[..bytes].iter().rev());
        }
    }

    /// A number as wide as an address.
    fn word(self, out: &mut Vec<u8>, value: u64) {
        self.number(out, value, if self.wide { 8 } else { 4 });
    }

    fn row(self, row: &Row) -> Vec<u8> {
        let mut out = Vec::new();
        self.number(&mut out, row.name.into(), 4);
        self.number(&mut out, row.sort.into(), 4);
        for value in [row.flags, 0, row.offset, row.size] {
            self.word(&mut out, value);
        }
        // No link to another section, and no more about it.
        out.extend([0; 8]);
        self.word(&mut out, row.align);
        self.word(&mut out, 0);
        out
    }

    fn put(self, bytes: &mut [u8], at: usize, value: u64, width: usize) {
        let mut out = Vec::new();
        self.number(&mut out, value, width);
        bytes[at..at + width].copy_from_slice(&out);
    }

    /// Writes into a header where the table of sections lies, how many there are, and which holds their names.
    fn put_table(self, header: &mut [u8], offset: u64, count: usize, names: usize) {
        let (at, counts, word) = if self.wide { (0x28, 0x3c, 8) } else { (0x20, 0x30, 4) };
        self.put(header, at, offset, word);
        self.put(header, counts, count as u64, 2);
        self.put(header, counts + 2, names as u64, 2);
    }

    /// The length of a file's header.
    fn header(self) -> usize {
        if self.wide { 64 } else { 52 }
    }

    /// The section's content with its flags.
    fn content(self, text: Text<'_>) -> (Vec<u8>, u64) {
        let packed = match text {
            Text::Plain(text) => return (text.to_vec(), 0),
            Text::Packed(packed) => packed,
        };
        let mut out = Vec::new();
        self.number(&mut out, ELFCOMPRESS_ZLIB.0.into(), 4);
        if self.wide {
            out.extend([0; 4]);
        }
        self.word(&mut out, packed.length as u64);
        self.word(&mut out, 1);
        out.extend(&packed.zlib);
        (out, SHF_COMPRESSED.0)
    }
}

/// What a record adds to a file; `None` where the file can carry none.
pub(super) fn addition(bytes: &[u8], added: &[Section<'_>]) -> Option<Addition> {
    match FileKind::parse(bytes).ok()? {
        FileKind::Elf64 => behind_elf::<FileHeader64<Endianness>>(bytes, added),
        FileKind::Elf32 => behind_elf::<FileHeader32<Endianness>>(bytes, added),
        FileKind::Archive => behind_archive(bytes, added),
        _ => None,
    }
}

fn behind_elf<E: FileHeader<Endian = Endianness>>(bytes: &[u8], added: &[Section<'_>]) -> Option<Addition> {
    let header = E::parse(bytes).ok()?;
    let endian = header.endian().ok()?;
    let form = Form { wide: header.is_type_64(), little: endian == Endianness::Little };
    let table = header.section_headers(endian, bytes).ok()?;
    let names_at = usize::try_from(header.shstrndx(endian, bytes).ok()?).ok()?;
    if table.is_empty() || table.len() + added.len() > MANY_SECTIONS {
        return None;
    }
    let names = table.get(names_at)?.data(endian, bytes).ok()?;
    let rows_from = usize::try_from(header.e_shoff(endian).into()).ok()?;
    let row_size = form.row(&Row::default()).len();
    let mut rows = bytes.get(rows_from..rows_from + table.len() * row_size)?.to_vec();
    let mut tail = Tail::behind(bytes.len());
    let mut all_names = names.to_vec();
    let mut more = Vec::new();
    for (name, text) in added {
        let (content, flags) = form.content(*text);
        let offset = tail.add(&content, 8);
        let name_at = u32::try_from(all_names.len()).ok()?;
        all_names.extend(name.as_bytes());
        all_names.push(0);
        let size = content.len() as u64;
        more.extend(form.row(&Row { name: name_at, sort: SHT_PROGBITS.0, flags, offset, size, align: 1 }));
    }
    let names_from = tail.add(&all_names, 1);
    // The names move with the new ones, and their row with them.
    let (offset_in_row, word) = if form.wide { (24, 8) } else { (16, 4) };
    let row = names_at * row_size + offset_in_row;
    form.put(&mut rows, row, names_from, word);
    form.put(&mut rows, row + word, all_names.len() as u64, word);
    rows.extend(more);
    let table_from = tail.add(&rows, 8);
    let mut head = bytes[..form.header()].to_vec();
    form.put_table(&mut head, table_from, table.len() + added.len(), names_at);
    Some(Addition { head, tail: tail.bytes })
}

/// What comes behind a file.
struct Tail {
    from: usize,
    bytes: Vec<u8>,
}

impl Tail {
    fn behind(from: usize) -> Tail {
        Tail { from, bytes: Vec::new() }
    }

    /// Adds bytes at a multiple of `align`, and returns where in the file.
    fn add(&mut self, bytes: &[u8], align: usize) -> u64 {
        let at = (self.from + self.bytes.len()).next_multiple_of(align);
        self.bytes.resize(at - self.from, 0);
        self.bytes.extend(bytes);
        at as u64
    }
}

fn behind_archive(bytes: &[u8], added: &[Section<'_>]) -> Option<Addition> {
    let archive = ArchiveFile::parse(bytes).ok()?;
    if archive.is_thin() {
        return None;
    }
    let objects = archive.members().filter_map(Result::ok).filter_map(|member| member.data(bytes).ok());
    let member = objects.into_iter().find_map(|data| match FileKind::parse(data).ok()? {
        FileKind::Elf64 => object_like::<FileHeader64<Endianness>>(data, added),
        FileKind::Elf32 => object_like::<FileHeader32<Endianness>>(data, added),
        _ => None,
    })?;
    let mut tail = Vec::new();
    if bytes.len() % 2 == 1 {
        tail.push(b'\n');
    }
    let name = format!("{MEMBER}/");
    writeln!(tail, "{name:<16}{:<12}{:<6}{:<6}{:<8}{:<10}`", 0, 0, 0, "100644", member.len()).ok()?;
    tail.extend(&member);
    if member.len() % 2 == 1 {
        tail.push(b'\n');
    }
    Some(Addition { head: bytes.get(..8)?.to_vec(), tail })
}

/// An object for the same machine as another one, with nothing in it but the text. What a linker concludes from what all objects of a
/// link say is said here as well, should someone link all members.
fn object_like<E: FileHeader<Endian = Endianness>>(other: &[u8], added: &[Section<'_>]) -> Option<Vec<u8>> {
    let header = E::parse(other).ok()?;
    let endian = header.endian().ok()?;
    let form = Form { wide: header.is_type_64(), little: endian == Endianness::Little };
    let mut names = vec![0];
    let mut name = |text: &str| {
        let at = names.len();
        names.extend(text.as_bytes());
        names.push(0);
        u32::try_from(at).unwrap_or(0)
    };
    let mut head = other.get(..form.header())?.to_vec();
    let mut tail = Tail::behind(head.len());
    let row = Row { sort: SHT_PROGBITS.0, align: 1, ..Row::default() };
    let mut rows = vec![Row::default(), Row { name: name(STACK), offset: head.len() as u64, ..row.clone() }];
    for (section, text) in added {
        let (content, flags) = form.content(*text);
        let offset = tail.add(&content, 8);
        rows.push(Row { name: name(section), flags, offset, size: content.len() as u64, ..row.clone() });
    }
    let sections = header.sections(endian, other).ok()?;
    if let Some((_, said)) = sections.section_by_name(endian, PROPERTY.as_bytes()) {
        let data = said.data(endian, other).ok()?;
        let align = said.sh_addralign(endian).into().clamp(1, 64);
        let offset = tail.add(data, usize::try_from(align).ok()?);
        let (sort, flags) = (said.sh_type(endian).0, said.sh_flags(endian).0);
        rows.push(Row { name: name(PROPERTY), sort, flags, offset, size: data.len() as u64, align });
    }
    let own = name(".shstrtab");
    let offset = tail.add(&names, 1);
    let flags = SHF_STRINGS.0;
    rows.push(Row { name: own, sort: SHT_STRTAB.0, flags, offset, size: names.len() as u64, align: 1 });
    let all: Vec<u8> = rows.iter().flat_map(|row| form.row(row)).collect();
    let table_from = tail.add(&all, 8);
    // An object: it begins nowhere, and has no segments.
    form.put(&mut head, 0x10, ET_REL.0.into(), 2);
    let word = if form.wide { 8 } else { 4 };
    form.put(&mut head, 0x18, 0, word);
    form.put(&mut head, 0x18 + word, 0, word);
    let segments = if form.wide { 0x36 } else { 0x2a };
    form.put(&mut head, segments, 0, 4);
    form.put_table(&mut head, table_from, rows.len(), rows.len() - 1);
    Some([head, tail.bytes].concat())
}
