//! What others made, asked for beside a build: by a few threads, each thing once, and never longer than it is worth.

use std::collections::hash_map::Entry;
use std::collections::{HashMap, HashSet, VecDeque};
use std::path::PathBuf;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, OnceLock, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use super::address::SharedConfig;
use super::client::{Client, PATIENCE, Replaces};
use super::private::Private;
use super::wire::{Lead, SharedNote};
use crate::base::Digest;
use crate::base::web::Address;
use crate::step::Look;
use crate::store::{Elsewhere, Footing, Note, Store};

/// How many requests are made at once.
pub(super) const AT_ONCE: usize = 8;
/// What a content may cost of whose making nothing is known.
pub(super) const USUAL_WORK: Duration = Duration::from_millis(200);
/// How long a thread sleeps that has nothing to do, unless it is woken.
const IDLE: Duration = Duration::from_millis(200);
/// What starting a step and putting its results away costs beside its own work.
const STARTING: Duration = Duration::from_millis(10);

/// Results of others, and what they are told of ours.
#[derive(Debug)]
pub struct Others {
    inner: Arc<Inner>,
    workers: Mutex<Vec<JoinHandle<()>>>,
}

/// What a build asks for.
#[derive(Debug, Clone, Default)]
pub struct Asked {
    /// The commands of all its steps, in their order.
    pub keys: Vec<Digest>,
    /// What stands for all of it, of a whole build.
    pub whole: Option<Digest>,
    /// What is got.
    pub gets: Gets,
}

/// Who asks, as far as that is known before it is planned what is asked for.
#[derive(Debug, Clone)]
pub struct Asker {
    /// The store of this machine.
    pub local: Store,
    /// Places that are nobody else's business.
    pub own: Vec<PathBuf>,
    /// What stands for this tree with these values, whatever state its sources are in; without, nobody is led to what is given.
    pub tree: Option<Digest>,
    /// Whether nothing was built yet, so that all of it is wanted together.
    pub first: bool,
}

/// What is got of what is found.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Gets {
    /// Nothing: it is only looked for.
    #[default]
    Nothing,
    /// What is sooner got than made, and not here yet.
    Worth,
    /// All of it, to see whether it is sound.
    All,
}

/// What came of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OthersReport {
    /// Where they lie.
    pub address: Address,
    /// Of how many commands results were seen there.
    pub found: usize,
    /// What else was seen and done.
    pub counts: OthersCounts,
    /// How many contents were taken; of a check, how many are sound.
    pub taken: usize,
    /// Their bytes.
    pub taken_bytes: u64,
    /// How many results are still to be given.
    pub left: usize,
    /// Why the server is not asked any more.
    pub off: Option<String>,
    /// Why nothing is given to it.
    pub takes_nothing: Option<String>,
}

/// What is counted while results are shared.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct OthersCounts {
    /// How many results were given.
    pub given: usize,
    /// How many were kept to oneself, because they name places of this machine.
    pub private: usize,
    /// How many things there were not what they say.
    pub spoilt: usize,
}

#[derive(Debug)]
pub(super) struct Inner {
    pub(super) client: Client,
    pub(super) private: Private,
    pub(super) local: Store,
    pub(super) tree: Option<Digest>,
    first: bool,
    asked: OnceLock<Asked>,
    pub(super) state: Mutex<State>,
    pub(super) changed: Condvar,
    /// What classes stand on that is kept here by now; several notes name one.
    pub(super) kept: Mutex<HashSet<(Digest, Digest)>>,
}

#[derive(Debug, Default)]
pub(super) struct State {
    pub(super) began: Option<Instant>,
    pub(super) lead: LeadState,
    pub(super) tasks: VecDeque<Task>,
    /// What was made here and is to be given.
    pub(super) gifts: VecDeque<(Digest, Note)>,
    pub(super) busy: usize,
    pub(super) ended: bool,
    /// Those that are asked for have nothing yet.
    pub(super) notes: HashMap<Digest, Option<Vec<SharedNote>>>,
    /// What was there of the notes of those that were asked for.
    pub(super) replaced: HashMap<Digest, Replaces>,
    pub(super) footings: HashMap<Digest, Option<Vec<Footing>>>,
    pub(super) contents: HashMap<Digest, Content>,
    /// How large contents are, and how long it took to make what they are of.
    pub(super) worth: HashMap<Digest, (u64, Duration)>,
    pub(super) given: HashSet<Digest>,
    /// Contents that are given whatever lies there by their names.
    pub(super) anew: HashSet<Digest>,
    /// Commands of which results were seen there.
    pub(super) found: HashSet<Digest>,
    /// What came from there, with its size.
    pub(super) took: HashMap<Digest, u64>,
    pub(super) counts: OthersCounts,
}

