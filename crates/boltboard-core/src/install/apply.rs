//! Installing and removing.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::change::{Change, Doing, Move, State, Yard};
use super::lock::Lock;
use super::manifest::{Installed, Manifest};
use super::put::{lay, link_to};
use super::{
    Against, Content, InTheWay, InstallFault, InstallFile, InstallPlan, InstallStep, Installable, Running, There,
    content_of, folders,
};
use crate::base::files::read_regular;
use crate::base::{Digest, FileError};
use crate::board::{Board, InstallRole};
use crate::record::Record as BuiltRecord;

/// What an installation did.
#[derive(Debug, Clone, Default)]
pub struct InstallReport {
    /// Files written.
    pub written: Vec<PathBuf>,
    /// Files that were the same already.
    pub same: usize,
    /// Edited configuration files that were kept.
    pub kept: Vec<KeptEdit>,
    /// Empty folders made.
    pub folders: Vec<PathBuf>,
    /// Folders that could not be given to whom they are to belong to.
    pub not_given: Vec<(PathBuf, String)>,
    /// Files of the earlier installation that were removed.
    pub removed: Vec<PathBuf>,
    /// What this machine was booted with and what replaces now, each with where it stays.
    pub kept_beside: Vec<(PathBuf, PathBuf)>,
    /// The number of the generation that is in place now; 0 where none is recorded, or nothing was to do.
    pub generation: u32,
}

/// A configuration file that a person has edited, and that stays.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptEdit {
    /// Its place.
    pub path: PathBuf,
    /// Where another one goes; none where what the person's was made of is what would come.
    pub beside: Option<PathBuf>,
    /// What the texts are, where another one comes and they are known.
    pub texts: Option<ThreeWay>,
}

/// The texts of a configuration file that a person has edited and for which there is another one now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ThreeWay {
    /// What was installed there once, where that is still known.
    pub base: Option<Vec<u8>>,
    /// What the person made of it.
    pub theirs: Vec<u8>,
    /// What would be there now.
    pub ours: Vec<u8>,
}

impl ThreeWay {
    /// What the person changed in what was installed once, and what the tree did, each as the lines that differ; `None` where it is not known
    /// what was installed, or it is no text.
    pub fn differences(&self) -> Option<(String, String)> {
        let text =
            |bytes: &[u8]| std::str::from_utf8(bytes).ok().filter(|text| !text.contains('\0')).map(str::to_string);
        let (base, theirs, ours) = (text(self.base.as_ref()?)?, text(&self.theirs)?, text(&self.ours)?);
        let lines = |other: &str| {
            let diff = similar::TextDiff::from_lines(base.as_str(), other);
            diff.unified_diff().context_radius(1).to_string()
        };
        Some((lines(&theirs), lines(&ours)))
    }
}

/// What a removal did.
#[derive(Debug, Clone, Default)]
pub struct Removal {
    /// Files removed.
    pub removed: Vec<PathBuf>,
    /// Files that someone has changed since, and that were left.
    pub left: Vec<PathBuf>,
    /// Files that the record names and that this tree does not install: they were left too.
    pub doubted: Vec<PathBuf>,
    /// Files of the kernel that runs, which were left as well.
    pub in_use: Vec<PathBuf>,
    /// Files that were gone already.
    pub gone: Vec<PathBuf>,
    /// Folders removed.
    pub folders: Vec<PathBuf>,
}

/// What an installation was built from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BuiltFrom {
    /// The compiler, in a few words.
    pub compiler: String,
    /// What the toolchain's environment set.
    pub environment: BTreeMap<String, String>,
    /// The installed tree that it was built against, by its kit.
    pub against: Option<Against>,
    /// What the records of its programs say alike.
    pub record: BuiltRecord,
    /// The time, in seconds since 1970.
    pub now_s: u64,
}

