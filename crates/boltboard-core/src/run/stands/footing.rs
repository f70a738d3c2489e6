//! What the compiles of one class stand on beside their texts: seen once, kept, and taken for all of them while it is as it was. A few are
//! watched all the same, and held against what we say.

use std::hash::{BuildHasher, Hasher};

use foldhash::fast::FixedState;

use super::seen::Seen;
use crate::base::{Digest, FileError};
use crate::run::execute::Executor;
use crate::step::{Location, Look, Step};

use crate::judge::Ahead;
use crate::watch::Depth;

/// One in so many compiles that need not be watched is.
const ONE_IN: u64 = 50;

/// Which compiles are watched.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Watching {
    /// Those that are not known otherwise, and some others that this number picks.
    Some {
        /// Any number; another one each time.
        seed: u64,
    },
    /// All of them.
    All,
}

impl Executor<'_> {
    /// How closely a step is watched; not at all without. `closely` tells that its last run had to be.
    pub(in crate::run) fn depth(&self, step: &Step, closely: bool) -> Option<Depth> {
        if !self.launch.watches() {
            return None;
        }
        let Some(class) = step.class() else { return Some(Depth::Looks) };
        let plain = step.compile().is_none_or(|compile| compile.is_plain(self.tools));
        if closely || self.watching == Watching::All || !plain || !self.judge.knows_class(&class) {
            return Some(Depth::Looks);
        }
        // Which libraries a linker looks for, and where, only watching tells.
        (step.link().is_some() || self.picks(step)).then_some(Depth::Opens)
    }

    fn picks(&self, step: &Step) -> bool {
        let Watching::Some { seed } = self.watching else { return true };
        let mut hasher = FixedState::with_seed(seed).build_hasher();
        hasher.write(step.name.as_bytes());
        hasher.finish().is_multiple_of(ONE_IN)
    }

    /// Takes in what a compile was seen to share with its class. Returns what stands for it from now on.
    ///
    /// # Errors
    /// It cannot be kept.
    pub(super) fn learn(&self, class: &Digest, seen: &Seen, surprises: bool) -> Result<Digest, FileError> {
        // One at a time, so that none goes on from what another one is about to replace.
        let _alone = self.learning.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let now = |look: &Look| Some((look.kept(), self.judge.look_now(look, &Ahead::default()).ok()??));
        let looks = seen.looks.iter().filter_map(now).collect();
        self.judge.learn_footing(class, looks, seen.absent.iter().map(Location::kept).collect(), surprises)
    }
}
