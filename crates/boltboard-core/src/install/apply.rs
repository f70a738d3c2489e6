//! Installing and removing.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::os::fd::AsRawFd;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, Mode, OFlags};

use super::manifest::{Installed, Manifest};
use super::{Content, InstallFault, InstallFile, InstallPlan, InstallStep, Installable, There, content_of, folders};
use crate::base::{Digest, FileError};
use crate::board::{Board, InstallRole};

/// What an installation did.
#[derive(Debug, Clone, Default)]
pub struct InstallReport {
    /// Files written.
    pub written: Vec<PathBuf>,
    /// Files that were the same already.
    pub same: usize,
    /// Edited configuration files that were kept, with where ours went.
    pub kept: Vec<(PathBuf, PathBuf)>,
    /// Empty folders made.
    pub folders: Vec<PathBuf>,
    /// Folders that could not be given to whom they are to belong to.
    pub not_given: Vec<(PathBuf, String)>,
    /// Files of the earlier installation that were removed.
    pub removed: Vec<PathBuf>,
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
    /// Files that were gone already.
    pub gone: Vec<PathBuf>,
    /// Folders removed.
    pub folders: Vec<PathBuf>,
}

/// What an installation was built from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BuiltFrom {
    /// The profile.
    pub profile: String,
    /// The changes to the sources that it carries.
    pub patches: Vec<String>,
    /// The compiler, in a few words.
    pub compiler: String,
    /// What the toolchain's environment set.
    pub environment: BTreeMap<String, String>,
}

/// Installs everything that was planned.
///
/// # Errors
/// Files of others are in the way (nothing is written then), or a file cannot be written. The record is written first, so
/// that what a stopped installation left can be removed; `seals` is told of each before.
pub fn install(
    board: &Board,
    from: &BuiltFrom,
    plan: &InstallPlan,
    record: Record,
    seals: &mut dyn FnMut(Digest) -> Result<(), FileError>,
) -> Result<InstallReport, InstallFault> {
    let in_the_way = plan.in_the_way();
    if !in_the_way.is_empty() {
        return Err(InstallFault::Foreign(in_the_way));
    }
    let mut recorded_files = plan.kept.clone();
    for file in &plan.files {
        recorded_files.extend(recorded(file, plan)?);
    }
    recorded_files.sort_by(|a, b| a.path.cmp(&b.path));
    let mut manifest = Manifest {
        format: 1,
        tree: board.tree.name.clone(),
        version: board.tree.version.clone(),
        profile: from.profile.clone(),
        patches: from.patches.clone(),
        compiler: from.compiler.clone(),
        environment: from.environment.clone(),
        files: recorded_files,
        folders: plan.before.as_ref().map_or(vec![], |m| m.folders.clone()),
    };
    let targets = plan.files.iter().map(|f| f.target.as_path());
    let new = plan.folders.iter().filter(|folder| folder.there == There::Nothing);
    for folder in new.clone() {
        missing_folders(&folder.target.join("x"), &mut manifest.folders);
    }
    for path in targets.chain((record == Record::Write).then_some(plan.manifest_path.as_path())) {
        missing_folders(path, &mut manifest.folders);
    }
    if record == Record::Write {
        let mut both = manifest.clone();
        both.files.extend(plan.obsolete.iter().cloned());
        seals(both.seal())?;
        both.write(&plan.manifest_path)?;
    }
    let mut report = InstallReport::default();
    for file in &plan.files {
        match file.step {
            InstallStep::Same => report.same += 1,
            InstallStep::New | InstallStep::Replace => {
                put(file, &file.target)?;
                report.written.push(file.target.clone());
            }
            InstallStep::KeepEdited => {
                let beside = beside(file, &board.tree.version)?;
                if content_of(&beside)?.is_none() {
                    put(file, &beside)?;
                }
                report.kept.push((file.target.clone(), beside));
            }
            InstallStep::Foreign(_) => {}
        }
    }
    for folder in new {
        if !folders::make(folder)? {
            report.not_given.extend(folder.owner.clone().map(|owner| (folder.target.clone(), owner)));
        }
        report.folders.push(folder.target.clone());
    }
    for old in &plan.obsolete {
        if remove_ours(old)? == Gone::Removed {
            report.removed.push(old.path.clone());
        }
    }
    if record == Record::Write {
        seals(manifest.seal())?;
        manifest.write(&plan.manifest_path)?;
    }
    Ok(report)
}

/// Whether an installation keeps a record of itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Record {
    /// It does.
    Write,
    /// It does not: the files are staged for a package, which has a record of its own.
    Leave,
}

/// What the record says of a file; nothing of one that was the same before we came.
fn recorded(file: &InstallFile, plan: &InstallPlan) -> Result<Option<Installed>, InstallFault> {
    let earlier = plan.before.iter().flat_map(|m| &m.files).find(|f| f.path == file.final_path);
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
    Ok(Some(Installed { path: file.final_path.clone(), digest, link, config: file.role == InstallRole::Config }))
}

/// Where a configuration file goes beside one that is kept: a name that is free, or has this content already.
fn beside(file: &InstallFile, version: &str) -> Result<PathBuf, FileError> {
    let version = version.replace('/', "-");
    let mut number = 1;
    loop {
        let mut name = file.target.clone().into_os_string();
        name.push(if number == 1 { format!(".from-{version}") } else { format!(".from-{version}-{number}") });
        let place = PathBuf::from(name);
        let there = content_of(&place)?;
        if there.is_none() || there == file.content {
            return Ok(place);
        }
        number += 1;
    }
}

