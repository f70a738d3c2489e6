//! What was built against an installed tree, by its kit, and whether it still fits what is installed.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::manifest::Manifest;
use super::{InstallFault, RECORDS, prefix};
use crate::base::files::read_regular;
use crate::base::{Version, VersionRange};
use crate::board::{Board, KIT_FILE, OptionId};
use crate::definitions::kit_values;
use crate::plan::PlanInput;
use crate::resolve::Resolution;

/// The largest record that is read, in bytes.
const MOST: usize = 64 << 20;

/// The tree that something was built against.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Against {
    /// The tree.
    pub tree: String,
    /// Its version.
    pub version: String,
    /// The versions that it fits, where it says so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fits: Option<String>,
    /// What the options of the interface were.
    pub interface: BTreeMap<String, String>,
}

/// An option of an interface that is not what it was.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Differs {
    /// The option.
    pub option: String,
    /// What it was when something was built against the tree.
    pub then: String,
    /// What it is; none where there is no such option any more.
    pub now: Option<String>,
}

impl std::fmt::Display for Differs {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let now = self.now.as_deref().unwrap_or("no option any more");
        write!(f, "{} was {} and is {now}", self.option, self.then)
    }
}

/// Something installed that does not fit the tree any more that it was built against.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Misfit {
    /// What does not fit, with its version.
    pub name: String,
    /// The tree's version that it was built against.
    pub then: String,
    /// Whether the version of the tree is none that it fits.
    pub version: bool,
    /// What differs of the interface.
    pub differs: Vec<Differs>,
}

impl Against {
    /// What is built with a board stands on; nothing unless that is one of a kit.
    pub fn of(board: &Board, resolution: &Resolution) -> Option<Against> {
        let kit = board.kit.as_ref()?;
        let value = |id: &OptionId| (board.options[*id].name.clone(), resolution.value(*id).to_string());
        Some(Against {
            tree: board.tree.name.clone(),
            version: board.tree.version.clone(),
            fits: board.add_ons.iter().find_map(|add_on| add_on.fits.clone()),
            interface: kit.interface.iter().map(value).collect(),
        })
    }

    fn differs(&self, now: &dyn Fn(&str) -> Option<String>) -> Vec<Differs> {
        let all = self.interface.iter().map(|(option, then)| (option, then, now(option)));
        let other = all.filter(|(_, then, now)| now.as_ref() != Some(then));
        other.map(|(option, then, now)| Differs { option: option.clone(), then: then.clone(), now }).collect()
    }
}

/// Returns the folder of the kit of a tree: `place` itself, or the one that an installation of that tree below that prefix has.
pub fn kit_in(place: &Path, tree: Option<&str>) -> Option<PathBuf> {
    if place.join(KIT_FILE).is_file() {
        return Some(place.to_path_buf());
    }
    let tree = tree?;
    let record = record_at(&place.join(RECORDS).join(format!("{tree}.json")))?;
    record.kits().next().filter(|kit| kit.join(KIT_FILE).is_file()).map(Path::to_path_buf)
}

fn record_at(file: &Path) -> Option<Manifest> {
    let bytes = read_regular(file).ok().filter(|bytes| bytes.len() <= MOST)?;
    serde_json::from_slice(&bytes).ok()
}

/// Checks that what is built with a board fits the tree that is installed below its prefix, where that has a kit.
///
/// # Errors
/// Options of the interface are not what they were when this was built.
pub fn check_fit(input: &PlanInput<'_>) -> Result<(), InstallFault> {
    let Some(against) = Against::of(input.board, input.resolution) else { return Ok(()) };
    let Some(kit) = kit_in(&prefix(input)?, Some(&against.tree)) else { return Ok(()) };
    let Some(values) = kit_values(&kit.join(KIT_FILE)) else { return Ok(()) };
    let differs = against.differs(&|option| values.get(option).cloned());
    if differs.is_empty() {
        return Ok(());
    }
    Err(InstallFault::Interface { name: input.board.delivered().name.clone(), tree: against.tree, kit, differs })
}

/// What is installed below the prefix of a tree, was built against it, and does not fit it as it is to be.
///
/// # Errors
/// The tree does not say where it is installed.
pub fn misfits(input: &PlanInput<'_>) -> Result<Vec<Misfit>, InstallFault> {
    let board = input.board;
    if board.kit.is_some() {
        return Ok(Vec::new());
    }
    let folder = prefix(input)?.join(RECORDS);
    let entries = std::fs::read_dir(&folder).into_iter().flatten().filter_map(Result::ok);
    let begins = format!("{}+", board.tree.name);
    let is_one = |name: &str| name.starts_with(&begins) && name.ends_with(".json") && !name.ends_with(".copy.json");
    let mut files: Vec<PathBuf> =
        entries.filter(|entry| entry.file_name().to_str().is_some_and(is_one)).map(|entry| entry.path()).collect();
    files.sort();
    let now = |option: &str| board.option(option).map(|id| input.resolution.value(id).to_string());
    let misfit = |file: &PathBuf| {
        let record = record_at(file)?;
        let against = record.against.as_ref().filter(|against| against.tree == board.tree.name)?;
        let range = against.fits.as_ref().and_then(|range| range.parse::<VersionRange>().ok());
        let version = range.is_some_and(|range| !range.holds(&Version::new(&board.tree.version)));
        let differs = against.differs(&now);
        let name = format!("{} {}", record.tree.trim_start_matches(&begins), record.version);
        (version || !differs.is_empty()).then(|| Misfit { name, then: against.version.clone(), version, differs })
    };
    Ok(files.iter().filter_map(misfit).collect())
}
