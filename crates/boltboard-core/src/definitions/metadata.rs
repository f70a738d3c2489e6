//! `[metadata.NAME]`: the metadata file of libraries, and the part that makes it.

use super::delivery::{MadeFile, Wanted, add_file, all_of, below_prefix, is_installed};
use super::entry::Entry;
use super::lookup::Names;
use crate::base::Arena;
use crate::board::{Generator, MetadataDef, PartDef, PartId};

/// Reads it, and adds the part that makes it.
pub(super) fn metadata(entry: &Entry<'_>, names: &Names, parts: &mut Arena<PartDef>) {
    let fields = entry.fields("metadata");
    let log = entry.log;
    let said = fields.texts("libraries");
    let libraries: Vec<PartId> = said.iter().filter_map(|text| names.parts.find(text, log)).collect();
    if said.is_empty() {
        fields.missing("libraries");
    }
    let summary = fields.required_text("summary").map_or_else(String::new, |text| text.text);
    let when = names.when(&fields);
    let (include, flags) = (names.lasting_list(&fields, "include"), names.lasting_list(&fields, "flags"));
    let public_needs = names.when_list(&fields, "public-needs", &mut |text| names.needs.find(text, log));
    let to = below_prefix(&fields, names, "${prefix}/lib/pkgconfig");
    fields.finish();
    let what = "is told to those who build on it";
    for library in &libraries {
        is_installed(entry, parts, *library, Wanted::Library, what);
    }
    let (Some(to), false) = (to, libraries.is_empty()) else { return };
    // Without its libraries nobody can build on it.
    let when = all_of(entry, libraries.iter().filter_map(|library| parts[*library].when.clone()).chain(when));
    let def = MetadataDef {
        name: entry.name.text.clone(),
        summary,
        libraries,
        include,
        flags,
        public_needs,
        place: entry.name.place,
    };
    let summary = format!("what {} tells those who build on it", def.name);
    let made = MadeFile { word: "metadata", summary, when, at: format!("pkgconfig/{}.pc", def.name), to };
    add_file(entry, names, parts, made, |to| Generator::Metadata { of: Box::new(def), to });
}
