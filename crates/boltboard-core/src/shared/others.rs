//! What others made, asked for beside a build: by a few threads, each thing once, and never longer than it is worth.

use std::collections::{HashMap, HashSet, VecDeque};
use std::path::PathBuf;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use super::address::{Address, SharedConfig};
use super::client::{Client, Given, Got, PATIENCE, Replaces};
use super::private::Private;
use super::wire::{
    self, MOST_CONTENT, MOST_NOTES, MOST_OF_COMMAND, MOST_PACK, Pack, SharedFooting, SharedNote, content_name,
    footings_name, notes_name, pack_name,
};
use crate::base::Digest;
use crate::step::Look;
use crate::store::{Elsewhere, Footing, Note, Store};

/// How many requests are made at once.
const AT_ONCE: usize = 8;
/// The largest content that comes and goes in a pack with others, in bytes.
const SMALL: usize = 256 << 10;
/// The most that one pack holds of contents, in bytes.
const MOST_TOGETHER: usize = 256 << 20;
/// What a content may cost of whose making nothing is known.
const USUAL_WORK: Duration = Duration::from_millis(200);

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
    /// Whether nothing was built yet, so that all of it is wanted together.
    pub first: bool,
    /// Whether results are got, and not only looked for.
    pub gets: bool,
}

/// What came of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OthersReport {
    /// Where they lie.
    pub address: Address,
    /// How many contents were taken.
    pub taken: usize,
    /// Their bytes.
    pub taken_bytes: u64,
    /// How many results were given.
    pub given: usize,
    /// How many were kept to oneself, because they name places of this machine.
    pub private: usize,
    /// How many are still to be given.
    pub left: usize,
    /// How many things there were not what they say.
    pub spoilt: usize,
    /// Why the server is not asked any more.
    pub off: Option<String>,
    /// Why nothing is given to it.
    pub takes_nothing: Option<String>,
}

/// What was pushed of a build.
pub type Pushed = OthersReport;

#[derive(Debug)]
struct Inner {
    client: Client,
    config: SharedConfig,
    private: Private,
    local: Store,
    asked: Asked,
    state: Mutex<State>,
    changed: Condvar,
}

#[derive(Debug, Default)]
struct State {
    began: Option<Instant>,
    tasks: VecDeque<Task>,
    /// What was made here and is to be given.
    gifts: VecDeque<(Digest, Note)>,
    busy: usize,
    ended: bool,
    /// Those that are asked for have nothing yet.
    notes: HashMap<Digest, Option<Vec<SharedNote>>>,
    versions: HashMap<String, Option<String>>,
    footings: HashMap<Digest, Option<Vec<Footing>>>,
    contents: HashMap<Digest, Content>,
    /// How large contents are, and how long it took to make what they are of.
    worth: HashMap<Digest, (u64, Duration)>,
    given: HashSet<Digest>,
    report: Counts,
}

#[derive(Debug, Clone, Copy, Default)]
struct Counts {
    taken: usize,
    taken_bytes: u64,
    given: usize,
    private: usize,
    spoilt: usize,
}

#[derive(Debug)]
enum Content {
    Coming,
    Here(Vec<u8>),
    /// It is not there, or not what it says.
    Not,
}

#[derive(Debug)]
enum Task {
    Pack(Digest),
    Notes(Digest),
    Footings(Digest),
    Content(Digest),
}

impl Others {
    /// Makes ready. Nothing is asked before somebody needs it. `local` is the store of this machine, `own` are places that are nobody
    /// else's business.
    pub fn new(config: SharedConfig, local: Store, own: &[PathBuf], asked: Asked) -> Others {
        let client = Client::new(&config);
        let inner = Inner {
            client,
            config,
            private: Private::of(own),
            local,
            asked,
            state: Mutex::default(),
            changed: Condvar::new(),
        };
        Others { inner: Arc::new(inner), workers: Mutex::default() }
    }

