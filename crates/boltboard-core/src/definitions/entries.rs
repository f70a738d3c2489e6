//! The named tables of all definition files, by sort, and the names that they give.

use std::sync::Arc;

use super::accept;
use super::entry::Entry;
use super::fields::{Fields, Log, Text};
use super::find::RawFile;
use super::lists::{ListEntry, lists_of};
use super::lookup::{Index, Names};
use super::options;
use super::problem::Fault;
use super::read::side_by_side;
use super::{AddOnPlace, Outside};
use crate::base::Place;
use crate::board::{Acceptance, Board};

/// All tables of the definition files, before anything refers to anything.
#[derive(Default)]
pub(super) struct Entries<'a> {
    pub options: Vec<Entry<'a>>,
    pub needs: Vec<Entry<'a>>,
    pub parts: Vec<Entry<'a>>,
    pub sections: Vec<Entry<'a>>,
    pub headers: Vec<Entry<'a>>,
    pub tests: Vec<Entry<'a>>,
    pub actions: Vec<Entry<'a>>,
    pub services: Vec<Entry<'a>>,
    pub metadata: Vec<Entry<'a>>,
    pub kits: Vec<Entry<'a>>,
    pub smokes: Vec<Entry<'a>>,
    pub fetches: Vec<Entry<'a>>,
    pub sets: Vec<Entry<'a>>,
    pub split: Vec<Entry<'a>>,
    pub gone: Vec<Entry<'a>>,
    pub lists: Vec<ListEntry<'a>>,
    pub accepted: Vec<Acceptance>,
}

impl<'a> Entries<'a> {
    /// Leaves out what the tree itself does with what it makes: in a kit all of that is done.
    pub fn without_delivery_of_tree(&mut self) {
        let lists = [
            &mut self.tests,
            &mut self.actions,
            &mut self.services,
            &mut self.metadata,
            &mut self.smokes,
            &mut self.fetches,
            &mut self.kits,
        ];
        lists.into_iter().for_each(|list| list.retain(|entry| !Board::is_of_tree(entry.folder)));
    }

    pub fn append(&mut self, mut more: Entries<'a>) {
        self.options.append(&mut more.options);
        self.needs.append(&mut more.needs);
        self.parts.append(&mut more.parts);
        self.sections.append(&mut more.sections);
        self.headers.append(&mut more.headers);
        self.tests.append(&mut more.tests);
        self.actions.append(&mut more.actions);
        self.services.append(&mut more.services);
        self.metadata.append(&mut more.metadata);
        self.kits.append(&mut more.kits);
        self.smokes.append(&mut more.smokes);
        self.fetches.append(&mut more.fetches);
        self.sets.append(&mut more.sets);
        self.split.append(&mut more.split);
        self.gone.append(&mut more.gone);
        self.lists.append(&mut more.lists);
        self.accepted.append(&mut more.accepted);
    }
}

/// The keys of a file.
pub(super) fn board_fields<'a>(file: &'a RawFile<'_>, log: &'a Log) -> Fields<'a> {
    Fields::new(&file.table, file.id, Place::new(file.id, 0..0), "a board".into(), log)
}

/// Checks that a root file is of a format that we know.
pub(super) fn check_format(fields: &Fields<'_>, what: &str) {
    match fields.integer("format") {
        Some(1) => {}
        Some(other) => fields.problem(fields.place, Fault::Format(other)),
        None => {
            if fields.get("format").is_none() {
                fields.problem(fields.place, Fault::Missing { key: "format", context: what.into() });
            }
        }
    }
}