/// What is known of where the newest whole build lies.
#[derive(Debug)]
pub(super) enum LeadState {
    Coming,
    /// Nothing, where nobody asked or none is there.
    Known(Option<Lead>),
}

impl Default for LeadState {
    fn default() -> LeadState {
        LeadState::Known(None)
    }
}

#[derive(Debug)]
pub(super) enum Content {
    Coming,
    Here(Vec<u8>),
    /// It is not there, or not what it says.
    Not,
}

#[derive(Debug)]
pub(super) enum Task {
    /// All of a build together, or of one that was much like it.
    Packs(Digest),
    Notes(Digest),
    Footings(Digest),
    Content(Digest),
    /// Puts a note of others into the store, with what it stands on.
    Keep(Digest, Box<Note>),
}

impl Others {
    /// Makes ready. Nothing is asked before somebody needs it.
    pub fn new(config: SharedConfig, asker: Asker) -> Others {
        let Asker { local, own, tree, first } = asker;
        let inner = Inner {
            client: Client::new(config),
            private: Private::of(&own),
            local,
            tree,
            first,
            asked: OnceLock::new(),
            state: Mutex::default(),
            changed: Condvar::new(),
            kept: Mutex::default(),
        };
        Others { inner: Arc::new(inner), workers: Mutex::default() }
    }

    /// Says what is asked for, once that is planned. What is said later counts for nothing.
    pub fn asks(&self, asked: Asked) {
        let _ = self.inner.asked.set(asked);
    }

    /// Begins before it is known what is asked for: who has nothing yet will want much, so the server is reached meanwhile, and asked where
    /// the newest build of this tree lies.
    pub fn reach(&self) {
        let Some(tree) = self.inner.tree.filter(|_| self.inner.first) else { return };
        self.inner.state().lead = LeadState::Coming;
        let inner = Arc::clone(&self.inner);
        self.workers().push(std::thread::spawn(move || inner.ask_for_lead(tree)));
    }

    fn workers(&self) -> MutexGuard<'_, Vec<JoinHandle<()>>> {
        self.workers.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins to ask: for all at once, where nothing was built yet, then for what is not there.
    fn begin(&self) {
        let asked = self.inner.asked();
        let mut state = self.inner.state();
        if state.began.is_some() {
            return;
        }
        state.began = Some(Instant::now());
        match &asked.whole {
            Some(whole) if self.inner.first => {
                asked.keys.iter().for_each(|key| drop(state.notes.insert(*key, None)));
                state.tasks.push_back(Task::Packs(*whole));
            }
            Some(_) | None => asked.keys.iter().for_each(|key| state.look_for(*key)),
        }
        drop(state);
        let mut workers = self.workers();
        for _ in 0..AT_ONCE {
            let inner = Arc::clone(&self.inner);
            workers.push(std::thread::spawn(move || inner.work()));
        }
    }

