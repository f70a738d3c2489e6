//! What an installation puts in place, whatever lies there now: files with their places and modes, and empty folders.

use std::path::{Path, PathBuf};

use super::InstallFault;
use super::folders::{EmptyPlace, empty_places};
use super::place::{Content, checked_folder, content_of};
use crate::board::{InstallRole, PartId};
use crate::plan::{Plan, PlanInput};
use crate::step::Location;

/// A file that an installation puts in place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FilePlace {
    /// The part that it belongs to.
    pub part: PartId,
    /// The built file.
    pub source: PathBuf,
    /// Where it will be for its users.
    pub path: PathBuf,
    /// Permission bits.
    pub mode: u32,
    /// How it is treated.
    pub role: InstallRole,
    /// Its content; none where it is not built as it is to be.
    pub content: Option<Content>,
}

/// Everything that an installation puts in place, each list in the order of places.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Contents {
    /// The files.
    pub files: Vec<FilePlace>,
    /// The empty folders.
    pub folders: Vec<EmptyPlace>,
}

impl Contents {
    /// Works out what these parts put in place, or all of them where none is named. Nothing need be built yet: `is_stale` tells which
    /// files are not built as they are to be.
    ///
    /// # Errors
    /// Nothing is installed, two files would go to one place, or a place is none; see [`InstallFault`].
    pub fn of(
        input: &PlanInput<'_>,
        plan: &Plan,
        parts: &[PartId],
        is_stale: &dyn Fn(&Location) -> bool,
    ) -> Result<Contents, InstallFault> {
        let mut all = Contents::default();
        let wanted = |part: &PartId| parts.is_empty() || parts.contains(part);
        for (part, outputs) in plan.parts.iter().filter(|(part, _)| wanted(part)) {
            let definition = &input.board.parts[*part];
            let Some(rule) = &definition.install else { continue };
            all.folders.extend(empty_places(input, *part, definition)?);
            let to = checked_folder(definition, &input.text(&rule.to))?;
            for (index, output) in outputs.iter().enumerate() {
                let own = rule.name.as_deref().filter(|_| index == 0);
                let source = output.handed_path(input.folders);
                let content = if is_stale(output) { None } else { content_of(&source)? };
                // A kit is a folder with folders in it.
                let of_kit =
                    definition.kit().and_then(|kit| output.made().and_then(|made| made.beneath(&kit.folder())));
                // So is what a part copies, where it keeps folders.
                let of_data = || match output {
                    Location::Output(path) if definition.below.is_some() => path.beneath(&definition.output),
                    _ => None,
                };
                let below = of_kit.or_else(of_data);
                let name = own.map(str::to_string).or(below.map(|below| below.to_string()));
                let path = to.join(name.as_deref().unwrap_or(output.name()));
                all.files.push(FilePlace { part: *part, source, path, mode: rule.mode, role: rule.role, content });
            }
        }
        if all.files.is_empty() && all.folders.is_empty() {
            return Err(InstallFault::Nothing);
        }
        all.folders.sort_by(|a, b| a.path.cmp(&b.path));
        all.files.sort_by(|a, b| a.path.cmp(&b.path));
        match all.files.windows(2).find(|pair| pair[0].path == pair[1].path) {
            Some(pair) => Err(InstallFault::Twice(pair[0].path.clone())),
            None => Ok(all),
        }
    }

    /// The folders below another one in which libraries lie that were unpacked there.
    pub fn library_folders(&self, below: &Path) -> Vec<PathBuf> {
        let is_library =
            |file: &&FilePlace| file.path.file_name().is_some_and(|name| name.to_string_lossy().contains(".so"));
        let folders = self.files.iter().filter(is_library).filter_map(|file| file.path.parent());
        let mut folders: Vec<PathBuf> = folders.map(|folder| super::staged(folder, Some(below))).collect();
        folders.dedup();
        folders
    }
}
