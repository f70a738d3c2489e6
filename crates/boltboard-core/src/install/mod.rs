//! What goes where, preview, removal. A stranger's file is never touched, an edited configuration file is kept.

mod actions;
mod against;
mod apply;
mod change;
mod contents;
mod elf;
mod folders;
mod generations;
mod headers;
mod lock;
mod manifest;
mod paths;
mod place;
mod put;
mod ready;
mod running;
mod services;
mod smoke;

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use rustix::fs::{Access, access};

use crate::base::{Digest, FileError};
use crate::board::{Board, InstallRole, PartId};
use crate::step::Location;

use crate::plan::{Plan, PlanInput};

pub use actions::{Acted, After, CanAct, DueAction, act, due_actions, system_program};
pub(crate) use actions::{ActionNow, actions_now};
pub use against::{Against, Differs, Misfit, check_fit, kit_in, misfits};
pub use apply::{Believed, BuiltFrom, InstallReport, KeptEdit, Record, Removal, ThreeWay, install, uninstall};
pub use change::{ChangeFault, Doing, Move, Recovered, State};
pub use contents::{Contents, FilePlace};
pub(crate) use elf::{Elf, Symbol, Symbols};
pub use folders::{EmptyPlace, InstallFolder, There};
pub use generations::{BackPlan, Begun, Generations, Limits};
pub use headers::header_runs;
pub use lock::Lock;
pub use manifest::{Installed, Manifest, Recorded};
pub use paths::{SearchVariable, search_paths};
pub use place::{Content, InTheWay, Installable};
use place::{content_of, link_of_others, stays_below};
pub(crate) use ready::gets;
pub use ready::{Searching, Unready, unready};
pub use running::{InUse, Running};
pub use services::{InstalledService, Right, ServiceHost, UnreadyService, installed_services, unready_services};
pub use smoke::{SmokeRun, Smoked, smoke, smoke_runs};

#[cfg(test)]
mod tests;

/// Everything that an installation would do, in the order of targets.
#[derive(Debug, Clone)]
pub struct InstallPlan {
    /// The files.
    pub files: Vec<InstallFile>,
    /// Empty folders.
    pub folders: Vec<InstallFolder>,
    /// Files of an earlier installation that are no longer part of the tree.
    pub obsolete: Vec<Installed>,
    /// Files of an earlier installation that are left as they are, because other parts are asked for, or because they are in use.
    pub kept: Vec<Installed>,
    /// Those of them that would be removed if nobody used them now.
    pub in_use: Vec<(PathBuf, InUse)>,
    /// Where the record of the installation lies.
    pub manifest_path: PathBuf,
    /// The record of the earlier installation.
    pub before: Option<Manifest>,
    /// What else is installed and was built against the tree as it was.
    pub misfits: Vec<Misfit>,
}

/// One file to install.
#[derive(Debug, Clone)]
pub struct InstallFile {
    /// The part that it belongs to.
    pub part: PartId,
    /// The built file.
    pub source: PathBuf,
    /// Where it goes, below the staging folder if there is one.
    pub target: PathBuf,
    /// Where it will be for its users: without the staging folder.
    pub final_path: PathBuf,
    /// Permission bits.
    pub mode: u32,
    /// How it is treated.
    pub role: InstallRole,
    /// Its content; none where it is not built as it is to be.
    pub content: Option<Content>,
    /// What will be done.
    pub step: InstallStep,
    /// Whether what it replaces is what this machine was booted with, and stays beside it.
    pub keeps: bool,
}

/// What an installation does with one file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum InstallStep {
    /// Nothing is there yet.
    New,
    /// The same is there already.
    Same,
    /// An earlier installation's file is replaced.
    Replace,
    /// The person has edited it: theirs stays, ours goes beside it as `NAME.from-VERSION`.
    KeepEdited,
    /// Something is there that is not ours, or not any more; nothing is installed.
    Foreign(&'static str),
}

/// Where records of installations lie, below the prefix.
const RECORDS: &str = "share/boltboard";

/// What is in the way of an installation.
const NOT_OURS: &str = "not installed by this tree";
const NO_FOLDER: &str = "no folder";
const CHANGED: &str = "not as this tree installed it: it was changed or replaced since";

