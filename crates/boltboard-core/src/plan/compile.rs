//! From the sources of a part to compiles.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use super::fault::PlanFault;
use super::fill::Fill;
use super::lower::{Lower, Objects, source_path};
use super::macros::stands_for;
use crate::base::{Digest, RelPath, is_c_name};
use crate::board::{
    Condition, Ending, HeaderDef, HeaderOrder, Interp, Linkage, Machine, Making, ModulePlace, ModuleRole, PartDef,
    PartId, Position, SourceRule,
};
use crate::step::{Compile, Flags, Form, Fragment, Kind, Location, Setting, StepId, Tool, ToolPlace, Word};
use crate::survey::Language;

/// Flags that ask for named modules.
const CXX_MODULES: [&str; 3] = ["-fmodules-ts", "-fmodules", "-fcxx-modules"];

/// A source of a part.
#[derive(Clone)]
pub(super) struct SourceOf<'b> {
    /// Where it lies.
    pub at: Location,
    /// The rules that take it.
    rules: Vec<&'b SourceRule>,
    /// The number of the first of them.
    first_rule: usize,
    /// The condition that brought it.
    pub brought_by: Option<Arc<Condition>>,
}

impl SourceOf<'_> {
    /// Returns the rules that take it.
    pub fn rules(&self) -> &[&SourceRule] {
        &self.rules
    }
}

/// What the words of one compile have that those of others of its part have not.
#[derive(Debug, Clone, Default, PartialEq)]
pub(super) struct SourceFlags {
    /// Flags of its own.
    pub added: Vec<Word>,
    /// Flags of the part that it does without.
    pub without: Vec<Word>,
}

/// What the compiles of a part have in common.
pub(super) struct CommonOfCompiles {
    includes: Vec<Word>,
    /// Steps that come before them.
    pub after: Arc<[StepId]>,
    position: bool,
}

