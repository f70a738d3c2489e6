//! What choices would bring, against how things stand.

use crate::board::PartId;
use crate::compare::{ValueDifference, values};
use crate::judge::{PreviewStep, Verdict, WorkKnown};
use crate::profile::{Choices, ProfileName, Shelf};
use crate::resolve::{Clash, resolve};
use crate::session::{Resolved, Session, SessionFault};
use crate::survey::Facts;

/// What comes of choices.
#[derive(Debug)]
pub enum Outcome {
    /// They cannot hold: these choices, and what clashes in them.
    Clash(Box<Choices>, Vec<Clash>),
    /// They can.
    Holds(Box<Effects>),
}

/// What choices change.
#[derive(Debug)]
pub struct Effects {
    /// All values, then.
    pub resolved: Resolved,
    /// Those that are not as they are now.
    pub values: Vec<ValueDifference>,
    /// Parts that are made then and not now.
    pub parts_on: Vec<PartId>,
    /// Parts that are made now and not then.
    pub parts_off: Vec<PartId>,
}

/// What a build would do.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Price {
    /// Steps that run.
    pub steps: usize,
    /// Compiles among them.
    pub compiles: usize,
    /// Results that are there already, from earlier.
    pub reused: usize,
    /// How long the work takes at most, in milliseconds, where that is known.
    pub work_ms: Option<u64>,
}

/// The choices of a profile if its file held `text`; it need not be there yet.
///
/// # Errors
/// They are wrong.
pub fn choices_in(session: &Session, profile: &ProfileName, text: &str) -> Result<Choices, SessionFault> {
    let aside = match session.source_of(profile)? {
        Some(_) => session.shelf.aside.clone(),
        None => Some((profile.clone(), session.shelf.own_path(profile))),
    };
    let shelf = Shelf { aside, ..session.shelf.clone() };
    shelf
        .read_as(profile, Some(text), &session.board)
        .map_err(|(problems, files)| SessionFault::Profile { problems, files })
}

/// The facts that hold for choices: those of now, where the host would be asked the same.
///
/// # Errors
/// As for [`Session::facts`].
pub fn facts_of(session: &Session, now: &Resolved, choices: &Choices) -> Result<Facts, SessionFault> {
    if session.asks_alike(&now.choices, choices) { Ok(now.facts.clone()) } else { session.facts(choices) }
}

impl Effects {
    /// What choices change, with the facts that hold then.
    pub fn of(session: &Session, now: &Resolved, choices: Choices, facts: Facts) -> Outcome {
        let board = &session.board;
        let resolution = match resolve(board, &session.logic, &choices, &facts) {
            Ok(resolution) => resolution,
            Err(clashes) => return Outcome::Clash(Box::new(choices), clashes),
        };
        let then = Resolved { choices, facts, resolution };
        let only = |these: &Resolved, those: &Resolved| -> Vec<PartId> {
            board.parts.ids().filter(|part| these.makes(board, *part) && !those.makes(board, *part)).collect()
        };
        Outcome::Holds(Box::new(Effects {
            values: values(&now.resolution, &then.resolution),
            parts_on: only(&then, now),
            parts_off: only(now, &then),
            resolved: then,
        }))
    }
}

impl Price {
    /// What a build of these values would do for a profile; `None` where it cannot be planned.
    pub fn of(session: &Session, profile: &ProfileName, resolved: &Resolved) -> Option<Price> {
        let planned = session.plan_of(profile, resolved).ok()?;
        let ahead = session.preview(&planned, None).ok()?;
        let runs = |step: &&PreviewStep| matches!(step.verdict, Verdict::Run | Verdict::Follows);
        let running: Vec<_> = ahead.steps.iter().filter(runs).collect();
        let compiles = running.iter().filter(|step| planned.plan.steps[step.step].compile().is_some());
        let work = ahead.work();
        Some(Price {
            compiles: compiles.count(),
            steps: running.len(),
            reused: ahead.steps.len() - running.len(),
            work_ms: (work.known != WorkKnown::Unknown).then_some(work.most_ms),
        })
    }
}
