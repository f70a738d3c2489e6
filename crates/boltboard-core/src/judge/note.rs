//! Would a step make again what a note tells of? Everything that it stood on is held against what stands now.

use std::ops::ControlFlow::{self, Break, Continue};
use std::sync::PoisonError;

use tracing::trace;

use super::step::Judge;
use super::verdict::{Ahead, Coming, Reason};
use crate::base::Digest;
use crate::step::{Kind, Location, Look, Step};
use crate::store::Note;

/// Tells whether a step can make a file: one that it is to write, or one beside its object where it leaves further ones.
fn is_made_by(step: &Step, kept: &str) -> bool {
    let Ok(place) = kept.parse::<Location>() else { return false };
    let beside = |object: &Location| object.beside(place.name()).as_ref() == Some(&place);
    step.writes.contains(&place) || step.makes_more() && step.writes.first().is_some_and(beside)
}

impl Judge<'_> {
    /// Returns the kept notes of a command, first those that were taken down when the same macros could be seen: of others it costs more to
    /// find out.
    pub(super) fn likely_notes(&self, step: &Step, base_key: &Digest) -> impl Iterator<Item = Note> {
        let names = self.names_digest(step);
        let mut notes = self.store.notes(base_key);
        // Whoever wrote a note, it says nothing of places that this step has nothing to do with.
        notes.retain(|note| note.outputs.iter().all(|output| is_made_by(step, &output.location)));
        notes.sort_by_key(|note| note.macro_names != names);
        notes.into_iter()
    }

    /// Tells whether a note would be made again, and its results are kept. Most of those that are kept would not: macros tell the soonest.
    pub(super) fn stands(&self, step: &Step, note: &Note, ahead: &Ahead) -> bool {
        trace!(step = step.name, reasons = ?self.against_note(step, note, ahead), "a kept note");
        let forms = self.forms(note.inputs.iter().map(|(look, _)| look.as_str()));
        let macros = note.macros.iter().map(|(name, value)| (name.as_str(), value.as_deref()));
        self.same_macros(step, macros, &forms)
            && self.differences(step, note, ahead, &mut |_| Break(())).is_continue()
            && note.outputs.iter().all(|output| self.store.has(&output.digest))
    }

    /// Returns in what things are not as a note tells.
    pub(super) fn against_note(&self, step: &Step, note: &Note, ahead: &Ahead) -> Vec<Reason> {
        let mut reasons = Vec::new();
        let _ = self.differences(step, note, ahead, &mut |reason| {
            reasons.push(reason);
            Continue(())
        });
        reasons
    }

    /// Tells of each difference as it is found, until one is enough.
    fn differences(
        &self,
        step: &Step,
        note: &Note,
        ahead: &Ahead,
        tell: &mut dyn FnMut(Reason) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let mut inputs = Vec::new();
        for (text, then) in &note.inputs {
            let Ok(look) = text.parse::<Look>() else {
                tell(Reason::Unsettled)?;
                continue;
            };
            // A process looks at what it finds, and a check at the libraries behind a program; every other step reads what it declares.
            if let Look::Content(location) = &look
                && !step.has_process()
                && !matches!(step.kind, Kind::Check(_))
                && !step.reads.contains(location)
            {
                tell(Reason::Dropped(location.clone()))?;
                continue;
            }
            match &look {
                Look::Footing(class) if self.footing_stands(class, *then) => {}
                Look::Footing(_) => self.tool_changes(step, &look).into_iter().try_for_each(&mut *tell)?,
                // What comes has the mode that its step gives it.
                Look::Mode(at) if matches!(ahead.coming(at), Some(Coming::Known(_))) => {}
                _ => match self.look_now(&look, ahead) {
                    Ok(Some(now)) if now == *then => {}
                    Ok(now) => tell(changed(&look, now.is_some()))?,
                    Err(id) => tell(Reason::Follows(id))?,
                },
            }
            if let Look::Content(at) | Look::Interface(at) | Look::Data(at) = look {
                inputs.push(at);
            }
        }
        for read in step.reads.iter().filter(|read| !inputs.contains(read)) {
            tell(Reason::Added(read.clone()))?;
        }
        // What it makes besides follows from its text, and the text may have changed between the plan and the compile.
        for write in step.unmade(|kept| note.outputs.iter().any(|output| output.location == kept)) {
            tell(Reason::OutputMissing(write.clone()))?;
        }
        for text in note.absent.iter().filter(|text| self.lies_there(text)) {
            text.parse().ok().map_or(Continue(()), |at| tell(Reason::Appeared(at)))?;
        }
        let forms = self.forms(note.inputs.iter().map(|(look, _)| look.as_str()));
        self.macro_changes(step, note, &inputs, &forms).into_iter().try_for_each(&mut *tell)?;
        if note.macro_names != self.names_digest(step) {
            self.new_macros(step, note, &inputs, &forms).into_iter().try_for_each(&mut *tell)?;
        }
        Continue(())
    }

    /// Tells whether something lies at a place, by its kept form. Many steps look for the same headers in the same folders, so that each is
    /// asked for once, where no step makes anything.
    pub(super) fn lies_there(&self, kept: &str) -> bool {
        let lock = || self.present.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = lock().get(kept) {
            return *known;
        }
        let Ok(location) = kept.parse::<Location>() else { return false };
        let there = location.path(&self.plan.folders).exists();
        if matches!(location, Location::Tree(_) | Location::System(_)) {
            lock().insert(kept.to_string(), there);
        }
        there
    }
}

/// Says of what was looked at that it is not as it was.
fn changed(look: &Look, is_there: bool) -> Reason {
    match (look, is_there) {
        (Look::Content(at) | Look::Interface(at) | Look::Data(at), true) => Reason::Edited(at.clone()),
        (Look::Content(at) | Look::Interface(at) | Look::Data(at) | Look::Form(at), false) => Reason::Gone(at.clone()),
        (Look::Unseen, _) => Reason::Unseen,
        _ => Reason::Looks(look.clone()),
    }
}
