//! What files ask the host for at run time: libraries, and the symbols that they use of them.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use object::read::elf::{FileHeader, Sym};
use object::{Endianness, FileKind, ReadCache, ReadRef};

use super::PackageFault;
use super::architecture::Architecture;
use super::contents::{Packed, PackedFile};
use crate::install::{Searching, asks_of, gets};
use crate::remedy::Family;

/// A name that a file uses of a library.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Symbol {
    /// The name.
    pub name: String,
    /// The version of it, where the library has versions.
    pub version: Option<String>,
}

/// A library of the host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Library {
    /// The name by which it is asked for.
    pub name: String,
    /// Where it lies here.
    pub file: PathBuf,
    /// The package that owns it.
    pub owner: Option<String>,
}

/// All that files ask for beyond themselves.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Needed {
    /// The libraries, by name.
    pub libraries: BTreeMap<String, Library>,
    /// Names that nothing here answers to.
    pub not_found: BTreeSet<String>,
    /// The symbols that they use.
    pub symbols: BTreeSet<Symbol>,
    /// The versions of symbols that they use, each with its library.
    pub versions: BTreeSet<(String, String)>,
    /// What kind of machine they are for.
    pub architecture: Option<Architecture>,
}

/// Works out what files ask for, on the host below `root`.
///
/// # Errors
/// They are for two kinds of machines.
pub fn needed(files: &[PackedFile], root: &Path) -> Result<Needed, PackageFault> {
    let mut needed = Needed::default();
    let mut first: Option<(Architecture, &Path)> = None;
    let name_of = |path: &Path| path.file_name().map_or(String::new(), |name| name.to_string_lossy().into_owned());
    let own: BTreeSet<String> = files.iter().map(|file| name_of(&file.path)).collect();
    let searching = Searching::of("", "", root);
    for file in files {
        let Packed::File { source, .. } = &file.packed else { continue };
        if let Some(machine) = machine_of(source) {
            match first {
                Some((one, at)) if one != machine => {
                    let (first, second) = (at.to_path_buf(), file.path.clone());
                    return Err(PackageFault::TwoMachines { first, one, second, other: machine });
                }
                Some(_) => {}
                None => first = Some((machine, &file.path)),
            }
        }
        let Some(asks) = asks_of(source) else { continue };
        let (symbols, versions) = symbols_of(source).unwrap_or_default();
        needed.symbols.extend(symbols);
        needed.versions.extend(versions);
        for name in asks.libraries.into_iter().filter(|name| !own.contains(name)) {
            match gets(&name, &file.path, &asks.run_paths, &searching) {
                Some(at) => {
                    let library = Library { name: name.clone(), file: at.canonicalize().unwrap_or(at), owner: None };
                    needed.libraries.entry(name).or_insert(library);
                }
                None => drop(needed.not_found.insert(name)),
            }
        }
    }
    let places: BTreeSet<String> =
        needed.libraries.values().map(|library| library.file.display().to_string()).collect();
    let owners = if places.is_empty() { BTreeMap::new() } else { Family::Debian.owners(root, &places) };
    for library in needed.libraries.values_mut() {
        library.owner = owners.get(&library.file.display().to_string()).map(ToString::to_string);
    }
    needed.architecture = first.map(|(machine, _)| machine);
    Ok(needed)
}

/// What kind of machine a file is for, if it is a program, library or object.
fn machine_of(path: &Path) -> Option<Architecture> {
    let head = object::read::ReadCache::new(std::fs::File::open(path).ok()?);
    let start = (&head).read_bytes_at(0, 20).ok()?;
    let bytes: [u8; 2] = start.get(18..20)?.try_into().ok()?;
    let is_elf = start.starts_with(b"\x7fELF");
    let number = if start.get(5) == Some(&2) { u16::from_be_bytes(bytes) } else { u16::from_le_bytes(bytes) };
    is_elf.then(|| Architecture::of_elf(number))?
}

/// Symbols, and versions of symbols with their libraries.
type Used = (BTreeSet<Symbol>, BTreeSet<(String, String)>);

/// The names that a file uses and does not have.
fn symbols_of(path: &Path) -> Option<Used> {
    let cache = ReadCache::new(std::fs::File::open(path).ok()?);
    match FileKind::parse(&cache).ok()? {
        FileKind::Elf64 => undefined::<object::elf::FileHeader64<Endianness>>(&cache),
        FileKind::Elf32 => undefined::<object::elf::FileHeader32<Endianness>>(&cache),
        _ => None,
    }
}

fn undefined<E: FileHeader<Endian = Endianness>>(data: &ReadCache<std::fs::File>) -> Option<Used> {
    let header = E::parse(data).ok()?;
    let endian = header.endian().ok()?;
    let sections = header.sections(endian, data).ok()?;
    let symbols = sections.symbols(endian, data, object::elf::SHT_DYNSYM).ok()?;
    let versions = sections.versions(endian, data).ok()?;
    let (mut all, mut of_libraries) = (BTreeSet::new(), BTreeSet::new());
    for (index, symbol) in symbols.enumerate() {
        if !symbol.is_undefined(endian) {
            continue;
        }
        let Ok(name) = symbols.symbol_name(endian, symbol) else { continue };
        let version = versions.as_ref().and_then(|table| {
            let version = table.version(table.version_index(endian, index).index()).ok()??;
            let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
            of_libraries.extend(version.file().map(|library| (text(library), text(version.name()))));
            Some(text(version.name()))
        });
        if !name.is_empty() {
            all.insert(Symbol { name: String::from_utf8_lossy(name).into_owned(), version });
        }
    }
    Some((all, of_libraries))
}
