//! All places that a build looked at, for its seal.

use std::borrow::Cow;
use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use foldhash::fast::FixedState;

use crate::base::{Digest, FileError};
use crate::board::PartId;
use crate::step::{Location, Look, Step, ToolPlace};

use crate::judge::{Basis, Concern, Judge, Saying, SealMaker, Sealed, Sweep};

use crate::work::Folders;

use crate::journal::{Journal, Number, PackedNote};

/// What is needed to seal a build.
#[derive(Debug, Clone)]
pub struct SealWanted {
    /// Stands for what was asked, by whom, in which environment.
    pub asked: Digest,
    /// The time before anything was looked at.
    pub started: SystemTime,
    /// Files and folders that the plan follows from, and whether they are part of what was chosen.
    pub looked: Vec<(PathBuf, Concern)>,
    /// Folders of the tree whose names count.
    pub named: Vec<PathBuf>,
    /// The folders in which programs are looked for, first to last.
    pub search_path: Vec<PathBuf>,
    /// What the plan follows from beyond files.
    pub basis: Basis,
    /// The environment of whoever builds.
    pub variables: BTreeMap<String, String>,
}

/// A build that goes on from a sealed one, and looks only at what has been touched since.
#[derive(Clone, Copy)]
pub struct Since<'a, 's> {
    /// What the touched parts' steps did before.
    pub journal: &'a Journal,
    /// The parts that are touched.
    pub parts: &'a BTreeSet<PartId>,
    /// The seal.
    pub sweep: &'a Sweep<'s>,
}

/// Seals a build of which every step is done.
///
/// # Errors
/// The seal cannot be written.
pub fn seal_build(
    judge: &Judge<'_>,
    journal: &Journal,
    wanted: &SealWanted,
    since: Option<Since<'_, '_>>,
) -> Result<(), FileError> {
    let mut places = Places {
        judge,
        since,
        maker: SealMaker::new(judge.status, wanted.started),
        journal,
        basis: Cow::Borrowed(&wanted.basis),
        contents: HashMap::default(),
        folders: HashSet::default(),
        footings: HashSet::default(),
        generations: HashSet::default(),
        whom: HashMap::default(),
        misses: HashMap::default(),
        macros: HashSet::default(),
        output_bytes: 0,
    };
    for (path, concern) in &wanted.looked {
        places.maker.looked(path.clone(), *concern);
    }
    // A source and a result for each step, headers, folders.
    places.maker.reserve(judge.plan.steps.len() * 5 / 2);
    for folder in &wanted.named {
        places.maker.names(folder.clone());
        // Its names are watched already.
        places.folders.insert(folder.clone());
    }
    let mut tools: HashSet<PathBuf> = HashSet::new();
    for (_, step) in judge.plan.steps.iter() {
        let note = journal.packed(&step.name).and_then(|record| record.note.as_ref());
        let Some(()) = note.and_then(|note| places.add(step, note)) else { return Ok(()) };
        if let Some(ToolPlace::Host { path, .. }) = step.tool().map(|tool| &tool.place)
            && since.is_none()
            && !tools.contains(path)
        {
            tools.insert(path.clone());
            places.maker.looked(path.clone(), Concern::Plan);
            // A program of that name which comes first.
            let name = path.file_name().unwrap_or_default();
            let before = wanted.search_path.iter().take_while(|folder| path.parent() != Some(folder));
            before.for_each(|folder| places.maker.absent(folder.join(name), Concern::Plan));
        }
    }
    // It is looked at no more, and makes room for what is written.
    places.contents = HashMap::default();
    let Some(()) = places.tell_whom() else { return Ok(()) };
    let before = since.map_or(0, |since| since.sweep.sealed.output_bytes);
    let gone = since.map_or(0, |since| sizes(since, &judge.plan.folders));
    let output_bytes = (before + places.output_bytes).saturating_sub(gone);
    let sealed = Sealed { steps: judge.plan.count(), output_bytes };
    let known = since.filter(|_| places.basis.is_as_unpacked()).map(|since| since.sweep.basis.to_vec());
    let basis = known.unwrap_or_else(|| places.basis.packed());
    let given = |name: &String| (name.clone(), wanted.variables.get(name).cloned());
    let variables = judge.plan.variables.iter().map(given).collect();
    let saying = Saying { asked: wanted.asked, sealed, basis, variables };
    places.maker.write(&judge.plan.folders.seal(), &saying, since.map(|since| since.sweep))
}