/// Takes in the tables of a file.
pub(super) fn collect<'a>(
    entries: &mut Entries<'a>,
    fields: Fields<'a>,
    file: &'a RawFile<'_>,
    outside: &Outside,
    log: &'a Log,
) {
    let own = outside.add_ons.iter().map(AddOnPlace::at).find(|at| file.folder.beneath(at).is_some());
    if own.as_ref() == Some(&file.folder) {
        // Read before, because what follows from it has a name.
        fields.get("add-on");
        fields.get("format");
    }
    let own_section = || own.map(|folder| Text { text: folder.name().into(), place: fields.place });
    let default_section = fields.text("default-section").or_else(own_section).map(Arc::new);
    for found in fields.list("accept") {
        let Some(table) = fields.sub(&found, "an entry of `accept`") else {
            fields.wrong_type(&found, "tables [[accept]]");
            continue;
        };
        let name = Text { text: "accept".into(), place: found.place };
        let entry = Entry { name, folder: &file.folder, default_section: None, table: fields.table(), log };
        entries.accepted.extend(accept::of_files(&table, &entry));
        table.finish();
    }
    entries.lists.extend(lists_of(&fields, file));
    let tables: [(&'static str, &mut Vec<Entry<'a>>); 15] = [
        ("option", &mut entries.options),
        ("need", &mut entries.needs),
        ("part", &mut entries.parts),
        ("section", &mut entries.sections),
        ("header", &mut entries.headers),
        ("test", &mut entries.tests),
        ("action", &mut entries.actions),
        ("service", &mut entries.services),
        ("metadata", &mut entries.metadata),
        ("kit", &mut entries.kits),
        ("smoke", &mut entries.smokes),
        ("fetch", &mut entries.fetches),
        ("set", &mut entries.sets),
        ("split", &mut entries.split),
        ("gone", &mut entries.gone),
    ];
    // Read before, because what follows from it has a name.
    fields.get("each");
    for (key, list) in tables {
        for (name, table) in fields.named(key) {
            list.push(Entry { name, folder: &file.folder, default_section: default_section.clone(), table, log });
        }
    }
    fields.finish();
}

/// Names everything; what is named twice is reported and left out.
pub(super) fn name_all(entries: &mut Entries<'_>, log: &Log) -> Names {
    let mut names = Names {
        options: Index::new("option"),
        kinds: Vec::new(),
        needs: Index::new("need"),
        parts: Index::new("part"),
        sections: Index::new("section"),
        headers: Index::new("header"),
        sets: Index::new("set"),
        tests: Index::new("test"),
        actions: Index::new("action"),
        services: Index::new("service"),
        metadata: Index::new("metadata"),
        kits: Index::new("kit"),
        smokes: Index::new("smoke"),
        fetches: Index::new("fetch"),
    };
    entries.options.retain(|entry| names.options.add(&entry.name, log).is_some());
    let kinds = |(_, chunk): (usize, &[Entry<'_>])| {
        chunk.iter().map(|entry| options::kind(&entry.fields("option"))).collect::<Vec<_>>()
    };
    names.kinds = side_by_side(&entries.options, kinds).into_iter().flatten().collect();
    entries.needs.retain(|entry| names.needs.add(&entry.name, log).is_some());
    entries.parts.retain(|entry| names.parts.add(&entry.name, log).is_some());
    entries.sections.retain(|entry| names.sections.add(&entry.name, log).is_some());
    entries.headers.retain(|entry| names.headers.add(&entry.name, log).is_some());
    entries.sets.retain(|entry| names.sets.add(&entry.name, log).is_some());
    entries.tests.retain(|entry| names.tests.add(&entry.name, log).is_some());
    entries.actions.retain(|entry| names.actions.add(&entry.name, log).is_some());
    entries.services.retain(|entry| names.services.add(&entry.name, log).is_some());
    entries.metadata.retain(|entry| names.metadata.add(&entry.name, log).is_some());
    entries.kits.retain(|entry| names.kits.add(&entry.name, log).is_some());
    entries.smokes.retain(|entry| names.smokes.add(&entry.name, log).is_some());
    entries.fetches.retain(|entry| names.fetches.add(&entry.name, log).is_some());
    names
}
