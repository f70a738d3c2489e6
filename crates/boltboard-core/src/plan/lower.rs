//! From parts to steps.

use std::collections::{BTreeMap, BTreeSet};

use super::location::Location;
use super::macros::{MacroTable, header_text, macro_table};
use super::step::{Action, Fragment, Plan, Step, StepId, Tool, ToolPlace, Word};
use crate::base::{Arena, Place, RelPath};
use crate::board::{
    Board, Condition, Generator, HeaderOrder, Importance, Linkage, NeedId, PartDef, PartId, PartKind, Piece, Value,
};
use crate::definitions::Listing;
use crate::resolve::Resolution;
use crate::store::Folders;
use crate::survey::{FactState, Facts, Language, Tools};

/// Everything a plan is made of.
#[derive(Clone, Copy)]
pub struct PlanInput<'a> {
    /// The board.
    pub board: &'a Board,
    /// All values.
    pub resolution: &'a Resolution,
    /// All facts.
    pub facts: &'a Facts,
    /// The tree's files.
    pub listing: &'a Listing,
    /// The compilers and other tools.
    pub tools: &'a Tools,
    /// Where everything lies.
    pub folders: &'a Folders,
}

/// Why there is no plan, with its place in the definitions.
#[derive(Debug, Clone)]
pub struct PlanProblem {
    /// What is wrong.
    pub fault: PlanFault,
    /// Where the part at fault is defined.
    pub place: Option<Place>,
}

/// What can stand against a plan.
#[derive(Debug, Clone, thiserror::Error)]
pub enum PlanFault {
    /// A need that nothing can be built without is missing.
    #[error("the tree cannot be built without `{}`, which this host lacks", .need_name)]
    RequiredNeed {
        /// The need.
        need: NeedId,
        /// Its name.
        need_name: String,
    },
    /// A need of a part that is made is missing.
    #[error("part `{part}` needs `{need_name}`, which this host lacks")]
    PartNeed {
        /// The part.
        part: String,
        /// The need.
        need: NeedId,
        /// Its name.
        need_name: String,
    },
    /// A part uses one that is not made with these options.
    #[error("part `{part}` uses `{used}`, which is not made with these options{}", .because.as_deref().map(|c| format!(" ({c} does not hold)")).unwrap_or_default())]
    UsesUnmade {
        /// The part.
        part: String,
        /// The part that it uses.
        used: String,
        /// The condition under which that one is made.
        because: Option<String>,
    },
    /// Nothing is left of a part's sources.
    #[error("part `{0}` has no sources with these options")]
    NoSources(String),
    /// Two steps would write one file.
    #[error("{file} would be made twice: by part `{first}` and by part `{second}`")]
    SameFile {
        /// The file.
        file: String,
        /// The first part.
        first: String,
        /// The other one.
        second: String,
    },
    /// Parts wait for each other.
    #[error("parts wait for each other: {}", .0.join(" → "))]
    Ring(Vec<String>),
    /// A template cannot be filled in.
    #[error("{file}:{line}: {reason}")]
    Template {
        /// The file.
        file: String,
        /// One-based line; zero for the whole file.
        line: usize,
        /// What is wrong.
        reason: String,
        /// Names that come near.
        near: Vec<String>,
    },
    /// A flag that is not `NAME` or `NAME=VALUE`.
    #[error("part `{part}`: `{text}` is not NAME or NAME=VALUE")]
    Define {
        /// The part.
        part: String,
        /// The text.
        text: String,
    },
}

/// Makes the plan of a build.
///
/// # Errors
/// Everything that stands against it.
pub fn lower(input: PlanInput<'_>) -> Result<Plan, Vec<PlanProblem>> {
    let macros = macro_table(input.board, input.resolution, input.facts);
    let mut lower = Lower {
        input,
        plan: Plan {
            steps: Arena::default(),
            folders: input.folders.clone(),
            headers: Vec::new(),
            parts: BTreeMap::new(),
            macros: MacroTable::default(),
            part_names: input.board.parts.iter().map(|(_, part)| part.name.clone()).collect(),
        },
        header_steps: Vec::new(),
        made_by: BTreeMap::new(),
        objects: BTreeMap::new(),
        finished: BTreeMap::new(),
        open: Vec::new(),
        problems: Vec::new(),
    };
    lower.required_needs();
    for (id, header) in input.board.headers.iter() {
        let content = header_text(input.board, id, header, &macros);
        let location = Location::Made(header.path.clone());
        lower.plan.headers.push(location.clone());
        let step = lower.add(None, header.place, Action::Write { content }, vec![], vec![location], None);
        lower.header_steps.extend(step);
    }
    for (id, part) in input.board.parts.iter() {
        if input.is_made(part) {
            lower.part(id);
        }
    }
    lower.plan.macros = macros;
    if lower.problems.is_empty() { Ok(lower.plan) } else { Err(lower.problems) }
}