/// How large the finished parts were that the steps made before, in bytes.
fn sizes(since: Since<'_, '_>, folders: &Folders) -> u64 {
    let notes = since.journal.all().filter_map(|record| record.note.as_ref());
    let outputs = notes.flat_map(|note| &note.outputs).filter_map(|(file, ..)| since.journal.text(*file).parse().ok());
    let finished = outputs.filter(|location| matches!(location, Location::Output(_)));
    finished.filter_map(|location| since.sweep.size(&location.path(folders))).sum()
}

struct Places<'a, 's> {
    judge: &'a Judge<'a>,
    since: Option<Since<'a, 's>>,
    maker: SealMaker<'a>,
    journal: &'a Journal,
    basis: Cow<'a, Basis>,
    /// The number of what stands for each look, and whom it concerned last: steps of one part come together.
    contents: HashMap<Number, (Number, Concern), FixedState>,
    /// Folders that are watched for what may appear in them.
    folders: HashSet<PathBuf>,
    /// What footings name, by its kept form.
    footings: HashSet<String>,
    /// The generations of the footings that are in already.
    generations: HashSet<Digest>,
    /// Whom files concern beside the first.
    whom: HashMap<Number, Vec<Concern>, FixedState>,
    /// Where files were looked for in vain, and what is watched for each.
    misses: HashMap<Number, PathBuf, FixedState>,
    /// Parts with macros that their files name.
    macros: HashSet<(PartId, Number), FixedState>,
    output_bytes: u64,
}

impl Places<'_, '_> {
    /// Adds the places of one step; `None` when its result no longer stands.
    fn add(&mut self, step: &Step, note: &PackedNote) -> Option<()> {
        let (judge, journal) = (self.judge, self.journal);
        let folders = &judge.plan.folders;
        let concern = step.part.map_or(Concern::Common, Concern::Part);
        for (look, content) in &note.inputs {
            match self.contents.entry(*look) {
                Entry::Occupied(mut known) => {
                    let (now, last) = known.get_mut();
                    if now != content {
                        return None;
                    }
                    if *last != concern {
                        *last = concern;
                        self.whom.entry(*look).or_default().push(concern);
                    }
                }
                Entry::Vacant(free) => {
                    free.insert((*content, concern));
                    self.look(&journal.text(*look).parse().ok()?, journal.digest(*content), concern)?;
                }
            }
        }
        for (file, made, _) in &note.outputs {
            let (location, made) = (journal.text(*file).parse::<Location>().ok()?, journal.digest(*made));
            let path = location.path(folders);
            match step.leads_to() {
                Some(target) => self.maker.leads(path, target, concern),
                None => {
                    if matches!(location, Location::Output(_)) {
                        self.output_bytes += std::fs::metadata(&path).map_or(0, |status| status.len());
                    }
                    self.maker.read(path, concern, |content| content == made);
                }
            }
        }
        for file in &note.absent {
            let whom = self.whom.entry(*file).or_default();
            if whom.last() != Some(&concern) {
                whom.push(concern);
            }
            if !self.misses.contains_key(file) {
                let path = journal.text(*file).parse::<Location>().ok()?.path(folders);
                let watched = self.miss(path, concern);
                self.misses.insert(*file, watched);
            }
        }
        if let Some(part) = step.part {
            for (name, _) in &note.macros {
                if self.macros.insert((part, *name)) && !self.basis.knows(part, journal.text(*name)) {
                    self.basis.to_mut().names(part, journal.text(*name));
                }
            }
        }
        Some(())
    }

