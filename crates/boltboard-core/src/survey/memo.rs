//! What compilers and programs have answered, kept with the files that each answer depends on: the same question runs nothing
//! while they are the same. A place where nothing was found counts too, because something may appear there.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use serde::{Deserialize, Serialize};

use crate::base::files::{read_regular, write_whole};
use crate::base::{Digest, FileError, packed_bytes};
use crate::work::Stamp;

/// Answers to questions, by the question's digest.
#[derive(Debug, Default)]
pub struct ProbeMemo {
    state: Mutex<State>,
}

/// Each place is looked at once in a survey, however many answers depend on it.
#[derive(Debug, Default)]
struct State {
    answers: BTreeMap<Digest, Answer>,
    places: Vec<Place>,
    numbers: HashMap<PathBuf, u32>,
    /// The places that anything in this survey depends on.
    touched: BTreeSet<u32>,
    /// Answers that were not looked into yet: a survey that finds nothing changed never needs them.
    unread: Vec<u8>,
    fresh: bool,
}

#[derive(Debug, Clone)]
struct Place {
    path: PathBuf,
    stamp: Option<Stamp>,
    /// Whether it is still as it was; not known before somebody asks.
    stands: Option<bool>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Answer {
    bytes: Vec<u8>,
    depends: Vec<u32>,
    wanted: Wanted,
}

/// When an answer is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
enum Wanted {
    /// Each time: who the compiler is, and the facts as a whole.
    Always,
    /// When something has changed.
    Later,
}

/// The memo as a file.
#[derive(Serialize, Deserialize)]
struct Kept {
    places: Vec<(PathBuf, Option<Stamp>)>,
    always: BTreeMap<Digest, Answer>,
    /// The other answers, to be read when they are wanted.
    later: Vec<u8>,
}

impl ProbeMemo {
    /// Reads what was kept; a missing or damaged file is an empty memo.
    pub fn load(path: &Path) -> ProbeMemo {
        let bytes = read_regular(path).unwrap_or_default();
        let kept = postcard::from_bytes::<Kept>(&bytes).ok();
        let sound = |kept: &Kept| all_within(&kept.always, kept.places.len());
        let Some(kept) = kept.filter(sound) else { return ProbeMemo::default() };
        let places = kept.places.into_iter().map(|(path, stamp)| Place { path, stamp, stands: None }).collect();
        let state = State { answers: kept.always, places, unread: kept.later, ..State::default() };
        ProbeMemo { state: Mutex::new(state) }
    }

    /// Keeps what was learned, if anything was. Answers that no longer stand are left out.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn save(&self, path: &Path) -> Result<(), FileError> {
        let mut state = self.lock();
        if !state.fresh {
            return Ok(());
        }
        let state = &mut *state;
        state.read_all();
        let mut numbers: HashMap<u32, u32> = HashMap::new();
        let mut kept = Kept { places: Vec::new(), always: BTreeMap::new(), later: Vec::new() };
        let mut later: BTreeMap<Digest, Answer> = BTreeMap::new();
        let known_gone = |places: &[Place], number: &u32| places[*number as usize].stands == Some(false);
        for (digest, answer) in &state.answers {
            if answer.depends.iter().any(|number| known_gone(&state.places, number)) {
                continue;
            }
            let renumbered = answer.depends.iter().map(|number| {
                *numbers.entry(*number).or_insert_with(|| {
                    let place = &state.places[*number as usize];
                    kept.places.push((place.path.clone(), place.stamp));
                    u32::try_from(kept.places.len() - 1).unwrap_or(u32::MAX)
                })
            });
            let depends = renumbered.collect();
            let wanted = answer.wanted;
            let list = if wanted == Wanted::Always { &mut kept.always } else { &mut later };
            list.insert(*digest, Answer { bytes: answer.bytes.clone(), depends, wanted });
        }
        kept.later = packed_bytes(&later);
        write_whole(path, &packed_bytes(&kept))
    }

    /// Starts anew: every place is looked at again, once, from now on.
    pub(super) fn look_again(&self) {
        let mut state = self.lock();
        state.numbers.clear();
        state.touched.clear();
        state.places.iter_mut().for_each(|place| place.stands = None);
    }

    /// Returns the answer to a question, unless a place that it depends on has changed.
    pub(super) fn recall(&self, question: &Digest) -> Option<Vec<u8>> {
        let mut state = self.lock();
        if !state.answers.contains_key(question) {
            state.read_all();
        }
        let State { answers, places, touched, .. } = &mut *state;
        let answer = answers.get(question)?;
        let stands = answer.depends.iter().all(|number| {
            let place = &mut places[*number as usize];
            *place.stands.get_or_insert_with(|| Stamp::of_any(&place.path) == place.stamp)
        });
        if !stands {
            return None;
        }
        touched.extend(&answer.depends);
        Some(answer.bytes.clone())
    }