/// Installs everything that was planned, or nothing of it.
///
/// # Errors
/// Files of others are in the way, or a file cannot be written: what had been changed is taken back. What is done is written down first, so
/// that an installation that is cut off can be finished; `seals` is told of what is written down, before.
pub fn install(
    board: &Board,
    from: &BuiltFrom,
    plan: &InstallPlan,
    record: Record<'_>,
    seals: &mut dyn FnMut(Digest) -> Result<(), FileError>,
) -> Result<InstallReport, InstallFault> {
    let in_the_way = plan.in_the_way();
    if !in_the_way.is_empty() {
        return Err(InstallFault::Foreign(in_the_way));
    }
    if let Some(file) =
        plan.files.iter().find(|file| !matches!(file.content, Some(Content::File(_) | Content::Link(_))))
    {
        return Err(InstallFault::NotBuilt(file.source.clone()));
    }
    let mut report = InstallReport::default();
    let mut coming = Coming::default();
    let yard = Yard::of(&plan.manifest_path);
    for file in &plan.files {
        match file.step {
            InstallStep::Same => report.same += 1,
            InstallStep::New | InstallStep::Replace => {
                coming.add(file, &file.target)?;
                report.kept_beside.extend(coming.keep(file, plan)?);
                report.written.push(file.target.clone());
            }
            InstallStep::KeepEdited => {
                let place = beside(&file.target, file.content.as_ref(), &board.delivered().version)?;
                if content_of(&place)?.is_none() {
                    coming.add(file, &place)?;
                }
                let texts = matches!(record, Record::Write(_)).then(|| three_way(&yard, plan, file)).transpose()?;
                report.kept.push(KeptEdit { path: file.target.clone(), beside: Some(place), texts });
            }
            InstallStep::Foreign(_) => {}
        }
    }
    match record {
        Record::Leave => coming.lay()?,
        Record::Write(lock) => {
            let change = change_of(board, from, plan, (&yard, lock), &mut coming)?;
            if let Some(change) = change {
                let changed = yard.make(&change, &coming.sources, seals)?;
                report.removed = removed_of(plan, &changed.done);
                report.generation = change.generation;
                yard.prune()?;
            }
        }
    }
    let new = plan.folders.iter().filter(|folder| folder.there == There::Nothing);
    for folder in new {
        if !folders::make(folder)? {
            report.not_given.extend(folder.owner.clone().map(|owner| (folder.target.clone(), owner)));
        }
        report.folders.push(folder.target.clone());
    }
    Ok(report)
}

/// The files that come.
#[derive(Default)]
struct Coming {
    moves: Vec<Move>,
    /// What stays beside what replaces it.
    aside: Vec<Installed>,
    sources: BTreeMap<Digest, PathBuf>,
}

impl Coming {
    fn add(&mut self, file: &InstallFile, place: &Path) -> Result<(), InstallFault> {
        let after = match &file.content {
            Some(Content::File(digest)) => {
                self.sources.insert(*digest, file.source.clone());
                State::File { digest: *digest, mode: file.mode }
            }
            Some(Content::Link(to)) => State::Link(to.into()),
            Some(Content::Other(_)) | None => return Err(InstallFault::NotBuilt(file.source.clone())),
        };
        let Some(before) = State::of(place)? else {
            return Err(InstallFault::Foreign(vec![InTheWay { path: place.to_path_buf(), what: super::NOT_OURS }]));
        };
        self.moves.push(Move { path: place.to_path_buf(), before, after });
        Ok(())
    }

    /// Keeps what a file replaces, under a name beside it; returns both places.
    fn keep(&mut self, file: &InstallFile, plan: &InstallPlan) -> Result<Option<(PathBuf, PathBuf)>, InstallFault> {
        let (Some(earlier), true) = (plan.earlier(file), file.keeps) else { return Ok(None) };
        let (Some(digest), Some(mode)) = (earlier.digest, earlier.mode.or(Some(file.mode))) else { return Ok(None) };
        let version = plan.before.as_ref().map_or("", |before| before.version.as_str());
        let place = beside(&file.target, Some(&Content::File(digest)), version)?;
        if content_of(&place)?.is_none() {
            self.sources.insert(digest, file.target.clone());
            let after = State::File { digest, mode };
            self.moves.push(Move { path: place.clone(), before: State::Nothing, after });
        }
        let path = place.clone();
        self.aside.push(Installed { path, digest: Some(digest), link: None, config: false, mode: Some(mode) });
        Ok(Some((file.target.clone(), place)))
    }

    /// Puts them in place where nobody keeps a record: below a folder for a package.
    fn lay(&self) -> Result<(), FileError> {
        for one in &self.moves {
            let replaces = one.before != State::Nothing;
            match &one.after {
                State::File { digest, mode } => lay(&one.path, &self.sources[digest], *mode, replaces, None)?,
                State::Link(to) => link_to(&one.path, Path::new(to), replaces, None)?,
                State::Nothing => {}
            }
        }
        Ok(())
    }
}