    /// Adds one thing that was looked at; `None` when it is not as it was.
    fn look(&mut self, look: &Look, then: Digest, concern: Concern) -> Option<()> {
        let folders = &self.judge.plan.folders;
        match look {
            Look::Content(at) | Look::Interface(at) | Look::Data(at) => {
                let path = at.path(folders);
                let seen = self.judge.status.digest(&path)?;
                if self.judge.of_library(look, at, seen) != then {
                    return None;
                }
                self.maker.read(path, concern, |_| true);
            }
            // Folders of the build change with every build, and their names with it.
            Look::Names(at) if at.path(folders).starts_with(&folders.build) => self.maker.unseen(),
            Look::Names(at) | Look::Status(at) => self.maker.looked(at.path(folders), concern),
            Look::Mode(at) => self.maker.has_mode(at.path(folders), concern),
            Look::Leads(at) => {
                let path = at.path(folders);
                let target = std::fs::read_link(&path).ok()?;
                self.maker.leads(path, target.to_str()?, concern);
            }
            // Its text is one of the files that are made.
            Look::Form(_) => {}
            // A seal is for one environment.
            Look::SearchPath => {}
            Look::Footing(class) => {
                if self.generations.contains(&then) {
                    return Some(());
                }
                let footing = self.judge.footing_of(class, then)?;
                for (look, then) in &footing.looks {
                    if self.footings.insert(look.clone()) {
                        let look = look.parse().ok()?;
                        // The judge has looked at it for this build.
                        self.look(&look, *then, Concern::Plan)?;
                    }
                }
                self.generations.insert(then);
                for place in &footing.absent {
                    if self.footings.insert(place.clone()) {
                        let path = place.parse::<Location>().ok()?.path(folders);
                        self.miss(path, Concern::Plan);
                    }
                }
            }
            Look::Unseen => self.maker.unseen(),
        }
        Some(())
    }

    /// Watches a place where nothing was found. Returns what is watched.
    fn miss(&mut self, path: PathBuf, concern: Concern) -> PathBuf {
        // Names that come or go in a folder of the tree or the host change its status; folders of the build change
        // with every build, hidden names are not among those that count, and what a link leads to lies elsewhere.
        let hidden = path.file_name().is_none_or(|name| name.to_string_lossy().starts_with('.'));
        let build = &self.judge.plan.folders.build;
        let folder = path.parent().filter(|folder| !folder.starts_with(build) && folder.is_dir());
        match folder.map(Path::to_path_buf) {
            Some(folder) if !hidden && !path.is_symlink() => {
                let named = self.since.is_some_and(|since| since.sweep.has_names(&folder));
                if !named && self.folders.insert(folder.clone()) {
                    self.maker.looked(folder.clone(), concern);
                } else {
                    self.maker.concerns(&folder, std::iter::once(concern));
                }
                folder
            }
            _ => {
                self.maker.absent(path.clone(), concern);
                path
            }
        }
    }

    /// Puts down whom each place concerns.
    fn tell_whom(&mut self) -> Option<()> {
        for (file, concerns) in std::mem::take(&mut self.whom) {
            let of_miss = self.misses.get(&file).cloned();
            let look = || self.journal.text(file).parse::<Look>().ok();
            let place = || {
                look()
                    .filter(|look| !matches!(look, Look::Form(_)))
                    .and_then(|look| look.place().map(|at| at.path(&self.judge.plan.folders)))
            };
            // What is no place concerns the plan, and of an option header it is its macros that concern parts.
            if let Some(path) = of_miss.or_else(place) {
                self.maker.concerns(&path, concerns.into_iter());
            }
        }
        Some(())
    }
}
