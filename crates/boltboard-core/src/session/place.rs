//! Where a command works, known before the board is read.

use std::path::{Path, PathBuf};

use super::fault::SessionFault;
use super::scope::{Scope, Surroundings};
use crate::board::KIT_FILE;
use crate::definitions::{AddOnPlace, find_root};
use crate::profile::ProfileName;
use crate::work::{Places, WorkFolder};

/// The name of the profile that choices go to when none was ever put in use.
const FIRST_PROFILE: &str = "mine";
/// The name of a work folder that nobody named.
pub const WORK: &str = "boltboard-work";

/// Where a command works.
#[derive(Debug, Clone)]
pub struct Whereabouts {
    /// The root of the board.
    pub root: PathBuf,
    /// The root of the sources, where the work folder remembers that they lie elsewhere.
    pub sources: Option<PathBuf>,
    /// The work folder, whether or not it is there yet.
    pub work: WorkFolder,
    /// The profile in use.
    pub profile: ProfileName,
    /// Its file, where it was named by that.
    pub file: Option<PathBuf>,
    /// Folders outside of the tree that bring more to its board.
    pub add_ons: Vec<AddOnPlace>,
}

impl Whereabouts {
    /// Finds the tree that is asked about.
    ///
    /// # Errors
    /// There is no tree, or nobody knows which profile is in use.
    pub fn find(scope: &Scope, around: &Surroundings) -> Result<Whereabouts, SessionFault> {
        let start = scope.tree.as_deref().map_or_else(|| around.folder.clone(), |tree| around.path_here(tree));
        let found = find_root(&start);
        let remembered = match (&scope.tree, &found) {
            (Some(_), _) => None,
            // From within the sources of a tree that is described elsewhere.
            (None, Err(_)) => remembered(scope, around),
            // An add-on that is built against a kit may lie within some tree.
            (None, Ok(root)) => remembered(scope, around)
                .filter(|(work, places)| work.root().starts_with(root) && is_kit(&places.board)),
        };
        let (root, sources, work) = match (found, remembered) {
            (_, Some((work, places))) => (find_root(&places.board)?, Some(places.sources), work),
            (Ok(root), None) => {
                let work = WorkFolder::at(&work_root(scope, around, &root));
                (root, None, work)
            }
            (Err(fault), None) => return Err(fault.into()),
        };
        // With a `/` in it, it is a file.
        let file =
            scope.profile.as_ref().filter(|text| text.contains('/')).map(|text| around.path_here(Path::new(text)));
        let profile = match &scope.profile {
            Some(text) => {
                let name = file.as_deref().map_or_else(|| ProfileName::parse(text), ProfileName::of_file);
                name.ok_or_else(|| SessionFault::ProfileName(text.clone()))?
            }
            None => {
                let known = work.active()?;
                let built = if known.is_none() { work.built() } else { Vec::new() };
                if !built.is_empty() {
                    return Err(SessionFault::NoProfileInUse { built });
                }
                known.map_or_else(first_profile, Ok)?
            }
        };
        let add_ons = work.add_ons()?;
        Ok(Whereabouts { root, sources, work, profile, file, add_ons })
    }
}

impl Whereabouts {
    /// Returns the folder of the profile's finished parts.
    pub fn outputs(&self) -> PathBuf {
        self.work.folders(&self.root, &self.profile).outputs()
    }
}

fn is_kit(folder: &Path) -> bool {
    folder.join(KIT_FILE).is_file()
}

/// The nearest work folder above the current folder that knows which tree it belongs to.
fn remembered(scope: &Scope, around: &Surroundings) -> Option<(WorkFolder, Places)> {
    let here = around.folder.canonicalize().unwrap_or_else(|_| around.folder.clone());
    let told = scope.work.as_ref().map(|work| around.path_here(work));
    let above = here.ancestors().map(|folder| folder.join(WORK));
    told.into_iter().chain(above).find_map(|folder| {
        let work = WorkFolder::at(&folder);
        let places = work.places().filter(|_| work.exists())?;
        Some((work.behind(), places))
    })
}

/// The profile with which every work folder begins.
pub(super) fn first_profile() -> Result<ProfileName, SessionFault> {
    ProfileName::parse(FIRST_PROFILE).ok_or_else(|| SessionFault::ProfileName(FIRST_PROFILE.into()))
}

/// The work folder: as told, else one that is there already between here and the tree's root, else in the root.
fn work_root(scope: &Scope, around: &Surroundings, root: &Path) -> PathBuf {
    if let Some(work) = &scope.work {
        return around.path_here(work);
    }
    let here = around.folder.canonicalize().unwrap_or_else(|_| around.folder.clone());
    let within = here.ancestors().take_while(|folder| folder.starts_with(root));
    let there = within.map(|folder| WorkFolder::at(&folder.join(WORK))).find(WorkFolder::exists);
    let there = there.map(|work| work.behind().root().to_path_buf());
    if !here.starts_with(root) && scope.tree.is_some() {
        return here.join(WORK);
    }
    there.unwrap_or_else(|| root.join(WORK))
}
