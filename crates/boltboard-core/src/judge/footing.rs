//! What the programs behind a class of steps stand on: known from those that were watched, in each state of the host that was met.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use super::step::Judge;
use super::verdict::{Ahead, Reason};
use crate::base::{Digest, FileError};
use crate::step::{Location, Look, Step};
use crate::store::Footing;

/// What is known of classes, looked up once.
#[derive(Debug, Default)]
pub(super) struct Footings {
    known: Mutex<BTreeMap<Digest, Arc<OfClass>>>,
}

/// What is known of one class.
#[derive(Debug, Default)]
pub(super) struct OfClass {
    /// All states that were met, the likeliest first: those of the same search path, the newest first.
    met: Vec<Met>,
}

/// A state that was met.
#[derive(Debug)]
struct Met {
    footing: Footing,
    /// Whether it stands now, once that was asked.
    stands: OnceLock<bool>,
}

impl Judge<'_> {
    fn footings_of(&self, class: &Digest) -> Arc<OfClass> {
        // Held while it is looked up, so that nothing older is put down after another thread has learnt more.
        let mut known = self.footings.known.lock().unwrap_or_else(PoisonError::into_inner);
        let of_class = known.entry(*class).or_insert_with(|| {
            let met = self.store.footings(class).into_iter().map(|footing| Met { footing, stands: OnceLock::new() });
            let mut met: Vec<Met> = met.collect();
            met.sort_by_key(|met| met.footing.search_path != self.plan.search_path);
            Arc::new(OfClass { met })
        });
        Arc::clone(of_class)
    }

    /// Returns the likeliest state of a class that is wanted and stands now. Several may, where one names more than another.
    fn standing<R>(&self, class: &Digest, wanted: impl Fn(&Footing) -> bool, of: impl Fn(&Footing) -> R) -> Option<R> {
        let known = self.footings_of(class);
        let stands = |met: &&Met| *met.stands.get_or_init(|| self.stands_now(&met.footing));
        known.met.iter().filter(|met| wanted(&met.footing)).find(stands).map(|met| of(&met.footing))
    }

    /// Returns what a class stands on, if that is known in the state in which the host is.
    pub fn footing(&self, class: &Digest) -> Option<Footing> {
        self.standing(class, |_| true, Footing::clone)
    }

    /// Returns the state of this generation if it stands now.
    pub(super) fn footing_of(&self, class: &Digest, generation: Digest) -> Option<Footing> {
        self.standing(class, |footing| footing.generation == generation, Footing::clone)
    }

    /// Tells whether all that a class stands on is known, as far as one of its steps tells for another.
    pub fn knows_class(&self, class: &Digest) -> bool {
        self.standing(class, |_| true, |footing| !footing.surprises).unwrap_or(false)
    }

    /// Returns what stands now for the footing of a class, `None` where nothing was ever known of it.
    pub fn footing_now(&self, class: &Digest) -> Option<Digest> {
        let never = || (!self.footings_of(class).met.is_empty()).then(|| Digest::of(b"as it never was"));
        self.standing(class, |_| true, |footing| footing.generation).or_else(never)
    }

    /// Tells whether what a step of a class stood on then stands now, whatever else does.
    pub(super) fn footing_stands(&self, class: &Digest, then: Digest) -> bool {
        self.standing(class, |footing| footing.generation == then, |_| ()).is_some()
    }

    /// Takes in what a step was seen to share with its class. Returns what stands for it from now on. Of two steps of a class, one at a
    /// time.
    ///
    /// # Errors
    /// It cannot be kept.
    pub fn learn_footing(
        &self,
        class: &Digest,
        looks: Vec<(String, Digest)>,
        absent: Vec<String>,
        surprises: bool,
    ) -> Result<Digest, FileError> {
        let mut seen = Footing::of(&self.plan.search_path, looks, absent, surprises);
        let footing = match self.footing(class) {
            Some(known) if known.holds(&seen) => return Ok(known.generation),
            Some(mut known) => {
                known.take_in(seen);
                known
            }
            None => {
                // What others of the class looked at before may still be looked at by some of them.
                let before = self.footings_of(class);
                let before = before.met.first().map(|met| &met.footing);
                if let Some(before) = before.filter(|before| before.search_path == seen.search_path) {
                    let now = |(look, _): &(String, Digest)| Some((look.clone(), self.now_of(look)?));
                    let looks = before.looks.iter().filter_map(now).collect();
                    let absent = before.absent.iter().filter(|place| !self.lies_there(place)).cloned().collect();
                    let surprises = before.surprises;
                    seen.take_in(Footing { looks, absent, surprises, ..Footing::default() });
                }
                seen
            }
        };
        let generation = footing.generation;
        self.store.keep_footing(class, footing)?;
        self.footings.known.lock().unwrap_or_else(PoisonError::into_inner).remove(class);
        Ok(generation)
    }

    fn now_of(&self, look: &str) -> Option<Digest> {
        self.look_now(&look.parse().ok()?, &Ahead::default()).ok()?
    }

    /// Tells whether all that a footing names is as it was, and programs are found where they were found then.
    fn stands_now(&self, footing: &Footing) -> bool {
        footing.looks.iter().all(|(look, then)| self.now_of(look) == Some(*then))
            && !footing.absent.iter().any(|place| self.lies_there(place))
            && self.finds_alike(footing)
    }

    /// Tells whether each program that was found, or looked for, in the folders where programs were looked for then is found in the same
    /// place now.
    fn finds_alike(&self, footing: &Footing) -> bool {
        if footing.search_path == self.plan.search_path {
            return true;
        }
        let folders = |path: &str| std::env::split_paths(path).collect::<Vec<PathBuf>>();
        let (then, now) = (folders(&footing.search_path), folders(&self.plan.search_path));
        let place = |kept: &str| Some(kept.parse::<Look>().ok()?.place()?.path(&self.plan.folders));
        let places = footing.looks.iter().map(|(look, _)| look).chain(&footing.absent).filter_map(|kept| place(kept));
        let of_path = places.filter(|place| place.parent().is_some_and(|folder| then.iter().any(|one| one == folder)));
        let names: BTreeSet<std::ffi::OsString> =
            of_path.filter_map(|place| place.file_name().map(|name| name.to_os_string())).collect();
        let found =
            |folders: &[PathBuf], name: &Path| folders.iter().map(|folder| folder.join(name)).find(|at| at.exists());
        names.iter().all(|name| found(&then, Path::new(name)) == found(&now, Path::new(name)))
    }

    /// What is not as it was of what the programs behind a step's tool stand on.
    pub(super) fn tool_changes(&self, step: &Step, look: &Look) -> Vec<Reason> {
        let tool = step.tool().map_or(String::new(), |tool| tool.name.clone());
        let known = match look {
            Look::Footing(class) => self.footings_of(class),
            _ => Arc::default(),
        };
        let Some(known) = known.met.first().map(|met| &met.footing) else {
            return vec![Reason::ToolUnseen(tool)];
        };
        let now = |look: &Look| self.look_now(look, &Ahead::default()).ok().flatten();
        let looks = known.looks.iter().filter_map(|(look, then)| Some((look.parse::<Look>().ok()?, *then)));
        let changed = looks.filter(|(look, then)| now(look) != Some(*then)).map(|(look, _)| match (now(&look), look) {
            (Some(_), Look::Content(at)) => Reason::Edited(at),
            (None, Look::Content(at)) => Reason::Gone(at),
            (_, look) => Reason::Looks(look),
        });
        let appeared = known.absent.iter().filter(|place| self.lies_there(place));
        let appeared = appeared.filter_map(|place| place.parse::<Location>().ok().map(Reason::Appeared));
        // The first says enough.
        changed.chain(appeared).take(1).chain([Reason::Tool(tool)]).collect()
    }
}