    /// Begins to ask: for all at once, where nothing was built yet, then for what is not there.
    fn begin(&self) {
        let mut state = self.inner.state();
        if state.began.is_some() {
            return;
        }
        state.began = Some(Instant::now());
        match &self.inner.asked.whole {
            Some(whole) if self.inner.asked.first => {
                self.inner.asked.keys.iter().for_each(|key| drop(state.notes.insert(*key, None)));
                state.tasks.push_back(Task::Pack(*whole));
            }
            Some(_) | None => {
                let keys: Vec<Digest> = self.inner.asked.keys.clone();
                keys.into_iter().for_each(|key| state.look_for(key));
            }
        }
        drop(state);
        let mut workers = self.workers.lock().unwrap_or_else(PoisonError::into_inner);
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
        while (state.busy > 0 || !state.gifts.is_empty()) && inner.client.takes() && Instant::now() < until {
            state = inner.wait(state, until);
        }
        let gave = state.report.given > 0;
        let left = state.gifts.len();
        state.ended = true;
        state.tasks.clear();
        state.gifts.clear();
        drop(state);
        inner.changed.notify_all();
        if gave && left == 0 && Instant::now() < until {
            inner.give_together();
        }
        let workers = std::mem::take(&mut *self.workers.lock().unwrap_or_else(PoisonError::into_inner));
        for worker in workers.into_iter().filter(JoinHandle::is_finished) {
            // One that still waits for a server is left alone.
            let _ = worker.join();
        }
        let (off, takes_nothing) = inner.client.troubles();
        let Counts { taken, taken_bytes, given, private, spoilt } = inner.state().report;
        OthersReport {
            address: inner.config.address.clone(),
            taken,
            taken_bytes,
            given,
            private,
            left,
            spoilt,
            off,
            takes_nothing,
        }
    }

    /// How many contents were taken up to now.
    pub fn taken(&self) -> usize {
        self.inner.state().report.taken
    }

    /// Gives all results of these commands that are kept here, also those that were made earlier.
    pub fn push(&self, patience: Duration) -> Pushed {
        for key in &self.inner.asked.keys {
            if let Some(note) = self.inner.local.own_notes(key).into_iter().next() {
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
        while matches!(state.contents.get(digest), Some(Content::Coming)) && !inner.client.is_off() && Instant::now() < until
        {
            state = inner.wait(state, until);
        }
        match state.contents.insert(*digest, Content::Not) {
            Some(Content::Here(content)) => {
                state.report.taken += 1;
                state.report.taken_bytes += content.len() as u64;
                // A second step can have the same result; it is in the store by then.
                Some(content)
            }
            Some(Content::Coming | Content::Not) | None => None,
        }
    }

    fn made(&self, key: &Digest, note: &Note) {
        if self.inner.client.takes() {
            self.inner.state().gifts.push_back((*key, note.clone()));
            self.inner.changed.notify_all();
        }
    }
}

impl State {
    fn look_for(&mut self, key: Digest) {
        if !self.notes.contains_key(&key) {
            self.notes.insert(key, None);
            self.tasks.push_back(Task::Notes(key));
        }
    }

    fn look_for_footings(&mut self, class: Digest) {
        if !self.footings.contains_key(&class) {
            self.footings.insert(class, None);
            self.tasks.push_front(Task::Footings(class));
        }
    }
}

/// The classes that a note names, with the state in which each was.
fn classes_of(note: &Note) -> impl Iterator<Item = (Digest, Digest)> {
    note.inputs.iter().filter_map(|(look, digest)| match look.parse::<Look>() {
        Ok(Look::Footing(class)) => Some((class, *digest)),
        _ => None,
    })
}

impl Inner {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn wait<'s>(&self, state: MutexGuard<'s, State>, until: Instant) -> MutexGuard<'s, State> {
        let left = until.saturating_duration_since(Instant::now()).min(Duration::from_millis(100));
        self.changed.wait_timeout(state, left).unwrap_or_else(PoisonError::into_inner).0
    }

    /// Until when somebody waits for what is only looked for.
    fn deadline(&self, state: &State) -> Instant {
        state.began.unwrap_or_else(Instant::now) + PATIENCE
    }

