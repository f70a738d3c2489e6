//! What stands now for what steps looked at: contents, names, modes, and what the programs of a class stand on.

use super::interface::interface_digest;
use super::step::Judge;
use super::verdict::{Ahead, Coming, Reason};
use crate::base::Digest;
use crate::step::{Location, Look, Step, StepId};
use crate::store::Footing;

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
            Look::Unseen => None,
        })
    }

    /// Returns what stands for the guard of an option header.
    pub fn form(&self, at: &Location) -> Option<Digest> {
        let header = self.plan.headers.iter().find(|header| header.at == *at)?;
        Some(Digest::of(header.guard.as_bytes()))
    }

    /// Returns what is known of a class.
    pub fn footing(&self, class: &Digest) -> Option<Footing> {
        self.store.footing(&self.plan.footing_key(class))
    }

    /// Returns what stands now for the footing of a class, `None` where it is not known.
    pub fn footing_now(&self, class: &Digest) -> Option<Digest> {
        let lock = || self.footings.now.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(known) = lock().get(class) {
            return *known;
        }
        let now = self.footing(class).map(|known| self.generation_now(&known));
        lock().insert(*class, now);
        now
    }

    /// Forgets what was looked up of a class: it was seen anew.
    pub fn forget_footing(&self, class: &Digest) {
        self.footings.now.lock().unwrap_or_else(std::sync::PoisonError::into_inner).remove(class);
    }

    /// Looks again at all that a footing names: its own generation when all is as it was, else another one.
    fn generation_now(&self, known: &Footing) -> Digest {
        let now = |look: &str| look.parse().ok().and_then(|look: Look| self.look_now(&look, &Ahead::default()).ok()?);
        let looks: Vec<(String, Digest)> =
            known.looks.iter().map(|(look, _)| (look.clone(), now(look).unwrap_or_default())).collect();
        let is_absent = |place: &&String| {
            let at: Option<Location> = place.parse().ok();
            at.is_some_and(|at| !at.path(&self.plan.folders).exists())
        };
        let absent: Vec<String> = known.absent.iter().filter(is_absent).cloned().collect();
        let same = looks == known.looks && absent == known.absent;
        let other = || {
            Digest::of_parts([
                "changed",
                Footing::of(looks.clone(), absent.clone(), false).generation.to_string().as_str(),
            ])
        };
        if same { known.generation } else { other() }
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

    /// What is not as it was of what the programs behind a step's tool stand on.
    pub(super) fn tool_changes(&self, step: &Step, look: &Look) -> Vec<Reason> {
        let tool = Reason::Tool(step.tool().map_or(String::new(), |tool| tool.name.clone()));
        let known = match look {
            Look::Footing(class) => self.footing(class),
            _ => None,
        };
        let Some(known) = known else {
            return vec![Reason::ToolUnseen(step.tool().map_or(String::new(), |tool| tool.name.clone()))];
        };
        let now = |look: &Look| self.look_now(look, &Ahead::default()).ok().flatten();
        let looks = known.looks.iter().filter_map(|(look, then)| Some((look.parse::<Look>().ok()?, *then)));
        let changed = looks.filter(|(look, then)| now(look) != Some(*then)).map(|(look, _)| match (now(&look), look) {
            (Some(_), Look::Content(at)) => Reason::Edited(at),
            (None, Look::Content(at)) => Reason::Gone(at),
            (_, look) => Reason::Looks(look),
        });
        let appeared = known.absent.iter().filter_map(|place| place.parse::<Location>().ok());
        let appeared = appeared.filter(|at| at.path(&self.plan.folders).exists()).map(Reason::Appeared);
        // The first says enough.
        changed.chain(appeared).take(1).chain([tool]).collect()
    }
}
