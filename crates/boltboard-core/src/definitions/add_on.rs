//! `[add-on]`: what a folder outside of the tree says of itself, and what follows for all that it brings.
//!
//! An add-on has a section and a switch of its name, which is on unless something stands against it. All its parts, tests and what comes
//! after a build are there only while that switch is on, and its options have an effect only then.

use toml::Spanned;
use toml::de::{DeArray, DeString, DeTable, DeValue};

use super::entries::{board_fields, check_format};
use super::entry::Entry;
use super::fields::{Log, Text};
use super::find::{RawFile, more_of};
use super::lookup::Names;
use super::outside::Outside;
use super::problem::{Fault, Problem};
use crate::base::{Place, RelPath, Version, VersionRange};
use crate::board::{AddOn, Atom, Condition, SectionId, Tree};
use crate::expr::{Expr, is_name};

/// The keys that its switch has as well.
const OF_SWITCH: [&str; 3] = ["summary", "requires", "needs"];

/// An add-on as it was read, with the tables of its switch and its section.
pub(super) struct ReadAddOn<'a> {
    name: Text,
    version: String,
    summary: String,
    /// What it says of itself in the board.
    said: AddOnSaid,
    folder: &'a RelPath,
    switch: DeTable<'a>,
    section: DeTable<'a>,
    /// Its root file and the patterns of further ones, as paths of the tree.
    pub more: Vec<String>,
}

/// What only the board tells of an add-on.
#[derive(Clone)]
struct AddOnSaid {
    fits: Option<String>,
    about: String,
    maintainer: Option<String>,
    license: Option<String>,
    homepage: Option<String>,
}

/// Reads all of them; reports those that are wrong or do not fit the tree.
pub(super) fn all<'a>(raw: &'a [RawFile<'_>], outside: &Outside, tree: &Tree, log: &'a Log) -> Vec<ReadAddOn<'a>> {
    let is_root = |file: &&RawFile<'_>| outside.add_ons.iter().any(|one| one.at() == file.folder);
    raw.iter().filter(is_root).filter_map(|file| read(file, tree, log)).collect()
}

fn read<'a>(file: &'a RawFile<'_>, tree: &Tree, log: &'a Log) -> Option<ReadAddOn<'a>> {
    let own = file.folder.name();
    let top = board_fields(file, log);
    check_format(&top, "the root board of an add-on");
    let Some(found) = top.get("add-on") else {
        top.missing("add-on");
        return None;
    };
    let fields = top.sub(&found, "[add-on]")?;
    let name = fields.required_text("name");
    let version = fields.required_text("version");
    let summary = fields.text_or_empty("summary");
    let (for_tree, versions) = (fields.required_text("tree"), fields.text("tree-versions"));
    let text = |key| fields.text(key).map(|text| text.text);
    let said = AddOnSaid {
        fits: versions.as_ref().map(|versions| versions.text.clone()),
        about: text("about").unwrap_or_default(),
        maintainer: text("maintainer"),
        license: text("license"),
        homepage: text("homepage"),
    };
    for key in ["more", "requires", "needs"] {
        fields.get(key);
    }
    let name = name?;
    if !is_name(&name.text) {
        fields.problem(name.place, Fault::BadName(name.text.clone()));
        return None;
    }
    if name.text != own {
        let text = format!("this add-on is known as `{own}`, and calls itself `{}`", name.text);
        fields.problem(name.place, Fault::AddOn { name: own.into(), text });
        return None;
    }
    let unfit = |place: Place, wanted: String| {
        let text = format!("the add-on `{own}` is for {wanted}, and this is {} {}", tree.name, tree.version);
        log.add(Problem::at(place, Fault::AddOn { name: own.into(), text }));
    };
    if let Some(wanted) = for_tree.filter(|wanted| wanted.text != tree.name) {
        unfit(wanted.place, wanted.text);
    } else if let Some(wanted) = versions {
        match wanted.text.parse::<VersionRange>() {
            Err(fault) => fields.problem(wanted.place, Fault::Combination(fault.to_string())),
            Ok(range) => {
                let fits = range.holds(&Version::new(&tree.version));
                if !fits {
                    unfit(wanted.place, format!("{} {}", tree.name, wanted.text));
                }
            }
        }
    }
    let table = found.table()?;
    fields.finish();
    Some(ReadAddOn {
        version: version?.text,
        said,
        folder: &file.folder,
        switch: switch(table, &name),
        section: section(&name, &summary),
        more: more_of(file),
        name,
        summary,
    })
}

