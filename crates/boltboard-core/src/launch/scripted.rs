//! Processes that only pretend, for tests.

use std::sync::Mutex;

use super::{Job, Launch, LaunchError, Outcome};

/// Answers from a function and remembers what was asked.
pub struct ScriptedLaunch<F> {
    answer: F,
    asked: Mutex<Vec<Job>>,
}

impl<F: Fn(&Job) -> Outcome> ScriptedLaunch<F> {
    /// Makes a launcher that answers so.
    pub fn new(answer: F) -> Self {
        ScriptedLaunch { answer, asked: Mutex::default() }
    }

    /// Returns the jobs that were asked for, in order.
    pub fn asked(&self) -> Vec<Job> {
        self.asked.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
    }
}

impl<F: Fn(&Job) -> Outcome + Sync> Launch for ScriptedLaunch<F> {
    fn run(&self, job: &Job) -> Result<Outcome, LaunchError> {
        self.asked.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push(job.clone());
        Ok((self.answer)(job))
    }
}
