//! What services, metadata and short runs share: parts that must be installed, and files that are made and installed for them.

use super::entry::Entry;
use super::fields::{Fields, Text};
use super::lookup::Names;
use super::problem::{Fault, Problem};
use crate::base::{Arena, RelPath};
use crate::board::{Condition, Generator, InstallRole, InstallRule, Interp, PartDef, PartId, PartKind};
use crate::expr::Expr;

/// The mode of files that are made.
const FILE_MODE: u32 = 0o644;

/// What a part has to be, for what follows from it.
#[derive(Clone, Copy)]
pub(super) enum Wanted {
    /// A program.
    Program,
    /// A library.
    Library,
}

/// Reports a part that is not an installed one of this sort.
pub(super) fn is_installed(
    entry: &Entry<'_>,
    parts: &Arena<PartDef>,
    part: PartId,
    wanted: Wanted,
    what: &str,
) -> bool {
    let part = &parts[part];
    let (fits, sort) = match wanted {
        Wanted::Program => (matches!(part.kind, PartKind::Program), "program"),
        Wanted::Library => (matches!(part.kind, PartKind::StaticLibrary | PartKind::SharedLibrary { .. }), "library"),
    };
    let is_so = fits && part.install.is_some();
    if !is_so {
        complain(entry, format!("`{}` {what}, so it must be an installed {sort}", part.name));
    }
    is_so
}

/// Reports something about an entry as a whole.
pub(super) fn complain(entry: &Entry<'_>, text: String) {
    entry.log.add(Problem::at(entry.name.place, Fault::Combination(text)));
}

/// Joins conditions that must all hold.
pub(super) fn all_of(entry: &Entry<'_>, conditions: impl IntoIterator<Item = Condition>) -> Option<Condition> {
    let expr = Expr::all(conditions.into_iter().map(|when| when.expr))?;
    Some(Condition { expr, place: entry.name.place })
}

/// Reads where something is installed that is installed below the prefix unless told otherwise.
pub(super) fn below_prefix(fields: &Fields<'_>, names: &Names, usual: &str) -> Option<Interp> {
    let text = fields.text("install");
    if text.is_none() && !names.options.has("prefix") {
        fields.missing("install");
        return None;
    }
    let text = text.unwrap_or(Text { text: usual.into(), place: fields.place });
    names.lasting(&text, fields.log())
}

/// A file that is made and installed for an entry.
pub(super) struct MadeFile {
    /// What the part that makes it adds to the entry's name.
    pub word: &'static str,
    /// One line about it.
    pub summary: String,
    /// It is made only while this holds.
    pub when: Option<Condition>,
    /// Where it comes to lie, below the folder of generated files.
    pub at: String,
    /// The folder that it is installed in.
    pub to: Interp,
}

/// Adds the part that makes a file.
pub(super) fn add_file(
    entry: &Entry<'_>,
    names: &Names,
    parts: &mut Arena<PartDef>,
    file: MadeFile,
    generator: impl FnOnce(RelPath) -> Generator,
) -> Option<PartId> {
    let name = format!("{}-{}", entry.name.text, file.word);
    if names.parts.has(&name) {
        complain(entry, format!("`{}` makes a part `{name}`, and there is one", entry.name.text));
        return None;
    }
    // Names have no signs that a path could not have.
    let at = RelPath::parse(&file.at).ok()?;
    let mut part = PartDef::plain(name, entry.name.place, entry.folder.clone());
    part.summary = file.summary;
    part.when = file.when;
    part.kind = PartKind::Generated(generator(at));
    let (to, role) = (file.to, InstallRole::Plain);
    part.install = Some(InstallRule { to, name: None, mode: FILE_MODE, role, folders: vec![] });
    Some(parts.add(part))
}