impl<'a> Lower<'a> {
    /// The sources of a part in the order of its list; files of one pattern by their names.
    pub(super) fn sources(&mut self, part: &'a PartDef) -> Vec<SourceOf<'a>> {
        let mut sources: Vec<SourceOf<'a>> = Vec::new();
        let mut known: HashMap<Location, usize> = HashMap::new();
        for (number, rule) in part.sources.iter().enumerate() {
            if rule.when.as_ref().is_some_and(|w| !self.input.resolution.holds(self.input.facts, &w.expr)) {
                continue;
            }
            let when = rule.when.clone().map(Arc::new);
            let files = self.input.listing.of_rule(rule).into_iter().map(Location::Tree);
            let beside: Vec<Location> = rule.beside.iter().map(|path| self.input.beside(Some(part), path)).collect();
            for at in files.chain(rule.made.iter().cloned().map(Location::Made)).chain(beside) {
                let index = *known.entry(at.clone()).or_insert(sources.len());
                match sources.get_mut(index) {
                    Some(source) => source.rules.push(rule),
                    None => {
                        let (rules, brought_by) = (vec![rule], when.clone());
                        sources.push(SourceOf { at, rules, first_rule: number, brought_by });
                    }
                }
            }
        }
        let may_be_empty = part.kind.making() == Making::Copied
            || part.kind.list().is_some()
            || !part.uses.is_empty()
            || !part.lists.is_empty();
        if sources.is_empty() && !may_be_empty {
            self.problem(Some(part.place), PlanFault::NoSources(part.name.clone()));
        }
        sources
    }

    /// The flags of a source that other sources of its part have not.
    fn source_flags(&self, part: &PartDef, source: &SourceOf<'a>) -> SourceFlags {
        let fill = Fill { source: Some(&source.at), part: Some(part), ..Fill::default() };
        let words = |texts: &dyn Fn(&'a SourceRule) -> &'a [Interp]| {
            let of_rules = source.rules.iter().flat_map(|rule| texts(rule));
            of_rules.flat_map(|text| self.input.words(text, fill)).collect()
        };
        SourceFlags { added: words(&|rule| &rule.flags), without: words(&|rule| &rule.without) }
    }

    /// What the compiles of a part have in common.
    pub(super) fn common_of_compiles(&mut self, id: PartId, part: &PartDef) -> CommonOfCompiles {
        let seen = self.used.seen_by_compiles(self.input, id);
        CommonOfCompiles {
            includes: self.includes(part, &seen),
            after: self.before_compiles(&seen).into(),
            position: self.position_independent(id),
        }
    }

    pub(super) fn compile(&mut self, id: PartId, part: &'a PartDef) {
        let mut common = self.common_of_compiles(id, part);
        let each_its_own = self.input.ways_of(part).iter().any(|part| part.compiles_look_at_source());
        // Most sources of a part share everything but their own names.
        let mut settings: Vec<(Language, SourceFlags, Arc<Setting>)> = Vec::new();
        let mut objects = Objects::default();
        let mut sources = self.sources(part);
        let listed: Vec<Location> = sources.iter().map(|source| source.at.clone()).collect();
        let fortran = self.fortran(id, part, &mut sources);
        common.includes.extend(fortran.search.iter().cloned());
        for source in sources {
            let Some(language) = Language::of(source_path(&source.at)) else {
                if is_object(&source.at) {
                    objects.add(source.at, source.first_rule);
                }
                continue;
            };
            objects.languages.insert(language);
            let flags = self.source_flags(part, &source);
            let number = source.first_rule;
            let known = settings.iter().find(|(l, known, _)| *l == language && *known == flags);
            let setting = match known.filter(|_| !each_its_own) {
                Some((.., setting)) => Arc::clone(setting),
                None => {
                    let setting = self.setting(part, &common, language, &source.at, &flags);
                    settings.push((language, flags, Arc::clone(&setting)));
                    setting
                }
            };
            let object = object_of(part, &source.at);
            let kind = Kind::Compile(Compile { language, form: Form::Object, machine: part.machine, setting });
            let modules = fortran.files.get(&source.at).cloned().unwrap_or_default();
            let reads = std::iter::once(source.at).chain(modules.reads).collect();
            let writes = std::iter::once(object.clone()).chain(modules.makes).collect();
            let step = self.add(Some(id), part.place, kind, reads, writes, source.brought_by);
            if let Some(step) = step {
                self.plan.steps[step].after = Arc::clone(&common.after);
            }
            objects.add(object, number);
        }
        if !fortran.files.is_empty() {
            // They are compiled in the order of their modules, and linked in that of the list.
            objects.sort_as(&listed.iter().map(|at| object_of(part, at)).collect::<Vec<_>>());
        }
        self.objects.insert(id, objects);
    }

    /// Puts together how a source is compiled.
    pub(super) fn setting(
        &mut self,
        part: &PartDef,
        common: &CommonOfCompiles,
        language: Language,
        source: &Location,
        flags: &SourceFlags,
    ) -> Arc<Setting> {
        let fill = Fill { source: Some(source), part: Some(part), ..Fill::default() };
        let mut words = self.input.flag_words(part, common.position, language, fill);
        words.retain(|word| !flags.without.contains(word));
        words.extend(flags.added.iter().cloned());
        let modules = words.iter().filter_map(Word::as_text).find(|text| CXX_MODULES.contains(text));
        if let Some(flag) = modules.map(str::to_string) {
            self.problem(Some(part.place), PlanFault::CxxModules { part: part.name.clone(), flag });
        }
        let mut defines = self.defines(part, fill);
        let mut words = taken_out(words, &mut defines);
        if language == Language::OwnAsm {
            // Nobody reads its language, so that all that it is told counts.
            let define = |(name, value): (String, Option<String>)| {
                Word::text(value.map_or(format!("-D{name}"), |value| format!("-D{name}={value}")))
            };
            words.extend(std::mem::take(&mut defines).into_iter().map(define));
        }
        words.extend(common.includes.clone());
        let own = self.input.tools.compiler_for(part.machine, language).map(|compiler| compiler.standards(language));
        let known = Flags::of(language, &own.unwrap_or_default(), &words, self.input.folders);
        let compiler = match language {
            Language::OwnAsm => {
                let name = self.input.text(&self.input.board.toolchains.of(part.machine).assembler);
                self.host_tool(&name)
            }
            _ => self.compiler_for(part.machine, language, &words),
        };
        Arc::new(Setting::new(compiler, words, defines, language, known))
    }

    /// Takes in a part's objects without planning how they are made.
    pub(super) fn name_objects(&mut self, id: PartId, part: &'a PartDef) {
        let mut objects = Objects::default();
        let sources = self.sources(part);
        let mut to_order = sources.clone();
        self.fortran(id, part, &mut to_order);
        for source in sources {
            match Language::of(source_path(&source.at)) {
                Some(language) => {
                    objects.languages.insert(language);
                    objects.add(object_of(part, &source.at), source.first_rule);
                }
                None if is_object(&source.at) => objects.add(source.at, source.first_rule),
                None => {}
            }
        }
        self.objects.insert(id, objects);
    }

    pub(super) fn compiler(&self, machine: Machine, language: Language) -> Tool {
        match self.input.tools.compiler_for(machine, language) {
            Ok(compiler) => {
                let name = compiler.path.file_name().map_or(String::new(), |n| n.to_string_lossy().into_owned());
                let place = ToolPlace::Host { path: compiler.path.clone(), identity: compiler.identity };
                Tool { name, place }
            }
            Err(fault) => {
                let name = match language {
                    Language::Cxx => "c++",
                    Language::Fortran | Language::FortranWithCpp => "gfortran",
                    Language::C | Language::Asm | Language::AsmWithCpp | Language::OwnAsm => "cc",
                };
                let name = name.to_string();
                Tool { name, place: ToolPlace::Absent(fault.to_string()) }
            }
        }
    }

    /// The compiler that runs these words: where they ask for code for the processor that it runs on, that counts as well.
    pub(super) fn compiler_for(&self, machine: Machine, language: Language, words: &[Word]) -> Tool {
        let mut tool = self.compiler(machine, language);
        if let ToolPlace::Host { identity, .. } = &mut tool.place
            && words.iter().any(Word::asks_for_own_processor)
        {
            *identity = Digest::of_parts([identity.to_string().as_str(), &self.input.tools.processor.to_string()]);
        }
        tool
    }

    /// Tells whether the code of a part must be able to lie anywhere in memory: because it says so, or because something that is made takes
    /// it into a shared library or a loadable module.
    fn position_independent(&mut self, id: PartId) -> bool {
        let said = self.input.ways_of(&self.input.board.parts[id]).into_iter().rev().map(|part| part.position);
        match said.into_iter().find(|position| *position != Position::AsNeeded).unwrap_or_default() {
            Position::ByFlags => false,
            Position::Independent => true,
            Position::AsNeeded => self.is_carried(id),
        }
    }

    /// Tells whether something that is made takes a part into a shared library or a loadable module, or is one.
    fn is_carried(&mut self, id: PartId) -> bool {
        // Those that were come to, with the one that each was come to from.
        let mut way: Vec<(PartId, usize)> = vec![(id, 0)];
        let mut met = HashSet::from([id]);
        let mut at = 0;
        while let Some((next, _)) = way.get(at).copied() {
            let part = &self.input.board.parts[next];
            let known = self.carried.get(&next).copied();
            let is_shared = part.kind.ending() == Some(Ending::Shared) && self.input.linkage(part) == Linkage::Loadable;
            // Modules of others take in what a kit has.
            let is_shared = is_shared || part.kit().is_some();
            let carries = self.input.is_made(part) && (is_shared || part.kind.is_taken_in() && known == Some(true));
            if carries {
                let mut on_the_way = at;
                loop {
                    self.carried.insert(way[on_the_way].0, true);
                    if on_the_way == 0 {
                        return true;
                    }
                    on_the_way = way[on_the_way].1;
                }
            }
            if known.is_none() && self.input.is_made(part) {
                let carriers = self.input.board.carriers.get(&next).into_iter().flatten();
                for carrier in carriers {
                    if !met.contains(carrier) && self.uses_now(*carrier, next) {
                        met.insert(*carrier);
                        way.push((*carrier, at));
                    }
                }
            }
            at += 1;
        }
        self.carried.extend(way.into_iter().map(|(part, _)| (part, false)));
        false
    }

    /// Tells whether a part uses another one under this resolution.
    fn uses_now(&mut self, part: PartId, used: PartId) -> bool {
        let input = self.input;
        let uses = self.uses.entry(part).or_insert_with(|| input.uses(&input.board.parts[part]).into_iter().collect());
        uses.contains(&used)
    }

    pub(super) fn includes(&self, part: &PartDef, seen: &[PartId]) -> Vec<Word> {
        let mut search: Vec<Location> = Vec::new();
        if !self.plan.headers.is_empty() || seen.iter().any(|p| self.is_generated(*p)) {
            search.push(Location::Made(RelPath::root()));
        }
        let ways = self.input.ways_of(part);
        let own = ways.iter().flat_map(|part| [&part.includes, &part.public_includes]);
        let mut folders: Vec<RelPath> = own.flat_map(|list| self.input.held(list)).cloned().collect();
        for used in seen {
            folders.extend(self.input.held(&self.input.board.parts[*used].public_includes).into_iter().cloned());
        }
        let mut met = BTreeSet::new();
        search.extend(folders.into_iter().filter(|f| met.insert(f.clone())).map(Location::Tree));
        let mut words: Vec<Word> = search.iter().map(|at| Word::flag("-I", at.clone())).collect();
        // What runs while building is compiled as it is anywhere.
        let first = |header: &HeaderDef| header.order == HeaderOrder::First && part.machine == Machine::Target;
        for (_, header) in self.input.board.headers.iter().filter(|(_, header)| first(header)) {
            words.extend([Word::text("-include"), Word::place(Location::Made(header.path.clone()))]);
        }
        words
    }

    fn is_generated(&self, part: PartId) -> bool {
        self.input.board.parts[part].kind.making() == Making::Generated
    }

    /// Steps whose files a compile may include: option headers, and generated parts that the part uses.
    fn before_compiles(&self, seen: &[PartId]) -> Vec<StepId> {
        let mut steps = self.header_steps.clone();
        for used in seen.iter().filter(|part| self.is_generated(**part)) {
            steps.extend(self.finished.get(used).into_iter().flatten());
        }
        steps
    }

    fn defines(&mut self, part: &PartDef, fill: Fill<'_>) -> BTreeMap<String, Option<String>> {
        let mut defines = BTreeMap::new();
        let ways = self.input.ways_of(part);
        for (option, carrier) in ways.iter().flat_map(|part| &part.given) {
            if let Some(value) = stands_for(*option, carrier, self.input.resolution, self.input.facts) {
                defines.insert(carrier.name.clone(), Some(value));
            }
        }
        let input = self.input;
        for interp in ways.iter().flat_map(|part| input.held(&part.defines)) {
            let text = self.input.text_with(interp, fill);
            let (name, value) = text.split_once('=').unwrap_or((text.as_str(), "1"));
            if is_c_name(name) {
                defines.insert(name.to_string(), Some(value.to_string()));
            } else {
                self.problem(Some(part.place), PlanFault::Define { part: part.name.clone(), text });
            }
        }
        defines
    }
}

/// Tells whether a file is linked as it is.
fn is_object(file: &Location) -> bool {
    matches!(source_path(file).extension(), "o")
}

/// Where the object of a source comes to lie.
pub(super) fn object_of(part: &PartDef, source: &Location) -> Location {
    let listed = match part.kind.module() {
        Some(ModuleRole { place: ModulePlace::Listed { name, folder }, .. }) => Some((name, folder)),
        _ => None,
    };
    // The names of lists, and of the modules in them, are paths already.
    let folder = match listed {
        _ if part.kind.list().is_some() => "lists".to_string(),
        Some((name, folder)) => format!("lists/{}", folder.child(&format!("{name}.module"))),
        None => part.name.clone(),
    };
    let path = source_path(source);
    let near = Some(path.beneath(&part.folder)).filter(|_| part.folder != RelPath::root()).flatten();
    let shown = match (source, listed, near) {
        (Location::Made(path), ..) => format!("made/{path}"),
        (_, Some(_), Some(near)) => near.to_string(),
        _ => path.to_string(),
    };
    let name = format!("{folder}/{shown}.o");
    Location::Object(RelPath::parse(&name).unwrap_or_else(|_| RelPath::root().child(&name)))
}

/// Takes plain `-DNAME` and `-DNAME=VALUE` out of a command, so that they count only for files that name them. When the
/// command undefines anything, order matters and all of them stay.
fn taken_out(words: Vec<Word>, defines: &mut BTreeMap<String, Option<String>>) -> Vec<Word> {
    let undefines =
        words.iter().any(|word| matches!(word.fragments.first(), Some(Fragment::Text(t)) if t.starts_with("-U")));
    if undefines {
        return words;
    }
    let mut rest = Vec::new();
    for word in words {
        let plain: Option<String> = word.fragments.iter().try_fold(String::new(), |text, fragment| match fragment {
            Fragment::Text(more) => Some(text + more),
            Fragment::At(_) | Fragment::Result(_) => None,
        });
        let define = plain.as_deref().and_then(|text| text.strip_prefix("-D")).filter(|text| !text.is_empty());
        let named = define.map(|text| text.split_once('=').unwrap_or((text, "1")));
        match named.filter(|(name, _)| is_c_name(name)) {
            Some((name, value)) => {
                defines.insert(name.to_string(), Some(value.to_string()));
            }
            None => rest.push(word),
        }
    }
    rest
}
