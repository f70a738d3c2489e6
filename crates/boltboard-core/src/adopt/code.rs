//! What a compiled object is apart from its debug information, which names the folders that it was compiled in.

use object::read::elf::{ElfFile32, ElfFile64};
use object::{Object, ObjectSection, ObjectSymbol, RelocationTarget, SectionFlags};

use crate::base::Digest;

/// Returns a digest of an object's code, data, symbols and what its links must fill in; `None` for what is no such object.
pub(super) fn code_of(bytes: &[u8]) -> Option<Digest> {
    if let Ok(file) = ElfFile64::<object::Endianness>::parse(bytes) {
        return digest(&file);
    }
    digest(&ElfFile32::<object::Endianness>::parse(bytes).ok()?)
}

fn digest<'data: 'file, 'file>(file: &'file impl Object<'data>) -> Option<Digest> {
    if file.kind() != object::ObjectKind::Relocatable {
        return None;
    }
    let mut parts: Vec<String> = Vec::new();
    let name_of = |index| file.symbol_by_index(index).ok();
    for section in file.sections() {
        let SectionFlags::Elf { sh_flags, .. } = section.flags() else { continue };
        if sh_flags & object::elf::SHF_ALLOC != object::elf::SHF_ALLOC {
            continue;
        }
        // What has that flag is part of the program that runs.
        let data = section.data().ok()?;
        parts.push(format!("{:?} {sh_flags:?} {} {}", section.name().ok()?, section.align(), section.size()));
        parts.push(Digest::of(data).to_string());
        for (offset, relocation) in section.relocations() {
            let target = match relocation.target() {
                RelocationTarget::Symbol(index) => {
                    let symbol = name_of(index)?;
                    let own = symbol.section_index().and_then(|at| file.section_by_index(at).ok());
                    let section = own.and_then(|own| own.name().ok().map(str::to_string)).unwrap_or_default();
                    format!("{:?} {section}", symbol.name().ok()?)
                }
                other => format!("{other:?}"),
            };
            parts.push(format!("{offset} {:?} {target} {}", relocation.flags(), relocation.addend()));
        }
    }
    for symbol in file.symbols() {
        let name = symbol.name().ok()?;
        if !name.is_empty() && symbol.kind() != object::SymbolKind::File {
            let own = symbol.section_index().and_then(|at| file.section_by_index(at).ok());
            let section = own.and_then(|own| own.name().ok().map(str::to_string)).unwrap_or_default();
            parts.push(format!("{name} {section} {} {} {:?}", symbol.address(), symbol.size(), symbol.flags()));
        }
    }
    Some(Digest::of_parts(parts.iter().map(String::as_str)))
}
