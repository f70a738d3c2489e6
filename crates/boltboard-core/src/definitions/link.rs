//! From files to one board: names first, then everything that refers to them.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::Path;

use super::accept;
use super::add_on::{self, gated};
use super::each;
use super::entries::{Entries, board_fields, check_format, collect, name_all};
use super::entry::{Entry, MacroHabit, RuleSink};
use super::fields::{Fields, Log};
use super::find::RawFile;
use super::kit_file::ReadKit;
use super::lists::Lister;
use super::lookup::Names;
use super::parts::PartRead;
use super::problem::{Fault, Problem};
use super::read::side_by_side;
use super::sets::Shared;
use super::{FetchPlace, Outside, action, fetch, history, metadata, options, outputs, parts, service, smoke, test};
use crate::base::{Arena, Grafts, LazyArena, NameTable, Place, SourceFiles};
use crate::board::{
    Acceptance, AcceptedOf, ActionDef, AddOn, Board, Ending, FetchDef, Importance, ListItem, Machine, NeedCheck,
    NeedDef, OptionDef, OptionId, PartDef, PartId, PartKind, Rule, SectionDef, SectionId, SmokeDef, TestDef, Toolchain,
    Toolchains, Tree,
};

/// Links all files into a board that has no order yet; reports to `log` and returns `None` when something is wrong.
pub(super) fn link(
    root: &Path,
    source_root: Option<&Path>,
    (outside, kit): (&Outside, Option<&ReadKit>),
    raw: &[RawFile<'_>],
    files: &SourceFiles,
    log: &Log,
) -> Option<Board> {
    let (first, rest) = raw.split_first()?;
    let fields = board_fields(first, log);
    // A kit has its headers where its definitions are.
    let source_root = source_root.or(kit.map(|_| root));
    let mut tree = read_tree_table(&fields, root, source_root);
    if let (Some(kit), Some(tree)) = (kit, &tree) {
        kit.check(tree, log);
    }
    let target_found = fields.get("toolchain").and_then(|f| fields.sub(&f, "[toolchain]"));
    let host_found = fields.get("host-toolchain").and_then(|f| fields.sub(&f, "[host-toolchain]"));
    let mut entries = Entries::default();
    collect(&mut entries, fields, first, outside, log);
    let add_ons = tree.as_ref().map_or_else(Vec::new, |tree| add_on::all(rest, outside, tree, log));
    let collected = side_by_side(rest, |(_, files)| {
        let mut entries = Entries::default();
        files.iter().for_each(|file| collect(&mut entries, board_fields(file, log), file, outside, log));
        entries
    });
    collected.into_iter().for_each(|more| entries.append(more));
    if kit.is_some() {
        entries.without_delivery_of_tree();
    }
    if let Some(tree) = &mut tree {
        tree.more.extend(add_ons.iter().flat_map(|add_on| add_on.more.iter().cloned()));
        let places: Vec<FetchPlace> = entries.fetches.iter().filter_map(fetch::place).collect();
        tree.grafts = outside.grafts(places.into_iter(), &tree.source_root);
    }
    let expanded = each::expand(raw, tree.as_ref(), kit, log);
    for alike in &expanded.alike {
        let entry = |table| {
            let (name, folder) = (alike.name.clone(), &alike.folder);
            Entry { name, folder, default_section: None, table, log }
        };
        entries.parts.extend(alike.part.as_ref().map(entry));
        let is_done = kit.is_some() && Board::is_of_tree(&alike.folder);
        entries.tests.extend(alike.test.as_ref().filter(|_| !is_done).map(entry));
    }
    for add_on in &add_ons {
        // Before all else that it brings.
        put_first(&mut entries.options, add_on.switch(log));
        put_first(&mut entries.sections, add_on.section(log));
    }
    let names = name_all(&mut entries, log);
    let add_ons: Vec<AddOn> = add_ons.iter().filter_map(|add_on| add_on.known(&names, log)).collect();
    let gate = |entry: &Entry<'_>, when| gated(&add_ons, entry.folder, when);
    let tree = tree?;

    let mut headers = Arena::default();
    let mut habits: Vec<MacroHabit> = Vec::new();
    for entry in &entries.headers {
        let (header, habit) = outputs::header(entry, crate::base::Id::new(headers.len()));
        headers.add(header);
        habits.push(habit);
    }
    let mut sections = Arena::default();
    for entry in &entries.sections {
        let section = outputs::section(entry, &names);
        let outer = section.parent.or_else(|| add_on::outer_section(&add_ons, entry, &names));
        sections.add(SectionDef { parent: outer, ..section });
    }
    let rest = sections.add(SectionDef { name: "other".into(), title: "Other".into(), parent: None, place: None });
    let OptionsRead { options, rules, accepted: accepted_options, with_past, with_signs } =
        all_options(&entries.options, rest, (&names, &add_ons, kit), habits.first(), log);
    each_macro_once(&options, log);
    let signs = history::signs(&entries.options, &with_signs);
    let history = history::history((&entries.options, &with_past), &entries.split, &entries.gone, &names, log);
    let mut needs = Arena::default();
    for entry in &entries.needs {
        let mut need = super::needs::need(entry, &names);
        if kit.is_some() && Board::is_of_tree(entry.folder) {
            // What of the tree is there is built; a missing need stops only what takes that in.
            need.importance = Importance::Optional;
        }
        needs.add(need);
    }
    let sets: Vec<Shared> = entries.sets.iter().map(|entry| Shared::of_set(entry, &names)).collect();
    let read_part = |(index, entry): (usize, &Entry<'_>)| {
        parts::part(entry, crate::base::Id::new(index), &tree.name, &names, &sets)
    };
    let part_list: Vec<_> = entries.parts.iter().enumerate().map(read_part).collect();
    let mut tests = Arena::default();
    for entry in &entries.tests {
        let test = test::test(entry, &names);
        tests.add(TestDef { when: gate(entry, test.when), ..test });
    }
    let mut actions = Arena::default();
    for entry in &entries.actions {
        let action = action::action(entry, &names);
        actions.add(ActionDef { when: gate(entry, action.when), ..action });
    }
    let toolchain = |fields: Option<Fields<'_>>| match fields {
        Some(fields) => {
            let toolchain = outputs::toolchain(&fields, &names);
            fields.finish();
            toolchain
        }
        None => Toolchain::plain(),
    };
    let toolchains = Toolchains { target: toolchain(target_found), host: toolchain(host_found) };
    let mut accepted = std::mem::take(&mut entries.accepted);
    accepted.extend(accepted_options);
    for (index, entry) in entries.needs.iter().enumerate() {
        accepted.extend(accept::of_entry(entry, "need", AcceptedOf::Need(crate::base::Id::new(index))));
    }
    for (index, entry) in entries.parts.iter().enumerate() {
        accepted.extend(accept::of_entry(entry, "part", AcceptedOf::Part(crate::base::Id::new(index))));
    }
    if !log.is_empty() {
        return None;
    }
    let mut part_arena = Arena::default();
    let mut modules = Vec::new();
    let mut owned = Vec::new();
    let mut of_set: BTreeMap<usize, Vec<PartId>> = BTreeMap::new();
    for PartRead { part, owned: lists, sets } in part_list.into_iter().flatten() {
        let is_module = part.kind.module().is_some();
        let id = part_arena.add(part);
        modules.extend(is_module.then_some(id));
        owned.extend(lists);
        sets.into_iter().for_each(|set| of_set.entry(set).or_default().push(id));
    }
    for (id, option) in options.iter() {
        for carrier in option.macros.iter().filter(|carrier| carrier.header.is_none()) {
            let of_sets = carrier.sets.iter().filter_map(|set| of_set.get(&(*set as usize))).flatten();
            let parts: BTreeSet<PartId> = carrier.parts.iter().chain(of_sets).copied().collect();
            for part in &parts {
                part_arena.get_mut(*part).given.push((id, carrier.clone()));
            }
        }
    }
    Lister::new(&names, &sets, &entries.lists, log, &mut part_arena).all(&owned);
    entries.services.iter().for_each(|entry| service::service(entry, &names, &mut part_arena));
    entries
        .kits
        .iter()
        .for_each(|entry| super::kit::kit(entry, &names, (&tree.name, &expanded.files), &mut part_arena));
    entries.metadata.iter().for_each(|entry| metadata::metadata(entry, &names, &mut part_arena));
    let mut smokes = Arena::default();
    for entry in &entries.smokes {
        if let Some(smoke) = smoke::smoke(entry, &names, &part_arena) {
            smokes.add(SmokeDef { when: gate(entry, smoke.when), ..smoke });
        }
    }
    let mut fetches = Arena::default();
    for entry in &entries.fetches {
        if let Some(fetch) = fetch::fetch(entry, &names) {
            fetches.add(FetchDef { when: gate(entry, fetch.when), ..fetch });
        }
    }
    let ids: Vec<PartId> = part_arena.ids().collect();
    for part in ids {
        let part = part_arena.get_mut(part);
        part.when = gated(&add_ons, &part.folder, part.when.take());
    }
    if let Some(kit) = kit {
        give_parts(kit, &mut part_arena, log);
    }
    let in_kit = kit.map(|kit| kit.said(options.iter(), &names, log));
    check_places(&fetches, log);
    let carriers = carriers(&part_arena, &needs);
    let of_host = |machine: Machine| machine == Machine::Host;
    let builds_for_host =
        part_arena.iter().any(|(_, part)| of_host(part.machine)) || needs.iter().any(|(_, need)| of_host(need.machine));
    check_machines(&part_arena, &needs, log);
    if !log.is_empty() {
        return None;
    }
    Some(Board {
        tree,
        options,
        sections,
        needs,
        parts: part_arena.into(),
        modules,
        carriers,
        rules,
        headers,
        tests,
        actions,
        smokes,
        fetches,
        add_ons,
        kit: in_kit,
        accepted,
        history,
        signs,
        toolchains,
        builds_for_host,
        files: files.clone(),
        named_by: expanded.folders.clone(),
        order: Vec::new(),
        option_names: NameTable::new(entries.options.iter().map(|entry| entry.name.text.as_str())),
    })
}

