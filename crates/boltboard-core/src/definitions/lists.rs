//! `[list]`: what a folder gives for which option, one line for each; `[folder]`: what is for all of it; and the parts that follow from
//! them.

use std::collections::{BTreeMap, BTreeSet};

use super::entry::Entry;
use super::fields::{Fields, Found, Log, Table, Text};
use super::find::RawFile;
use super::list_line::{Line, stem_of};
use super::lookup::Names;
use super::problem::{Fault, Problem};
use super::sets::{Shared, both};
use crate::base::{Arena, Place, RelPath};
use crate::board::{
    Atom, Condition, InstallRule, Kind, ListDef, ListItem, Machine, ModuleForm, ModulePlace, ModuleRole, OptionId,
    PartDef, PartId, PartKind, PartOrigin, Piece, Position, SourceRule, When,
};
use crate::expr::{self, Expr};

/// The key for what a folder gives whatever is chosen.
const ALWAYS: &str = "always";
/// How deep lists may lie in others.
const MOST_LEVELS: usize = 64;

/// The folders that a part owns, as it names them.
pub(super) struct OwnedLists {
    pub owner: PartId,
    pub folders: Vec<When<(RelPath, Place)>>,
    pub habit: ModuleHabit,
}

/// How modules in lists are called.
#[derive(Debug, Clone)]
pub(super) struct ModuleHabit {
    pub form: ModuleForm,
    /// Where one comes to lie, with `{folder}` and `{module}`.
    pub output: String,
    /// Its symbol, with `{module}`.
    pub symbol: String,
    pub install: Option<InstallRule>,
}

/// The list of a folder, as it is written.
pub(super) struct ListEntry<'a> {
    folder: RelPath,
    place: Place,
    list: &'a Table<'a>,
    settings: Option<(&'a Table<'a>, Place)>,
}

/// Takes the lists of a file: that of its own folder, and those of folders below that it names.
pub(super) fn lists_of<'a>(fields: &Fields<'a>, file: &'a RawFile<'_>) -> Vec<ListEntry<'a>> {
    let table = |found: Found<'a>| {
        let table = found.table();
        if table.is_none() {
            fields.wrong_type(&found, "a table");
        }
        Some((table?, found.place))
    };
    let of = |key: &'static str| fields.get(key).and_then(table);
    let (list, settings) = (of("list"), of("folder"));
    if let (None, Some((_, place))) = (list, settings) {
        fields
            .problem(place, Fault::Combination("[folder] says what is for all of a [list], and there is none".into()));
    }
    let own = list.map(|(list, place)| ListEntry { folder: file.folder.clone(), place, list, settings });
    let mut entries: Vec<ListEntry<'a>> = own.into_iter().collect();
    let folders = fields.named("folders");
    for (name, list) in fields.named("lists") {
        let folder = match file.folder.join(name.text.trim_end_matches('/')) {
            Ok(folder) => folder,
            Err(fault) => {
                fields.problem(name.place, fault);
                continue;
            }
        };
        let settings = folders.iter().find(|(other, _)| other.text == name.text);
        let settings = settings.map(|(name, table)| (*table, name.place));
        entries.push(ListEntry { folder, place: name.place, list, settings });
    }
    for (name, _) in &folders {
        if !entries.iter().any(|entry| entry.settings.is_some_and(|(_, place)| place == name.place)) {
            let text = format!("`{}` has settings and no list: give it one, as in [lists.\"{0}\"]", name.text);
            fields.problem(name.place, Fault::Combination(text));
        }
    }
    entries
}

/// Makes parts of lists.
pub(super) struct Lister<'a> {
    pub names: &'a Names,
    pub sets: &'a [Shared],
    pub lists: &'a [ListEntry<'a>],
    pub log: &'a Log,
    pub parts: &'a mut Arena<PartDef>,
    by_folder: BTreeMap<RelPath, usize>,
    taken: BTreeSet<RelPath>,
}

/// What is passed down from list to list.
#[derive(Clone, Copy)]
struct Above<'h> {
    owner: PartId,
    habit: &'h ModuleHabit,
    machine: Machine,
    level: usize,
}

/// What one line of a list gives.
pub(super) enum Given {
    Sources(SourceRule),
    Folder(RelPath, Place),
    /// A module's name, with its sources.
    Module(Text, Vec<SourceRule>),
}

