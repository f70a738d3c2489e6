//! `[part.NAME]`: what is made.

use super::entry::{Entry, check_c_name, globs, machine, made_path};
use super::fields::{Fields, Text};
use super::generators::{BESIDE, beside, check_values, generator, source_file, values};
use super::lists::{OwnedLists, owned};
use super::lookup::Names;
use super::problem::Fault;
use super::sets::Shared;
use crate::base::RelPath;
use crate::board::{
    EmptyFolder, Exports, InstallRole, InstallRule, Interp, Kind, LinkWay, ListedModules, Machine, Making, ModuleForm,
    ModulePlace, ModuleRole, PartDef, PartId, PartKind, PartOrigin, Position, SourceRule, When,
};

/// A part as it was read.
pub(super) struct PartRead {
    pub part: PartDef,
    /// The lists that it owns.
    pub owned: Option<OwnedLists>,
    /// The numbers of the sets that it names.
    pub sets: Vec<usize>,
}

/// Reads a part. `tree` is the tree's name, from which folders of modules get theirs.
pub(super) fn part(entry: &Entry<'_>, id: PartId, tree: &str, names: &Names, sets: &[Shared]) -> Option<PartRead> {
    let fields = entry.fields("part");
    let folder = |text: &Text| match entry.folder.join(&text.text) {
        Ok(path) => Some(path),
        Err(fault) => {
            fields.problem(text.place, fault);
            None
        }
    };
    let kind_text = fields.required_text("kind")?;
    let kind = kind(&kind_text, &fields, entry, names)?;
    let summary = fields.text_or_empty("summary");
    let when = names.when(&fields);
    let sources = sources(&fields, entry, names);
    let machine = machine(&fields);
    let output = output(&fields, &entry.name.text, &kind, machine, tree);
    let mut own = Shared::read(&fields, entry.folder, names);
    let link_ways;
    (own.uses, link_ways) = uses(&fields, names);
    let shared = own.with_sets(&fields, names, sets);
    let part = PartDef {
        name: entry.name.text.clone(),
        summary,
        machine,
        folder: entry.folder.clone(),
        when,
        base: None,
        sources,
        includes: shared.includes,
        public_includes: shared.public_includes,
        uses: shared.uses,
        link_ways,
        lists: vec![],
        modules: listed_modules(&fields, entry, names),
        exports: exports(&fields, entry, names),
        values: values(&fields, names),
        flags: shared.flags,
        defines: shared.defines,
        origin: PartOrigin::Here,
        given: vec![],
        position: match fields.get("position-independent").map(|_| fields.flag("position-independent")) {
            None => Position::AsNeeded,
            Some(true) => Position::Independent,
            Some(false) => Position::ByFlags,
        },
        link_flags: shared.link_flags,
        link_reads: fields.texts("link-reads").iter().filter_map(folder).collect(),
        libraries: shared.libraries,
        needs: shared.needs,
        output,
        below: fields.text("below").as_ref().and_then(folder),
        further_names: further_names(&fields),
        license: fields.text("license").map(|text| text.text),
        install: install(&fields, &kind, names),
        place: entry.name.place,
        kind,
    };
    let renamed = part.install.as_ref().is_some_and(|rule| rule.name.is_some());
    let has_names = !part.further_names.is_empty() || part.kind.interface().is_some();
    if renamed && has_names {
        let text = "a part with further names is installed under its own: one of `install-as` and those goes";
        fields.problem(fields.place, Fault::Combination(text.into()));
    }
    if !part.further_names.is_empty() && !part.kind.is_linked() {
        let text = format!("a part of kind {} has no further names", part.kind.name());
        fields.problem(fields.place, Fault::Combination(text));
    }
    if part.below.is_some() && part.kind.making() != Making::Copied {
        let text = format!("a part of kind {} keeps no folders: `below` is for data", part.kind.name());
        fields.problem(fields.place, Fault::Combination(text));
    }
    check_values(&fields, &part.values, part.texts());
    let compiled = part.kind.making() != Making::Generated;
    let owned = owned(&fields, entry, names, id, tree);
    if compiled && fields.get("sources").is_none() && part.uses.is_empty() && owned.is_none() {
        fields.missing("sources");
    }
    fields.get("accept");
    fields.finish();
    Some(PartRead { part, owned, sets: shared.sets })
}

fn kind(text: &Text, fields: &Fields<'_>, entry: &Entry<'_>, names: &Names) -> Option<PartKind> {
    Some(match text.text.as_str() {
        "program" => PartKind::Program,
        "static-library" => PartKind::StaticLibrary,
        "shared-library" => PartKind::SharedLibrary { interface: fields.text("abi").map(|t| t.text) },
        "module" => PartKind::Module(module(fields, names)?),
        "objects" => PartKind::Objects,
        "partial-link" => PartKind::PartialLink,
        "generated" => PartKind::Generated(generator(fields, entry, names)?),
        "data" => PartKind::Data,
        _ => {
            fields.wrong_word("kind", text, PartKind::NAMES.to_vec());
            return None;
        }
    })
}

