//! From parts to steps.

use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::{Arc, OnceLock};

use foldhash::fast::FixedState;

use super::compile::SourceOf;
use super::fault::{PlanFault, PlanProblem};
use super::fortran::Modules;
use super::link::linked_files;
use super::macros::{HeaderText, MacroTable, macro_table};
use super::steps::Plan;
use super::used::Used;
use crate::base::{Arena, Id, Place, RelPath, Walk};
use crate::board::{Board, Condition, Importance, Linkage, Making, PartDef, PartId, PartOrigin, Value};
use crate::definitions::Listing;
use crate::profile::Choices;
use crate::reading::UnitsMemo;
use crate::resolve::Resolution;
use crate::step::{Copy, Kind, Location, Step, StepId, Tool, Write};
use crate::survey::{Facts, Language, Tools};
use crate::work::Folders;

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
    /// What Fortran sources say of modules.
    pub units: &'a UnitsMemo,
    /// What people chose; only records tell it.
    pub choices: &'a Choices,
    /// The profile's name, likewise.
    pub profile: &'a str,
}

/// Which parts a plan is made for.
#[derive(Debug, Clone, Copy)]
pub enum Wanted<'a> {
    /// All.
    All,
    /// Only these; of others, what these look at.
    Only(&'a BTreeSet<PartId>),
}

/// Makes the plan of a build.
///
/// # Errors
/// Everything that stands against it.
pub fn lower(input: PlanInput<'_>) -> Result<Plan, Vec<PlanProblem>> {
    lower_some(input, macro_table(input.board, input.resolution, input.facts), Wanted::All)
}

/// Makes the plan of some parts, and of what every build has. `macros` are those of the resolution.
///
/// # Errors
/// Everything that stands against it.
pub fn lower_some(input: PlanInput<'_>, macros: MacroTable, wanted: Wanted<'_>) -> Result<Plan, Vec<PlanProblem>> {
    let mut lower = Lower {
        input,
        wanted,
        plan: Plan {
            steps: Arena::default(),
            folders: input.folders.clone(),
            headers: Vec::new(),
            parts: BTreeMap::new(),
            macros: MacroTable::default(),
            part_names: BTreeMap::new(),
            variables: BTreeSet::new(),
            epoch: input.tools.epoch,
            search_path: input.tools.search_path.clone(),
            rest: 0,
            makers: OnceLock::new(),
        },
        header_steps: Vec::new(),
        made_by: HashMap::default(),
        objects: BTreeMap::new(),
        finished: BTreeMap::new(),
        used: Used::default(),
        tools: BTreeMap::new(),
        carried: HashMap::new(),
        uses: HashMap::new(),
        modules: BTreeMap::new(),
        problems: Vec::new(),
    };
    lower.required_needs();
    for (id, header) in input.board.headers.iter() {
        let text = HeaderText::of(input.board, id, header, &macros);
        let content = text.filled(|name| macros.value(name));
        let location = text.at.clone();
        lower.plan.headers.push(text);
        let step = lower.add(None, header.place, Kind::Write(Write { content }), vec![], vec![location], None);
        lower.header_steps.extend(step);
    }
    let all: Vec<PartId> = match wanted {
        Wanted::All => input.board.parts.ids().collect(),
        Wanted::Only(parts) => parts.iter().copied().collect(),
    };
    lower.in_order(all).into_iter().for_each(|id| lower.part(id));
    lower.checks();
    lower.plan.macros = macros;
    if lower.problems.is_empty() { Ok(lower.plan) } else { Err(lower.problems) }
}

/// The objects of a part.
#[derive(Debug, Clone, Default)]
pub(super) struct Objects {
    /// The files, in the order in which they are linked.
    pub files: Vec<Location>,
    /// The number of the rule that brought each.
    pub rules: Vec<usize>,
    /// The languages that they were compiled from.
    pub languages: BTreeSet<Language>,
}

impl Objects {
    /// Adds an object that a rule brought.
    pub fn add(&mut self, file: Location, rule: usize) {
        self.files.push(file);
        self.rules.push(rule);
    }

    /// Puts them into the order of these files.
    pub fn sort_as(&mut self, files: &[Location]) {
        let place: HashMap<&Location, usize> = files.iter().enumerate().map(|(at, file)| (file, at)).collect();
        let mut both: Vec<(Location, usize)> = self.files.drain(..).zip(self.rules.drain(..)).collect();
        both.sort_by_key(|(file, _)| place.get(file).copied().unwrap_or(usize::MAX));
        (self.files, self.rules) = both.into_iter().unzip();
    }
}