impl<'a> Lister<'a> {
    pub fn new(
        names: &'a Names,
        sets: &'a [Shared],
        lists: &'a [ListEntry<'a>],
        log: &'a Log,
        parts: &'a mut Arena<PartDef>,
    ) -> Lister<'a> {
        let mut by_folder = BTreeMap::new();
        for (index, list) in lists.iter().enumerate() {
            by_folder.insert(list.folder.clone(), index);
        }
        Lister { names, sets, lists, log, parts, by_folder, taken: BTreeSet::new() }
    }

    /// Adds the parts of all lists that parts own; reports lists that none owns.
    pub fn all(&mut self, owned: &[OwnedLists]) {
        for OwnedLists { owner, folders, habit } in owned {
            let machine = self.parts[*owner].machine;
            let above = Above { owner: *owner, habit, machine, level: 0 };
            for When { when, item: (folder, place) } in folders {
                let gate = both(self.parts[*owner].when.as_ref(), when.as_ref());
                let part = self.list(folder, *place, gate, *owner, above);
                let when = when.clone();
                let list = part.map(|item| When { when, item });
                self.parts.get_mut(*owner).lists.extend(list);
            }
        }
        for list in self.lists.iter().filter(|list| !self.taken.contains(&list.folder)) {
            let text = format!("no part names the list of `{}/`: add the folder to `lists` of a part", list.folder);
            self.log.add(Problem::at(list.place, Fault::Combination(text)));
        }
    }

    pub(super) fn problem(&self, place: Place, text: String) {
        self.log.add(Problem::at(place, Fault::Combination(text)));
    }

    /// Adds the parts of a folder's list; returns the part that stands for it.
    fn list(
        &mut self,
        folder: &RelPath,
        named_at: Place,
        when: Option<Condition>,
        base: PartId,
        above: Above<'_>,
    ) -> Option<PartId> {
        let Some(entry) = self.by_folder.get(folder).map(|index| &self.lists[*index]) else {
            let text =
                format!("there is no list for `{folder}/`: it needs a boltboard.toml with a [list], named in `more`");
            self.problem(named_at, text);
            return None;
        };
        if !self.taken.insert(folder.clone()) {
            self.problem(named_at, format!("the list of `{folder}/` is named twice"));
            return None;
        }
        if above.level > MOST_LEVELS {
            self.problem(named_at, format!("lists lie more than {MOST_LEVELS} deep in each other"));
            return None;
        }
        let mut part = PartDef::plain(format!("{folder}/"), entry.place, folder.clone());
        part.kind = PartKind::List(ListDef { owner: above.owner, items: vec![] });
        part.machine = above.machine;
        part.when = when.clone();
        part.base = Some(base);
        if let Some((table, place)) = entry.settings {
            let fields = Fields::new(table, place.file, place, "[folder]".into(), self.log);
            Shared::read(&fields, folder, self.names).with_sets(&fields, self.names, self.sets).into_part(&mut part);
            fields.finish();
        }
        let id = self.parts.add(part);
        let fields = Fields::new(entry.list, entry.place.file, entry.place, "[list]".into(), self.log);
        let mut items = Vec::new();
        let mut sources = Vec::new();
        for (key, found) in fields.members_by_key() {
            let Some((condition, module)) = self.condition(&key) else { continue };
            for given in self.given(&fields, &found, &key, condition.as_ref(), module, folder) {
                match given {
                    Given::Sources(rule) => {
                        items.push(ListItem::Sources(sources.len()));
                        sources.push(rule);
                    }
                    Given::Folder(below, place) => {
                        let gate = both(when.as_ref(), condition.as_ref());
                        let above = Above { level: above.level + 1, ..above };
                        items.extend(self.list(&below, place, gate, id, above).map(ListItem::Part));
                    }
                    Given::Module(name, rules) => items.extend(module.map(|option| {
                        ListItem::Part(self.module(&name, option, rules, when.clone(), (id, folder), above))
                    })),
                }
            }
        }
        let part = self.parts.get_mut(id);
        part.sources = sources;
        part.kind = PartKind::List(ListDef { owner: above.owner, items });
        Some(id)
    }

    fn module(
        &mut self,
        name: &Text,
        option: OptionId,
        sources: Vec<SourceRule>,
        when: Option<Condition>,
        (base, folder): (PartId, &RelPath),
        above: Above<'_>,
    ) -> PartId {
        let habit = above.habit;
        let mut part = PartDef::plain(folder.child(&name.text).to_string(), name.place, folder.clone());
        if !part.name.contains('/') {
            part.name = format!("./{}", part.name);
        }
        let filled = |pattern: &str| pattern.replace("{module}", &name.text).replace("{folder}", folder.as_str());
        let symbol = filled(&habit.symbol).replace('-', "_");
        let place = ModulePlace::Listed { name: name.text.clone(), folder: folder.clone() };
        part.kind = PartKind::Module(ModuleRole { option, program: above.owner, symbol, form: habit.form, place });
        part.machine = above.machine;
        part.when = when;
        part.base = Some(base);
        part.sources = sources;
        part.output = match RelPath::parse(&filled(&habit.output)) {
            Ok(path) => path,
            Err(fault) => {
                self.log.add(Problem::at(name.place, fault));
                RelPath::root()
            }
        };
        part.install = habit.install.clone().map(|mut rule| {
            if !folder.as_str().is_empty() {
                rule.to.pieces.push(Piece::Text(format!("/{folder}")));
            }
            rule
        });
        self.parts.add(part)
    }

    /// What a key stands for: a condition, and the option when that is a module.
    fn condition(&self, key: &Text) -> Option<(Option<Condition>, Option<OptionId>)> {
        if key.text == ALWAYS {
            return Some((None, None));
        }
        let condition = self.names.condition(key, self.log)?;
        let module = match &condition.expr {
            Expr::Atom(Atom::On(option)) if expr::is_name(&key.text) => Some(*option),
            _ => None,
        };
        let module = module.filter(|option| self.names.kinds[option.index()] == Kind::Module);
        Some((Some(condition), module))
    }

    /// What a line gives. For a module, a text is a module of that file's name, a list one module of the option's name, and lists or
    /// tables in a list one module each.
    fn given(
        &self,
        fields: &Fields<'_>,
        found: &Found<'_>,
        key: &Text,
        when: Option<&Condition>,
        module: Option<OptionId>,
        folder: &RelPath,
    ) -> Vec<Given> {
        let reader = Line { lister: self, fields, folder, when };
        let Some(_) = module else { return reader.plain(found) };
        match found.members() {
            None => reader.one_module(found, None).into_iter().collect(),
            Some(members) if members.iter().all(|member| member.text().is_some()) => {
                let (folders, files): (Vec<_>, Vec<_>) =
                    members.iter().filter_map(Found::text).partition(|text| text.text.ends_with('/'));
                let mut all: Vec<Given> = folders.iter().filter_map(|text| reader.folder(text)).collect();
                let name = match files.as_slice() {
                    [] => return all,
                    [one] => stem_of(one),
                    _ => key.clone(),
                };
                all.push(Given::Module(name, reader.rule(&files, &[], found.place)));
                all
            }
            Some(members) => members.iter().flat_map(|member| reader.one_module(member, Some(key))).collect(),
        }
    }
}