/// Puts the change together that an installation is; `None` where it changes nothing.
fn change_of(
    board: &Board,
    from: &BuiltFrom,
    plan: &InstallPlan,
    (yard, lock): (&Yard, &Lock),
    coming: &mut Coming,
) -> Result<Option<Change>, InstallFault> {
    let before = plan.before.as_ref();
    let mut files = plan.kept.clone();
    for file in &plan.files {
        files.extend(recorded(file, plan)?);
    }
    let aside = std::mem::take(&mut coming.aside);
    files.retain(|file| aside.iter().all(|kept| kept.path != file.path));
    files.extend(aside);
    files.sort_by(|a, b| a.path.cmp(&b.path));
    let mut folders = lock.made().to_vec();
    let new = plan.folders.iter().filter(|folder| folder.there == There::Nothing);
    new.for_each(|folder| missing_folders(&folder.target.join("x"), &mut folders));
    coming.moves.iter().for_each(|one| missing_folders(&one.path, &mut folders));
    missing_folders(&plan.manifest_path, &mut folders);
    let mut moves = std::mem::take(&mut coming.moves);
    for old in &plan.obsolete {
        let now = State::of(&old.path)?;
        // What someone changed since stays.
        moves.extend(now.filter(|now| old.is(now)).map(|before| Move {
            path: old.path.clone(),
            before,
            after: State::Nothing,
        }));
    }
    let known = before.map_or(&[][..], |manifest| &manifest.folders);
    let delivered = board.delivered();
    let mut manifest = Manifest {
        format: 1,
        tree: delivered.name.clone(),
        version: delivered.version.clone(),
        against: from.against.clone(),
        profile: from.record.profile.clone(),
        patches: from.record.patches.clone(),
        compiler: from.compiler.clone(),
        environment: from.environment.clone(),
        generation: yard.next_number(before)?,
        installed_s: from.now_s,
        record: Some(from.record.clone()),
        files,
        folders: known.iter().chain(folders.iter().filter(|folder| !known.contains(folder))).cloned().collect(),
    };
    if let Some(before) = before {
        yard.number(before)?;
        let alike = |manifest: &Manifest| Manifest { generation: 0, installed_s: 0, ..manifest.clone() };
        let new_folders = folders.iter().any(|folder| !lock.made().contains(folder));
        if moves.is_empty() && !new_folders && alike(before) == alike(&manifest) {
            return Ok(None);
        }
        if moves.is_empty()
            && before.generation > 0
            && before.files == manifest.files
            && before.record == manifest.record
        {
            // Only something about it is other, which makes no generation.
            manifest.generation = before.generation;
        }
    }
    // Folders of ours that nothing is in any more. They stay known: one that others use by now is ours to remove one day.
    let used = manifest.files.iter().map(|file| &file.path).chain(plan.folders.iter().map(|folder| &folder.target));
    let used: BTreeSet<&Path> = used.chain([&plan.manifest_path]).flat_map(|path| path.ancestors()).collect();
    let leaving = manifest.folders.iter().filter(|folder| !used.contains(folder.as_path())).cloned().collect();
    Ok(Some(Change {
        doing: Doing::Install,
        moves,
        folders,
        leaving,
        generation: manifest.generation,
        after: Some(manifest.text()),
    }))
}

/// The files of the earlier installation that went.
fn removed_of(plan: &InstallPlan, done: &[PathBuf]) -> Vec<PathBuf> {
    let done: BTreeSet<&PathBuf> = done.iter().collect();
    plan.obsolete.iter().map(|old| old.path.clone()).filter(|path| done.contains(path)).collect()
}

/// The texts of an edited configuration file that is kept.
fn three_way(yard: &Yard, plan: &InstallPlan, file: &InstallFile) -> Result<ThreeWay, FileError> {
    let base = plan.earlier(file).and_then(|earlier| earlier.digest).and_then(|digest| yard.kept.read(&digest));
    let ours = read_regular(&file.source).map_err(FileError::on("read", &file.source))?;
    let theirs = read_regular(&file.target).map_err(FileError::on("read", &file.target))?;
    Ok(ThreeWay { base, theirs, ours })
}

impl InstallPlan {
    /// What an earlier installation put at the place of a file.
    fn earlier(&self, file: &InstallFile) -> Option<&Installed> {
        self.before.as_ref()?.file(&file.final_path)
    }
}

/// Whether an installation keeps a record of itself.
#[derive(Debug, Clone, Copy)]
pub enum Record<'l> {
    /// It does, and nobody else changes it meanwhile.
    Write(&'l Lock),
    /// It does not: the files are staged for a package, which has a record of its own.
    Leave,
}

