//! Fortran: which source makes which module, and in which order they are compiled.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::compile::SourceOf;
use super::fault::PlanFault;
use super::lower::{Lower, source_path};
use crate::base::{RelPath, Walk};
use crate::board::{PartDef, PartId};
use crate::reading::{SourceForm, Units};
use crate::step::{Location, Word};
use crate::survey::Language;

/// The modules that a part makes: the file of each, and the source that makes it.
pub(super) type Modules = BTreeMap<String, (Location, Location)>;

/// What the Fortran sources of a part come to.
#[derive(Debug, Default)]
pub(super) struct FortranOrder {
    /// What each makes and needs beside its object.
    pub files: HashMap<Location, ModuleFiles>,
    /// The folders in which modules are looked for.
    pub search: Vec<Word>,
}

/// Files of modules that a compile makes and reads.
#[derive(Debug, Clone, Default)]
pub(super) struct ModuleFiles {
    pub makes: Vec<Location>,
    pub reads: Vec<Location>,
}

impl<'a> Lower<'a> {
    /// Puts Fortran sources behind those whose modules they use, and takes in the modules that the part makes.
    pub(super) fn fortran(&mut self, id: PartId, part: &PartDef, sources: &mut Vec<SourceOf<'a>>) -> FortranOrder {
        let is_fortran = |at: &Location| Language::of(source_path(at)).is_some_and(Language::is_fortran);
        if !sources.iter().any(|source| is_fortran(&source.at)) {
            return FortranOrder::default();
        }
        let folder = module_folder(part);
        let seen = self.used.seen_by_compiles(self.input, id);
        let includes: Vec<Location> = self.includes(part, &seen).iter().filter_map(Word::flagged_place).collect();
        let units: Vec<Option<Units>> =
            sources.iter().map(|source| is_fortran(&source.at).then(|| self.units_of(source, &includes))).collect();
        let mut own = Modules::new();
        for (source, units) in sources.iter().zip(&units) {
            for module in units.iter().flat_map(|units| &units.modules) {
                let file = Location::Object(folder.child(&format!("{}.mod", module.name)));
                if let Some((_, first)) = own.insert(module.name.clone(), (file, source.at.clone())) {
                    self.same_module(part, &module.name, &first, &source.at);
                }
            }
        }
        let mut visible = own.clone();
        let mut folders: BTreeSet<RelPath> = BTreeSet::new();
        for used in self.parts_below(id) {
            for (name, (file, source)) in self.modules.get(&used).cloned().unwrap_or_default() {
                folders.insert(source_path(&file).parent());
                if let Some((_, first)) = visible.insert(name.clone(), (file, source.clone())) {
                    self.same_module(part, &name, &first, &source);
                }
            }
        }
        let mut search: Vec<Word> = Vec::new();
        if !own.is_empty() {
            search.push(Word::flag("-I", Location::Object(folder.clone())));
        }
        search.extend(folders.into_iter().map(|folder| Word::flag("-I", Location::Object(folder))));
        let mut files = HashMap::new();
        let mut makers: HashMap<Location, usize> = HashMap::new();
        for (index, (source, units)) in sources.iter().zip(&units).enumerate() {
            let Some(units) = units else { continue };
            let found = files_of(units, &folder, &visible);
            makers.extend(found.makes.iter().map(|file| (file.clone(), index)));
            files.insert(source.at.clone(), found);
        }
        self.modules.insert(id, own);
        let before = |index: usize| -> Vec<usize> {
            let reads = files.get(&sources[index].at).into_iter().flat_map(|files| &files.reads);
            reads.filter_map(|file| makers.get(file)).copied().filter(|maker| *maker != index).collect()
        };
        let mut order = Vec::new();
        let mut walk = Walk::new(sources.len());
        for index in 0..sources.len() {
            if let Some(ring) = walk.from(index, &before, &mut |done| order.push(done)) {
                let names = ring.iter().map(|index| sources[*index].at.to_string()).collect();
                self.problem(Some(part.place), PlanFault::ModuleRing(names));
                return FortranOrder::default();
            }
        }
        let mut left: Vec<Option<SourceOf<'a>>> = sources.drain(..).map(Some).collect();
        sources.extend(order.into_iter().filter_map(|index| left[index].take()));
        FortranOrder { files, search }
    }

