//! Giving others what was made here: what it made and stands on first, then the note that names it.

use std::collections::HashSet;

use super::client::{Given, Got, PATIENCE, Replaces};
use super::others::{Inner, Task, classes_of};
use super::wire::{
    self, Lead, MOST_NOTES, MOST_OF_CLASS, MOST_OF_COMMAND, Pack, SharedFooting, SharedKind, SharedNote,
};
use crate::base::Digest;
use crate::store::Note;

/// The largest content that is given in a pack with others, in bytes.
const SMALL: usize = 256 << 10;
/// The most that one pack holds of contents, in bytes.
const MOST_TOGETHER: usize = 256 << 20;
/// How often something is added to what lies there, should others add to it meanwhile.
const TRIES: usize = 3;

impl Inner {
    /// A result of this machine in the form in which it is shared; nothing of one that names places of this machine.
    fn shared(&self, key: &Digest, note: &Note) -> Option<SharedNote> {
        let sizes: Option<Vec<u64>> = note.outputs.iter().map(|output| self.local.size_of(&output.digest)).collect();
        let shared = SharedNote::new(key, note.clone(), sizes?, self.client.config.signing.as_ref());
        (!self.private.is_in_note(note)).then_some(shared)
    }

    /// Gives a result: first what it made and stands on, then the note that names it.
    pub(super) fn give(&self, key: &Digest, note: &Note) {
        let Some(shared) = self.shared(key, note) else {
            self.state().counts.private += 1;
            return;
        };
        let mut contents = Vec::new();
        for output in &note.outputs {
            let Some(content) = self.local.read(&output.digest) else { return };
            if self.private.is_in(&content) {
                self.state().counts.private += 1;
                return;
            }
            contents.push((output.digest, content));
        }
        for (digest, content) in contents {
            if self.state().given.insert(digest) {
                let Some(bytes) = wire::wrapped(&content) else { return };
                // What is there already by this name is the same, unless it was seen to be another.
                let is_anew = self.state().anew.contains(&digest);
                let replaces = if is_anew { Replaces::Anything } else { Replaces::Nothing };
                if self.client.put(SharedKind::Content.of(digest), &bytes, &replaces) == Given::Refused {
                    return;
                }
            }
        }
        for (class, generation) in classes_of(note) {
            self.give_footing(&class, &generation);
        }
        if self.give_notes(key, shared) {
            self.state().counts.given += 1;
        }
    }

    /// Adds a note to those that lie there; should others have added one meanwhile, once more.
    fn give_notes(&self, key: &Digest, shared: SharedNote) -> bool {
        for _ in 0..TRIES {
            let known = self.state().replaced.get(key).cloned();
            let Some(replaces) = known else {
                // Those of others stay.
                self.ask(&Task::Notes(*key));
                continue;
            };
            let mut notes = self.state().notes.get(key).cloned().flatten().unwrap_or_default();
            notes.retain(|other| !other.note.is_like(&shared.note));
            notes.insert(0, shared.clone());
            notes.truncate(MOST_OF_COMMAND);
            let Some(bytes) = wire::written(&notes) else { return false };
            match self.client.put(SharedKind::Notes.of(*key), &bytes, &replaces) {
                Given::Done => {
                    self.state().notes.insert(*key, Some(notes));
                    return true;
                }
                Given::Refused => return false,
                Given::Other => self.ask(&Task::Notes(*key)),
            }
        }
        false
    }

    /// Adds what a class stands on to what others know of it.
    fn give_footing(&self, class: &Digest, generation: &Digest) {
        if !self.state().given.insert(Digest::of_parts([class.to_string().as_str(), &generation.to_string()])) {
            return;
        }
        let own = self.local.own_footings(class);
        let Some(footing) = own.into_iter().find(|footing| footing.generation == *generation) else { return };
        let name = SharedKind::Footings.of(*class);
        let own = SharedFooting::new(class, footing, self.client.config.signing.as_ref());
        for _ in 0..TRIES {
            // Few classes have many; those of others stay.
            let got = self.client.get(name, MOST_NOTES, PATIENCE);
            let others = match &got {
                Got::Found(bytes, _) => wire::read::<Vec<SharedFooting>>(bytes, MOST_NOTES).unwrap_or_default(),
                Got::Absent | Got::Failed => Vec::new(),
            };
            let others = others.into_iter().filter(|other| other.footing.generation != *generation);
            let all: Vec<SharedFooting> = [own.clone()].into_iter().chain(others).take(MOST_OF_CLASS).collect();
            let Some(bytes) = wire::written(&all) else { return };
            if self.client.put(name, &bytes, &got.replaced()) != Given::Other {
                return;
            }
        }
    }

    /// Gives all of a build together, for whoever has nothing of it yet.
    pub(super) fn give_together(&self) {
        let Some(whole) = self.asked().whole else { return };
        let mut pack = Pack::default();
        let (mut classes, mut contents, mut bytes) = (HashSet::new(), HashSet::new(), 0);
        for key in &self.asked().keys {
            let Some(note) = self.local.own_notes(key).into_iter().next() else { continue };
            let Some(shared) = self.shared(key, &note) else { continue };
            for output in &note.outputs {
                let Some(content) = self.local.read(&output.digest).filter(|content| !self.private.is_in(content))
                else {
                    continue;
                };
                if content.len() <= SMALL && bytes + content.len() <= MOST_TOGETHER && contents.insert(output.digest) {
                    bytes += content.len();
                    pack.contents.push((output.digest, content));
                }
            }
            for (class, generation) in classes_of(&note).filter(|of| classes.insert(*of)) {
                let own = self.local.own_footings(&class);
                if let Some(footing) = own.into_iter().find(|footing| footing.generation == generation) {
                    pack.footings
                        .push((class, SharedFooting::new(&class, footing, self.client.config.signing.as_ref())));
                }
            }
            // What others made of it in another state of the host stays known.
            let others = self.state().notes.get(key).cloned().flatten().unwrap_or_default();
            let others = others.into_iter().filter(|other| !other.note.is_like(&note)).take(MOST_OF_COMMAND - 1);
            pack.notes.push((*key, std::iter::once(shared).chain(others).collect()));
        }
        let keys: Vec<Digest> = pack.notes.iter().map(|(key, _)| *key).collect();
        let is_given = wire::written(&pack).is_some_and(|bytes| {
            self.client.put(SharedKind::Pack.of(whole), &bytes, &Replaces::Anything) == Given::Done
        });
        if let (true, Some(tree), Some(lead)) = (is_given, self.tree, wire::written(&Lead::to(whole, &keys))) {
            // One that is not there, or an older one, costs others time and nothing else.
            self.client.put(SharedKind::Lead.of(tree), &lead, &Replaces::Anything);
        }
    }
}
