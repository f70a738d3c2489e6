//! What a link sees of a shared library: its dynamic symbols, their versions, and the names that it brings along. A library
//! whose code has changed behind the same interface links to the same bytes.

use std::collections::{BTreeMap, HashSet};

use object::elf::{
    DT_AUXILIARY, DT_FILTER, DT_FLAGS, DT_FLAGS_1, DT_NEEDED, DT_RPATH, DT_RUNPATH, DT_SONAME, DynamicTag,
};
use object::{Object, ObjectSection, ObjectSymbol, SectionFlags, SymbolFlags, SymbolKind};

use crate::base::Digest;

/// Entries of the dynamic section that a linker reads: which libraries are needed, where they are looked for, and flags. Others say where
/// in the file something lies.
const READ_BY_LINKERS: [DynamicTag; 8] =
    [DT_NEEDED, DT_SONAME, DT_RPATH, DT_RUNPATH, DT_FLAGS, DT_FLAGS_1, DT_FILTER, DT_AUXILIARY];

/// How closely a link looks at the data of a shared library.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DataBy {
    /// By name, as at functions.
    Name,
    /// Also at what counts for a copy of it.
    Copy,
}

/// Returns the digest of a shared library's interface, `None` when the file is not one.
///
/// Symbols count by name, sort, binding, visibility and version; undefined ones too, because a program exports what its libraries ask for.
/// A program may hold a copy of data, and one copy for all names of the same place: for such a one data also counts by size, by alignment,
/// by whether it can be written to and by which names share it, but not by where it lies.
pub fn interface_digest(file: &[u8], data: DataBy) -> Option<Digest> {
    let library = object::File::parse(file).ok()?;
    let mut seen = b"interface".to_vec();
    // Names of needed libraries, of the library itself, and of versions; what a library asks of those that link it.
    for section in [".dynstr", ".gnu.version", ".gnu.version_d", ".gnu.version_r", ".note.gnu.property"] {
        let content = library.section_by_name(section).and_then(|s| s.data().ok()).unwrap_or_default();
        seen.extend_from_slice(Digest::of(content).to_string().as_bytes());
    }
    seen.extend(read_by_linkers(&library));
    let head = seen.len();
    let mut places = BTreeMap::new();
    for (number, symbol) in library.dynamic_symbols().enumerate() {
        let SymbolFlags::Elf { st_info, st_other } = symbol.flags() else { return None };
        // No name holds a zero, so that nothing runs into what follows it.
        seen.extend_from_slice(symbol.name_bytes().ok()?);
        seen.extend_from_slice(&[0, st_info.0, st_other.0, u8::from(symbol.is_undefined())]);
        if data == DataBy::Name || symbol.kind() == SymbolKind::Text {
            continue;
        }
        let section = symbol.section_index().and_then(|index| library.section_by_index(index).ok());
        let (address, size) = (symbol.address(), symbol.size());
        let words = match section {
            Some(section) => {
                // A linker gives a copy the alignment of the section, or less where the symbol's own place in it has less.
                let place = address.wrapping_sub(section.address()) | section.align().max(1);
                let SectionFlags::Elf { sh_flags, .. } = section.flags() else { return None };
                let first = *places.entry((section.index().0, address)).or_insert(number as u64);
                seen.extend_from_slice(section.name_bytes().ok()?);
                [size, 1 << place.trailing_zeros(), sh_flags.0, first]
            }
            // Such a value is not a place.
            None => [size, 0, 0, address],
        };
        seen.extend(words.iter().flat_map(|word| word.to_le_bytes()));
    }
    (seen.len() > head).then(|| Digest::of(&seen))
}

/// The data that a shared library defines, by name.
#[derive(Debug)]
pub struct LibraryData {
    /// `None` where it could not be read: it may be any.
    names: Option<HashSet<Vec<u8>>>,
}

impl LibraryData {
    /// Reads a shared library.
    pub fn of(library: &[u8]) -> LibraryData {
        let names = object::File::parse(library).ok().map(|library| {
            let data = library.dynamic_symbols().filter(|s| s.is_definition() && s.kind() != SymbolKind::Text);
            data.filter_map(|symbol| symbol.name_bytes().ok().map(<[u8]>::to_vec)).collect()
        });
        LibraryData { names }
    }

    /// Tells whether what was linked defines some of this data as well, so that it may hold a copy of it. What is no such file may hold
    /// anything.
    pub fn may_be_copied_into(&self, linked: &[u8]) -> bool {
        let (Ok(linked), Some(names)) = (object::File::parse(linked), &self.names) else { return true };
        let mut defined = linked.dynamic_symbols().chain(linked.symbols()).filter(|symbol| !symbol.is_undefined());
        // Names of a full table may carry a version.
        let plain = |name: &'_ [u8]| name.iter().position(|byte| *byte == b'@').unwrap_or(name.len());
        !names.is_empty() && defined.any(|s| s.name_bytes().is_ok_and(|name| names.contains(&name[..plain(name)])))
    }
}

/// The entries of the dynamic section that a linker reads, one after the other.
fn read_by_linkers(library: &object::File<'_>) -> Vec<u8> {
    let section = library.section_by_name(".dynamic");
    let content = section.as_ref().and_then(|s| s.data().ok()).unwrap_or_default();
    let half = if library.is_64() { 8 } else { 4 };
    let tag = |entry: &[u8]| {
        let join = |tag, byte: &u8| tag << 8 | i64::from(*byte);
        let bytes = entry[..half].iter();
        if library.is_little_endian() { bytes.rev().fold(0, join) } else { bytes.fold(0, join) }
    };
    let entries = content.chunks_exact(2 * half).filter(|entry| READ_BY_LINKERS.contains(&DynamicTag(tag(entry))));
    entries.flatten().copied().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_library_has_no_interface() {
        for file in [&b""[..], b"int x;", b"\x7fELF", &[0x7f; 300]] {
            assert_eq!(interface_digest(file, DataBy::Copy), None);
            assert!(LibraryData::of(file).may_be_copied_into(file), "nobody knows");
        }
    }
}
