//! Answers about installing.

use std::collections::BTreeMap;
use std::path::PathBuf;

use boltboard_core::board::Board;
use boltboard_core::install::{
    Acted, CanAct, DueAction, InstallFolder, InstallPlan, InstallReport, InstallStep, KeptEdit, Manifest, Removal,
    There, Unready,
};
use serde::Serialize;

use super::FORMAT;
use super::ready::UnreadyAnswer;

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct InstallAnswer {
    format: u32,
    files: Vec<FileAnswer>,
    folders: Vec<FolderAnswer>,
    obsolete: Vec<String>,
    in_use: Vec<String>,
    actions: Vec<ActionTold>,
    manifest: String,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct FileAnswer {
    path: String,
    part: String,
    mode: String,
    step: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    in_the_way: Option<&'static str>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct FolderAnswer {
    path: String,
    part: String,
    mode: String,
    owner: Option<String>,
    step: &'static str,
}

/// Answers `install --preview`.
pub fn install(board: &Board, plan: &InstallPlan, actions: &[DueAction]) -> InstallAnswer {
    let file = |file: &boltboard_core::install::InstallFile| FileAnswer {
        path: file.target.display().to_string(),
        part: board.parts[file.part].name.clone(),
        mode: format!("{:o}", file.mode),
        step: match file.step {
            InstallStep::New => "new",
            InstallStep::Same => "same",
            InstallStep::Replace => "replace",
            InstallStep::KeepEdited => "keep-edited",
            InstallStep::Foreign(_) => "foreign",
        },
        in_the_way: if let InstallStep::Foreign(what) = file.step { Some(what) } else { None },
    };
    let folder = |folder: &InstallFolder| FolderAnswer {
        path: folder.target.display().to_string(),
        part: board.parts[folder.part].name.clone(),
        mode: format!("{:o}", folder.mode),
        owner: folder.owner.clone(),
        step: match folder.there {
            There::Nothing => "new",
            There::Folder => "same",
            There::Other => "foreign",
        },
    };
    InstallAnswer {
        format: FORMAT,
        files: plan.files.iter().map(file).collect(),
        folders: plan.folders.iter().map(folder).collect(),
        obsolete: plan.obsolete.iter().map(|f| f.path.display().to_string()).collect(),
        in_use: plan.in_use.iter().map(|(path, _)| path.display().to_string()).collect(),
        actions: actions.iter().map(ActionTold::due).collect(),
        manifest: plan.manifest_path.display().to_string(),
    }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct InstalledAnswer {
    format: u32,
    written: Vec<String>,
    unchanged: usize,
    kept: Vec<KeptTold>,
    folders: Vec<String>,
    not_given: Vec<OwnerAnswer>,
    removed: Vec<String>,
    in_use: Vec<String>,
    manifest: String,
    generation: u32,
    unready: Vec<UnreadyAnswer>,
    actions: Vec<ActionTold>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct OwnerAnswer {
    path: String,
    owner: String,
}

/// An edited configuration file that stays.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct KeptTold {
    path: PathBuf,
    beside: Option<PathBuf>,
}

impl KeptTold {
    /// Tells of it.
    pub fn of(kept: &KeptEdit) -> KeptTold {
        KeptTold { path: kept.path.clone(), beside: kept.beside.clone() }
    }
}

/// Something that is done after an installation.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ActionTold {
    action: String,
    summary: String,
    command: Vec<String>,
    outcome: &'static str,
    said: Option<String>,
}

impl ActionTold {
    /// Tells of what is due.
    fn due(action: &DueAction) -> ActionTold {
        ActionTold {
            action: action.name.clone(),
            summary: action.summary.clone(),
            command: action.words.clone(),
            outcome: match action.can {
                CanAct::Yes(_) => "due",
                CanAct::OnlyRoot => "only-root",
                CanAct::NoProgram => "no-program",
                CanAct::Needed => "needed-program",
            },
            said: None,
        }
    }

    /// Tells what came of it.
    pub fn done((action, acted): &(DueAction, Acted)) -> ActionTold {
        match acted {
            Acted::Done => ActionTold { outcome: "done", ..ActionTold::due(action) },
            Acted::Failed { said, .. } => {
                ActionTold { outcome: "failed", said: Some(said.clone()), ..ActionTold::due(action) }
            }
            Acted::Not => ActionTold::due(action),
        }
    }
}

fn paths(paths: &[PathBuf]) -> Vec<String> {
    paths.iter().map(|path| path.display().to_string()).collect()
}

/// Answers `install`.
pub fn installed(
    plan: &InstallPlan,
    report: &InstallReport,
    all: &[Unready],
    acted: &[(DueAction, Acted)],
) -> InstalledAnswer {
    InstalledAnswer {
        format: FORMAT,
        written: paths(&report.written),
        unchanged: report.same,
        kept: report.kept.iter().map(KeptTold::of).collect(),
        folders: paths(&report.folders),
        not_given: report
            .not_given
            .iter()
            .map(|(path, owner)| OwnerAnswer { path: path.display().to_string(), owner: owner.clone() })
            .collect(),
        removed: paths(&report.removed),
        in_use: plan.in_use.iter().map(|(path, _)| path.display().to_string()).collect(),
        manifest: plan.manifest_path.display().to_string(),
        generation: report.generation,
        unready: all.iter().map(UnreadyAnswer::of).collect(),
        actions: acted.iter().map(ActionTold::done).collect(),
    }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct RemovedAnswer {
    format: u32,
    tree: String,
    version: String,
    removed: Vec<String>,
    left: Vec<String>,
    in_use: Vec<String>,
    doubted: Vec<String>,
    gone: Vec<String>,
    actions: Vec<ActionTold>,
}

/// Answers `uninstall`.
pub fn removed(manifest: &Manifest, removal: &Removal, acted: &[(DueAction, Acted)]) -> RemovedAnswer {
    RemovedAnswer {
        format: FORMAT,
        tree: manifest.tree.clone(),
        version: manifest.version.clone(),
        removed: paths(&removal.removed),
        left: paths(&removal.left),
        in_use: paths(&removal.in_use),
        doubted: paths(&removal.doubted),
        gone: paths(&removal.gone),
        actions: acted.iter().map(ActionTold::done).collect(),
    }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct UninstallAnswer {
    format: u32,
    tree: String,
    version: String,
    profile: String,
    patches: Vec<String>,
    compiler: String,
    environment: BTreeMap<String, String>,
    paths: Vec<String>,
}

/// Answers `uninstall --preview`.
pub fn uninstall(manifest: &Manifest) -> UninstallAnswer {
    UninstallAnswer {
        format: FORMAT,
        tree: manifest.tree.clone(),
        version: manifest.version.clone(),
        profile: manifest.profile.clone(),
        patches: manifest.patches.clone(),
        compiler: manifest.compiler.clone(),
        environment: manifest.environment.clone(),
        paths: manifest.files.iter().map(|file| file.path.display().to_string()).collect(),
    }
}
