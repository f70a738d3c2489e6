//! How large what was built is, by what kind of section it is in.

use std::path::Path;

use object::read::archive::ArchiveFile;
use object::{Object, ObjectSection, SectionKind};

use crate::board::PartId;
use crate::plan::Plan;

/// The largest file of which sections are read, in bytes.
const MAX_FILE: u64 = 1 << 30;

/// What the names of sections begin with that only debuggers read.
const DEBUG: [&str; 2] = [".debug_", ".zdebug_"];

/// Bytes of a program, library or module by what they are. All that is there at run time counts; what only a debugger reads stands apart.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct SectionSizes {
    /// Code.
    pub code: u64,
    /// Data that is only read.
    pub constants: u64,
    /// Data that is written.
    pub data: u64,
    /// Data that begins as zeros and takes no room in the file.
    pub zeros: u64,
    /// What only debuggers read.
    pub debug: u64,
}

impl SectionSizes {
    /// Its sizes with their names, in a fixed order.
    pub fn named(&self) -> [(&'static str, u64); 5] {
        [
            ("code", self.code),
            ("constants", self.constants),
            ("data", self.data),
            ("zeros", self.zeros),
            ("debug", self.debug),
        ]
    }

    /// Reads them from an ELF file's content; of a library of objects, all members together.
    pub fn of(bytes: &[u8]) -> Option<SectionSizes> {
        let mut sizes = SectionSizes::default();
        if let Ok(archive) = ArchiveFile::parse(bytes) {
            for member in archive.members().filter_map(Result::ok) {
                if let Ok(file) = member.data(bytes).and_then(object::File::parse) {
                    sizes.add(&file);
                }
            }
            return Some(sizes);
        }
        sizes.add(&object::File::parse(bytes).ok()?);
        Some(sizes)
    }

    fn add(&mut self, file: &object::File<'_>) {
        let sizes = self;
        for section in file.sections() {
            let size = section.size();
            if section.name().is_ok_and(|name| DEBUG.iter().any(|begin| name.starts_with(begin))) {
                sizes.debug += size;
                continue;
            }
            match section.kind() {
                SectionKind::Text => sizes.code += size,
                SectionKind::ReadOnlyData | SectionKind::ReadOnlyString | SectionKind::ReadOnlyDataWithRel => {
                    sizes.constants += size;
                }
                SectionKind::Data | SectionKind::Tls => sizes.data += size,
                SectionKind::UninitializedData | SectionKind::UninitializedTls => sizes.zeros += size,
                _ => {}
            }
        }
    }
}

/// The sizes of a part that was built.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sizes {
    /// All its files together.
    pub bytes: u64,
    /// The sections of those that have some.
    pub sections: Option<SectionSizes>,
}

/// Looks at what was built of a part; `None` where there is nothing of it.
pub fn sizes(plan: &Plan, part: PartId) -> Option<Sizes> {
    let mut all: Option<Sizes> = None;
    for output in plan.parts.get(&part)? {
        let path = output.path(&plan.folders);
        let Some(size) = std::fs::symlink_metadata(&path).ok().filter(|status| status.is_file()).map(|s| s.len())
        else {
            continue;
        };
        let known = all.get_or_insert(Sizes { bytes: 0, sections: None });
        known.bytes += size;
        if let Some(more) = sections_of(&path, size) {
            let into = known.sections.get_or_insert_default();
            into.code += more.code;
            into.constants += more.constants;
            into.data += more.data;
            into.zeros += more.zeros;
            into.debug += more.debug;
        }
    }
    all
}

fn sections_of(path: &Path, size: u64) -> Option<SectionSizes> {
    if size > MAX_FILE {
        return None;
    }
    SectionSizes::of(&std::fs::read(path).ok()?)
}