fn missing_folders(path: &Path, folders: &mut Vec<PathBuf>) {
    let mut missing: Vec<PathBuf> =
        path.ancestors().skip(1).take_while(|folder| !folder.exists()).map(Path::to_path_buf).collect();
    missing.reverse();
    for folder in missing {
        if !folders.contains(&folder) {
            folders.push(folder);
        }
    }
}

/// Puts a file in place, whole or not at all. What comes to lie in a new place meanwhile is not overwritten.
fn put(file: &InstallFile, target: &Path) -> Result<(), FileError> {
    let folder = target.parent().unwrap_or(Path::new("/"));
    crate::base::files::make_folder(folder)?;
    let failed = || FileError::on("write", target);
    let replaces = file.step == InstallStep::Replace;
    match &file.content {
        Some(Content::Link(to)) if replaces => {
            let made = tempfile::Builder::new()
                .prefix(".new-")
                .make_in(folder, |aside| std::os::unix::fs::symlink(to, aside))
                .map_err(failed())?;
            made.into_temp_path().persist(target).map_err(|e| failed()(e.error))
        }
        Some(Content::Link(to)) => std::os::unix::fs::symlink(to, target).map_err(failed()),
        Some(Content::File(_) | Content::Other(_)) | None => match nameless(file, folder) {
            Some(made) => name_it(&made.map_err(failed())?, target, replaces).map_err(failed()),
            None => {
                let aside = tempfile::Builder::new().prefix(".new-").tempfile_in(folder).map_err(failed())?;
                fill(file, aside.as_file()).map_err(failed())?;
                if replaces { aside.persist(target) } else { aside.persist_noclobber(target) }
                    .map(|_| ())
                    .map_err(|e| failed()(e.error))
            }
        },
    }
}

/// Writes a file that has no name yet, so that nothing is left of it when we are killed. `None` where a file system has no such files.
fn nameless(file: &InstallFile, folder: &Path) -> Option<std::io::Result<std::fs::File>> {
    let flags = OFlags::TMPFILE | OFlags::RDWR | OFlags::CLOEXEC;
    let made = std::fs::File::from(rustix::fs::open(folder, flags, Mode::RUSR | Mode::WUSR).ok()?);
    Some(fill(file, &made).map(|()| made))
}

fn fill(file: &InstallFile, mut to: &std::fs::File) -> std::io::Result<()> {
    std::io::copy(&mut std::fs::File::open(&file.source)?, &mut to)?;
    to.set_permissions(std::fs::Permissions::from_mode(file.mode))?;
    to.sync_data()
}

/// Gives a nameless file its name. Another file is replaced through a name aside, which is there for a moment only.
fn name_it(made: &std::fs::File, target: &Path, replaces: bool) -> std::io::Result<()> {
    let own = format!("/proc/self/fd/{}", made.as_raw_fd());
    let link = |to: &Path| rustix::fs::linkat(CWD, own.as_str(), CWD, to, AtFlags::SYMLINK_FOLLOW);
    if !replaces {
        return Ok(link(target)?);
    }
    let folder = target.parent().unwrap_or(Path::new("/"));
    let mut prefix = OsString::from(".new-");
    prefix.push(target.file_name().unwrap_or_default());
    let aside = tempfile::Builder::new().prefix(&prefix).make_in(folder, |aside| Ok(link(aside)?))?;
    aside.into_temp_path().persist(target).map_err(|e| e.error)
}

#[derive(PartialEq)]
enum Gone {
    Removed,
    Changed,
    Already,
}

/// Removes a file if it is still as it was installed.
fn remove_ours(file: &Installed) -> Result<Gone, FileError> {
    match content_of(&file.path)? {
        None => Ok(Gone::Already),
        there if there == file.content() => {
            std::fs::remove_file(&file.path).map_err(FileError::on("remove", &file.path))?;
            Ok(Gone::Removed)
        }
        Some(_) => Ok(Gone::Changed),
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

/// Removes exactly what was installed: changed files are left, folders only when we made them and nothing is in them.
///
/// # Errors
/// A file cannot be removed; the record stays, so that it can be tried again.
pub fn uninstall(manifest: &Manifest, manifest_path: &Path, believed: Believed<'_>) -> Result<Removal, FileError> {
    let mut removal = Removal::default();
    for file in &manifest.files {
        if let Believed::Only(installable) = believed
            && !installable.has(&file.path)
        {
            removal.doubted.push(file.path.clone());
            continue;
        }
        let list = match remove_ours(file)? {
            Gone::Removed => &mut removal.removed,
            Gone::Changed => &mut removal.left,
            Gone::Already => &mut removal.gone,
        };
        list.push(file.path.clone());
    }
    Manifest::remove(manifest_path)?;
    let ours = |folder: &Path| match believed {
        Believed::All => true,
        Believed::Only(installable) => manifest_path.starts_with(folder) || installable.leads_through(folder),
    };
    for folder in manifest.folders.iter().rev().filter(|folder| ours(folder)) {
        // Fails when something of others is in it, which is how it must be.
        if std::fs::remove_dir(folder).is_ok() {
            removal.folders.push(folder.clone());
        }
    }
    Ok(removal)
}
