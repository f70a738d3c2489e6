//! What stands now for what steps looked at: contents, names, modes, and what the programs of a class stand on.

use super::interface::interface_digest;
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
            Look::Interface(at) => self.content(at, ahead)?.map(|content| self.interface(at, content)),
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

    /// Returns what stands for the guard of an option header.
    pub fn form(&self, at: &Location) -> Option<Digest> {
        let header = self.plan.headers.iter().find(|header| header.at == *at)?;
        Some(Digest::of(header.guard.as_bytes()))
    }

    /// Returns the digest of a shared library's interface; that of its content where it has none.
    pub fn interface(&self, location: &Location, content: Digest) -> Digest {
        let read = || {
            let here = std::fs::read(location.path(&self.plan.folders)).ok();
            let right = here.filter(|bytes| Digest::of(bytes) == content);
            right.or_else(|| self.store.read(&content)).and_then(|bytes| interface_digest(&bytes))
        };
        self.store.derived("interface", &content, &read).unwrap_or(content)
    }
}
