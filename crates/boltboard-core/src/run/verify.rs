//! Does the build as it stands equal a clean one? A second build is made on the side, from nothing, and compared byte for byte.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::build::{BuildFault, BuildInput, BuildReport, Watch, build};
use super::footing::Watching;
use crate::base::Digest;
use crate::plan::{Location, Plan, StepId};
use crate::reading::TokenMemo;
use crate::store::{Folders, StatusMemo, Store};

/// What a comparison with a clean build came to.
#[derive(Debug)]
pub struct Verification {
    /// How the clean build went; with failures or an interruption nothing was compared.
    pub report: BuildReport,
    /// How many files were compared.
    pub files: usize,
    /// Files that differ, in the order in which steps make them.
    pub differences: Vec<Difference>,
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
pub fn verify(input: &BuildInput<'_>, side: &Path, watch: &mut dyn Watch) -> Result<Verification, BuildFault> {
    let mut plan = input.plan.clone();
    plan.folders.build = side.join("build");
    let (store, status, tokens) = (Store::at(&side.join("store")), StatusMemo::default(), TokenMemo::default());
    let logs = side.join("logs");
    let clean = BuildInput { plan: &plan, store: &store, status: &status, tokens: &tokens, logs, seal: None, watching: Watching::All, ..*input };
    let report = build(&clean, watch)?;
    if !report.failures.is_empty() || report.interrupted {
        return Ok(Verification { report, files: 0, differences: Vec::new() });
    }
    let (files, differences) = compare(input.plan, &plan.folders);
    Ok(Verification { report, files, differences })
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
        let mut names = BTreeSet::new();
        below(&here, &here, &mut names);
        below(&there, &there, &mut names);
        strays.extend(names.into_iter().map(|name| (here.join(&name), there.join(&name))));
    }
    order.extend(strays.into_iter().filter(|(here, _)| !makers.contains_key(here)).map(|(a, b)| (a, b, None)));
    let different = |(here, there, step): &(PathBuf, PathBuf, Option<StepId>)| {
        let file = Location::of(here, &plan.folders).to_string();
        unlike(here, there).map(|how| Difference { file, step: *step, how })
    };
    (order.len(), order.iter().filter_map(different).collect())
}

fn folders_of(folders: &Folders) -> [PathBuf; 3] {
    [folders.made(), folders.objects(), folders.outputs()]
}

/// Collects the files below a folder, by their paths from `root`.
fn below(folder: &Path, root: &Path, names: &mut BTreeSet<PathBuf>) {
    let Ok(entries) = std::fs::read_dir(folder) else { return };
    for path in entries.filter_map(Result::ok).map(|entry| entry.path()) {
        if path.is_dir() && !path.is_symlink() {
            below(&path, root, names);
        } else if let Ok(rest) = path.strip_prefix(root) {
            names.insert(rest.to_path_buf());
        }
    }
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