    /// Keeps an answer with the places that it depends on, whether or not something is there.
    pub(super) fn keep(&self, question: Digest, bytes: &[u8], depends: impl IntoIterator<Item = PathBuf>) {
        self.keep_as(Wanted::Later, question, bytes, depends);
    }

    /// The same for an answer that is wanted each time.
    pub(super) fn keep_at_hand(&self, question: Digest, bytes: &[u8], depends: impl IntoIterator<Item = PathBuf>) {
        self.keep_as(Wanted::Always, question, bytes, depends);
    }

    fn keep_as(&self, wanted: Wanted, question: Digest, bytes: &[u8], depends: impl IntoIterator<Item = PathBuf>) {
        let mut state = self.lock();
        let depends: Vec<u32> = depends.into_iter().map(|path| state.number(path)).collect();
        state.touched.extend(&depends);
        state.answers.insert(question, Answer { bytes: bytes.to_vec(), depends, wanted });
        state.fresh = true;
    }

    /// Takes note that something depends on a place.
    pub(super) fn note(&self, path: PathBuf) {
        let mut state = self.lock();
        let number = state.number(path);
        state.touched.insert(number);
    }

    /// Keeps an answer that depends on all places that anything in this survey depends on.
    pub(super) fn keep_whole(&self, question: Digest, bytes: &[u8]) {
        let mut state = self.lock();
        let depends = state.touched.iter().copied().collect();
        state.answers.insert(question, Answer { bytes: bytes.to_vec(), depends, wanted: Wanted::Always });
        state.fresh = true;
    }

    /// Returns the places that all kept answers depend on, for measuring what looking at them costs.
    pub fn places(&self) -> Vec<PathBuf> {
        self.lock().places.iter().map(|place| place.path.clone()).collect()
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

/// Whether answers name only places that there are.
fn all_within(answers: &BTreeMap<Digest, Answer>, places: usize) -> bool {
    answers.values().all(|answer| answer.depends.iter().all(|number| (*number as usize) < places))
}

impl State {
    /// Looks into the answers that were left unread. They were numbered by the places of the file, which come first.
    fn read_all(&mut self) {
        let unread = std::mem::take(&mut self.unread);
        let later = postcard::from_bytes::<BTreeMap<Digest, Answer>>(&unread).unwrap_or_default();
        if all_within(&later, self.places.len()) {
            for (digest, answer) in later {
                self.answers.entry(digest).or_insert(answer);
            }
        }
    }

    /// The number of a place; it is looked at when it is new in this survey.
    fn number(&mut self, path: PathBuf) -> u32 {
        let State { places, numbers, .. } = self;
        *numbers.entry(path.clone()).or_insert_with(|| {
            let stamp = Stamp::of_any(&path);
            places.push(Place { path, stamp, stands: Some(true) });
            u32::try_from(places.len() - 1).unwrap_or(u32::MAX)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_stands_while_its_places_do() {
        let folder = tempfile::tempdir().unwrap();
        let (file, kept) = (folder.path().join("lib.so"), folder.path().join("probes.json"));
        let nothing = folder.path().join("first/lib.so");
        std::fs::write(&file, "one").unwrap();
        let question = Digest::of(b"does it link?");
        let ask = || ProbeMemo::load(&kept).recall(&question);
        let memo = ProbeMemo::default();
        assert_eq!(memo.recall(&question), None);
        let keep = || {
            memo.keep(question, b"links", [file.clone(), nothing.clone()]);
            memo.save(&kept).unwrap();
        };
        keep();
        assert_eq!(ask().as_deref(), Some(&b"links"[..]));
        std::fs::write(&file, "another").unwrap();
        assert_eq!(ask(), None, "it was upgraded");
        std::fs::remove_file(&file).unwrap();
        assert_eq!(ask(), None, "it is gone");
        std::fs::write(&kept, "damaged").unwrap();
        assert_eq!(ask(), None);
        std::fs::write(&kept, "{\"places\":[],\"answers\":{}}").unwrap();
        assert_eq!(ask(), None);
    }

    #[test]
    fn something_new_in_a_place_that_was_empty_is_noticed() {
        let folder = tempfile::tempdir().unwrap();
        let (nothing, kept) = (folder.path().join("lib.so"), folder.path().join("probes.json"));
        let (question, other) = (Digest::of(b"is it there?"), Digest::of(b"and this?"));
        let memo = ProbeMemo::default();
        memo.keep(question, b"no", [nothing.clone()]);
        memo.keep(other, b"yes", []);
        memo.save(&kept).unwrap();
        assert_eq!(ProbeMemo::load(&kept).recall(&question).as_deref(), Some(&b"no"[..]));
        std::fs::write(&nothing, "now").unwrap();
        let later = ProbeMemo::load(&kept);
        assert_eq!(later.recall(&question), None);
        assert_eq!(later.recall(&other).as_deref(), Some(&b"yes"[..]), "what it does not touch is not asked again");
    }
}
