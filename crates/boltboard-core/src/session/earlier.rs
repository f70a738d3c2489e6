//! Another version of the tree: its definitions as version control kept them, and how changes to the sources fit this one.

use std::path::{Path, PathBuf};
use std::time::Duration;

use super::fault::SessionFault;
use super::open::Session;
use crate::base::{FileError, RelPath};
use crate::launch::{Exit, Job, Launch};
use crate::patch::{Changed, Patch, apply};
use crate::profile::{ChangeSort, Choices, SourceChange};

/// How long version control may take.
const LIMIT: Duration = Duration::from_secs(300);
/// Definition files, wherever they lie.
const DEFINITIONS: &str = ":(glob)**/*.toml";

/// How a change to the sources stands in another version of the tree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ChangeStanding {
    /// It fits.
    Fits,
    /// This version has it already.
    AlreadyIn,
    /// The file that it replaces has changed since; whether the change still counts is for a person to say.
    FileChanged,
    /// It does not fit.
    NeedsHand(String),
}

impl Session {
    /// Takes the definitions of another revision of this tree out of version control, into a folder.
    ///
    /// # Errors
    /// Version control is not there, or does not know the revision.
    pub fn definitions_of(&self, revision: &str, folder: &Path) -> Result<(), SessionFault> {
        let fault = |reason: String| SessionFault::Revision { revision: revision.to_string(), reason };
        let program = self.around.search_folders().map(|folder| folder.join("git")).find(|file| file.is_file());
        let program = program.ok_or_else(|| fault("there is no git here".into()))?;
        let archive = folder.join("definitions.tar");
        let words = ["archive", "--format=tar", revision, "--", DEFINITIONS];
        let job = Job {
            program,
            arguments: words.map(str::to_string).to_vec(),
            folder: self.board.tree.board_root.clone(),
            environment: self.around.variables.clone(),
            limit: Some(LIMIT),
            watch: None,
            input: None,
            output: Some(archive.clone()),
        };
        if revision.is_empty() || revision.starts_with('-') {
            return Err(fault("that is no revision".into()));
        }
        let outcome = self.launch.run(&job).map_err(|e| fault(e.to_string()))?;
        if outcome.exit != Exit::Code(0) {
            let words = String::from_utf8_lossy(&outcome.stderr).trim().lines().next().unwrap_or_default().to_string();
            return Err(fault(words));
        }
        let file = std::fs::File::open(&archive).map_err(FileError::on("read", &archive))?;
        let mut files = tar::Archive::new(file);
        files.set_preserve_permissions(false);
        // What it unpacks stays below the folder.
        files.unpack(folder).map_err(FileError::on("unpack into", folder))?;
        std::fs::remove_file(&archive).map_err(FileError::on("remove", &archive))?;
        Ok(())
    }

    /// Tells how each change to the sources stands here. `before` is the tree that they were made for, where it is known.
    pub fn standings(&self, choices: &Choices, before: Option<&Path>) -> Vec<(SourceChange, ChangeStanding)> {
        choices.changes.iter().map(|change| (change.clone(), self.standing_of(change, before))).collect()
    }

    fn standing_of(&self, change: &SourceChange, before: Option<&Path>) -> ChangeStanding {
        let tree = &self.board.tree;
        let place: &dyn Fn(&RelPath) -> PathBuf = &|path| tree.source(path);
        let bytes = match std::fs::read(&change.file) {
            Ok(bytes) => bytes,
            Err(e) => return ChangeStanding::NeedsHand(format!("{} cannot be read: {e}", change.file.display())),
        };
        match &change.sort {
            ChangeSort::Replaced(path) => match std::fs::read(tree.source(path)) {
                Err(_) => ChangeStanding::NeedsHand(format!("{path} is not there any more")),
                Ok(now) if now == bytes => ChangeStanding::AlreadyIn,
                Ok(now) => match before.and_then(|before| std::fs::read(path.below(before)).ok()) {
                    Some(then) if then == now => ChangeStanding::Fits,
                    _ => ChangeStanding::FileChanged,
                },
            },
            ChangeSort::Patch => {
                let patch = match Patch::parse(&change.name, &String::from_utf8_lossy(&bytes)) {
                    Ok(patch) => patch,
                    Err(fault) => return ChangeStanding::NeedsHand(fault.to_string()),
                };
                match apply(place, std::slice::from_ref(&patch), &mut Changed::new()) {
                    Ok(()) => ChangeStanding::Fits,
                    Err(_) if apply(place, &[patch.reversed()], &mut Changed::new()).is_ok() => {
                        ChangeStanding::AlreadyIn
                    }
                    Err(fault) => ChangeStanding::NeedsHand(fault.to_string()),
                }
            }
        }
    }
}
