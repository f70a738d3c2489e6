//! Consequences, found aside so that no key waits for them.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};

use boltboard_core::board::{OptionId, Value};
use boltboard_core::profile::ProfileName;
use boltboard_core::session::{Resolved, Session};
use boltboard_core::slate::{Effects, Outcome, Price, choices_in};

use super::cards::{Card, Found};
use crate::args::Global;
use crate::session::open_silently;

/// What is asked: what would come of each value of an option.
pub struct Question {
    /// Tells questions apart.
    pub number: u64,
    /// The profile in use, and what its file would hold.
    pub profile: ProfileName,
    pub text: String,
    /// How things stand with the slate.
    pub now: Resolved,
    pub option: OptionId,
    /// The options that are on the slate.
    pub slate: Vec<OptionId>,
    pub values: Vec<Value>,
}

/// What was found of one value.
pub struct Answer {
    pub number: u64,
    /// Which of the values; none where it is told of the whole slate.
    pub at: Option<usize>,
    pub found: Found,
}

/// Finds consequences, one question after the other; a newer one ends the one before.
pub struct Worker {
    asked: Sender<Question>,
    answers: Receiver<Answer>,
    latest: Arc<AtomicU64>,
}

impl Worker {
    /// Starts it, with a session of its own.
    pub fn start(global: Global) -> Worker {
        let (asked, questions) = channel::<Question>();
        let (answering, answers) = channel();
        let latest = Arc::new(AtomicU64::new(0));
        let newest = latest.clone();
        std::thread::spawn(move || {
            let Some(mut session) = open_silently(&global) else { return };
            while let Ok(question) = questions.recv() {
                session.profile = question.profile.clone();
                let is_over = || newest.load(Ordering::Relaxed) != question.number;
                find(&session, &question, &is_over, &|answer| {
                    let _ = answering.send(answer);
                });
            }
        });
        Worker { asked, answers, latest }
    }

    /// Asks; what was asked before is no longer wanted.
    pub fn ask(&self, question: Question) {
        self.latest.store(question.number, Ordering::Relaxed);
        // Where no session could be opened, nothing is answered.
        let _ = self.asked.send(question);
    }

    /// What was found since.
    pub fn answer(&self) -> Option<Answer> {
        self.answers.try_recv().ok()
    }
}

/// Finds what would come of each value: first what moves, then what a build would do, which takes longer.
pub fn find(session: &Session, question: &Question, is_over: &dyn Fn() -> bool, tell: &dyn Fn(Answer)) {
    let number = question.number;
    let tell_slate = |found: Found| tell(Answer { number, at: None, found });
    let tell = |at: usize, found: Found| tell(Answer { number, at: Some(at), found });
    let Ok(choices) = choices_in(session, &question.text) else { return };
    let mut priced = Vec::new();
    for (at, value) in question.values.iter().enumerate() {
        if is_over() {
            return;
        }
        if question.now.resolution.value(question.option) == value {
            tell(at, Found::Same);
            continue;
        }
        let choices = choices.clone().with(&session.board, question.option, value.clone());
        match Effects::of(session, &question.now, choices) {
            Outcome::Clash(tried, clashes) => {
                tell(
                    at,
                    Card::clash(session, &question.now, &tried, &question.slate, (question.option, value), &clashes),
                );
            }
            Outcome::Holds(effects) => {
                tell(at, Card::moves(&session.board, question.option, &effects));
                priced.push((at, effects));
            }
        }
    }
    for (at, effects) in priced {
        if is_over() {
            return;
        }
        tell(at, Found::Price(Price::of(session, &effects.resolved)));
    }
    if !question.slate.is_empty() && !is_over() {
        tell_slate(Found::Price(Price::of(session, &question.now)));
    }
}