    /// Waits until what was made here is given, but no longer than `patience`, and ends. What is made of a whole build is given together,
    /// where all of it is known here.
    pub fn finish(&self, patience: Duration) -> OthersReport {
        let inner = &self.inner;
        let until = Instant::now() + patience;
        let mut state = inner.state();
        if !state.gifts.is_empty() && state.began.is_none() {
            drop(state);
            self.begin();
            state = inner.state();
        }
        // What is only looked for is not waited for any more; what came is kept.
        state.tasks.retain(|task| matches!(task, Task::Keep(..)));
        let waits = |state: &State| {
            !state.tasks.is_empty() || (state.busy > 0 || !state.gifts.is_empty()) && inner.client.takes()
        };
        while state.began.is_some() && waits(&state) && Instant::now() < until {
            state = inner.wait(state, until);
        }
        let gave = state.counts.given > 0;
        let left = state.gifts.len();
        state.ended = true;
        state.tasks.clear();
        state.gifts.clear();
        drop(state);
        inner.changed.notify_all();
        if gave && left == 0 && Instant::now() < until {
            inner.give_together();
        }
        let workers = std::mem::take(&mut *self.workers());
        for worker in workers.into_iter().filter(JoinHandle::is_finished) {
            // One that still waits for a server is left alone.
            let _ = worker.join();
        }
        let state = inner.state();
        OthersReport {
            address: inner.client.config.address.clone(),
            found: state.found.len(),
            counts: state.counts,
            taken: state.took.len(),
            taken_bytes: state.took.values().sum(),
            left,
            off: inner.client.off.get().cloned(),
            takes_nothing: inner.client.takes_nothing.get().cloned(),
        }
    }

    /// Whether the person gives nothing to it.
    pub fn is_read_only(&self) -> bool {
        self.inner.client.config.read_only
    }

    /// How many contents were taken up to now.
    pub fn taken(&self) -> usize {
        self.inner.state().took.len()
    }

    /// Gives all results of these commands that are kept here, also those that were made earlier, in place of what lies there.
    pub fn push(&self, patience: Duration) -> OthersReport {
        for key in &self.inner.asked().keys {
            if let Some(note) = self.inner.local.own_notes(key).into_iter().next() {
                self.inner.state().anew.extend(note.outputs.iter().map(|output| output.digest));
                self.made(key, &note);
            }
        }
        self.finish(patience)
    }

    /// Looks at all that lies there of these commands, and tells how much of it is sound. Nothing is kept.
    pub fn check(&self, patience: Duration) -> OthersReport {
        self.begin();
        let until = Instant::now() + patience;
        let mut state = self.inner.state();
        while (state.busy > 0 || !state.tasks.is_empty()) && !self.inner.client.is_off() && Instant::now() < until {
            state = self.inner.wait(state, until);
        }
        let sound = state.contents.iter().filter_map(|(digest, content)| match content {
            Content::Here(content) => Some((*digest, content.len() as u64)),
            Content::Coming | Content::Not => None,
        });
        state.took = sound.collect();
        drop(state);
        self.finish(Duration::ZERO)
    }
}

impl Elsewhere for Others {
    fn notes(&self, key: &Digest) -> Vec<Note> {
        self.begin();
        let inner = &self.inner;
        let mut state = inner.state();
        state.look_for(*key);
        inner.changed.notify_all();
        let until = inner.deadline(&state);
        while matches!(state.notes.get(key), Some(None)) && !inner.client.is_off() && Instant::now() < until {
            state = inner.wait(state, until);
        }
        let found = state.notes.get(key).and_then(Option::as_ref);
        found.map_or_else(Vec::new, |notes| notes.iter().map(|shared| shared.note.clone()).collect())
    }

    fn footings(&self, class: &Digest) -> Vec<Footing> {
        let inner = &self.inner;
        let mut state = inner.state();
        // Asked for with the notes that name it.
        if state.began.is_none() || inner.client.is_off() {
            return Vec::new();
        }
        state.look_for_footings(*class);
        inner.changed.notify_all();
        let until = inner.deadline(&state);
        while matches!(state.footings.get(class), Some(None)) && !inner.client.is_off() && Instant::now() < until {
            state = inner.wait(state, until);
        }
        state.footings.get(class).cloned().flatten().unwrap_or_default()
    }

    fn has(&self, digest: &Digest) -> bool {
        let state = self.inner.state();
        match state.contents.get(digest) {
            Some(Content::Here(_)) => true,
            Some(Content::Not) => false,
            Some(Content::Coming) | None => !self.inner.client.is_off() && self.inner.is_worth(&state, digest),
        }
    }