pub(super) struct Lower<'a> {
    pub input: PlanInput<'a>,
    wanted: Wanted<'a>,
    pub plan: Plan,
    pub(super) header_steps: Vec<StepId>,
    pub(super) made_by: HashMap<Location, StepId, FixedState>,
    /// The objects of each part.
    pub(super) objects: BTreeMap<PartId, Objects>,
    pub(super) finished: BTreeMap<PartId, Vec<StepId>>,
    pub(super) used: Used,
    /// Programs of the host by their names, each looked for once.
    pub(super) tools: BTreeMap<String, Tool>,
    /// What others take into shared libraries and modules, as far as it is known.
    pub(super) carried: HashMap<PartId, bool>,
    /// What carriers use, each worked out once.
    pub(super) uses: HashMap<PartId, HashSet<PartId>>,
    /// The Fortran modules that parts make.
    pub(super) modules: BTreeMap<PartId, Modules>,
    problems: Vec<PlanProblem>,
}

impl PlanInput<'_> {
    /// Tells whether a condition holds under the resolution; none always does.
    pub fn holds(&self, when: Option<&Condition>) -> bool {
        when.is_none_or(|when| self.resolution.holds(self.facts, &when.expr))
    }

    /// Tells whether a part is made under the resolution.
    pub fn is_made(&self, part: &PartDef) -> bool {
        part.origin != PartOrigin::Absent && part.gate().is_none_or(|gate| self.resolution.holds(self.facts, &gate))
    }

    /// Returns how a module is made; other parts count as loadable files of their own.
    pub(super) fn linkage(&self, part: &PartDef) -> Linkage {
        match part.kind.module().map(|role| self.resolution.value(role.option)) {
            Some(Value::Module(linkage)) => *linkage,
            Some(_) => Linkage::Off,
            None => Linkage::Loadable,
        }
    }

    /// Tells whether a part has a link of its own: a module that is built in has none.
    fn is_linked(&self, part: &PartDef) -> bool {
        self.linkage(part) != Linkage::Builtin
    }
}