fn spanned<T>(name: &Text, item: T) -> Spanned<T> {
    let start = name.place.start as usize;
    Spanned::new(start..start + name.place.len as usize, item)
}

/// The table of its switch: what it says of itself, as an option says it.
fn switch<'a>(table: &DeTable<'a>, name: &Text) -> DeTable<'a> {
    let mut switch = DeTable::new();
    for (key, value) in table.iter().filter(|(key, _)| OF_SWITCH.contains(&key.get_ref().as_ref())) {
        switch.insert(key.clone(), value.clone());
    }
    let mut put = |key: &'static str, value: DeValue<'a>| {
        switch.insert(spanned(name, DeString::Borrowed(key)), spanned(name, value));
    };
    put("kind", DeValue::String(DeString::Borrowed("switch")));
    put("default", DeValue::String(DeString::Borrowed("on")));
    put("section", DeValue::String(DeString::Owned(name.text.clone())));
    put("macro", DeValue::Array(DeArray::new()));
    switch
}

fn section<'a>(name: &Text, summary: &str) -> DeTable<'a> {
    let mut section = DeTable::new();
    let title = if summary.is_empty() { name.text.clone() } else { format!("{}: {summary}", name.text) };
    section.insert(spanned(name, DeString::Borrowed("title")), spanned(name, DeValue::String(DeString::Owned(title))));
    section
}

impl<'a> ReadAddOn<'a> {
    fn entry<'s>(&'s self, table: &'s DeTable<'a>, log: &'s Log) -> Entry<'s>
    where
        'a: 's,
    {
        Entry { name: self.name.clone(), folder: self.folder, default_section: None, table, log }
    }

    /// The entry of its switch.
    pub fn switch<'s>(&'s self, log: &'s Log) -> Entry<'s> {
        self.entry(&self.switch, log)
    }

    /// The entry of its section.
    pub fn section<'s>(&'s self, log: &'s Log) -> Entry<'s> {
        self.entry(&self.section, log)
    }

    /// The add-on of the board, unless its switch has no name of its own.
    pub fn known(&self, names: &Names, log: &Log) -> Option<AddOn> {
        let AddOnSaid { fits, about, maintainer, license, homepage } = self.said.clone();
        Some(AddOn {
            fits,
            about,
            maintainer,
            license,
            homepage,
            name: self.name.text.clone(),
            version: self.version.clone(),
            summary: self.summary.clone(),
            folder: self.folder.clone(),
            switch: names.options.find(&self.name, log)?,
            place: self.name.place,
        })
    }
}

/// Returns the section in which another one of an add-on lies that names none.
pub(super) fn outer_section(add_ons: &[AddOn], entry: &Entry<'_>, names: &Names) -> Option<SectionId> {
    let add_on = add_ons.iter().find(|add_on| entry.folder.beneath(&add_on.folder).is_some())?;
    let is_own = entry.name.text == add_on.name;
    let name = Text { text: add_on.name.clone(), place: add_on.place };
    if is_own { None } else { names.sections.find(&name, entry.log) }
}

/// Returns a condition together with that of the add-on that a folder belongs to.
pub(super) fn gated(add_ons: &[AddOn], folder: &RelPath, when: Option<Condition>) -> Option<Condition> {
    let Some(add_on) = add_ons.iter().find(|add_on| folder.beneath(&add_on.folder).is_some()) else { return when };
    let place = when.as_ref().map_or(add_on.place, |when| when.place);
    let own = Expr::Atom(Atom::On(add_on.switch));
    let expr = Expr::all([own].into_iter().chain(when.map(|when| when.expr)))?;
    Some(Condition { expr, place })
}
