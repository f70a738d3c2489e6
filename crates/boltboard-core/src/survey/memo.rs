//! What compilers and programs have answered, kept with the files that each answer depends on: the same question runs nothing
//! while they are the same. A place where nothing was found counts too, because something may appear there.

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use serde::{Deserialize, Serialize};

use crate::base::files::{read_text, write_whole};
use crate::base::{Digest, FileError};
use crate::store::Stamp;

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
    fresh: bool,
}

#[derive(Debug, Clone)]
struct Place {
    path: PathBuf,
    stamp: Option<Stamp>,
    /// Whether it is still as it was; not known before somebody asks.
    stands: Option<bool>,
}

#[derive(Debug, Clone)]
struct Answer {
    text: String,
    depends: Vec<u32>,
}

/// The memo as a file.
#[derive(Serialize, Deserialize)]
struct Kept {
    places: Vec<(PathBuf, Option<Stamp>)>,
    answers: BTreeMap<Digest, (String, Vec<u32>)>,
}

impl ProbeMemo {
    /// Reads what was kept; a missing or damaged file is an empty memo.
    pub fn load(path: &Path) -> ProbeMemo {
        let text = read_text(path).ok().flatten().unwrap_or_default();
        let kept = serde_json::from_str::<Kept>(&text).ok();
        let kept = kept.filter(|kept| {
            let count = kept.places.len();
            kept.answers.values().all(|(_, depends)| depends.iter().all(|number| (*number as usize) < count))
        });
        let Some(kept) = kept else { return ProbeMemo::default() };
        let places = kept.places.into_iter().map(|(path, stamp)| Place { path, stamp, stands: None }).collect();
        let answer = |(digest, (text, depends))| (digest, Answer { text, depends });
        let answers = kept.answers.into_iter().map(answer).collect();
        ProbeMemo { state: Mutex::new(State { answers, places, numbers: HashMap::new(), fresh: false }) }
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
        let mut numbers: HashMap<u32, u32> = HashMap::new();
        let mut kept = Kept { places: Vec::new(), answers: BTreeMap::new() };
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
            let renumbered = renumbered.collect();
            kept.answers.insert(*digest, (answer.text.clone(), renumbered));
        }
        write_whole(path, serde_json::to_string(&kept).unwrap_or_default().as_bytes())
    }

    /// Starts anew: every place is looked at again, once, from now on.
    pub(super) fn look_again(&self) {
        let mut state = self.lock();
        state.numbers.clear();
        state.places.iter_mut().for_each(|place| place.stands = None);
    }

    /// Returns the answer to a question, unless a place that it depends on has changed.
    pub(super) fn recall(&self, question: &Digest) -> Option<String> {
        let mut state = self.lock();
        let State { answers, places, .. } = &mut *state;
        let answer = answers.get(question)?;
        let stands = answer.depends.iter().all(|number| {
            let place = &mut places[*number as usize];
            *place.stands.get_or_insert_with(|| Stamp::of_any(&place.path) == place.stamp)
        });
        stands.then(|| answer.text.clone())
    }

    /// Keeps an answer with the places that it depends on, whether or not something is there.
    pub(super) fn keep(&self, question: Digest, text: &str, depends: impl IntoIterator<Item = PathBuf>) {
        let mut state = self.lock();
        let State { places, numbers, .. } = &mut *state;
        let numbered = depends.into_iter().map(|path| {
            *numbers.entry(path.clone()).or_insert_with(|| {
                let stamp = Stamp::of_any(&path);
                places.push(Place { path, stamp, stands: Some(true) });
                u32::try_from(places.len() - 1).unwrap_or(u32::MAX)
            })
        });
        let depends = numbered.collect();
        state.answers.insert(question, Answer { text: text.to_string(), depends });
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
            memo.keep(question, "links", [file.clone(), nothing.clone()]);
            memo.save(&kept).unwrap();
        };
        keep();
        assert_eq!(ask().as_deref(), Some("links"));
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
        memo.keep(question, "no", [nothing.clone()]);
        memo.keep(other, "yes", []);
        memo.save(&kept).unwrap();
        assert_eq!(ProbeMemo::load(&kept).recall(&question).as_deref(), Some("no"));
        std::fs::write(&nothing, "now").unwrap();
        let later = ProbeMemo::load(&kept);
        assert_eq!(later.recall(&question), None);
        assert_eq!(later.recall(&other).as_deref(), Some("yes"), "what it does not touch is not asked again");
    }
}