/// Makes the parts of the tree what the kit has of them.
fn give_parts(kit: &ReadKit, parts: &mut Arena<PartDef>, log: &Log) {
    let of_tree: Vec<PartId> =
        parts.iter().filter(|(_, part)| Board::is_of_tree(&part.folder)).map(|(id, _)| id).collect();
    for id in of_tree {
        let uses = parts[id].uses.iter().filter(|used| kit.has(&parts[used.item])).cloned().collect();
        let part = parts.get_mut(id);
        part.uses = uses;
        kit.give(part, log);
    }
}

/// Who may take the objects of each part into a shared library or module: directly, or as an object set or static library that is taken
/// in itself. Conditions are left for the plan.
fn carriers(parts: &Arena<PartDef>, needs: &Arena<NeedDef>) -> BTreeMap<PartId, Vec<PartId>> {
    let mut carriers: BTreeMap<PartId, Vec<PartId>> = BTreeMap::new();
    for (id, part) in parts.iter().filter(|(_, part)| part.kind.carries_objects() || part.kit().is_some()) {
        let copies = part.needs.iter().filter_map(|need| needs[need.item].bundled);
        let items = part.kind.list().map_or(&[][..], |list| &list.items);
        let items = items.iter().filter_map(|item| match item {
            ListItem::Part(part) => Some(*part),
            ListItem::Sources(_) => None,
        });
        let lists = part.lists.iter().map(|list| list.item);
        for used in part.uses.iter().map(|used| used.item).chain(copies).chain(items).chain(lists) {
            if parts[used].kind.is_taken_in() {
                carriers.entry(used).or_default().push(id);
            }
        }
    }
    carriers
}