/// What the record says of a file; nothing of one that was the same before we came.
fn recorded(file: &InstallFile, plan: &InstallPlan) -> Result<Option<Installed>, InstallFault> {
    let earlier = plan.earlier(file);
    // What was kept is still what was once installed, so that a later look sees the edit.
    match (file.step, earlier) {
        (InstallStep::KeepEdited, Some(earlier)) => return Ok(Some(earlier.clone())),
        (InstallStep::Same, None) => return Ok(None),
        _ => {}
    }
    let (digest, link) = match &file.content {
        Some(Content::File(digest)) => (Some(*digest), None),
        Some(Content::Link(target)) => (None, Some(target.clone())),
        Some(Content::Other(_)) | None => return Err(InstallFault::NotBuilt(file.source.clone())),
    };
    let mode = digest.map(|_| file.mode);
    Ok(Some(Installed { path: file.final_path.clone(), digest, link, config: file.role == InstallRole::Config, mode }))
}

/// Where a configuration file goes beside one that is kept: a name that is free, or has this content already.
pub(super) fn beside(target: &Path, content: Option<&Content>, version: &str) -> Result<PathBuf, FileError> {
    let version = version.replace('/', "-");
    let mut number = 1;
    loop {
        let mut name = target.to_path_buf().into_os_string();
        name.push(if number == 1 { format!(".from-{version}") } else { format!(".from-{version}-{number}") });
        let place = PathBuf::from(name);
        let there = content_of(&place)?;
        if there.is_none() || there.as_ref() == content {
            return Ok(place);
        }
        number += 1;
    }
}

pub(super) fn missing_folders(path: &Path, folders: &mut Vec<PathBuf>) {
    let mut missing: Vec<PathBuf> =
        path.ancestors().skip(1).take_while(|folder| !folder.exists()).map(Path::to_path_buf).collect();
    missing.reverse();
    for folder in missing {
        if !folders.contains(&folder) {
            folders.push(folder);
        }
    }
}

/// Which files of a record are believed to be ours.
#[derive(Debug, Clone, Copy)]
pub enum Believed<'a> {
    /// All: it was written from here.
    All,
    /// Only those that this tree could install: anyone could have written it.
    Only(&'a Installable),
}

/// Removes exactly what was installed, or nothing: changed files are left, folders only when we made them and nothing is in them. All
/// generations go with it.
///
/// # Errors
/// A file cannot be removed: what had been removed is there again.
pub fn uninstall(
    manifest: &Manifest,
    manifest_path: &Path,
    believed: Believed<'_>,
    running: &Running,
    seals: &mut dyn FnMut(Digest) -> Result<(), FileError>,
) -> Result<Removal, InstallFault> {
    let yard = Yard::of(manifest_path);
    let mut removal = Removal::default();
    let mut moves = Vec::new();
    for file in &manifest.files {
        if !believed.has(&file.path) {
            removal.doubted.push(file.path.clone());
            continue;
        }
        if running.is_of_kernel(&file.path) && file.path.exists() {
            removal.in_use.push(file.path.clone());
            continue;
        }
        match State::of(&file.path)? {
            Some(State::Nothing) => removal.gone.push(file.path.clone()),
            Some(now) if file.is(&now) => {
                moves.push(Move { path: file.path.clone(), before: now, after: State::Nothing });
            }
            Some(_) | None => removal.left.push(file.path.clone()),
        }
    }
    let ours = |folder: &&PathBuf| match believed {
        Believed::All => true,
        Believed::Only(installable) => manifest_path.starts_with(folder) || installable.leads_through(folder),
    };
    let leaving: Vec<PathBuf> = manifest.folders.iter().filter(ours).cloned().collect();
    let there: Vec<PathBuf> = leaving.iter().filter(|folder| folder.is_dir()).cloned().collect();
    let change = Change { doing: Doing::Remove, moves, folders: vec![], leaving, generation: 0, after: None };
    let changed = yard.make(&change, &BTreeMap::new(), seals)?;
    removal.removed = changed.done;
    removal.removed.sort();
    removal.left.extend(changed.left);
    removal.folders = there.into_iter().filter(|folder| !folder.exists()).rev().collect();
    Ok(removal)
}

impl Believed<'_> {
    /// Tells whether a place is believed to be this tree's.
    pub(super) fn has(&self, place: &Path) -> bool {
        match self {
            Believed::All => true,
            Believed::Only(installable) => installable.has(place),
        }
    }
}

impl Installed {
    /// Tells whether what lies at its place is as it was installed.
    pub(super) fn is(&self, now: &State) -> bool {
        match now {
            State::Nothing => false,
            State::File { digest, .. } => self.digest == Some(*digest),
            State::Link(to) => self.link.as_ref().is_some_and(|link| to.as_os_str() == link.as_str()),
        }
    }
}
