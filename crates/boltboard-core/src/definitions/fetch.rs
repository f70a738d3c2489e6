//! `[fetch.NAME]`: what the tree uses and does not carry.

use super::entry::Entry;
use super::fields::{Fields, Log};
use super::lookup::Names;
use super::outside::FetchPlace;
use super::problem::Fault;
use crate::base::{RelPath, Sha256};
use crate::board::{FetchDef, FetchForm, name_of};

/// The longest file that is fetched, in bytes.
const MAX_SIZE: i64 = 1 << 40;

/// Reads an entry.
pub(super) fn fetch(entry: &Entry<'_>, names: &Names) -> Option<FetchDef> {
    let fields = entry.fields("fetch");
    let fetch = all_but_when(entry, &fields);
    let when = names.when(&fields);
    fields.finish();
    Some(FetchDef { when, ..fetch? })
}

/// Returns where an entry's file comes to lie, before any name is known; what is wrong is told when it is read.
pub(super) fn place(entry: &Entry<'_>) -> Option<FetchPlace> {
    let log = Log::default();
    let quiet =
        Entry { name: entry.name.clone(), folder: entry.folder, default_section: None, table: entry.table, log: &log };
    all_but_when(&quiet, &quiet.fields("fetch")).map(|fetch| FetchPlace::of(&fetch))
}

fn all_but_when(entry: &Entry<'_>, fields: &Fields<'_>) -> Option<FetchDef> {
    let addresses = fields.texts("from");
    if addresses.is_empty() {
        fields.missing("from");
    }
    for address in &addresses {
        let known = ["http://", "https://"].iter().any(|scheme| address.text.starts_with(scheme));
        if !known || address.text.contains(char::is_whitespace) || name_of(&address.text).is_empty() {
            let text = format!("`{}` is no address that files are fetched from (http:, https:)", address.text);
            fields.problem(address.place, Fault::Combination(text));
        }
    }
    let size = fields.integer("size");
    if size.is_none() && fields.get("size").is_none() {
        fields.missing("size");
    }
    if let Some((found, _)) = fields.get("size").zip(size).filter(|(_, size)| !(0..=MAX_SIZE).contains(size)) {
        fields.problem(found.place, Fault::Combination("`size` is a number of bytes up to 1 TiB".into()));
    }
    let digest = fields.required_text("sha256");
    let sha256 = digest.and_then(|text| {
        let read = text.text.parse::<Sha256>();
        fields.read(&text, read.map_err(|fault| Fault::Combination(fault.to_string())))
    });
    let into = fields.required_text("into").and_then(|text| {
        let path = fields.read(&text, entry.folder.join(&text.text))?;
        let is_below = path != RelPath::root();
        let fault = || Fault::Combination("`into` is a path below the tree's root".into());
        fields.read(&text, is_below.then_some(path).ok_or_else(fault))
    });
    let usual = addresses.first().map_or(FetchForm::File, |address| FetchForm::of_name(name_of(&address.text)));
    let form = fields.word("unpack", &FetchForm::WORDS).unwrap_or(usual);
    let folder = fields.text("folder").and_then(|text| {
        if form == FetchForm::File {
            fields.problem(text.place, Fault::Combination("`folder` is of an archive, and this file is none".into()));
        }
        fields.read(&text, RelPath::parse(&text.text)).filter(|path| *path != RelPath::root())
    });
    Some(FetchDef {
        name: entry.name.text.clone(),
        summary: fields.text_or_empty("summary"),
        when: None,
        from: addresses.into_iter().map(|address| address.text).collect(),
        size: u64::try_from(size.unwrap_or_default()).unwrap_or_default(),
        sha256: sha256?,
        into: into?,
        form,
        folder,
        place: entry.name.place,
    })
}
