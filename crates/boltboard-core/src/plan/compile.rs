//! From the sources of a part to compiles.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::lower::{Lower, PlanFault, source_path};
use crate::base::{Digest, RelPath, is_c_name};
use crate::board::{Condition, HeaderOrder, Linkage, PartDef, PartId, PartKind};
use crate::step::{Compile, Flags, Fragment, Kind, Location, Setting, StepId, Tool, ToolPlace, Word};
use crate::survey::{Fact, Language};

impl Lower<'_> {
    /// The sources of a part with the flags of each and the condition that brought it.
    pub(super) fn sources(&mut self, part: &PartDef) -> BTreeMap<Location, (Vec<Word>, Option<Arc<Condition>>)> {
        let mut sources: BTreeMap<Location, (Vec<Word>, Option<Arc<Condition>>)> = BTreeMap::new();
        for rule in &part.sources {
            if rule.when.as_ref().is_some_and(|w| !self.input.resolution.holds(self.input.facts, &w.expr)) {
                continue;
            }
            let flags = self.input.plain_words(&rule.flags);
            let when = rule.when.clone().map(Arc::new);
            let files = self.input.listing.of_rule(rule).into_iter().map(Location::Tree);
            for file in files.chain(rule.made.iter().cloned().map(Location::Made)) {
                let entry = sources.entry(file).or_insert_with(|| (vec![], when.clone()));
                entry.0.extend(flags.clone());
            }
        }
        let may_be_empty = matches!(part.kind, PartKind::Data) || !part.uses.is_empty();
        if sources.is_empty() && !may_be_empty {
            self.problem(Some(part.place), PlanFault::NoSources(part.name.clone()));
        }
        sources
    }

    pub(super) fn compile(&mut self, id: PartId, part: &PartDef) {
        let seen = self.used.seen_by_compiles(self.input, id);
        let include_words = self.includes(part, &seen);
        let after: Arc<[StepId]> = self.before_compiles(&seen).into();
        let defines = self.defines(part);
        // Most sources of a part share everything but their own names.
        let mut settings: Vec<(Language, Vec<Word>, Arc<Setting>)> = Vec::new();
        let mut objects = Vec::new();
        let mut any_cxx = false;
        for (source, (file_flags, brought_by)) in self.sources(part) {
            let Some(language) = Language::of(source_path(&source)) else { continue };
            any_cxx |= language == Language::Cxx;
            let known = settings.iter().find(|(l, flags, _)| *l == language && *flags == file_flags);
            let setting = match known {
                Some((.., setting)) => Arc::clone(setting),
                None => {
                    let mut words = self.flag_words(part, language);
                    words.extend(file_flags.iter().cloned());
                    let mut defines = defines.clone();
                    let mut words = taken_out(words, &mut defines);
                    words.extend(include_words.clone());
                    let own = self.input.tools.compiler(language).map(|compiler| compiler.standards(language));
                    let flags = Flags::of(language, &own.unwrap_or_default(), &words, self.input.folders);
                    let compiler = self.compiler_for(language, &words);
                    let setting = Arc::new(Setting::new(compiler, words, defines, language, flags));
                    settings.push((language, file_flags, Arc::clone(&setting)));
                    setting
                }
            };
            let object = object_of(part, &source);
            let kind = Kind::Compile(Compile { language, setting });
            let step = self.add(Some(id), part.place, kind, vec![source], vec![object.clone()], brought_by);
            if let Some(step) = step {
                self.plan.steps[step].after = Arc::clone(&after);
            }
            objects.push(object);
        }
        self.objects.insert(id, (objects, any_cxx));
    }

    /// Takes in a part's objects without planning how they are made.
    pub(super) fn name_objects(&mut self, id: PartId, part: &PartDef) {
        let sources = self.sources(part);
        let compiled = sources.keys().filter_map(|source| Some((source, Language::of(source_path(source))?)));
        let (mut objects, mut any_cxx) = (Vec::new(), false);
        for (source, language) in compiled {
            any_cxx |= language == Language::Cxx;
            objects.push(object_of(part, source));
        }
        self.objects.insert(id, (objects, any_cxx));
    }

    pub(super) fn compiler(&self, language: Language) -> Tool {
        match self.input.tools.compiler(language) {
            Ok(compiler) => {
                let name = compiler.path.file_name().map_or(String::new(), |n| n.to_string_lossy().into_owned());
                let place = ToolPlace::Host { path: compiler.path.clone(), identity: compiler.identity };
                Tool { name, place }
            }
            Err(fault) => {
                let name = if language == Language::Cxx { "c++" } else { "cc" }.to_string();
                Tool { name, place: ToolPlace::Absent(fault.to_string()) }
            }
        }
    }

    /// The compiler that runs these words: where they ask for code for the processor that it runs on, that counts as well.
    pub(super) fn compiler_for(&self, language: Language, words: &[Word]) -> Tool {
        let mut tool = self.compiler(language);
        let asks =
            |word: &Word| matches!(word.fragments.last(), Some(Fragment::Text(text)) if text.ends_with("=native"));
        if let ToolPlace::Host { identity, .. } = &mut tool.place
            && words.iter().any(asks)
        {
            *identity = Digest::of_parts([identity.to_string().as_str(), &self.input.tools.processor.to_string()]);
        }
        tool
    }

    fn flag_words(&self, part: &PartDef, language: Language) -> Vec<Word> {
        let chain = &self.input.board.toolchain;
        let mut lists = vec![&chain.flags];
        match language {
            Language::C => lists.push(&chain.c_flags),
            Language::Cxx => lists.push(&chain.cxx_flags),
            Language::Asm | Language::AsmWithCpp => {}
        }
        lists.push(&part.flags);
        let mut words = self.input.sysroot_words();
        words.extend(lists.into_iter().flat_map(|list| self.input.plain_words(self.input.held(list))));
        for need in self.input.held(&part.needs) {
            for found in self.input.facts.meeting(*need).into_iter().filter_map(Fact::found) {
                words.extend(found.compile_flags.iter().map(Word::text));
            }
        }
        // Libraries and object sets may end up in a shared object, so all of them can.
        let position_independent = match &part.kind {
            PartKind::StaticLibrary | PartKind::SharedLibrary { .. } | PartKind::Objects => true,
            PartKind::Module(_) => self.input.linkage(part) == Linkage::Loadable,
            PartKind::Program | PartKind::Generated(_) | PartKind::Data => false,
        };
        if position_independent {
            words.push(Word::text("-fPIC"));
        }
        // The later map is tried first, and the build may lie within the tree.
        let map = |at: Location, name: &str| Word {
            fragments: vec![
                Fragment::Text("-ffile-prefix-map=".into()),
                Fragment::At(at),
                Fragment::Text(format!("={name}")),
            ],
        };
        words.push(map(Location::Tree(RelPath::root()), "."));
        words.push(map(Location::Made(RelPath::root()), "made"));
        words
    }

    fn includes(&self, part: &PartDef, seen: &[PartId]) -> Vec<Word> {
        let mut search: Vec<Location> = Vec::new();
        if !self.plan.headers.is_empty() || seen.iter().any(|p| self.is_generated(*p)) {
            search.push(Location::Made(RelPath::root()));
        }
        let own = self.input.held(&part.includes).into_iter().chain(self.input.held(&part.public_includes));
        let mut folders: Vec<RelPath> = own.cloned().collect();
        for used in seen {
            folders.extend(self.input.held(&self.input.board.parts[*used].public_includes).into_iter().cloned());
        }
        let mut met = BTreeSet::new();
        search.extend(folders.into_iter().filter(|f| met.insert(f.clone())).map(Location::Tree));
        let mut words: Vec<Word> = search.iter().map(|at| Word::flag("-I", at.clone())).collect();
        for (_, header) in self.input.board.headers.iter().filter(|(_, h)| h.order == HeaderOrder::First) {
            words.extend([Word::text("-include"), Word::place(Location::Made(header.path.clone()))]);
        }
        words
    }

    fn is_generated(&self, part: PartId) -> bool {
        matches!(self.input.board.parts[part].kind, PartKind::Generated(_))
    }

    /// Steps whose files a compile may include: option headers, and generated parts that the part uses.
    fn before_compiles(&self, seen: &[PartId]) -> Vec<StepId> {
        let mut steps = self.header_steps.clone();
        for used in seen.iter().filter(|part| self.is_generated(**part)) {
            steps.extend(self.finished.get(used).into_iter().flatten());
        }
        steps
    }

    fn defines(&mut self, part: &PartDef) -> BTreeMap<String, Option<String>> {
        let mut defines = BTreeMap::new();
        for interp in self.input.held(&part.defines) {
            let text = self.input.text(interp);
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

fn object_of(part: &PartDef, source: &Location) -> Location {
    let name = match source {
        Location::Made(path) => format!("{}/made/{path}.o", part.name),
        _ => format!("{}/{}.o", part.name, source_path(source)),
    };
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
