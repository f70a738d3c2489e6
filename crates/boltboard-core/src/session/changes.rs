//! Changes to the sources that a profile carries, and what comes to them from elsewhere: the tree is built from a mirror that has both.

use std::path::PathBuf;

use super::fault::SessionFault;
use super::open::Session;
use crate::base::FileError;
use crate::base::files::remove_folder;
use crate::board::Tree;
use crate::patch::{Changed, Patch, apply, mirror};
use crate::profile::{ChangeSort, Choices, SourceChange};
use crate::work::{Folders, MIRROR};

/// A change with the files that it touches.
#[derive(Debug, Clone)]
pub struct Carried {
    /// The change.
    pub change: SourceChange,
    /// The files, as paths of the tree.
    pub files: Vec<String>,
}

impl Session {
    /// Returns the folders of a build, with a mirror of the sources where these are changed or added to.
    ///
    /// # Errors
    /// A change cannot be read or does not fit, or there can be no work folder; nothing is changed then.
    pub(super) fn with_changes(&self, folders: Folders, choices: &Choices) -> Result<Folders, SessionFault> {
        if !self.is_mirrored(choices) {
            return Ok(folders);
        }
        let tree = folders.build.join(MIRROR);
        let changed = self.changed(choices)?;
        // The mirror lies in the work folder, which is known for one before anything else is in it.
        self.prepare_work()?;
        let own: Vec<PathBuf> = vec![self.work.root().to_path_buf()];
        let Tree { source_root, grafts, .. } = &self.board.tree;
        mirror(source_root, &tree, &changed, grafts, &own)?;
        Ok(Folders { tree, ..folders })
    }

    /// Removes the mirror of earlier builds where none is wanted any more.
    ///
    /// # Errors
    /// It cannot be removed.
    pub(super) fn drop_mirror(&self, folders: &Folders) -> Result<(), FileError> {
        let mirror = folders.build.join(MIRROR);
        if folders.tree != mirror && mirror.exists() {
            remove_folder(&mirror)?;
        }
        Ok(())
    }

    /// Tells whether a build stands on a mirror of the sources, because something in it is not as they have it.
    pub(super) fn is_mirrored(&self, choices: &Choices) -> bool {
        !choices.changes.is_empty() || !self.board.tree.grafts.is_empty()
    }

    /// Works out what the changed files hold.
    fn changed(&self, choices: &Choices) -> Result<Changed, SessionFault> {
        let tree = &self.board.tree;
        let mut changed = Changed::new();
        for change in &choices.changes {
            match &change.sort {
                ChangeSort::Replaced(path) => {
                    changed.insert(path.clone(), Some(read(change)?));
                }
                ChangeSort::Patch => apply(&|path| tree.source(path), &[patch_of(change)?], &mut changed)?,
            }
        }
        Ok(changed)
    }

    /// Returns the changes that are carried, with the files that they touch.
    ///
    /// # Errors
    /// One cannot be read.
    pub fn carried(&self, choices: &Choices) -> Result<Vec<Carried>, SessionFault> {
        let files = |change: &SourceChange| -> Result<Vec<String>, SessionFault> {
            Ok(match &change.sort {
                ChangeSort::Replaced(path) => vec![path.to_string()],
                ChangeSort::Patch => {
                    let files = patch_of(change)?.files;
                    files.iter().filter_map(|file| Some(file.new.as_ref().or(file.old.as_ref())?.to_string())).collect()
                }
            })
        };
        choices.changes.iter().map(|change| Ok(Carried { change: change.clone(), files: files(change)? })).collect()
    }

    /// Checks that all changes fit the sources as they are.
    ///
    /// # Errors
    /// The first that does not.
    pub fn changes_fit(&self, choices: &Choices) -> Result<(), SessionFault> {
        self.changed(choices).map(|_| ())
    }
}

fn read(change: &SourceChange) -> Result<Vec<u8>, SessionFault> {
    std::fs::read(&change.file).map_err(|e| SessionFault::Change { name: change.name.clone(), reason: e.to_string() })
}

fn patch_of(change: &SourceChange) -> Result<Patch, SessionFault> {
    let text = String::from_utf8_lossy(&read(change)?).into_owned();
    Ok(Patch::parse(&change.name, &text)?)
}