    /// Tells whether getting a content is sooner done than making it, as far as both are known.
    fn is_worth(&self, state: &State, digest: &Digest) -> bool {
        let Some((size, work)) = state.worth.get(digest) else { return false };
        self.client.takes_for(*size).is_none_or(|time| time <= *work)
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
                state = self.changed.wait_timeout(state, Duration::from_millis(200)).unwrap_or_else(PoisonError::into_inner).0;
            }
        }
    }

    fn ask(&self, task: &Task) {
        match task {
            Task::Pack(whole) => {
                if let Got::Found(bytes, _) = self.client.get(&pack_name(whole), MOST_PACK, PATIENCE * 30) {
                    self.take_pack(&bytes);
                }
                // What it lacks is asked for one by one.
                let mut state = self.state();
                let lacking = self.asked.keys.iter().filter(|key| matches!(state.notes.get(key), Some(None)));
                let lacking: Vec<Digest> = lacking.copied().collect();
                state.tasks.extend(lacking.into_iter().map(Task::Notes));
                drop(state);
                self.changed.notify_all();
            }
            Task::Notes(key) => {
                let name = notes_name(key);
                let got = self.client.get(&name, MOST_NOTES, PATIENCE);
                let (notes, version) = match got {
                    Got::Found(bytes, version) => (self.read_notes(key, &bytes), version),
                    Got::Absent | Got::Failed => (Vec::new(), None),
                };
                let mut state = self.state();
                state.versions.insert(name, version);
                self.take_notes(&mut state, *key, notes);
            }
            Task::Footings(class) => {
                let name = footings_name(class);
                let (footings, version) = match self.client.get(&name, MOST_NOTES, PATIENCE) {
                    Got::Found(bytes, version) => (self.read_footings(class, &bytes), version),
                    Got::Absent | Got::Failed => (Vec::new(), None),
                };
                let mut state = self.state();
                state.versions.insert(name, version);
                state.footings.insert(*class, Some(footings));
            }
            Task::Content(digest) => {
                let work = self.state().worth.get(digest).map_or(USUAL_WORK, |(_, work)| (*work).max(USUAL_WORK));
                let got = self.client.get(&content_name(digest), MOST_CONTENT, work.max(PATIENCE));
                let content = match got {
                    Got::Found(bytes, _) => {
                        let content = wire::unwrapped(&bytes, MOST_CONTENT);
                        let content = content.filter(|content| Digest::of(content) == *digest);
                        if content.is_none() {
                            self.state().report.spoilt += 1;
                        }
                        content.map_or(Content::Not, Content::Here)
                    }
                    Got::Absent | Got::Failed => Content::Not,
                };
                self.state().contents.insert(*digest, content);
            }
        }
    }

    fn read_notes(&self, key: &Digest, bytes: &[u8]) -> Vec<SharedNote> {
        let Some(notes) = wire::read::<Vec<SharedNote>>(bytes, MOST_NOTES) else {
            self.state().report.spoilt += 1;
            return Vec::new();
        };
        let all = notes.len();
        let taken: Vec<SharedNote> =
            notes.into_iter().take(MOST_OF_COMMAND).filter(|note| note.is_taken(key, &self.config.trusted)).collect();
        self.state().report.spoilt += all.min(MOST_OF_COMMAND) - taken.len();
        taken
    }

    fn read_footings(&self, class: &Digest, bytes: &[u8]) -> Vec<Footing> {
        let all = wire::read::<Vec<SharedFooting>>(bytes, MOST_NOTES).unwrap_or_default();
        let taken = all.into_iter().filter(|footing| footing.is_taken(class, &self.config.trusted));
        taken.map(|shared| shared.footing).collect()
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
            classes_of(&newest.note).for_each(|(class, _)| state.look_for_footings(class));
            for output in newest.note.outputs.iter().filter(|_| self.asked.gets) {
                let wanted = !state.contents.contains_key(&output.digest) && !self.local.has(&output.digest);
                if wanted && self.is_worth(state, &output.digest) {
                    state.contents.insert(output.digest, Content::Coming);
                    state.tasks.push_back(Task::Content(output.digest));
                }
            }
        }
        state.notes.insert(key, Some(notes));
    }

    fn take_pack(&self, bytes: &[u8]) {
        let Some(pack) = wire::read::<Pack>(bytes, MOST_PACK) else {
            self.state().report.spoilt += 1;
            return;
        };
        let Pack { notes, footings, contents } = pack;
        let sound: Vec<(Digest, Vec<u8>)> =
            contents.into_iter().filter(|(digest, content)| Digest::of(content) == *digest).collect();
        let trusted = &self.config.trusted;
        let notes = notes.into_iter().filter(|(key, note)| note.is_taken(key, trusted));
        let footings = footings.into_iter().filter(|(class, footing)| footing.is_taken(class, trusted));
        let (notes, footings): (Vec<_>, Vec<_>) = (notes.collect(), footings.collect());
        let mut state = self.state();
        state.contents.extend(sound.into_iter().map(|(digest, content)| (digest, Content::Here(content))));
        for (class, shared) in footings {
            let known = state.footings.entry(class).or_insert_with(|| Some(Vec::new()));
            known.get_or_insert_default().push(shared.footing);
        }
        let wanted: HashSet<Digest> = self.asked.keys.iter().copied().collect();
        for (key, note) in notes.into_iter().filter(|(key, _)| wanted.contains(key)) {
            self.take_notes(&mut state, key, vec![note]);
        }
        drop(state);
        self.changed.notify_all();
    }

    /// A result of this machine in the form in which it is shared; nothing of one that names places of this machine.
    fn shared(&self, key: &Digest, note: &Note) -> Option<SharedNote> {
        let sizes: Option<Vec<u64>> = note.outputs.iter().map(|output| self.local.size_of(&output.digest)).collect();
        let shared = SharedNote::new(key, note.clone(), sizes?, self.config.signing.as_ref());
        (!self.private.is_in_note(note)).then_some(shared)
    }

    /// Gives a result: first what it made and stands on, then the note that names it.
    fn give(&self, key: &Digest, note: &Note) {
        let Some(shared) = self.shared(key, note) else {
            self.state().report.private += 1;
            return;
        };
        let mut contents = Vec::new();
        for output in &note.outputs {
            let Some(content) = self.local.read(&output.digest) else { return };
            if self.private.is_in(&content) {
                self.state().report.private += 1;
                return;
            }
            contents.push((output.digest, content));
        }
        for (digest, content) in contents {
            if self.state().given.insert(digest) {
                let Some(bytes) = wire::wrapped(&content) else { return };
                // What is there already by this name is the same.
                if self.client.put(&content_name(&digest), &bytes, &Replaces::Nothing) == Given::Refused {
                    return;
                }
            }
        }
        for (class, generation) in classes_of(note) {
            self.give_footing(&class, &generation);
        }
        if self.give_notes(key, shared) {
            self.state().report.given += 1;
        }
    }

    /// Adds a note to those that lie there; should others have added one meanwhile, once more.
    fn give_notes(&self, key: &Digest, shared: SharedNote) -> bool {
        let name = notes_name(key);
        for _ in 0..3 {
            let (mut notes, version) = {
                let state = self.state();
                (state.notes.get(key).cloned().flatten().unwrap_or_default(), state.versions.get(&name).cloned())
            };
            notes.retain(|other| !other.note.is_like(&shared.note));
            notes.insert(0, shared.clone());
            notes.truncate(MOST_OF_COMMAND);
            let Some(bytes) = wire::written(&notes) else { return false };
            let replaces = match &version {
                Some(Some(version)) => Replaces::Version(version),
                Some(None) => Replaces::Nothing,
                None => Replaces::Anything,
            };
            match self.client.put(&name, &bytes, &replaces) {
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

    fn give_footing(&self, class: &Digest, generation: &Digest) {
        if !self.state().given.insert(Digest::of_parts([class.to_string().as_str(), &generation.to_string()])) {
            return;
        }
        let own = self.local.own_footings(class).into_iter();
        let Some(footing) = own.filter(|footing| footing.generation == *generation).next() else { return };
        let name = footings_name(class);
        // Few classes have many; those of others stay.
        let others = match self.client.get(&name, MOST_NOTES, PATIENCE) {
            Got::Found(bytes, _) => wire::read::<Vec<SharedFooting>>(&bytes, MOST_NOTES).unwrap_or_default(),
            Got::Absent | Got::Failed => Vec::new(),
        };
        let mut all = vec![SharedFooting::new(class, footing, self.config.signing.as_ref())];
        all.extend(others.into_iter().filter(|other| other.footing.generation != *generation));
        all.truncate(2 * MOST_OF_COMMAND);
        if let Some(bytes) = wire::written(&all) {
            self.client.put(&name, &bytes, &Replaces::Anything);
        }
    }

    /// Gives all of a build together, for whoever has nothing of it yet.
    fn give_together(&self) {
        let Some(whole) = self.asked.whole else { return };
        let mut pack = Pack::default();
        let (mut classes, mut contents, mut bytes) = (HashSet::new(), HashSet::new(), 0);
        for key in &self.asked.keys {
            let Some(note) = self.local.own_notes(key).into_iter().next() else { continue };
            let Some(shared) = self.shared(key, &note) else { continue };
            for output in &note.outputs {
                let Some(content) = self.local.read(&output.digest).filter(|content| !self.private.is_in(content)) else {
                    continue;
                };
                if content.len() <= SMALL && bytes + content.len() <= MOST_TOGETHER && contents.insert(output.digest) {
                    bytes += content.len();
                    pack.contents.push((output.digest, content));
                }
            }
            for (class, generation) in classes_of(&note).filter(|of| classes.insert(*of)) {
                let own = self.local.own_footings(&class).into_iter();
                if let Some(footing) = own.filter(|footing| footing.generation == generation).next() {
                    pack.footings.push((class, SharedFooting::new(&class, footing, self.config.signing.as_ref())));
                }
            }
            pack.notes.push((*key, shared));
        }
        if let Some(bytes) = wire::written(&pack) {
            self.client.put(&pack_name(&whole), &bytes, &Replaces::Anything);
        }
    }
}

impl Drop for Others {
    fn drop(&mut self) {
        self.inner.state().ended = true;
        self.inner.changed.notify_all();
    }
}
