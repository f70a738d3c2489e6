//! What goes where, and what was removed.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use boltboard_core::base::shell_word;
use boltboard_core::board::{Board, PartId};
use boltboard_core::install::{
    Acted, CanAct, DueAction, InUse, InstallFile, InstallFolder, InstallPlan, InstallReport, InstallStep, Removal,
    There,
};

use super::back::kept_edit;
use super::ready::misfit;
use super::text::{Cell, Role, columns, count, next_line, paint};

/// Lists what an installation would do after so many steps were built.
pub fn preview(board: &Board, plan: &InstallPlan, (due, actions): (usize, &[DueAction]), width: usize) -> String {
    let row = |part: PartId, mode: u32, role, word: String, place: String| {
        vec![
            (Role::Faint, board.parts[part].name.clone()),
            (Role::Faint, format!("{mode:o}")),
            (role, word),
            (Role::Name, place),
        ]
    };
    let together = listed(&plan.files);
    let file = |files: &Vec<&InstallFile>| {
        let first = files[0];
        let (role, word) = word(first.step);
        let (target, place) = match files.as_slice() {
            [file] => (file.target.clone(), file.target.display().to_string()),
            files => {
                let below = common_folder(files.iter().map(|file| file.target.as_path()));
                let place = format!("{} below {}/", count(files.len(), "file", "files"), below.display());
                (below, place)
            }
        };
        (target, row(first.part, first.mode, role, word.to_string(), place))
    };
    let folder = |folder: &InstallFolder| {
        let (role, word) = match folder.there {
            There::Nothing => (Role::Good, "new"),
            There::Folder => (Role::Faint, "same"),
            There::Other => (Role::Bad, "in the way"),
        };
        let word = folder.owner.as_ref().map_or(word.to_string(), |owner| format!("{word}, of {owner}"));
        (folder.target.clone(), row(folder.part, folder.mode, role, word, format!("{}/", folder.target.display())))
    };
    let mut rows: Vec<(PathBuf, Vec<Cell>)> =
        together.iter().map(file).chain(plan.folders.iter().map(folder)).collect();
    rows.sort_by(|a, b| a.0.cmp(&b.0));
    let rows: Vec<Vec<Cell>> = rows.into_iter().map(|(_, cells)| cells).collect();
    let mut text = columns(&rows, 0, width);
    if due > 0 {
        text.push_str(&paint(Role::Faint, &format!("To be built first: {}.\n", count(due, "step", "steps"))));
    }
    let gone = paint(Role::Warn, "no longer part of it, would be removed:");
    if plan.obsolete.len() > MOST_ALIKE {
        let below = common_folder(plan.obsolete.iter().map(|old| old.path.as_path()));
        text += &format!("{gone} {} below {}/\n", count(plan.obsolete.len(), "file", "files"), below.display());
    } else {
        plan.obsolete.iter().for_each(|old| text += &format!("{gone} {}\n", old.path.display()));
    }
    plan.in_use.iter().for_each(|(path, used)| text.push_str(&stays(path, *used)));
    for file in plan.files.iter().filter(|file| file.keeps) {
        let what = "is what this machine was booted with: it stays beside what replaces it";
        text.push_str(&format!("{} {} {what}\n", paint(Role::Name, "stays:"), file.target.display()));
    }
    for action in actions {
        let command = command_of(action);
        let how = match action.can {
            CanAct::Yes(_) => "",
            CanAct::OnlyRoot => "; only the administrator can, so that it is left to you",
            CanAct::NoProgram => "; it is left out, because there is no such program here",
            CanAct::Needed => "; there is no such program here, and nothing is installed without it",
        };
        text.push_str(&format!("{} {command}  {}{how}\n", paint(Role::Name, "afterwards:"), action.summary));
    }
    plan.misfits.iter().for_each(|one| text += &misfit(one));
    for place in plan.in_the_way() {
        text.push_str(&format!("{} {place}\n", paint(Role::Bad, "in the way:")));
    }
    if together.len() < plan.files.len() || plan.obsolete.len() > MOST_ALIKE {
        text.push_str(&next_line("boltboard install --preview --json", "each single file"));
    }
    if plan.in_the_way().is_empty() {
        text.push_str(&next_line("boltboard install", "put them there"));
    }
    text
}

/// More files that are alike are told together.
const MOST_ALIKE: usize = 50;

/// How a step is called.
fn word(step: InstallStep) -> (Role, &'static str) {
    match step {
        InstallStep::New => (Role::Good, "new"),
        InstallStep::Same => (Role::Faint, "same"),
        InstallStep::Replace => (Role::Warn, "replace"),
        InstallStep::KeepEdited => (Role::Warn, "keep yours, ours goes beside it as .from-VERSION"),
        InstallStep::Foreign(_) => (Role::Bad, "in the way"),
    }
}

/// Files that are told together, at least one each: those of one part that go the same way, where they are many.
fn listed(files: &[InstallFile]) -> Vec<Vec<&InstallFile>> {
    let mut alike: BTreeMap<_, Vec<&InstallFile>> = BTreeMap::new();
    for file in files {
        alike.entry((file.part, file.mode, word(file.step).1)).or_default().push(file);
    }
    let mut together = Vec::new();
    for files in alike.into_values() {
        // What a person must look at is told one by one.
        let is_plain = matches!(files[0].step, InstallStep::New | InstallStep::Same | InstallStep::Replace);
        if is_plain && files.len() > MOST_ALIKE {
            together.push(files);
        } else {
            together.extend(files.into_iter().map(|file| vec![file]));
        }
    }
    together
}