    fn same_module(&mut self, part: &PartDef, name: &str, first: &Location, second: &Location) {
        let (name, first, second) = (name.to_string(), first.to_string(), second.to_string());
        self.problem(Some(part.place), PlanFault::SameModule { name, first, second });
    }

    /// All parts that a part uses, directly or through others, each once.
    fn parts_below(&self, id: PartId) -> Vec<PartId> {
        let mut met = BTreeSet::new();
        let mut open: Vec<PartId> = self.used.direct(id).to_vec();
        let mut at = self.input.board.parts[id].base;
        while let Some(base) = at {
            open.extend(self.used.direct(base));
            at = self.input.board.parts[base].base;
        }
        while let Some(next) = open.pop() {
            if met.insert(next) {
                open.extend(self.used.direct(next));
            }
        }
        met.into_iter().collect()
    }

    /// What a source says of modules. What only the build makes says it in the definitions.
    fn units_of(&self, source: &SourceOf<'_>, includes: &[Location]) -> Units {
        let form = source_form(source_path(&source.at));
        match &source.at {
            Location::Made(_) => {
                let modules = source.rules().iter().flat_map(|rule| &rule.modules);
                let module = |name: &String| crate::reading::Module { name: name.to_lowercase(), parted: false };
                Units { modules: modules.map(module).collect(), ..Units::default() }
            }
            at => self.with_included(at, form, includes),
        }
    }

    /// What a file says of modules, with all that it takes in from files of the tree.
    fn with_included(&self, at: &Location, form: SourceForm, folders: &[Location]) -> Units {
        let mut units = self.input.units.of(&at.path(self.input.folders), form);
        let mut met: BTreeSet<Location> = BTreeSet::from([at.clone()]);
        let mut open: Vec<(Location, String)> = units.includes.iter().map(|name| (at.clone(), name.clone())).collect();
        while let Some((by, name)) = open.pop() {
            let beside = source_path(&by).parent();
            let places = std::iter::once(Location::Tree(beside)).chain(folders.iter().cloned());
            let below = |folder: Location| match folder {
                Location::Tree(folder) => folder.join(&name).ok().map(Location::Tree),
                _ => None,
            };
            // What is nowhere in the tree says nothing of its modules.
            let found = places.filter_map(below).find(|at| at.path(self.input.folders).is_file());
            if let Some(found) = found.filter(|found| met.len() < MOST_INCLUDED && met.insert(found.clone())) {
                let more = self.input.units.of(&found.path(self.input.folders), form);
                open.extend(more.includes.iter().map(|name| (found.clone(), name.clone())));
                units.take_in(more);
            }
        }
        units
    }
}

/// How many files one source can take in, as far as their modules count.
const MOST_INCLUDED: usize = 1000;

/// Where the files of a part's modules come to lie.
fn module_folder(part: &PartDef) -> RelPath {
    let object = super::compile::object_of(part, &Location::Tree(RelPath::root().child("x")));
    source_path(&object).parent().child("modules")
}

/// The form of a source by the ending of its name.
fn source_form(path: &RelPath) -> SourceForm {
    match path.extension().to_ascii_lowercase().as_str() {
        "f" | "for" | "ftn" | "fpp" => SourceForm::Fixed,
        _ => SourceForm::Free,
    }
}

/// The files of modules that a source makes and reads. What submodules read lies beside a module, in a file of its own.
fn files_of(units: &Units, folder: &RelPath, visible: &Modules) -> ModuleFiles {
    let own = |name: String| Location::Object(folder.child(&name));
    let beside = |module: &str, name: String| {
        visible.get(module).map(|(file, _)| Location::Object(source_path(file).parent().child(&name)))
    };
    let mut files = ModuleFiles::default();
    for module in &units.modules {
        files.makes.push(own(format!("{}.mod", module.name)));
        if module.parted {
            files.makes.push(own(format!("{}.smod", module.name)));
        }
    }
    for submodule in &units.submodules {
        let ancestor = &submodule.ancestor;
        files.makes.push(own(format!("{ancestor}@{}.smod", submodule.name)));
        let parent = match &submodule.parent {
            None => beside(ancestor, format!("{ancestor}.smod")),
            Some(parent) => Some(own(format!("{ancestor}@{parent}.smod"))),
        };
        files.reads.extend(parent);
    }
    files.reads.extend(units.uses.iter().filter_map(|name| visible.get(name)).map(|(file, _)| file.clone()));
    files.reads.retain(|file| !files.makes.contains(file));
    files.reads.dedup();
    files
}
