//! `[each.NAME]`: one part, or one test, or both for each file of a pattern, written once.
//!
//! In all texts of the two, `{stem}` stands for the file's name without its ending, `{file}` for its path below the folder of the
//! definition, and `{name}` for the name of the part and test.

use toml::Spanned;
use toml::de::{DeArray, DeString, DeTable, DeValue};

use super::entry::{Entry, globs};
use super::fields::{Fields, Found, Log, Table, Text};
use super::find::RawFile;
use super::kit_file::ReadKit;
use super::problem::Fault;
use super::sources::Listing;
use crate::base::{Glob, RelPath};
use crate::board::{Board, Tree};
use crate::expr::is_name;

/// What follows for one file.
pub(super) struct Alike<'a> {
    pub name: Text,
    pub folder: RelPath,
    pub part: Option<Table<'a>>,
    pub test: Option<Table<'a>>,
}

/// One `[each.NAME]` before its files are known.
struct Each<'a> {
    patterns: Vec<Glob>,
    except: Vec<Glob>,
    naming: Text,
    folder: RelPath,
    part: Option<Table<'a>>,
    test: Option<Table<'a>>,
}

/// What all of them come to, with the folders whose names they follow from.
#[derive(Default)]
pub(super) struct Expanded<'a> {
    pub alike: Vec<Alike<'a>>,
    pub folders: Vec<RelPath>,
    /// The files themselves.
    pub files: Vec<RelPath>,
}

/// Reads all of them, and looks for their files among the sources of the tree.
pub(super) fn expand<'a>(
    raw: &'a [RawFile<'_>],
    tree: Option<&Tree>,
    kit: Option<&ReadKit>,
    log: &'a Log,
) -> Expanded<'a> {
    let all: Vec<Each<'a>> = raw.iter().flat_map(|file| of_file(file, log)).collect();
    let Some(tree) = tree.filter(|_| !all.is_empty()) else { return Expanded::default() };
    let listing = match kit {
        None => Listing::for_patterns(&tree.source_root, all.iter().flat_map(|each| &each.patterns)),
        Some(kit) => Listing::told(kit.follows.clone()),
    };
    let listing = listing.and_grafts(&tree.grafts);
    let mut expanded = Expanded { folders: listing.folders().to_vec(), ..Expanded::default() };
    for each in &all {
        let mut files: Vec<&RelPath> = each.patterns.iter().flat_map(|glob| listing.matching(glob)).collect();
        files.retain(|file| !each.except.iter().any(|glob| glob.matches(file)));
        files.sort();
        files.dedup();
        let awaited = || each.patterns.iter().any(|glob| tree.grafts.awaits_for(glob));
        if files.is_empty() && !awaited() {
            let what = each.patterns.first().map_or(String::new(), |glob| glob.as_str().to_string());
            log.add(super::problem::Problem::at(each.naming.place, Fault::NothingMatches(what)));
        }
        expanded.files.extend(files.iter().copied().filter(|file| Board::is_of_tree(file)).cloned());
        for file in files {
            expanded.alike.extend(each.of(file, log));
        }
    }
    expanded
}

fn of_file<'a>(file: &'a RawFile<'_>, log: &'a Log) -> Vec<Each<'a>> {
    let place = crate::base::Place::new(file.id, 0..0);
    let fields = Fields::new(&file.table, file.id, place, "a board".into(), log);
    let mut all = Vec::new();
    for (name, table) in fields.named("each") {
        let entry = Entry { name, folder: &file.folder, default_section: None, table, log };
        let fields = Fields::new(table, file.id, entry.name.place, "[each]".into(), log);
        let table = |found: Option<Found<'a>>| {
            let found = found?;
            let table = found.table();
            if table.is_none() {
                fields.wrong_type(&found, "a table");
            }
            table.cloned()
        };
        let found = |key: &str| fields.members_by_key().into_iter().find(|(name, _)| name.text == key).map(|(_, f)| f);
        let (part, test) = (table(found("part")), table(found("test")));
        if part.is_none() && test.is_none() {
            let text = format!("{} makes nothing: give it a table `part`, `test` or both", fields.context);
            fields.problem(fields.place, Fault::Combination(text));
        }
        let patterns = fields.texts("files");
        if patterns.is_empty() {
            fields.missing("files");
        }
        let naming = fields.text("name").unwrap_or_else(|| Text { text: "{stem}".into(), place: entry.name.place });
        let (patterns, except) = (globs(&patterns, &fields, &entry), globs(&fields.texts("except"), &fields, &entry));
        for (key, _) in fields.members_by_key() {
            const KNOWN: [&str; 5] = ["files", "except", "name", "part", "test"];
            if !KNOWN.contains(&key.text.as_str()) {
                let known = KNOWN.map(String::from).to_vec();
                let fault = Fault::UnknownKey { key: key.text.clone(), context: fields.context.to_string(), known };
                log.add(super::problem::Problem::at(key.place, fault));
            }
        }
        all.push(Each { patterns, except, naming, folder: file.folder.clone(), part, test });
    }
    all
}

impl<'a> Each<'a> {
    /// What follows for a file.
    fn of(&self, file: &RelPath, log: &Log) -> Option<Alike<'a>> {
        let stem = file.name().rsplit_once('.').map_or(file.name(), |(stem, _)| stem).to_string();
        let below = file.as_str().strip_prefix(self.folder.as_str()).map(|rest| rest.trim_start_matches('/'));
        let path = below.unwrap_or(file.as_str()).to_string();
        let filled =
            |text: &str, name: &str| text.replace("{stem}", &stem).replace("{file}", &path).replace("{name}", name);
        let name = filled(&self.naming.text, "").replace(['_', '.'], "-");
        if !is_name(&name) {
            let fault = Fault::BadName(name);
            log.add(super::problem::Problem::at(self.naming.place, fault));
            return None;
        }
        let fill = |text: &str| filled(text, &name);
        let table = |table: &Option<Table<'a>>| table.as_ref().map(|table| filled_table(table, &fill));
        let mut part = table(&self.part);
        if let Some(part) = &mut part
            && !part.keys().any(|key| key.get_ref().as_ref() == "sources")
        {
            let place = self.naming.place;
            let range = place.start as usize..(place.start + place.len) as usize;
            let sources = DeValue::String(DeString::Owned(path.clone()));
            part.insert(Spanned::new(range.clone(), DeString::Borrowed("sources")), Spanned::new(range, sources));
        }
        let name = Text { text: name.clone(), place: self.naming.place };
        Some(Alike { name, folder: self.folder.clone(), part, test: table(&self.test) })
    }
}

fn filled_table<'a>(table: &DeTable<'a>, fill: &dyn Fn(&str) -> String) -> DeTable<'a> {
    let mut filled = DeTable::new();
    for (key, value) in table {
        filled.insert(key.clone(), Spanned::new(value.span(), filled_value(value.get_ref(), fill)));
    }
    filled
}

fn filled_value<'a>(value: &DeValue<'a>, fill: &dyn Fn(&str) -> String) -> DeValue<'a> {
    match value {
        DeValue::String(text) => DeValue::String(DeString::Owned(fill(text))),
        DeValue::Array(list) => {
            let items = list.iter().map(|item| Spanned::new(item.span(), filled_value(item.get_ref(), fill)));
            DeValue::Array(items.collect::<DeArray<'a>>())
        }
        DeValue::Table(table) => DeValue::Table(filled_table(table, fill)),
        other => other.clone(),
    }
}