fn module(fields: &Fields<'_>, names: &Names) -> Option<ModuleRole> {
    let log = fields.log();
    let option_text = fields.required_text("option");
    let program_text = fields.required_text("program");
    let symbol = fields.required_text("symbol");
    if let Some(symbol) = &symbol {
        check_c_name(fields, symbol);
    }
    let option_text = option_text?;
    let option = names.options.find(&option_text, log)?;
    if names.kinds[option.index()] != Kind::Module {
        let text = format!("`{}` decides about a module, so it must be of kind module", option_text.text);
        fields.problem(option_text.place, Fault::Combination(text));
    }
    let program = names.parts.find(&program_text?, log)?;
    let form = module_form(fields);
    Some(ModuleRole { option, program, symbol: symbol?.text, form, place: ModulePlace::Alone })
}

fn sources(fields: &Fields<'_>, entry: &Entry<'_>, names: &Names) -> Vec<SourceRule> {
    let except = globs(&fields.texts("except"), fields, entry);
    let mut rules: Vec<SourceRule> = Vec::new();
    for found in fields.list("sources") {
        let (when, texts, made, modules, flags, without) = if let Some(text) = found.text() {
            (None, vec![text], vec![], vec![], vec![], vec![])
        } else if let Some(sub) = names.conditional(fields, &found) {
            let texts = |key| sub.texts(key).iter().filter_map(|t| names.interp(t, sub.log())).collect::<Vec<Interp>>();
            let (flags, without) = (texts("flags"), texts("without"));
            let made: Vec<RelPath> = sub.texts("made").iter().filter_map(|t| made_path(&sub, t)).collect();
            let modules = sub.texts("modules").into_iter().map(|text| text.text).collect();
            let read = (names.when(&sub), sub.texts("add"), made, modules, flags, without);
            sub.finish();
            read
        } else {
            continue;
        };
        let (near, texts): (Vec<Text>, Vec<Text>) = texts.into_iter().partition(|text| text.text.starts_with(BESIDE));
        let near = near.iter().filter_map(|text| beside(text.text.trim_start_matches(BESIDE), text, fields)).collect();
        let globs = globs(&texts, fields, entry);
        rules.push(SourceRule {
            when,
            globs,
            except: except.clone(),
            made,
            modules,
            beside: near,
            flags,
            without,
            place: found.place,
        });
    }
    rules
}

/// Reads which parts a part uses, and how those are linked that are not just linked.
fn uses(fields: &Fields<'_>, names: &Names) -> (Vec<When<PartId>>, Vec<(PartId, LinkWay)>) {
    let (mut uses, mut ways) = (Vec::new(), Vec::new());
    for (number, found) in fields.list("uses").into_iter().enumerate() {
        let Some(sub) = found.is_table().then(|| names.conditional(fields, &found)).flatten() else {
            uses.extend(names.when_members(fields, vec![found], &mut |text| names.parts.find(text, fields.log())));
            continue;
        };
        let when = names.when(&sub);
        let way = sub.word("link", &[("whole", LinkWay::Whole), ("together", LinkWay::Together(number))]);
        for part in sub.texts("add").iter().filter_map(|text| names.parts.find(text, sub.log())) {
            uses.push(When { when: when.clone(), item: part });
            ways.extend(way.map(|way| (part, way)));
        }
        sub.finish();
    }
    (uses, ways)
}

fn output(fields: &Fields<'_>, name: &str, kind: &PartKind, machine: Machine, tree: &str) -> RelPath {
    if kind.making() == Making::Generated {
        // It is read with what makes it.
        return RelPath::root();
    }
    if let Some(path) = fields.text("output").and_then(|text| made_path(fields, &text)) {
        return path;
    }
    let Some(text) = kind.usual_place(name, tree) else { return RelPath::root() };
    let text = match machine {
        Machine::Target => text,
        Machine::Host => format!("host/{text}"),
    };
    RelPath::parse(&text).unwrap_or_else(|_| RelPath::root())
}

/// Reads what a loadable module is.
pub(super) fn module_form(fields: &Fields<'_>) -> ModuleForm {
    fields.word("form", &ModuleForm::ALL).unwrap_or(ModuleForm::Shared)
}

/// Reads how the modules in the lists of a part are made.
fn listed_modules(fields: &Fields<'_>, entry: &Entry<'_>, names: &Names) -> Option<Box<ListedModules>> {
    let found = fields.get("modules")?;
    let Some(sub) = fields.sub(&found, "`modules`") else {
        fields.wrong_type(&found, "a table");
        return None;
    };
    let joined = |text: &Text| match entry.folder.join(&text.text) {
        Ok(path) => Some(path),
        Err(fault) => {
            sub.problem(text.place, fault);
            None
        }
    };
    let modules = ListedModules {
        form: module_form(&sub),
        flags: names.interp_list(&sub, "flags"),
        builtin_flags: names.interp_list(&sub, "builtin-flags"),
        link_flags: names.interp_list(&sub, "link-flags"),
        link_reads: sub.texts("link-reads").iter().filter_map(joined).collect(),
        stub: sub.text("stub").and_then(|text| joined(&text)),
    };
    // Read where the lists are.
    for key in ["output", "symbol", "install", "install-as", "mode", "role"] {
        sub.get(key);
    }
    sub.finish();
    Some(Box::new(modules))
}

