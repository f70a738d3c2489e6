//! What a built file says to those who load it: its kind of machine, the libraries that it asks for, and the symbols that it uses.

use std::fs::File;
use std::path::Path;

use object::read::archive::ArchiveFile;
use object::read::elf::{Dyn, FileHeader, ProgramHeader, SectionTable, Sym};
use object::{Endianness, FileKind, ReadCache, ReadRef};

/// A program, library, module or object; or an archive of objects, told by the first of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Elf {
    /// The number of its kind of machine.
    pub machine: u16,
    /// What it asks the dynamic linker for, if it does.
    pub asks: Option<Asks>,
}

/// What a file asks the dynamic linker for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Asks {
    /// The libraries, by name.
    pub libraries: Vec<String>,
    /// Where it has them looked for.
    pub run_paths: Vec<String>,
    /// The symbols that it uses, where they were asked for.
    pub symbols: Vec<Symbol>,
}

/// A name that a file uses and does not have.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Symbol {
    /// The name.
    pub name: String,
    /// Its version and the library that has it, where the library has versions.
    pub of: Option<(String, String)>,
}

/// Whether symbols are read as well.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Symbols {
    /// They are.
    Read,
    /// They are not.
    Left,
}

impl Elf {
    /// Reads a file; `None` where it is of another sort, or cannot be read.
    pub fn of(path: &Path, symbols: Symbols) -> Option<Elf> {
        let file = File::open(path).ok().filter(|file| file.metadata().is_ok_and(|status| status.is_file()))?;
        let cache = ReadCache::new(file);
        match FileKind::parse(&cache).ok()? {
            FileKind::Archive => of_archive(&cache),
            _ => of_data(&cache, symbols),
        }
    }
}

fn of_archive(data: &ReadCache<File>) -> Option<Elf> {
    let archive = ArchiveFile::parse(data).ok()?;
    let mut members = archive.members().filter_map(Result::ok).filter_map(|member| member.data(data).ok());
    members.find_map(|bytes| of_data(bytes, Symbols::Left))
}

fn of_data<'d>(data: impl ReadRef<'d>, symbols: Symbols) -> Option<Elf> {
    match FileKind::parse(data).ok()? {
        FileKind::Elf64 => read::<object::elf::FileHeader64<Endianness>>(data, symbols),
        FileKind::Elf32 => read::<object::elf::FileHeader32<Endianness>>(data, symbols),
        _ => None,
    }
}

fn read<'d, E: FileHeader<Endian = Endianness>>(data: impl ReadRef<'d>, symbols: Symbols) -> Option<Elf> {
    let header = E::parse(data).ok()?;
    let endian = header.endian().ok()?;
    Some(Elf { machine: header.e_machine(endian).0, asks: asks(header, endian, data, symbols) })
}

fn asks<'d, E: FileHeader<Endian = Endianness>>(
    header: &'d E,
    endian: Endianness,
    data: impl ReadRef<'d>,
    symbols: Symbols,
) -> Option<Asks> {
    let headers = header.program_headers(endian, data).ok()?;
    if headers.iter().all(|one| one.p_type(endian) != object::elf::PT_DYNAMIC) {
        return None;
    }
    let sections = header.sections(endian, data).ok()?;
    let (entries, strings) = sections.dynamic(endian, data).ok()??;
    let strings = sections.strings(endian, data, strings).ok()?;
    let mut asks = Asks::default();
    for entry in entries {
        let tag = entry.d_tag(endian);
        if entry.is_string(endian)
            && let Ok(text) = entry.string(endian, strings)
        {
            let text = String::from_utf8_lossy(text).into_owned();
            if tag == object::elf::DT_NEEDED {
                asks.libraries.push(text);
            } else if tag == object::elf::DT_RUNPATH || tag == object::elf::DT_RPATH {
                asks.run_paths.extend(text.split(':').filter(|part| !part.is_empty()).map(str::to_string));
            }
        }
    }
    if symbols == Symbols::Read {
        asks.symbols = used(&sections, endian, data).unwrap_or_default();
    }
    Some(asks)
}

fn used<'d, E: FileHeader<Endian = Endianness>, R: ReadRef<'d>>(
    sections: &SectionTable<'d, E, R>,
    endian: Endianness,
    data: R,
) -> Option<Vec<Symbol>> {
    let symbols = sections.symbols(endian, data, object::elf::SHT_DYNSYM).ok()?;
    let versions = sections.versions(endian, data).ok()?;
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let mut all = Vec::new();
    for (index, symbol) in symbols.enumerate().filter(|(_, symbol)| symbol.is_undefined(endian)) {
        let Ok(name) = symbols.symbol_name(endian, symbol) else { continue };
        let version = versions.as_ref().and_then(|table| {
            let version = table.version(table.version_index(endian, index).index()).ok()??;
            Some((text(version.name()), text(version.file()?)))
        });
        if !name.is_empty() {
            all.push(Symbol { name: text(name), of: version });
        }
    }
    Some(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn programs_tell_what_they_ask_for_and_other_files_nothing() {
        let own = std::env::current_exe().unwrap();
        let elf = Elf::of(&own, Symbols::Read).unwrap();
        let asks = elf.asks.unwrap();
        assert!(asks.libraries.iter().any(|name| name.starts_with("libc.")), "{:?}", asks.libraries);
        let of_libc = |symbol: &&Symbol| symbol.of.as_ref().is_some_and(|(_, library)| library.starts_with("libc."));
        assert!(asks.symbols.iter().filter(of_libc).count() > 10);
        assert_eq!(Elf::of(&own, Symbols::Left).unwrap().asks.unwrap().symbols, []);
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("text"), "no program\n").unwrap();
        assert_eq!(Elf::of(&folder.path().join("text"), Symbols::Read), None);
        assert_eq!(Elf::of(folder.path(), Symbols::Read), None);
        // Cut off where its headers are.
        std::fs::write(folder.path().join("half"), &std::fs::read(&own).unwrap()[..40]).unwrap();
        assert_eq!(Elf::of(&folder.path().join("half"), Symbols::Read), None);
    }

    #[test]
    fn an_archive_is_for_the_machine_of_its_objects() {
        let folder = tempfile::tempdir().unwrap();
        let (archive, empty) = (folder.path().join("libx.a"), folder.path().join("none.a"));
        let own = std::fs::read(std::env::current_exe().unwrap()).unwrap();
        let mut members = ar::Builder::new(File::create(&archive).unwrap());
        members.append(&ar::Header::new(b"readme".to_vec(), 2), &b"x\n"[..]).unwrap();
        members.append(&ar::Header::new(b"a.o".to_vec(), 64), &own[..64]).unwrap();
        drop(
            ar::Builder::new(File::create(&empty).unwrap())
                .append(&ar::Header::new(b"readme".to_vec(), 2), &b"x\n"[..]),
        );
        let machine = Elf::of(&std::env::current_exe().unwrap(), Symbols::Left).unwrap().machine;
        let read = Elf::of(&archive, Symbols::Left).unwrap();
        assert_eq!((read.machine, read.asks), (machine, None));
        assert_eq!(Elf::of(&empty, Symbols::Left), None);
    }
}
