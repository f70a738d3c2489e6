//! What the tree uses and does not carry.

use super::open::{Resolved, Session};
use crate::board::FetchId;
use crate::fetch::{FetchState, Fetched};

/// How something stands that is to be fetched.
#[derive(Debug, Clone, Copy)]
pub struct FetchStanding {
    /// What it is.
    pub fetch: FetchId,
    /// Whether the values want it.
    pub is_wanted: bool,
    /// How much of it is there.
    pub state: FetchState,
}

impl Session {
    /// Returns the folder of what was fetched.
    pub fn fetched(&self) -> Fetched {
        Fetched::at(&self.work.fetched())
    }

    /// Tells how everything stands that is to be fetched, in the order of the definitions.
    pub fn fetch_standings(&self, resolved: &Resolved) -> Vec<FetchStanding> {
        let fetched = self.fetched();
        let standing = |(fetch, def): (FetchId, &crate::board::FetchDef)| {
            let is_wanted = def.when.as_ref().is_none_or(|when| resolved.resolution.holds(&resolved.facts, &when.expr));
            FetchStanding { fetch, is_wanted, state: fetched.state(def, &self.board.tree) }
        };
        self.board.fetches.iter().map(standing).collect()
    }

    /// What the values want and a build could not find.
    pub(super) fn not_fetched(&self, resolved: &Resolved) -> Vec<FetchId> {
        let standings = self.fetch_standings(resolved).into_iter();
        standings.filter(|one| one.is_wanted && !one.state.is_there()).map(|one| one.fetch).collect()
    }
}