    fn content(&self, digest: &Digest) -> Option<Vec<u8>> {
        let inner = &self.inner;
        let mut state = inner.state();
        let patience = state.worth.get(digest).map_or(USUAL_WORK, |(_, work)| (*work).max(USUAL_WORK));
        let until = Instant::now() + patience;
        if !state.contents.contains_key(digest) {
            state.contents.insert(*digest, Content::Coming);
            state.tasks.push_front(Task::Content(*digest));
            inner.changed.notify_all();
        }
        while matches!(state.contents.get(digest), Some(Content::Coming))
            && !inner.client.is_off()
            && Instant::now() < until
        {
            state = inner.wait(state, until);
        }
        match state.contents.get(digest) {
            Some(Content::Here(content)) => Some(content.clone()),
            Some(Content::Coming | Content::Not) | None => None,
        }
    }

    fn took(&self, digest: &Digest) {
        let mut state = self.inner.state();
        let size = match state.contents.get(digest) {
            Some(Content::Here(content)) => content.len() as u64,
            Some(Content::Coming | Content::Not) | None => return,
        };
        state.took.insert(*digest, size);
    }

    fn keep(&self, key: &Digest, note: &Note) {
        self.inner.state().tasks.push_back(Task::Keep(*key, Box::new(note.clone())));
        self.inner.changed.notify_all();
    }

    fn made(&self, key: &Digest, note: &Note) {
        if self.inner.client.takes() {
            self.inner.state().gifts.push_back((*key, note.clone()));
            self.inner.changed.notify_all();
        }
    }
}

impl State {
    pub(super) fn look_for(&mut self, key: Digest) {
        if let Entry::Vacant(place) = self.notes.entry(key) {
            place.insert(None);
            self.tasks.push_back(Task::Notes(key));
        }
    }

    pub(super) fn look_for_footings(&mut self, class: Digest) {
        if let Entry::Vacant(place) = self.footings.entry(class) {
            place.insert(None);
            self.tasks.push_front(Task::Footings(class));
        }
    }
}

/// The classes that a note names, with the state in which each was.
pub(super) fn classes_of(note: &Note) -> impl Iterator<Item = (Digest, Digest)> {
    note.inputs.iter().filter_map(|(look, digest)| match look.parse::<Look>() {
        Ok(Look::Footing(class)) => Some((class, *digest)),
        _ => None,
    })
}

impl Inner {
    /// What is asked for; nothing while that is not planned.
    pub(super) fn asked(&self) -> &Asked {
        static NOTHING: Asked = Asked { keys: Vec::new(), whole: None, gets: Gets::Nothing };
        self.asked.get().unwrap_or(&NOTHING)
    }

    pub(super) fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn wait<'s>(&self, state: MutexGuard<'s, State>, until: Instant) -> MutexGuard<'s, State> {
        let left = until.saturating_duration_since(Instant::now()).min(Duration::from_millis(100));
        self.changed.wait_timeout(state, left).unwrap_or_else(PoisonError::into_inner).0
    }

    /// Until when somebody waits for what is only looked for.
    pub(super) fn deadline(&self, state: &State) -> Instant {
        state.began.unwrap_or_else(Instant::now) + PATIENCE
    }

    /// Tells whether getting a content is sooner done than making it, as far as both are known.
    pub(super) fn is_worth(&self, state: &State, digest: &Digest) -> bool {
        let Some((size, work)) = state.worth.get(digest) else { return false };
        self.client.takes_for(*size).is_none_or(|time| time <= *work + STARTING)
    }

    /// What one thread does.
    fn work(&self) {
        let mut state = self.state();
        loop {
            if state.ended {
                return;
            }
            if let Some(task) = state.tasks.pop_front() {
                state.busy += 1;
                drop(state);
                self.ask(&task);
                state = self.state();
                state.busy -= 1;
                self.changed.notify_all();
            } else if let Some((key, note)) = state.gifts.pop_front() {
                state.busy += 1;
                drop(state);
                self.give(&key, &note);
                state = self.state();
                state.busy -= 1;
                self.changed.notify_all();
            } else {
                state = self.changed.wait_timeout(state, IDLE).unwrap_or_else(PoisonError::into_inner).0;
            }
        }
    }
}

impl Drop for Others {
    fn drop(&mut self) {
        self.inner.state().ended = true;
        self.inner.changed.notify_all();
    }
}
