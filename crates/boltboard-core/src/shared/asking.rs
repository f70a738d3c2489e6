//! Asking for what others made: each thing once, and what comes is looked at before anybody sees it.

use std::collections::HashSet;
use std::sync::PoisonError;
use std::time::{Duration, Instant};

use serde::de::DeserializeOwned;

use super::client::{Got, PATIENCE};
use super::others::{Content, Gets, Inner, LeadState, State, Task, USUAL_WORK, classes_of};
use super::wire::{
    self, Lead, MOST_CONTENT, MOST_LEAD, MOST_NOTES, MOST_OF_CLASS, MOST_OF_COMMAND, MOST_PACK, Pack, SharedFooting,
    SharedKind, SharedNote,
};
use crate::base::Digest;
use crate::store::{Footing, Note};

impl Inner {
    pub(super) fn ask(&self, task: &Task) {
        let trusted = &self.client.config.trusted;
        match task {
            Task::Packs(whole) => {
                let led = self.led_to().filter(|led| led != whole);
                for pack in led.into_iter().chain([*whole]) {
                    if !self.lacking(&self.state()).is_empty()
                        && let Got::Found(bytes, _) =
                            self.client.get(SharedKind::Pack.of(pack), MOST_PACK, PATIENCE * 30)
                    {
                        self.take_pack(&bytes);
                    }
                }
                // What they lack is asked for one by one.
                let mut state = self.state();
                let lacking = self.lacking(&state);
                state.tasks.extend(lacking.into_iter().map(Task::Notes));
                drop(state);
                self.changed.notify_all();
            }
            Task::Notes(key) => {
                let got = self.client.get(SharedKind::Notes.of(*key), MOST_NOTES, PATIENCE);
                let notes = match &got {
                    Got::Found(bytes, _) => {
                        self.sound(bytes, MOST_OF_COMMAND, |note: &SharedNote| note.is_taken(key, trusted))
                    }
                    Got::Absent | Got::Failed => Vec::new(),
                };
                let mut state = self.state();
                state.replaced.insert(*key, got.replaced());
                self.take_notes(&mut state, *key, notes);
            }
            Task::Footings(class) => {
                let footings = match self.client.get(SharedKind::Footings.of(*class), MOST_NOTES, PATIENCE) {
                    Got::Found(bytes, _) => {
                        self.sound(&bytes, MOST_OF_CLASS, |one: &SharedFooting| one.is_taken(class, trusted))
                    }
                    Got::Absent | Got::Failed => Vec::new(),
                };
                let footings = footings.into_iter().map(|shared| shared.footing).collect();
                self.state().footings.insert(*class, Some(footings));
            }
            Task::Content(digest) => {
                let work = self.state().worth.get(digest).map_or(USUAL_WORK, |(_, work)| (*work).max(USUAL_WORK));
                let got = self.client.get(SharedKind::Content.of(*digest), MOST_CONTENT, work.max(PATIENCE));
                let content = match got {
                    Got::Found(bytes, _) => {
                        let content = wire::unwrapped(&bytes, MOST_CONTENT);
                        let content = content.filter(|content| Digest::of(content) == *digest);
                        if content.is_none() {
                            let mut state = self.state();
                            state.counts.spoilt += 1;
                            state.anew.insert(*digest);
                        }
                        content.map_or(Content::Not, Content::Here)
                    }
                    Got::Absent | Got::Failed => Content::Not,
                };
                self.state().contents.insert(*digest, content);
            }
            Task::Keep(key, note) => self.keep_here(key, note),
        }
    }

    /// Asks where the newest whole build of this tree lies.
    pub(super) fn ask_for_lead(&self, tree: Digest) {
        let lead = match self.client.get(SharedKind::Lead.of(tree), MOST_LEAD, PATIENCE) {
            Got::Found(bytes, _) => wire::read::<Lead>(&bytes, MOST_LEAD),
            Got::Absent | Got::Failed => None,
        };
        self.state().lead = LeadState::Known(lead);
        self.changed.notify_all();
    }

    /// The pack of the newest whole build, where half of it is likely to be wanted. Waits for the answer, if it was asked for.
    fn led_to(&self) -> Option<Digest> {
        let mut state = self.state();
        let until = self.deadline(&state);
        while matches!(state.lead, LeadState::Coming) && !self.client.is_off() && Instant::now() < until {
            state = self.wait(state, until);
        }
        let LeadState::Known(Some(lead)) = &state.lead else { return None };
        lead.is_worth(&self.asked().keys.iter().copied().collect()).then_some(lead.whole)
    }

