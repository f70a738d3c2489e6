//! Installing and removing.

use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use super::manifest::{Installed, Manifest};
use super::{Content, InstallFault, InstallFile, InstallPlan, InstallStep, content_of};
use crate::base::FileError;
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
    /// Files that were gone already.
    pub gone: Vec<PathBuf>,
    /// Folders removed.
    pub folders: Vec<PathBuf>,
}

/// Installs everything that was planned.
///
/// # Errors
/// Files of others are in the way (nothing is written then), or a file cannot be written. The record is written first, so
/// that what a stopped installation left can be removed.
pub fn install(
    board: &Board,
    profile: &str,
    plan: &InstallPlan,
    record: Record,
) -> Result<InstallReport, InstallFault> {
    let in_the_way = plan.in_the_way();
    if !in_the_way.is_empty() {
        return Err(InstallFault::Foreign(in_the_way));
    }
    let mut recorded_files = plan.kept.clone();
    for file in &plan.files {
        recorded_files.push(recorded(file, plan)?);
    }
    recorded_files.sort_by(|a, b| a.path.cmp(&b.path));
    let mut manifest = Manifest {
        format: 1,
        tree: board.tree.name.clone(),
        version: board.tree.version.clone(),
        profile: profile.to_string(),
        files: recorded_files,
        folders: plan.before.as_ref().map_or(vec![], |m| m.folders.clone()),
    };
    let targets = plan.files.iter().map(|f| f.target.as_path());
    for path in targets.chain((record == Record::Write).then_some(plan.manifest_path.as_path())) {
        missing_folders(path, &mut manifest.folders);
    }
    if record == Record::Write {
        let mut both = manifest.clone();
        both.files.extend(plan.obsolete.iter().cloned());
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
                let mut beside = file.target.clone().into_os_string();
                beside.push(format!(".from-{}", board.tree.version.replace('/', "-")));
                let beside = PathBuf::from(beside);
                put(file, &beside)?;
                report.kept.push((file.target.clone(), beside));
            }
            InstallStep::Foreign => {}
        }
    }
    for old in &plan.obsolete {
        if remove_ours(old)? == Gone::Removed {
            report.removed.push(old.path.clone());
        }
    }
    if record == Record::Write {
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

fn recorded(file: &InstallFile, plan: &InstallPlan) -> Result<Installed, InstallFault> {
    let earlier = plan.before.iter().flat_map(|m| &m.files).find(|f| f.path == file.final_path);
    // What was kept is still what was once installed, so that a later look sees the edit.
    if let (InstallStep::KeepEdited, Some(earlier)) = (file.step, earlier) {
        return Ok(earlier.clone());
    }
    let (digest, link) = match &file.content {
        Some(Content::File(digest)) => (Some(*digest), None),
        Some(Content::Link(target)) => (None, Some(target.clone())),
        None => return Err(InstallFault::NotBuilt(file.source.clone())),
    };
    Ok(Installed { path: file.final_path.clone(), digest, link, config: file.role == InstallRole::Config })
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

fn put(file: &InstallFile, target: &Path) -> Result<(), FileError> {
    let folder = target.parent().unwrap_or(Path::new("/"));
    crate::base::files::make_folder(folder)?;
    let failed = || FileError::on("write", target);
    match &file.content {
        Some(Content::Link(to)) => {
            let aside = folder.join(format!(
                ".new-{}",
                target.file_name().map_or(String::new(), |n| n.to_string_lossy().into_owned())
            ));
            let _ = std::fs::remove_file(&aside);
            std::os::unix::fs::symlink(to, &aside).map_err(failed())?;
            std::fs::rename(&aside, target).map_err(failed())
        }
        Some(Content::File(_)) | None => {
            let aside = tempfile::Builder::new().prefix(".new-").tempfile_in(folder).map_err(failed())?;
            std::fs::copy(&file.source, aside.path()).map_err(failed())?;
            std::fs::set_permissions(aside.path(), std::fs::Permissions::from_mode(file.mode)).map_err(failed())?;
            aside.as_file().sync_data().map_err(failed())?;
            aside.persist(target).map_err(|e| failed()(e.error))?;
            Ok(())
        }
    }
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

/// Removes exactly what was installed: changed files are left, folders only when we made them and nothing is in them.
///
/// # Errors
/// A file cannot be removed; the record stays, so that it can be tried again.
pub fn uninstall(manifest: &Manifest, manifest_path: &Path) -> Result<Removal, FileError> {
    let mut removal = Removal::default();
    for file in &manifest.files {
        let list = match remove_ours(file)? {
            Gone::Removed => &mut removal.removed,
            Gone::Changed => &mut removal.left,
            Gone::Already => &mut removal.gone,
        };
        list.push(file.path.clone());
    }
    std::fs::remove_file(manifest_path).map_err(FileError::on("remove", manifest_path))?;
    for folder in manifest.folders.iter().rev() {
        // Fails when something of others is in it, which is how it must be.
        if std::fs::remove_dir(folder).is_ok() {
            removal.folders.push(folder.clone());
        }
    }
    Ok(removal)
}
