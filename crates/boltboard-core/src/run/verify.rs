//! Does the build as it stands equal a clean one? A second build is made on the side, from nothing, watched in all that it does, and compared
//! byte for byte. What it disproves is dropped.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::build::{BuildFault, BuildInput, BuildReport, Watch, build};
use super::stands::Watching;
use crate::base::files::{files_below, remove_file};
use crate::base::{Digest, RelPath};
use crate::step::{Location, Look, Step, StepId};

use crate::plan::Plan;
use crate::reading::TokenMemo;
use crate::work::{Folders, StatusMemo};

use crate::journal::Journal;

use crate::store::{Note, Store};

use crate::judge::break_seal;

/// What a comparison with a clean build came to.
#[derive(Debug)]
pub struct Verification {
    /// How the clean build went; with failures or an interruption nothing was compared.
    pub report: BuildReport,
    /// How many files were compared.
    pub files: usize,
    /// Files that differ, in the order in which steps make them.
    pub differences: Vec<Difference>,
    /// Steps that were taken for current and were not, the first of each chain, with what they look at that was not known or not
    /// as it was.
    pub wrong: Vec<(StepId, Vec<String>)>,
    /// Steps whose results were dropped, here and in the store: those, and all that were made from theirs.
    pub dropped: Vec<StepId>,
}

/// A file that is not as in a clean build.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// The file.
    pub file: String,
    /// The step that makes it; none for a file that nothing makes.
    pub step: Option<StepId>,
    /// In what way it differs.
    pub how: Unlike,
}

/// In what way a file differs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unlike {
    /// From this byte on, counted from zero.
    From(u64),
    /// A clean build has it, this one does not.
    Missing,
    /// This build has it, a clean one does not.
    Extra,
}

/// Builds everything anew below `side`, an empty folder, and compares. The store and the memory of earlier builds are not
/// looked at.
///
/// # Errors
/// A folder cannot be read or written. Steps that fail are in the report instead.
pub fn verify(input: &BuildInput<'_, '_>, side: &Path, watch: &mut dyn Watch) -> Result<Verification, BuildFault> {
    let mut plan = input.plan.clone();
    plan.folders.build = side.join("build");
    let (store, status, tokens) = (Store::at(&side.join("store")), StatusMemo::default(), TokenMemo::default());
    let logs = side.join("logs");
    let clean = BuildInput {
        plan: &plan,
        store: &store,
        status: &status,
        tokens: &tokens,
        logs,
        seal: None,
        crew: None,
        watching: Watching::All,
        only: None,
        since: input.since,
        ..*input
    };
    let report = build(&clean, watch)?;
    if !report.failures.is_empty() || report.interrupted {
        return Ok(Verification { report, files: 0, differences: vec![], wrong: vec![], dropped: vec![] });
    }
    let (files, differences) = compare(input.plan, &plan.folders);
    let (wrong, dropped) = heal(input, &differences, &Journal::open(&plan.folders.build)?, &store)?;
    Ok(Verification { report, files, differences, wrong, dropped })
}

/// The steps that were wrong first, with what we did not know of, and all whose results are gone.
type Healed = (Vec<(StepId, Vec<String>)>, Vec<StepId>);

/// Drops what a clean build has disproved, with all that was made from it. Returns the steps that were wrong first, with what the clean
/// build saw them look at and we did not know of, and all whose results are gone.
fn heal(
    input: &BuildInput<'_, '_>,
    differences: &[Difference],
    clean: &Journal,
    clean_store: &Store,
) -> Result<Healed, BuildFault> {
    let plan = input.plan;
    let differ: BTreeSet<StepId> = differences.iter().filter_map(|difference| difference.step).collect();
    if differ.is_empty() {
        return Ok((vec![], vec![]));
    }
    break_seal(&plan.folders.seal())?;
    let mut journal = Journal::open(&plan.folders.build)?;
    let looked_at =
        |note: &Note| -> Vec<Look> { note.inputs.iter().filter_map(|(look, _)| look.parse().ok()).collect() };
    let note_of = |step: &Step| journal.get(&step.name).and_then(|record| record.note);
    let (mut wrong, mut dropped) = (Vec::new(), BTreeSet::new());
    for (id, step) in plan.steps.iter() {
        let note = note_of(step);
        let looks = note.as_ref().map_or(vec![], looked_at);
        let made_from = looks.iter().filter_map(Look::place).chain(&step.reads);
        let follows = made_from.into_iter().any(|at| plan.maker(at).is_some_and(|maker| dropped.contains(&maker)));
        if differ.contains(&id) && !follows {
            let seen = clean.get(&step.name).and_then(|record| record.note);
            let (ours, clean) = (note.unwrap_or_default(), seen.unwrap_or_default());
            let own = unknown(&ours, &clean);
            let of_class = || unknown(&of_classes(&ours, input.store), &of_classes(&clean, clean_store));
            wrong.push((id, if own.is_empty() { of_class() } else { own }));
        }
        if differ.contains(&id) || follows {
            dropped.insert(id);
        }
    }
    let mut gone = Vec::new();
    for id in &dropped {
        let step = &plan.steps[*id];
        for output in note_of(step).map_or(vec![], |note| note.outputs) {
            input.store.drop_content(&output.digest)?;
            if let Ok(at) = output.location.parse::<Location>() {
                gone.push(at.path(&plan.folders));
            }
        }
        gone.extend(step.writes.iter().map(|write| write.path(&plan.folders)));
        input.store.drop_notes(&step.base_key())?;
        if let Some(class) = step.class() {
            input.store.drop_footings(&class)?;
        }
    }
    for path in gone {
        remove_file(&path)?;
    }
    for id in &dropped {
        journal.remove(&plan.steps[*id].name)?;
    }
    Ok((wrong, dropped.into_iter().collect()))
}