/// Puts an entry before all others of its folder and below.
fn put_first<'e>(entries: &mut Vec<Entry<'e>>, entry: Entry<'e>) {
    let first = entries.iter().position(|other| other.folder.beneath(entry.folder).is_some());
    entries.insert(first.unwrap_or(entries.len()), entry);
}

/// Reports what would come to lie within something else that is fetched.
fn check_places(fetches: &Arena<FetchDef>, log: &Log) {
    for (id, fetch) in fetches.iter() {
        let others = fetches.iter().filter(|(other, _)| *other < id);
        let meets =
            |other: &FetchDef| other.into.beneath(&fetch.into).is_some() || fetch.into.beneath(&other.into).is_some();
        if let Some((_, other)) = others.into_iter().find(|(_, other)| meets(other)) {
            let text = format!(
                "`{}` and `{}` come to lie in one place: {} and {}",
                other.name, fetch.name, other.into, fetch.into
            );
            log.add(Problem { related: Some(other.place), ..Problem::at(fetch.place, Fault::Combination(text)) });
        }
    }
}

/// Reports what is linked of parts for two machines, and needs that are asked of another machine than the part that has them.
fn check_machines(parts: &Arena<PartDef>, needs: &Arena<NeedDef>, log: &Log) {
    let complain = |place: Place, text: String| log.add(Problem::at(place, Fault::Combination(text)));
    for (_, part) in parts.iter() {
        let linked = |kind: &PartKind| kind.ending().is_some();
        for used in part.uses.iter().map(|used| &parts[used.item]).filter(|_| linked(&part.kind)) {
            let is_linked = linked(&used.kind) && used.kind.ending() != Some(Ending::Program);
            if is_linked && used.machine != part.machine {
                let (mine, other) = (part.machine.word(), used.machine.word());
                let text =
                    format!("`{}` is for the {mine} and links `{}`, which is for the {other}", part.name, used.name);
                complain(part.place, text);
            }
        }
        for need in part.needs.iter().map(|need| &needs[need.item]).filter(|need| need.machine != part.machine) {
            let (mine, other) = (part.machine.word(), need.machine.word());
            let text =
                format!("`{}` is for the {mine}, and its need `{}` is asked of the {other}", part.name, need.name);
            complain(part.place, text);
        }
    }
    for (_, need) in needs.iter() {
        let (NeedCheck::AnyOf(members) | NeedCheck::AllOf(members)) = &need.check else { continue };
        for member in members.iter().map(|member| &needs[*member]).filter(|member| member.machine != need.machine) {
            complain(need.place, format!("`{}` and its member `{}` are asked of two machines", need.name, member.name));
        }
    }
}