/// Why nothing can be installed.
#[derive(Debug, thiserror::Error)]
pub enum InstallFault {
    /// A file operation failed.
    #[error(transparent)]
    File(#[from] FileError),
    /// A target that is not absolute.
    #[error("part `{part}` would be installed to `{to}`, which is not an absolute path")]
    Relative {
        /// The part.
        part: String,
        /// The folder.
        to: String,
    },
    /// A file that should have been built.
    #[error("{0} is not built")]
    NotBuilt(PathBuf),
    /// An owner that is none.
    #[error("part `{part}` has a folder that would belong to `{owner}`, which is neither USER, USER:GROUP nor :GROUP")]
    Owner {
        /// The part.
        part: String,
        /// What stands there.
        owner: String,
    },
    /// A link on the way that someone else made.
    #[error(
        "{folder} is a link to {led} that neither you nor the administrator made, and files would be installed through it"
    )]
    LinkOfOthers {
        /// The link.
        folder: PathBuf,
        /// Where it leads.
        led: PathBuf,
    },
    /// A target with `..` in it.
    #[error("part `{part}` would be installed to `{to}`; a place to install to has no `..` in it")]
    Detour {
        /// The part.
        part: String,
        /// The folder.
        to: String,
    },
    /// A link leads out of the staging folder.
    #[error("{} leads to {}, which is outside of the staging folder", .folder.display(), .led.display())]
    LeavesStaging {
        /// The link, or what lies behind it.
        folder: PathBuf,
        /// Where it leads.
        led: PathBuf,
    },
    /// Files of someone else are in the way.
    #[error("files that are not this tree's are in the way: {}", .0.iter().map(InTheWay::to_string).collect::<Vec<_>>().join("; "))]
    Foreign(Vec<InTheWay>),
    /// The record of the earlier installation cannot be read.
    #[error("the record of what is installed is damaged: {0}")]
    Damaged(PathBuf),
    /// Nothing in the tree says where it is installed.
    #[error("no part of this tree says where it is installed")]
    Nothing,
    /// The tree has no option `prefix`.
    #[error("the tree has no option `prefix` of kind path, so it does not say where it is installed")]
    NoPrefix,
    /// What was to be changed was not.
    #[error(transparent)]
    Change(#[from] change::ChangeFault),
    /// What an earlier generation needs is gone.
    #[error("what that generation had as {} is no longer kept", .0.display())]
    NotKept(PathBuf),
    /// Another one is at it.
    #[error("another command is installing below {}", .0.display())]
    Busy(PathBuf),
    /// What was built against a tree does not fit the one that is installed.
    #[error("{name} was built against another {tree} than the one that is installed: {}", .differs.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "))]
    Interface {
        /// What was built.
        name: String,
        /// The tree.
        tree: String,
        /// The kit of the one that is installed.
        kit: PathBuf,
        /// What differs.
        differs: Vec<Differs>,
    },
    /// Two parts go to one place.
    #[error("two files would be installed as {0}")]
    Twice(PathBuf),
}

/// What is to be installed.
pub struct InstallAsk<'a> {
    /// These parts; all when none is named.
    pub parts: &'a [PartId],
    /// Below this folder, for a package.
    pub staging: Option<&'a Path>,
    /// Tells which files are not built as they are to be.
    pub is_stale: &'a dyn Fn(&Location) -> bool,
    /// Tells whether a record with this seal was written from here, see [`Manifest::seal`].
    pub wrote: &'a dyn Fn(&Digest) -> bool,
    /// What runs now.
    pub running: &'a Running,
}

/// Works out what an installation would do. Nothing need be built yet.
///
/// # Errors
/// See [`InstallFault`]; files of others in the way are part of the plan instead.
pub fn plan_install(input: &PlanInput<'_>, plan: &Plan, ask: &InstallAsk<'_>) -> Result<InstallPlan, InstallFault> {
    let (board, staging) = (input.board, ask.staging);
    let manifest_path = staged(&manifest_path(board, &prefix(input)?), staging);
    // What is staged for a package has no earlier installation.
    let recorded = if staging.is_some() { Recorded::Nothing } else { Manifest::read(&manifest_path, board)? };
    let before = match recorded {
        Recorded::Nothing => None,
        Recorded::Whole(manifest) => Some(*manifest),
        Recorded::Damaged => return Err(InstallFault::Damaged(manifest_path)),
    };
    let contents = Contents::of(input, plan, ask.parts, ask.is_stale)?;
    let mut files = Vec::with_capacity(contents.files.len());
    for FilePlace { part, source, path, mode, role, content } in contents.files {
        let target = staged(&path, staging);
        staging.map_or(Ok(()), |staging| stays_below(staging, &target))?;
        let step = step_for(content.as_ref(), &target, (&path, mode), role, before.as_ref())?;
        files.push(InstallFile { part, source, target, final_path: path, mode, role, content, step, keeps: false });
    }
    let folders = contents.folders.into_iter().map(|place| folders::planned(place, staging));
    let folders: Vec<InstallFolder> = folders.collect::<Result<_, _>>()?;
    let mut unfit = Vec::new();
    if staging.is_none() {
        check_fit(input)?;
        unfit = misfits(input)?;
        let prefix = prefix(input)?;
        let targets = files.iter().map(|file| &file.target).chain(folders.iter().map(|folder| &folder.target));
        let above: BTreeSet<&Path> = targets.filter_map(|target| target.parent()).collect();
        if let Some((folder, led)) = above.into_iter().find_map(|folder| link_of_others(&prefix, folder)) {
            return Err(InstallFault::LinkOfOthers { folder, led });
        }
    }
    let places: BTreeSet<&Path> = files.iter().map(|file| file.final_path.as_path()).collect();
    let wanted = |path: &Path| places.contains(path);
    let others: Vec<Installed> = before.iter().flat_map(|m| &m.files).filter(|f| !wanted(&f.path)).cloned().collect();
    // Who installs some parts keeps what else is installed; so does who cannot know whether the record is true.
    let known = before.as_ref().is_some_and(|manifest| (ask.wrote)(&manifest.seal()));
    let installable = if known { Installable::default() } else { Installable::of(input) };
    let goes = |file: &Installed| ask.parts.is_empty() && (known || installable.has(&file.path));
    let (obsolete, mut kept): (Vec<Installed>, Vec<Installed>) = others.into_iter().partition(goes);
    // What runs is not taken away under whoever runs it: it goes with a later installation.
    let (used, obsolete): (Vec<Installed>, Vec<Installed>) =
        obsolete.into_iter().partition(|file| ask.running.uses(&file.path).is_some());
    let in_use = used.iter().filter_map(|file| Some((file.path.clone(), ask.running.uses(&file.path)?))).collect();
    kept.extend(used);
    for file in &mut files {
        file.keeps = file.step == InstallStep::Replace && staging.is_none() && ask.running.is_booted(&file.final_path);
    }
    Ok(InstallPlan { files, folders, obsolete, kept, in_use, manifest_path, before, misfits: unfit })
}

