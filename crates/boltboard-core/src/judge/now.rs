//! What stands now for what steps looked at: contents, names, modes, and what the programs of a class stand on.

use super::interface::{DataBy, interface_digest};
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
            Look::Mode(at) | Look::Status(at) | Look::Leads(at) => {
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

    /// Tells whether something is as it was looked at then.
    ///
    /// # Errors
    /// A step that is still to run decides about it.
    pub(super) fn is_as_it_was(&self, look: &Look, then: Digest, ahead: &Ahead) -> Result<bool, StepId> {
        Ok(match look {
            Look::Footing(class) => self.footing_stands(class, then),
            _ => self.look_now(look, ahead)? == Some(then),
        })
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
        let read = || {
            let here = std::fs::read(location.path(&self.plan.folders)).ok();
            let right = here.filter(|bytes| Digest::of(bytes) == content);
            right.or_else(|| self.store.read(&content)).and_then(|bytes| interface_digest(&bytes, data))
        };
        self.store.derived(sort, &content, &read).unwrap_or(content)
    }
}
