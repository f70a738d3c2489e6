//! `[metadata.NAME]`: the metadata file of libraries, and the part that makes it.

use super::entry::Entry;
use super::lookup::Names;
use super::problem::{Fault, Problem};
use super::service::below_prefix;
use crate::base::{Arena, RelPath};
use crate::board::{Condition, Generator, InstallRole, InstallRule, MetadataDef, PartDef, PartId, PartKind};
use crate::expr::Expr;

/// The mode of the file.
const FILE_MODE: u32 = 0o644;

/// Reads it, and adds the part that makes it.
pub(super) fn metadata(entry: &Entry<'_>, names: &Names, parts: &mut Arena<PartDef>) {
    let fields = entry.fields("metadata");
    let log = entry.log;
    let complain = |text: String| log.add(Problem::at(entry.name.place, Fault::Combination(text)));
    let said = fields.texts("libraries");
    let libraries: Vec<PartId> = said.iter().filter_map(|text| names.parts.find(text, log)).collect();
    if said.is_empty() {
        fields.missing("libraries");
    }
    let summary = fields.required_text("summary").map_or_else(String::new, |text| text.text);
    let when = names.when(&fields);
    let (include, flags) = (names.interp_list(&fields, "include"), names.interp_list(&fields, "flags"));
    let public_needs = names.when_list(&fields, "public-needs", &mut |text| names.needs.find(text, log));
    let to = below_prefix(&fields, names, "${prefix}/lib/pkgconfig");
    fields.finish();
    for library in &libraries {
        let part = &parts[*library];
        if !matches!(part.kind, PartKind::StaticLibrary | PartKind::SharedLibrary { .. }) || part.install.is_none() {
            complain(format!("`{}` is told to those who build on it, so it must be an installed library", part.name));
        }
    }
    let (Some(to), false) = (to, libraries.is_empty()) else { return };
    let name = format!("{}-metadata", entry.name.text);
    let Ok(file) = RelPath::parse(&format!("pkgconfig/{}.pc", entry.name.text)) else { return };
    if names.parts.has(&name) {
        complain(format!("the metadata `{}` make a part `{name}`, and there is one", entry.name.text));
        return;
    }
    // Without its libraries nobody can build on it.
    let conditions = libraries.iter().filter_map(|library| parts[*library].when.clone()).chain(when);
    let when = Expr::all(conditions.map(|when| when.expr)).map(|expr| Condition { expr, place: entry.name.place });
    let def = MetadataDef {
        name: entry.name.text.clone(),
        summary,
        libraries,
        include,
        flags,
        public_needs,
        place: entry.name.place,
    };
    let mut part = PartDef::plain(name, entry.name.place, entry.folder.clone());
    part.summary = format!("what {} tells those who build on it", def.name);
    part.when = when;
    part.kind = PartKind::Generated(Generator::Metadata { of: Box::new(def), to: file });
    part.install = Some(InstallRule { to, name: None, mode: FILE_MODE, role: InstallRole::Plain, folders: vec![] });
    parts.add(part);
}