pub(super) struct Lower<'a> {
    pub input: PlanInput<'a>,
    pub plan: Plan,
    header_steps: Vec<StepId>,
    made_by: BTreeMap<Location, (StepId, String)>,
    /// The objects of each part, with whether any is C++.
    pub objects: BTreeMap<PartId, (Vec<Location>, bool)>,
    finished: BTreeMap<PartId, Vec<StepId>>,
    open: Vec<PartId>,
    problems: Vec<PlanProblem>,
}

impl PlanInput<'_> {
    /// Tells whether a part is made under the resolution.
    pub fn is_made(&self, part: &PartDef) -> bool {
        part.gate().is_none_or(|gate| self.resolution.holds(self.facts, &gate))
    }

    /// Returns how a module is made; other parts count as loadable files of their own.
    pub(super) fn linkage(&self, part: &PartDef) -> Linkage {
        match &part.kind {
            PartKind::Module(role) => match self.resolution.value(role.option) {
                Value::Module(linkage) => *linkage,
                _ => Linkage::Off,
            },
            PartKind::Program
            | PartKind::StaticLibrary
            | PartKind::SharedLibrary { .. }
            | PartKind::Objects
            | PartKind::Generated(_)
            | PartKind::Data => Linkage::Loadable,
        }
    }

    /// Returns the parts that a part uses now, bundled copies of its needs among them.
    pub(super) fn uses(&self, part: &PartDef) -> Vec<PartId> {
        let mut uses: Vec<PartId> = self.held(&part.uses).into_iter().copied().collect();
        for need in self.held(&part.needs) {
            if let Some(FactState::Bundled(copy)) = self.facts.get(*need).map(|f| &f.state)
                && !uses.contains(copy)
            {
                uses.push(*copy);
            }
        }
        uses
    }

    /// Returns a part's uses and theirs, nearest first, without repeats.
    pub(super) fn all_uses(&self, part: &PartDef) -> Vec<PartId> {
        let mut all: Vec<PartId> = Vec::new();
        let mut waiting: std::collections::VecDeque<PartId> = self.uses(part).into();
        while let Some(next) = waiting.pop_front() {
            if !all.contains(&next) {
                all.push(next);
                waiting.extend(self.uses(&self.board.parts[next]));
            }
        }
        all
    }
}

