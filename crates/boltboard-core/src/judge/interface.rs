//! What a link sees of a shared library: its dynamic symbols, their versions, and the names that it brings along. A library
//! whose code has changed behind the same interface links to the same bytes.

use object::{Object, ObjectSection, ObjectSymbol, SymbolFlags, SymbolKind};

use crate::base::Digest;

/// Returns the digest of a shared library's interface, `None` when the file is not one.
///
/// Functions count by name, sort, binding, visibility and version; data also by size and address, because a program may hold
/// a copy that is as large and aligned alike. Undefined symbols count too: a program exports what its libraries ask for.
pub fn interface_digest(file: &[u8]) -> Option<Digest> {
    let library = object::File::parse(file).ok()?;
    let mut seen = b"interface 3".to_vec();
    // Names of needed libraries, of the library itself, and of versions.
    for section in [".dynstr", ".gnu.version", ".gnu.version_d", ".gnu.version_r"] {
        let content = library.section_by_name(section).and_then(|s| s.data().ok()).unwrap_or_default();
        seen.extend_from_slice(Digest::of(content).to_string().as_bytes());
    }
    let head = seen.len();
    for symbol in library.dynamic_symbols() {
        let SymbolFlags::Elf { st_info, st_other } = symbol.flags() else { return None };
        let (size, address) = match symbol.kind() {
            SymbolKind::Text => (0, 0),
            _ => (symbol.size(), symbol.address()),
        };
        // No name holds a zero, so that nothing runs into what follows it.
        seen.extend_from_slice(symbol.name_bytes().ok()?);
        seen.extend_from_slice(&[0, st_info.0, st_other.0, u8::from(symbol.is_undefined())]);
        seen.extend_from_slice(&size.to_le_bytes());
        seen.extend_from_slice(&address.to_le_bytes());
    }
    (seen.len() > head).then(|| Digest::of(&seen))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_library_has_no_interface() {
        for file in [&b""[..], b"int x;", b"\x7fELF", &[0x7f; 300]] {
            assert_eq!(interface_digest(file), None);
        }
    }
}