/// Reads which names of a program its modules can use.
fn exports(fields: &Fields<'_>, entry: &Entry<'_>, names: &Names) -> Option<Exports> {
    let found = fields.get("exports")?;
    if let Some(text) = found.text() {
        if text.text == "dynamic" {
            return Some(Exports::Dynamic);
        }
        if text.text == "unchecked" {
            return Some(Exports::Unchecked);
        }
        return source_file(&text, fields, entry, names).map(Exports::Named);
    }
    let Some(sub) = fields.sub(&found, "`exports`") else {
        fields.wrong_type(&found, "\"dynamic\", a file with names, or { marked = \"…\" }");
        return None;
    };
    let marked = sub.required_text("marked");
    sub.finish();
    marked.map(|text| Exports::Marked(text.text))
}

/// Reads further names of a part's main file.
fn further_names(fields: &Fields<'_>) -> Vec<String> {
    let mut names = Vec::new();
    for text in fields.texts("names") {
        match RelPath::parse(&text.text) {
            Ok(path) if path != RelPath::root() && path.parent() == RelPath::root() => names.push(text.text),
            Ok(_) => fields.problem(text.place, Fault::Combination(format!("`{}` is no file name", text.text))),
            Err(fault) => fields.problem(text.place, fault),
        }
    }
    names
}

/// Reads permission bits. What would let a program run as someone else, or let everybody write, is decided by who installs, not by a tree.
fn mode_of(text: &str) -> Result<u32, &'static str> {
    let octal = (3..=4).contains(&text.len()) && text.bytes().all(|byte| (b'0'..=b'7').contains(&byte));
    match u32::from_str_radix(text, 8) {
        Ok(mode) if octal && mode > 0o777 => {
            Err("has bits beyond read, write and run, which only an administrator gives")
        }
        Ok(mode) if octal && mode & 0o002 != 0 => Err("lets everybody write"),
        Ok(mode) if octal && mode & 0o400 == 0 => Err("does not let its owner read"),
        Ok(mode) if octal => Ok(mode),
        Ok(_) | Err(_) => Err("is not a mode such as \"755\""),
    }
}

fn install(fields: &Fields<'_>, kind: &PartKind, names: &Names) -> Option<InstallRule> {
    let mut rule = install_rule(fields, if kind.is_code() { 0o755 } else { 0o644 }, names);
    let found = fields.get("empty-folders");
    match (&mut rule, found) {
        (_, None) => {}
        (Some(rule), Some(_)) => rule.folders = empty_folders(fields, names),
        (None, Some(found)) => {
            let fault = "`empty-folders` lie in the folder that `install` names; say `install`";
            fields.problem(found.place, Fault::Combination(fault.into()));
        }
    }
    rule
}

/// Reads permission bits.
pub(super) fn mode(fields: &Fields<'_>, usual: u32) -> u32 {
    let Some(text) = fields.text("mode") else { return usual };
    mode_of(&text.text).unwrap_or_else(|why| {
        fields.problem(text.place, Fault::Combination(format!("`{}` {why}", text.text)));
        usual
    })
}

/// Reads the empty folders that an installation makes.
fn empty_folders(fields: &Fields<'_>, names: &Names) -> Vec<EmptyFolder> {
    let mut folders = Vec::new();
    for member in fields.list("empty-folders") {
        if let Some(text) = member.text() {
            folders.extend(made_path(fields, &text).map(|path| EmptyFolder { path, mode: 0o755, owner: None }));
        } else if let Some(sub) = fields.sub(&member, "an entry of `empty-folders`") {
            let path = sub.required_text("folder").and_then(|text| made_path(&sub, &text));
            let mode = mode(&sub, 0o755);
            let owner = sub.text("owner").and_then(|text| names.interp(&text, sub.log()));
            folders.extend(path.map(|path| EmptyFolder { path, mode, owner }));
            sub.finish();
        } else {
            fields.wrong_type(&member, "a folder, or { folder = \"…\", mode = \"750\", owner = \"user:group\" }");
        }
    }
    folders
}

/// Reads where something is installed, with this mode unless told otherwise.
pub(super) fn install_rule(fields: &Fields<'_>, usual_mode: u32, names: &Names) -> Option<InstallRule> {
    let to = fields.text("install");
    let name = fields.text("install-as");
    let role = fields.word("role", &[("plain", InstallRole::Plain), ("config", InstallRole::Config)]);
    let mode = mode(fields, usual_mode);
    let to = names.interp(&to?, fields.log())?;
    let role = role.unwrap_or(InstallRole::Plain);
    let plain = |text: &Text| {
        let is_plain = !text.text.is_empty() && !text.text.contains('/') && !text.text.starts_with('.');
        if !is_plain {
            fields.problem(text.place, Fault::Combination(format!("`{}` is no file name", text.text)));
        }
        is_plain
    };
    let name = name.filter(plain).map(|text| text.text);
    Some(InstallRule { to, name, mode, role, folders: Vec::new() })
}