impl InstallPlan {
    /// Returns what is in the way and not ours.
    pub fn in_the_way(&self) -> Vec<InTheWay> {
        let foreign = |file: &InstallFile| match file.step {
            InstallStep::Foreign(what) => Some(InTheWay { path: file.target.clone(), what }),
            InstallStep::New | InstallStep::Same | InstallStep::Replace | InstallStep::KeepEdited => None,
        };
        let is_other = |folder: &&InstallFolder| folder.there == There::Other;
        let others = self.folders.iter().filter(is_other).map(|folder| folder.target.as_path());
        let targets = self.files.iter().map(|file| &file.target);
        let targets = targets.chain(self.folders.iter().map(|folder| &folder.target));
        let ways = targets.filter_map(|target| existing_folder(target)).filter(|above| !above.is_dir());
        let places: BTreeSet<&Path> = others.chain(ways).collect();
        let places = places.into_iter().map(|path| InTheWay { path: path.to_path_buf(), what: NO_FOLDER });
        self.files.iter().filter_map(foreign).chain(places).collect()
    }

    /// Returns the first folder that would have to be written to and may not be; `recorded` tells whether a record is written.
    pub fn barred(&self, recorded: bool) -> Option<PathBuf> {
        let targets = self.files.iter().filter(|file| file.step != InstallStep::Same).map(|file| &file.target);
        let record = recorded.then_some(&self.manifest_path);
        let new = self.folders.iter().filter(|folder| folder.there == There::Nothing).map(|folder| &folder.target);
        let folders: BTreeSet<&Path> =
            targets.chain(new).chain(record).filter_map(|target| existing_folder(target)).collect();
        let writable = |folder: &Path| access(folder, Access::WRITE_OK | Access::EXEC_OK).is_ok();
        folders.into_iter().find(|folder| !writable(folder)).map(Path::to_path_buf)
    }
}

/// The nearest folder above a place that is there.
fn existing_folder(place: &Path) -> Option<&Path> {
    place.ancestors().skip(1).find(|folder| folder.exists())
}

/// Returns the prefix under the resolution.
pub(crate) fn prefix(input: &PlanInput<'_>) -> Result<PathBuf, InstallFault> {
    let option = input.board.prefix().ok_or(InstallFault::NoPrefix)?;
    Ok(PathBuf::from(input.resolution.value(option).to_string()))
}

/// Returns where the record of an installation below a prefix lies: with what it records, not in the work folder, which
/// can be thrown away.
pub fn manifest_path(board: &Board, prefix: &Path) -> PathBuf {
    prefix.join(RECORDS).join(format!("{}.json", board.delivered().name))
}

fn staged(path: &Path, staging: Option<&Path>) -> PathBuf {
    staging.map_or_else(|| path.to_path_buf(), |folder| folder.join(path.strip_prefix("/").unwrap_or(path)))
}

fn step_for(
    content: Option<&Content>,
    target: &Path,
    (final_path, mode): (&Path, u32),
    role: InstallRole,
    before: Option<&Manifest>,
) -> Result<InstallStep, FileError> {
    let Some(there) = content_of(target)? else { return Ok(InstallStep::New) };
    if let Content::Other(what) = there {
        return Ok(InstallStep::Foreign(what));
    }
    let ours = before.and_then(|manifest| manifest.file(final_path));
    let as_installed = ours.is_some_and(|ours| ours.content().as_ref() == Some(&there));
    Ok(match ours {
        // A configuration file's mode is the person's as well.
        Some(ours)
            if Some(&there) == content && ours.mode.is_some_and(|then| then != mode) && role == InstallRole::Plain =>
        {
            InstallStep::Replace
        }
        _ if Some(&there) == content => InstallStep::Same,
        Some(_) if as_installed => InstallStep::Replace,
        // A person's configuration from before our time is as good as an edited one.
        _ if role == InstallRole::Config => InstallStep::KeepEdited,
        Some(_) => InstallStep::Foreign(CHANGED),
        None => InstallStep::Foreign(NOT_OURS),
    })
}
