//! The order in which tests start: as the board has them, but none before those that it comes after, none beside one that is to run
//! alone, and none beside another that uses what only one can use.

use std::collections::BTreeSet;
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};

use crate::base::Digest;
use crate::board::{Board, Company, TestId};

/// A test that is due, with the digest of what it says that it stands on.
pub(super) type Due = (TestId, Option<Digest>);

/// Tests that wait and tests that run.
pub(super) struct Queue<'a> {
    board: &'a Board,
    state: Mutex<State>,
    changed: Condvar,
}

#[derive(Default)]
struct State {
    waiting: Vec<Due>,
    running: BTreeSet<TestId>,
}

impl<'a> Queue<'a> {
    /// One in which these wait.
    pub fn of(board: &'a Board, waiting: Vec<Due>) -> Queue<'a> {
        Queue { board, state: Mutex::new(State { waiting, running: BTreeSet::new() }), changed: Condvar::new() }
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns the next test that can start, and waits for it; `None` when no more wait.
    pub fn next(&self) -> Option<Due> {
        let mut state = self.lock();
        loop {
            if state.waiting.is_empty() {
                return None;
            }
            let ready = (0..state.waiting.len()).find(|at| self.can_start(&state, state.waiting[*at].0));
            // Tests that wait for each other in a ring start all the same, when nothing else does.
            let ready = ready.or(if state.running.is_empty() { Some(0) } else { None });
            if let Some(at) = ready {
                let due = state.waiting.remove(at);
                state.running.insert(due.0);
                return Some(due);
            }
            state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// Takes in that a test has ended.
    pub fn ended(&self, test: TestId) {
        self.lock().running.remove(&test);
        self.changed.notify_all();
    }

    fn can_start(&self, state: &State, id: TestId) -> bool {
        let test = &self.board.tests[id];
        let running = || state.running.iter().map(|other| &self.board.tests[*other]);
        let alone = test.company == Company::Alone && !state.running.is_empty();
        let disturbs = running().any(|other| other.company == Company::Alone);
        let locked = running().any(|other| other.locks.iter().any(|lock| test.locks.contains(lock)));
        let early = test
            .after
            .iter()
            .any(|before| state.running.contains(before) || state.waiting.iter().any(|(waiting, _)| waiting == before));
        !(alone || disturbs || locked || early)
    }
}