/// Reports macros that two options give: what they stand for would depend on which comes last.
fn each_macro_once(options: &LazyArena<OptionDef>, log: &Log) {
    let mut givers: HashMap<&str, &OptionDef> = HashMap::with_capacity(options.len());
    for (_, option) in options.iter() {
        for carrier in option.macros.iter().filter(|carrier| carrier.header.is_some()) {
            let Some(first) = givers.insert(&carrier.name, option).filter(|first| first.name != option.name) else {
                continue;
            };
            let (first_name, second) = (first.name.clone(), option.name.clone());
            let fault = Fault::SameMacro { first: first_name, second, name: carrier.name.clone() };
            log.add(Problem { related: Some(first.place), ..Problem::at(option.place, fault) });
        }
    }
}

/// All options as they were read.
struct OptionsRead {
    options: LazyArena<OptionDef>,
    rules: LazyArena<Rule>,
    accepted: Vec<Acceptance>,
    /// Those that say something about earlier versions.
    with_past: Vec<OptionId>,
    /// Those that say what shows that they are used.
    with_signs: Vec<OptionId>,
}

/// Reads all options, several at a time. Rules are numbered as if it had been one after the other.
fn all_options(
    entries: &[Entry<'_>],
    rest: SectionId,
    (names, add_ons, kit): (&Names, &[AddOn], Option<&ReadKit>),
    habit: Option<&MacroHabit>,
    log: &Log,
) -> OptionsRead {
    let read = |(start, chunk): (usize, &[Entry<'_>])| {
        let mut sink = RuleSink::default();
        let mut accepted = Vec::new();
        let option = |(index, entry): (usize, &Entry<'_>)| {
            let id = crate::base::Id::new(start + index);
            accepted.extend(accept::of_entry(entry, "option", AcceptedOf::Option(id)));
            let built = kit.filter(|kit| Board::is_of_tree(entry.folder) && !kit.is_open(&entry.name.text));
            // What an option asked for was there when the tree was built.
            let mut unasked = RuleSink::default();
            let sink = if built.is_some() { &mut unasked } else { &mut sink };
            let mut option = options::option(entry, id, rest, names, habit, sink);
            if let Some(kit) = kit {
                kit.fix(&mut option, (id, Board::is_of_tree(entry.folder)), sink, log);
            }
            if add_ons.iter().all(|add_on| add_on.switch != id) {
                option.applies_while = gated(add_ons, entry.folder, option.applies_while);
            }
            Box::new(option)
        };
        let options: Vec<Box<OptionDef>> = chunk.iter().enumerate().map(option).collect();
        let rules: Vec<Box<Rule>> = sink.rules.into_items().into_iter().map(Box::new).collect();
        (options, rules, accepted, sink.with_past, sink.with_signs)
    };
    let (mut options, mut rules, mut accepted) = (Vec::with_capacity(entries.len()), Vec::new(), Vec::new());
    let (mut with_past, mut with_signs) = (Vec::new(), Vec::new());
    for (chunk, own_rules, own_accepted, own_past, own_signs) in side_by_side(entries, read) {
        accepted.extend(own_accepted);
        with_past.extend(own_past);
        with_signs.extend(own_signs);
        let before = rules.len();
        for mut option in chunk {
            option.rules.iter_mut().for_each(|rule| *rule = crate::base::Id::new(before + rule.index()));
            options.push(option);
        }
        rules.extend(own_rules);
    }
    OptionsRead { options: LazyArena::from(options), rules: LazyArena::from(rules), accepted, with_past, with_signs }
}

fn read_tree_table(fields: &Fields<'_>, root: &Path, source_root: Option<&Path>) -> Option<Tree> {
    check_format(fields, "the root board");
    let Some(found) = fields.get("tree") else {
        fields.problem(fields.place, Fault::Missing { key: "tree", context: "the root board".into() });
        return None;
    };
    let table = fields.sub(&found, "[tree]")?;
    let name = table.required_text("name");
    let version = table.required_text("version");
    let summary = table.text_or_empty("summary");
    let more = table.texts("more").into_iter().map(|text| text.text).collect();
    let about = table.text_or_empty("about");
    let one_line = |key| {
        let text = table.text(key)?;
        if text.text.contains(char::is_control) {
            table.problem(text.place, Fault::Combination(format!("`{key}` is one line")));
        }
        Some(text.text)
    };
    let (maintainer, license, homepage) = (one_line("maintainer"), one_line("license"), one_line("homepage"));
    let outside = table.text("sources");
    let source_root = match (source_root, &outside) {
        (Some(given), _) => given.to_path_buf(),
        (None, Some(text)) => root.join(&text.text),
        (None, None) => root.to_path_buf(),
    };
    let source_root = match source_root.canonicalize() {
        Ok(path) => path,
        Err(e) => {
            let place = outside.map_or(table.place, |t| t.place);
            let fault = Fault::Unreadable { file: source_root.display().to_string(), reason: e.to_string() };
            fields.log().add(Problem::at(place, fault));
            source_root
        }
    };
    if let Some(name) = &name
        && !crate::expr::is_name(&name.text)
    {
        fields.problem(name.place, Fault::BadName(name.text.clone()));
    }
    table.finish();
    Some(Tree {
        name: name?.text,
        version: version?.text,
        summary,
        about,
        maintainer,
        license,
        homepage,
        more,
        board_root: root.to_path_buf(),
        source_root,
        grafts: Grafts::default(),
    })
}