impl Lower<'_> {
    pub(super) fn problem(&mut self, place: Option<Place>, fault: PlanFault) {
        self.problems.push(PlanProblem { fault, place });
    }

    fn required_needs(&mut self) {
        for (need, definition) in self.input.board.needs.iter() {
            if definition.importance == Importance::Required && !self.input.facts.has(need) {
                let fault = PlanFault::RequiredNeed { need, need_name: definition.name.clone() };
                self.problem(Some(definition.place), fault);
            }
        }
    }

    /// Adds a step; reports when one of its files is made already.
    pub(super) fn add(
        &mut self,
        part: Option<PartId>,
        place: Place,
        action: Action,
        reads: Vec<Location>,
        writes: Vec<Location>,
        brought_by: Option<Condition>,
    ) -> Option<StepId> {
        let owner = part.map_or_else(|| "option header".to_string(), |p| self.input.board.parts[p].name.clone());
        for file in &writes {
            if let Some((_, first)) = self.made_by.get(file) {
                let fault = PlanFault::SameFile { file: file.to_string(), first: first.clone(), second: owner };
                self.problem(Some(place), fault);
                return None;
            }
        }
        let name = writes.first().map_or(String::new(), Location::to_string);
        let step = self.plan.steps.add(Step { name, part, action, reads, writes, after: vec![], brought_by });
        for file in self.plan.steps[step].writes.clone() {
            self.made_by.insert(file, (step, owner.clone()));
        }
        if let Some(part) = part {
            self.finished.entry(part).or_default().push(step);
        }
        Some(step)
    }

    /// Plans a part after all that it waits for.
    fn part(&mut self, id: PartId) {
        if self.plan.parts.contains_key(&id) {
            return;
        }
        let part = &self.input.board.parts[id];
        if let Some(at) = self.open.iter().position(|open| *open == id) {
            let ring = self.open[at..].iter().chain([&id]).map(|p| self.input.board.parts[*p].name.clone()).collect();
            return self.problem(Some(part.place), PlanFault::Ring(ring));
        }
        self.open.push(id);
        for used in self.waits_for(id, part) {
            let other = &self.input.board.parts[used];
            if self.input.is_made(other) {
                self.part(used);
            } else {
                let because = other.gate().map(|gate| self.input.board.print(&gate));
                let fault = PlanFault::UsesUnmade { part: part.name.clone(), used: other.name.clone(), because };
                self.problem(Some(part.place), fault);
            }
        }
        self.open.pop();
        for need in self.input.held(&part.needs) {
            if !self.input.facts.has(*need) {
                let need_name = self.input.board.needs[*need].name.clone();
                let fault = PlanFault::PartNeed { part: part.name.clone(), need: *need, need_name };
                self.problem(Some(part.place), fault);
            }
        }
        let outputs = self.steps_of(id, part);
        self.plan.parts.insert(id, outputs);
    }

    /// Parts whose steps must be planned first.
    fn waits_for(&self, id: PartId, part: &PartDef) -> Vec<PartId> {
        let mut parts = self.input.uses(part);
        match &part.kind {
            PartKind::Program => parts.extend(self.input.builtin_modules(id)),
            PartKind::Generated(Generator::Command { command, .. }) => {
                parts.extend(command.iter().flat_map(|i| &i.pieces).filter_map(|piece| match piece {
                    Piece::Part(part) => Some(*part),
                    _ => None,
                }));
            }
            PartKind::Generated(_)
            | PartKind::StaticLibrary
            | PartKind::SharedLibrary { .. }
            | PartKind::Module(_)
            | PartKind::Objects
            | PartKind::Data => {}
        }
        parts
    }

    fn steps_of(&mut self, id: PartId, part: &PartDef) -> Vec<Location> {
        match &part.kind {
            PartKind::Generated(generator) => self.generate(id, part, generator),
            PartKind::Data => self.copy(id, part),
            PartKind::Program | PartKind::StaticLibrary | PartKind::SharedLibrary { .. } => {
                self.compile(id, part);
                self.link(id, part)
            }
            PartKind::Module(_) => {
                self.compile(id, part);
                if self.input.linkage(part) == Linkage::Builtin { vec![] } else { self.link(id, part) }
            }
            PartKind::Objects => {
                self.compile(id, part);
                vec![]
            }
        }
    }

    fn copy(&mut self, id: PartId, part: &PartDef) -> Vec<Location> {
        let mut outputs = Vec::new();
        for (source, (_, brought_by)) in self.sources(part) {
            let output = Location::Output(part.output.child(source_path(&source).name()));
            self.add(Some(id), part.place, Action::Copy, vec![source], vec![output.clone()], brought_by);
            outputs.push(output);
        }
        outputs
    }

    /// The sources of a part with the flags of each and the condition that brought it.
    fn sources(&mut self, part: &PartDef) -> BTreeMap<Location, (Vec<Word>, Option<Condition>)> {
        let mut sources: BTreeMap<Location, (Vec<Word>, Option<Condition>)> = BTreeMap::new();
        for rule in &part.sources {
            if rule.when.as_ref().is_some_and(|w| !self.input.resolution.holds(self.input.facts, &w.expr)) {
                continue;
            }
            let flags = self.input.plain_words(&rule.flags);
            let files = self.input.listing.of_rule(rule).into_iter().map(Location::Tree);
            for file in files.chain(rule.made.iter().cloned().map(Location::Made)) {
                let entry = sources.entry(file).or_insert_with(|| (vec![], rule.when.clone()));
                entry.0.extend(flags.clone());
            }
        }
        let may_be_empty = matches!(part.kind, PartKind::Data) || !part.uses.is_empty();
        if sources.is_empty() && !may_be_empty {
            self.problem(Some(part.place), PlanFault::NoSources(part.name.clone()));
        }
        sources
    }

    fn compile(&mut self, id: PartId, part: &PartDef) {
        let (include_words, search) = self.includes(part);
        let after = self.before_compiles(part);
        let defines = self.defines(part);
        let mut objects = Vec::new();
        let mut any_cxx = false;
        for (source, (file_flags, brought_by)) in self.sources(part) {
            let Some(language) = Language::of(source_path(&source)) else { continue };
            any_cxx |= language == Language::Cxx;
            let mut words = self.flag_words(part, language);
            words.extend(file_flags);
            words.extend(include_words.clone());
            words.push(Word::place(source.clone()));
            let name = match &source {
                Location::Made(path) => format!("{}/made/{path}.o", part.name),
                _ => format!("{}/{}.o", part.name, source_path(&source)),
            };
            let object = Location::Object(RelPath::parse(&name).unwrap_or_else(|_| RelPath::root().child(&name)));
            let tool = self.compiler(language);
            let action = Action::Compile { language, tool, words, defines: defines.clone(), search: search.clone() };
            let step = self.add(Some(id), part.place, action, vec![source], vec![object.clone()], brought_by);
            if let Some(step) = step {
                self.plan.steps[step].after = after.clone();
            }
            objects.push(object);
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

    fn flag_words(&self, part: &PartDef, language: Language) -> Vec<Word> {
        let chain = &self.input.board.toolchain;
        let mut lists = vec![&chain.flags];
        match language {
            Language::C => lists.push(&chain.c_flags),
            Language::Cxx => lists.push(&chain.cxx_flags),
            Language::Asm | Language::AsmWithCpp => {}
        }
        lists.push(&part.flags);
        let mut words: Vec<Word> =
            lists.into_iter().flat_map(|list| self.input.plain_words(self.input.held(list))).collect();
        for need in self.input.held(&part.needs) {
            if let Some(FactState::Found(found)) = self.input.facts.get(*need).map(|f| &f.state) {
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

    fn includes(&self, part: &PartDef) -> (Vec<Word>, Vec<Location>) {
        let mut search: Vec<Location> = Vec::new();
        if !self.plan.headers.is_empty() || self.input.all_uses(part).iter().any(|p| self.is_generated(*p)) {
            search.push(Location::Made(RelPath::root()));
        }
        let own = self.input.held(&part.includes).into_iter().chain(self.input.held(&part.public_includes));
        let mut folders: Vec<RelPath> = own.cloned().collect();
        for used in self.input.all_uses(part) {
            folders.extend(self.input.held(&self.input.board.parts[used].public_includes).into_iter().cloned());
        }
        let mut seen = BTreeSet::new();
        search.extend(folders.into_iter().filter(|f| seen.insert(f.clone())).map(Location::Tree));
        let mut words: Vec<Word> = search.iter().map(|at| Word::flag("-I", at.clone())).collect();
        for (_, header) in self.input.board.headers.iter().filter(|(_, h)| h.order == HeaderOrder::First) {
            words.extend([Word::text("-include"), Word::place(Location::Made(header.path.clone()))]);
        }
        (words, search)
    }

    fn is_generated(&self, part: PartId) -> bool {
        matches!(self.input.board.parts[part].kind, PartKind::Generated(_))
    }

    /// Steps whose files a compile may include: option headers, and generated parts that the part uses.
    fn before_compiles(&self, part: &PartDef) -> Vec<StepId> {
        let mut steps = self.header_steps.clone();
        for used in self.input.all_uses(part).into_iter().filter(|p| self.is_generated(*p)) {
            steps.extend(self.finished.get(&used).into_iter().flatten());
        }
        steps
    }

    fn defines(&mut self, part: &PartDef) -> BTreeMap<String, Option<String>> {
        let mut defines = BTreeMap::new();
        for interp in self.input.held(&part.defines) {
            let text = self.input.text(interp);
            let (name, value) = text.split_once('=').unwrap_or((text.as_str(), "1"));
            let sound = name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
                && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
            if sound {
                defines.insert(name.to_string(), Some(value.to_string()));
            } else {
                self.problem(Some(part.place), PlanFault::Define { part: part.name.clone(), text });
            }
        }
        defines
    }
}

pub(super) fn source_path(source: &Location) -> &RelPath {
    static EMPTY: std::sync::LazyLock<RelPath> = std::sync::LazyLock::new(RelPath::root);
    match source {
        Location::Tree(path) | Location::Made(path) | Location::Object(path) | Location::Output(path) => path,
        Location::System(_) => &EMPTY,
    }
}