/// The deepest folder that holds all of these.
fn common_folder<'a>(mut paths: impl Iterator<Item = &'a Path>) -> PathBuf {
    let first = paths.next().and_then(Path::parent).unwrap_or_else(|| Path::new("/"));
    paths.fold(first.to_path_buf(), |mut folder, path| {
        while !path.starts_with(&folder) && folder.pop() {}
        folder
    })
}

fn command_of(action: &DueAction) -> String {
    action.words.iter().map(|word| shell_word(word)).collect::<Vec<_>>().join(" ")
}

/// Says what was done after files came or went, as the tree has it.
pub fn acted(all: &[(DueAction, Acted)]) -> String {
    let mut text = String::new();
    for (action, acted) in all {
        let command = command_of(action);
        text += &match (acted, &action.can) {
            (Acted::Done, _) => format!("{} {command}  {}\n", paint(Role::Good, "done:"), action.summary),
            (Acted::Failed { how, said }, _) => {
                let said: String = said.lines().take(10).map(|line| format!("    {line}\n")).collect();
                format!("{} {command}: {how}\n{said}", paint(Role::Bad, "failed:"))
            }
            (Acted::Not, CanAct::OnlyRoot) => {
                let told =
                    format!("{} {}; only the administrator can\n", paint(Role::Warn, "left to you:"), action.summary);
                told + &next_line(format!("sudo {command}"), "do it")
            }
            (Acted::Not, _) => {
                let name = &action.words[0];
                format!("{} {}: there is no {name} here\n", paint(Role::Warn, "left out:"), action.summary)
            }
        };
    }
    text
}

/// Says that a file is no longer part of the tree, and stays because somebody uses it now.
pub fn stays(path: &Path, used: InUse) -> String {
    let who = match used {
        InUse::Process(number) => format!("process {number} uses it"),
        InUse::Kernel => "it belongs to the kernel that runs".to_string(),
    };
    let head = paint(Role::Name, "stays for now:");
    format!("{head} {} is no longer part of it, and {who}\n", path.display())
}

/// Sums an installation up.
pub fn installed(plan: &InstallPlan, report: &InstallReport, recorded: bool) -> String {
    let mut text = format!(
        "{} {} written, {} unchanged",
        paint(Role::Good, "Installed:"),
        count(report.written.len(), "file", "files"),
        report.same
    );
    if !report.folders.is_empty() {
        text.push_str(&format!(", {} made", count(report.folders.len(), "empty folder", "empty folders")));
    }
    if !report.removed.is_empty() {
        text.push_str(&format!(", {} removed", report.removed.len()));
    }
    text.push_str(".\n");
    plan.in_use.iter().for_each(|(path, used)| text.push_str(&stays(path, *used)));
    if !plan.in_use.is_empty() {
        text.push_str(&next_line("boltboard install", "remove that too, once nobody uses it"));
    }
    for (path, place) in &report.kept_beside {
        let (path, place) = (path.display(), place.display());
        text.push_str(&format!(
            "{} what this machine was booted with as {path} is {place} now\n",
            paint(Role::Name, "kept:")
        ));
    }
    report.kept.iter().for_each(|kept| text.push_str(&kept_edit(kept)));
    for (folder, owner) in &report.not_given {
        let folder = folder.display().to_string();
        text.push_str(&format!("{} {folder} is yours, and is to belong to {owner}\n", paint(Role::Warn, "owner:")));
        text.push_str(&next_line(format!("sudo chown {owner} {}", shell_word(&folder)), "give it away"));
    }
    if recorded {
        if report.generation > 1 {
            text.push_str(&next_line("boltboard back", "what was installed before, and how to go back to it"));
        }
        text.push_str(&next_line("boltboard uninstall", "remove exactly these files"));
    }
    text
}

/// Sums a removal up.
pub fn removed(removal: &Removal) -> String {
    let mut text = format!("{} {}", paint(Role::Good, "Removed:"), count(removal.removed.len(), "file", "files"));
    if !removal.folders.is_empty() {
        text.push_str(&format!(", {}", count(removal.folders.len(), "empty folder", "empty folders")));
    }
    if !removal.gone.is_empty() {
        text.push_str(&format!("; {} were gone already", removal.gone.len()));
    }
    text.push_str(".\n");
    for path in &removal.left {
        text.push_str(&format!(
            "{} {} was changed since it was installed\n",
            paint(Role::Warn, "left:"),
            path.display()
        ));
    }
    for path in &removal.in_use {
        text.push_str(&format!(
            "{} {} belongs to the kernel that runs; remove it by hand once another one does\n",
            paint(Role::Warn, "left:"),
            path.display()
        ));
    }
    for path in &removal.doubted {
        text.push_str(&format!(
            "{} {} stands in the record, which was not written from here, and this tree installs no such file\n",
            paint(Role::Warn, "left:"),
            path.display()
        ));
    }
    text
}