/// Reads the folders whose lists a part owns, and how modules in them are called.
pub(super) fn owned(
    fields: &Fields<'_>,
    entry: &Entry<'_>,
    names: &Names,
    owner: PartId,
    tree: &str,
) -> Option<OwnedLists> {
    let folder = |text: &Text| match entry.folder.join(text.text.trim_end_matches('/')) {
        Ok(path) => Some((path, text.place)),
        Err(fault) => {
            fields.problem(text.place, fault);
            None
        }
    };
    let folders = names.when_list(fields, "lists", &mut |text| folder(text));
    let habit = habit(fields, names, tree);
    (!folders.is_empty()).then_some(OwnedLists { owner, folders, habit })
}

fn habit(fields: &Fields<'_>, names: &Names, tree: &str) -> ModuleHabit {
    let usual = || ModuleHabit {
        form: ModuleForm::Shared,
        output: format!("lib/{tree}/{{folder}}/{{module}}.so"),
        symbol: "{module}".into(),
        install: None,
    };
    let Some(sub) = fields.get("modules").and_then(|found| fields.sub(&found, "`modules`")) else { return usual() };
    let form = super::parts::module_form(&sub);
    let ending = match form {
        ModuleForm::Shared => "so",
        ModuleForm::Partial => "o",
    };
    let output = sub.text("output").map(|text| text.text);
    ModuleHabit {
        form,
        output: output.unwrap_or_else(|| format!("lib/{tree}/{{folder}}/{{module}}.{ending}")),
        symbol: sub.text("symbol").map_or_else(|| "{module}".into(), |text| text.text),
        install: super::parts::install_rule(&sub, 0o644, names),
    }
}

impl PartDef {
    /// A part that says nothing yet.
    pub(super) fn plain(name: String, place: Place, folder: RelPath) -> PartDef {
        PartDef {
            name,
            kind: PartKind::Objects,
            summary: String::new(),
            machine: Machine::Target,
            folder,
            when: None,
            base: None,
            sources: vec![],
            includes: vec![],
            public_includes: vec![],
            uses: vec![],
            link_ways: vec![],
            lists: vec![],
            modules: None,
            exports: None,
            values: vec![],
            flags: vec![],
            defines: vec![],
            origin: PartOrigin::Here,
            given: vec![],
            position: Position::AsNeeded,
            link_flags: vec![],
            link_reads: vec![],
            libraries: vec![],
            needs: vec![],
            output: RelPath::root(),
            below: None,
            further_names: vec![],
            license: None,
            install: None,
            place,
        }
    }
}