/// What a step was seen to look at in a clean build, and was not known to look at, or was known otherwise.
fn unknown(ours: &Note, clean: &Note) -> Vec<String> {
    let known: BTreeMap<&str, Digest> = ours.inputs.iter().map(|(look, digest)| (look.as_str(), *digest)).collect();
    let shown = |look: &str| look.parse::<Look>().map_or_else(|_| look.to_string(), |look| look.to_string());
    // What stands for a class is another name in each store.
    let of_step = clean.inputs.iter().filter(|(look, _)| !matches!(look.parse(), Ok(Look::Footing(_))));
    let looks = of_step.filter(|(look, digest)| known.get(look.as_str()) != Some(digest));
    let mut all: Vec<String> = looks.map(|(look, _)| shown(look)).collect();
    let places = clean.absent.iter().filter(|place| !ours.absent.contains(place));
    all.extend(places.map(|place| shown(place)));
    let values: BTreeMap<&str, &Option<String>> =
        ours.macros.iter().map(|(name, value)| (name.as_str(), value)).collect();
    let macros = clean.macros.iter().filter(|(name, value)| values.get(name.as_str()) != Some(&value));
    all.extend(macros.map(|(name, _)| format!("the macro {name}")));
    all
}

/// All that the programs stand on that a note names by their class.
fn of_classes(note: &Note, store: &Store) -> Note {
    let mut all = Note::default();
    for (look, generation) in &note.inputs {
        if let Ok(Look::Footing(class)) = look.parse()
            && let Some(footing) = store.footings(&class).into_iter().find(|one| one.generation == *generation)
        {
            all.inputs.extend(footing.looks);
            all.absent.extend(footing.absent);
        }
    }
    all
}

fn compare(plan: &Plan, clean: &Folders) -> (usize, Vec<Difference>) {
    let mut makers: BTreeMap<PathBuf, StepId> = BTreeMap::new();
    let mut order = Vec::new();
    for (id, step) in plan.steps.iter() {
        for write in &step.writes {
            makers.insert(write.path(&plan.folders), id);
            order.push((write.path(&plan.folders), write.path(clean), Some(id)));
        }
    }
    let mut strays = BTreeSet::new();
    for (here, there) in folders_of(&plan.folders).into_iter().zip(folders_of(clean)) {
        let names: BTreeSet<PathBuf> = below(&here).chain(below(&there)).collect();
        strays.extend(names.into_iter().map(|name| (here.join(&name), there.join(&name))));
    }
    order.extend(strays.into_iter().filter(|(here, _)| !makers.contains_key(here)).map(|(a, b)| (a, b, None)));
    let different = |(here, there, step): &(PathBuf, PathBuf, Option<StepId>)| {
        // A file of a step is known by the step's name for it, any other by where it lies.
        let stray = RelPath::of(here, &plan.folders.build).filter(|_| step.is_none());
        let file = stray.map_or_else(|| Location::of(here, &plan.folders).to_string(), |path| path.to_string());
        unlike(here, there).map(|how| Difference { file, step: *step, how })
    };
    (order.len(), order.iter().filter_map(different).collect())
}

fn folders_of(folders: &Folders) -> [PathBuf; 3] {
    [folders.made(), folders.objects(), folders.parts()]
}

/// Returns the files below a folder, by their paths from there; not what instrumented programs leave when they run.
fn below(folder: &Path) -> impl Iterator<Item = PathBuf> {
    let files = files_below(folder).into_iter().filter(|path| path.extension().is_none_or(|ending| ending != "gcda"));
    files.filter_map(move |path| path.strip_prefix(folder).ok().map(Path::to_path_buf))
}

/// Compares contents; links by where they lead.
fn unlike(here: &Path, there: &Path) -> Option<Unlike> {
    let seen = |path: &Path| match path.symlink_metadata() {
        Ok(status) if status.is_symlink() => {
            std::fs::read_link(path).ok().map(|target| target.into_os_string().into_encoded_bytes())
        }
        Ok(_) => std::fs::read(path).ok(),
        Err(_) => None,
    };
    match (seen(here), seen(there)) {
        (None, None) => None,
        (None, Some(_)) => Some(Unlike::Missing),
        (Some(_), None) => Some(Unlike::Extra),
        (Some(a), Some(b)) if Digest::of(&a) == Digest::of(&b) => None,
        (Some(a), Some(b)) => {
            let same = a.iter().zip(&b).take_while(|(a, b)| a == b).count();
            Some(Unlike::From(same as u64))
        }
    }
}