impl<'a> Lower<'a> {
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
        kind: Kind,
        reads: Vec<Location>,
        writes: Vec<Location>,
        brought_by: Option<Arc<Condition>>,
    ) -> Option<StepId> {
        for file in &writes {
            if let Some(first) = self.made_by.get(file) {
                let owner = |part: Option<PartId>| {
                    part.map_or_else(|| "option header".to_string(), |part| self.input.board.parts[part].name.clone())
                };
                let (first, second) = (owner(self.plan.steps[*first].part), owner(part));
                let fault = PlanFault::SameFile { file: file.to_string(), first, second };
                self.problem(Some(place), fault);
                return None;
            }
        }
        let name = writes.first().map_or(String::new(), Location::to_string);
        let step = self.plan.steps.add(Step { name, part, kind, reads, writes, after: Arc::default(), brought_by });
        self.made_by.extend(self.plan.steps[step].writes.iter().map(|file| (file.clone(), step)));
        if let Some(part) = part {
            self.finished.entry(part).or_default().push(step);
        }
        Some(step)
    }

    /// The parts that are made of these and of what they wait for, each after all that it waits for.
    fn in_order(&mut self, wanted: Vec<PartId>) -> Vec<PartId> {
        let input = self.input;
        let is_made = |id: &PartId| input.is_made(&input.board.parts[*id]);
        let next = |index: usize| {
            let id = Id::new(index);
            let waits = input.waits_for(id, &input.board.parts[id]);
            waits.into_iter().filter(is_made).map(Id::index).collect()
        };
        let mut walk = Walk::new(input.board.parts.len());
        let mut order = Vec::new();
        for id in wanted.into_iter().filter(is_made) {
            let ring = walk.from(id.index(), &next, &mut |done| order.push(Id::new(done)));
            if let Some(ring) = ring {
                let part = &input.board.parts[Id::new(ring[0])];
                let names = ring.iter().map(|index| input.board.parts[Id::new(*index)].name.clone()).collect();
                self.problem(Some(part.place), PlanFault::Ring(names));
            }
        }
        order
    }

    /// Plans a part; all that it waits for is planned.
    fn part(&mut self, id: PartId) {
        let part = &self.input.board.parts[id];
        self.used.add(self.input, id);
        let wanted = self.is_planned(id);
        for used in self.input.waits_for(id, part) {
            let other = &self.input.board.parts[used];
            if wanted && other.origin == PartOrigin::Absent {
                let (part_name, used) = (part.name.clone(), other.name.clone());
                self.problem(Some(part.place), PlanFault::NotInKit { part: part_name, used });
            } else if wanted && !self.input.is_made(other) {
                let because = other.gate().map(|gate| self.input.board.print(&gate));
                let fault = PlanFault::UsesUnmade { part: part.name.clone(), used: other.name.clone(), because };
                self.problem(Some(part.place), fault);
            }
        }
        self.plan.part_names.insert(id, part.name.clone());
        if !wanted {
            self.only_named(id, part);
            return;
        }
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

    /// Takes in what others look at of a part for which no steps are made.
    fn only_named(&mut self, id: PartId, part: &'a PartDef) {
        let outputs = match part.kind.making() {
            Making::Generated => self.input.generated_files(part),
            Making::Copied => self.sources(part).iter().filter_map(|source| copied(part, &source.at)).collect(),
            Making::OfObjects(ending) if ending.is_file() && self.input.is_linked(part) => linked_files(part),
            Making::OfObjects(_) => vec![],
        };
        if part.kind.ending().is_some() {
            self.name_objects(id, part);
            if let Some((_, _, object)) = self.stub_places(part) {
                let rule = part.sources.len();
                self.objects.entry(id).or_default().add(object, rule);
            }
        }
        self.plan.parts.insert(id, outputs);
    }

    /// Tells whether the steps of a part are wanted.
    pub(super) fn is_planned(&self, id: PartId) -> bool {
        match self.wanted {
            Wanted::All => true,
            Wanted::Only(parts) => parts.contains(&id),
        }
    }

    fn steps_of(&mut self, id: PartId, part: &'a PartDef) -> Vec<Location> {
        let beside: BTreeSet<&RelPath> = part.beside().into_iter().collect();
        for path in beside {
            let copy = self.input.beside(Some(part), path);
            if let Location::Made(_) = copy {
                let from = Location::of(&self.input.board.tree.definition(path), self.input.folders);
                self.add(Some(id), part.place, Kind::Copy(Copy::default()), vec![from], vec![copy], None);
            }
        }
        if let Some(generator) = part.kind.generator() {
            return self.generate(id, part, generator);
        }
        if part.prebuilt().is_some() {
            return self.prebuilt(id, part);
        }
        let Some(ending) = part.kind.ending() else { return self.copy(id, part) };
        self.compile(id, part);
        self.stub(id, part);
        if ending.is_file() && self.input.is_linked(part) { self.link(id, part, ending) } else { vec![] }
    }

    fn copy(&mut self, id: PartId, part: &'a PartDef) -> Vec<Location> {
        let mut outputs = Vec::new();
        let mut sources: HashMap<Location, Location> = HashMap::new();
        let mut taken = Vec::new();
        for SourceOf { at, brought_by, .. } in self.sources(part) {
            let Some(output) = copied(part, &at) else {
                let below = part.below.as_ref().map_or_else(String::new, RelPath::to_string);
                let fault = PlanFault::NotBelow { part: part.name.clone(), file: at.to_string(), below };
                self.problem(Some(part.place), fault);
                continue;
            };
            match sources.entry(output.clone()) {
                Entry::Occupied(first) => taken.push([first.get().to_string(), at.to_string(), output.to_string()]),
                Entry::Vacant(place) => {
                    place.insert(at.clone());
                    self.add(
                        Some(id),
                        part.place,
                        Kind::Copy(Copy::default()),
                        vec![at],
                        vec![output.clone()],
                        brought_by,
                    );
                    outputs.push(output);
                }
            }
        }
        // One word for all of them, which have one cause.
        if let Some([first, second, file]) = taken.first().cloned() {
            let fault = PlanFault::OnePlace { part: part.name.clone(), count: taken.len(), first, second, file };
            self.problem(Some(part.place), fault);
        }
        outputs
    }
}

/// Where a file of a data part comes to lie; nowhere, where it does not lie in the folder that it is to keep its own of.
fn copied(part: &PartDef, source: &Location) -> Option<Location> {
    Some(Location::Output(part.output.child(part.kept(source_path(source))?.as_str())))
}

pub(super) fn source_path(source: &Location) -> &RelPath {
    static EMPTY: std::sync::LazyLock<RelPath> = std::sync::LazyLock::new(RelPath::root);
    match source {
        Location::Tree(path) | Location::Made(path) | Location::Object(path) | Location::Output(path) => path,
        Location::System(_) => &EMPTY,
    }
}
