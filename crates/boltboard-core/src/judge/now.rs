//! What stands now for what steps looked at: contents, names, modes, and what the programs of a class stand on.

use std::sync::{Arc, PoisonError};

use super::interface::{DataBy, LibraryData, interface_digest};
use super::step::Judge;
use super::verdict::{Ahead, Coming};
use crate::base::Digest;
use crate::step::{Location, Look, StepId};

impl Judge<'_> {
    fn content(&self, location: &Location, ahead: &Ahead) -> Result<Option<Digest>, StepId> {
        Ok(match ahead.coming(location) {
            Some(Coming::Known(digest)) => Some(*digest),
            Some(Coming::Open(step)) => return Err(*step),
            None => self.status.digest(&location.path(&self.plan.folders)),
        })
    }

    /// Returns what stands now for something that was looked at, `None` when it is not there.
    ///
    /// # Errors
    /// A step that is still to run decides about it.
    pub fn look_now(&self, look: &Look, ahead: &Ahead) -> Result<Option<Digest>, StepId> {
        let waits = |at: &Location| match ahead.coming(at) {
            Some(Coming::Open(step)) => Err(*step),
            Some(Coming::Known(_)) | None => Ok(()),
        };
        Ok(match look {
            Look::Content(at) => self.content(at, ahead)?,
            Look::Interface(at) | Look::Data(at) => {
                self.content(at, ahead)?.map(|content| self.of_library(look, at, content))
            }
            Look::Mode(at) => {
                waits(at)?;
                look.alone(&self.plan.folders, self.status).or_else(|| self.folder_to_be(at))
            }
            Look::Status(at) | Look::Leads(at) => {
                waits(at)?;
                look.alone(&self.plan.folders, self.status)
            }
            Look::Names(_) => look.alone(&self.plan.folders, self.status),
            Look::Form(at) => self.form(at),
            Look::Footing(class) => self.footing_now(class),
            Look::SearchPath => Some(Digest::of(self.plan.search_path.as_bytes())),
            Look::Unseen => None,
        })
    }

    /// What stands for a folder of ours that is not there before the first build: it will be one as that is in which it will lie.
    fn folder_to_be(&self, at: &Location) -> Option<Digest> {
        let path = at.path(&self.plan.folders);
        if matches!(at, Location::Tree(_) | Location::System(_)) || path.symlink_metadata().is_ok() {
            return None;
        }
        let is_within = |place: &Location| place.beneath(at).is_some_and(|rest| !rest.is_empty());
        self.plan.steps.iter().find(|(_, step)| step.writes.iter().any(is_within))?;
        let above = path.ancestors().find(|folder| folder.is_dir())?;
        Look::Mode(Location::System(above.to_path_buf())).alone(&self.plan.folders, self.status)
    }

    /// Returns what stands for the guard of an option header.
    pub fn form(&self, at: &Location) -> Option<Digest> {
        let header = self.plan.headers.iter().find(|header| header.at == *at)?;
        Some(Digest::of(header.guard.as_bytes()))
    }

    /// Returns the digest of what a look sees of a file of this content: of a shared library its interface, where it has one.
    pub fn of_library(&self, look: &Look, location: &Location, content: Digest) -> Digest {
        let (sort, data) = match look {
            Look::Interface(_) => ("interface", DataBy::Name),
            Look::Data(_) => ("data", DataBy::Copy),
            _ => return content,
        };
        let read = || self.bytes_of(location, content).and_then(|bytes| interface_digest(&bytes, data));
        self.store.derived(sort, &content, &read).unwrap_or(content)
    }

    /// Returns the data of a shared library of this content; each is read once.
    pub fn data_of(&self, location: &Location, content: Digest) -> Arc<LibraryData> {
        let lock = || self.data.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = lock().get(&content) {
            return Arc::clone(known);
        }
        let data = Arc::new(LibraryData::of(&self.bytes_of(location, content).unwrap_or_default()));
        lock().insert(content, Arc::clone(&data));
        data
    }

    /// The bytes of this content, from where it lies or from the store.
    fn bytes_of(&self, location: &Location, content: Digest) -> Option<Vec<u8>> {
        let here = std::fs::read(location.path(&self.plan.folders)).ok();
        here.filter(|bytes| Digest::of(bytes) == content).or_else(|| self.store.read(&content))
    }
}