    /// The commands of which it is not yet known what others made.
    fn lacking(&self, state: &State) -> Vec<Digest> {
        let keys = self.asked().keys.iter();
        keys.filter(|key| matches!(state.notes.get(key), Some(None))).copied().collect()
    }

    /// Keeps a note that was gone by, first what it stands on.
    fn keep_here(&self, key: &Digest, note: &Note) {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        for (class, generation) in classes_of(note) {
            let is_it = |footing: &&Footing| footing.generation == generation;
            if !kept.insert((class, generation)) || self.local.own_footings(&class).iter().any(|one| is_it(&one)) {
                continue;
            }
            let of_class = self.state().footings.get(&class).cloned().flatten().unwrap_or_default();
            if let Some(footing) = of_class.iter().find(is_it) {
                // One that is not kept makes the step run again one day.
                let _ = self.local.keep_footing(&class, footing.clone());
            }
        }
        drop(kept);
        let _ = self.local.add_note(key, note, None);
    }

    /// What is sound of what came, and of whom it is taken; the rest is counted.
    fn sound<T: DeserializeOwned>(&self, bytes: &[u8], most: usize, is_taken: impl Fn(&T) -> bool) -> Vec<T> {
        let Some(all) = wire::read::<Vec<T>>(bytes, MOST_NOTES) else {
            self.state().counts.spoilt += 1;
            return Vec::new();
        };
        let (taken, other): (Vec<T>, Vec<T>) = all.into_iter().take(most).partition(is_taken);
        self.state().counts.spoilt += other.len();
        taken
    }

    /// Takes in notes of a command; what the newest one stands on and made is asked for.
    fn take_notes(&self, state: &mut State, key: Digest, notes: Vec<SharedNote>) {
        for shared in &notes {
            let work = Duration::from_millis(shared.note.work_ms);
            for (output, size) in shared.note.outputs.iter().zip(&shared.sizes) {
                state.worth.insert(output.digest, (*size, work));
            }
        }
        if let Some(newest) = notes.first() {
            state.found.insert(key);
            classes_of(&newest.note).for_each(|(class, _)| state.look_for_footings(class));
            for output in &newest.note.outputs {
                let wanted = match self.asked().gets {
                    Gets::Nothing => false,
                    Gets::Worth => !self.local.has(&output.digest) && self.is_worth(state, &output.digest),
                    Gets::All => true,
                };
                if wanted && !state.contents.contains_key(&output.digest) {
                    state.contents.insert(output.digest, Content::Coming);
                    state.tasks.push_back(Task::Content(output.digest));
                }
            }
        }
        state.notes.insert(key, Some(notes));
    }

    fn take_pack(&self, bytes: &[u8]) {
        let Some(pack) = wire::read::<Pack>(bytes, MOST_PACK) else {
            self.state().counts.spoilt += 1;
            return;
        };
        let Pack { notes, footings, contents } = pack;
        let sound: Vec<(Digest, Vec<u8>)> =
            contents.into_iter().filter(|(digest, content)| Digest::of(content) == *digest).collect();
        let trusted = &self.client.config.trusted;
        let taken = |(key, notes): (Digest, Vec<SharedNote>)| {
            let all = notes.into_iter().take(MOST_OF_COMMAND);
            (key, all.filter(|note| note.is_taken(&key, trusted)).collect::<Vec<_>>())
        };
        let notes = notes.into_iter().map(taken).filter(|(_, notes)| !notes.is_empty());
        let footings = footings.into_iter().filter(|(class, footing)| footing.is_taken(class, trusted));
        let (notes, footings): (Vec<_>, Vec<_>) = (notes.collect(), footings.collect());
        let mut state = self.state();
        state.contents.extend(sound.into_iter().map(|(digest, content)| (digest, Content::Here(content))));
        for (class, shared) in footings {
            let known = state.footings.entry(class).or_insert_with(|| Some(Vec::new()));
            known.get_or_insert_default().push(shared.footing);
        }
        let wanted: HashSet<Digest> = self.asked().keys.iter().copied().collect();
        for (key, notes) in notes.into_iter().filter(|(key, _)| wanted.contains(key)) {
            self.take_notes(&mut state, key, notes);
        }
        drop(state);
        self.changed.notify_all();
    }
}
