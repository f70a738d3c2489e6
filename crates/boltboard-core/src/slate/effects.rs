//! What choices would bring, against how things stand.

use std::path::PathBuf;

use crate::board::PartId;
use crate::compare::{ValueDifference, values};
use crate::judge::{Preview, PreviewStep, Timing, Verdict, WorkKnown};
use crate::profile::{Choices, ProfileName};
use crate::resolve::{Clash, resolve};
use crate::session::{Planned, Resolved, Session, SessionFault};
use crate::step::Location;
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
    /// Steps that run a process.
    pub steps: usize,
    /// Compiles among them.
    pub compiles: usize,
    /// Results that are there already, from earlier.
    pub reused: usize,
    /// How long the work takes at most, in milliseconds, where that is known.
    pub work_ms: Option<u64>,
    /// How much more the finished files hold than now, in bytes, where each of them was made before.
    pub growth: Option<i64>,
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
        // What only writes a text takes no time that anybody waits for.
        let runs = |step: &&PreviewStep| {
            matches!(step.verdict, Verdict::Run | Verdict::Follows) && step.timing != Timing::None
        };
        let running: Vec<_> = ahead.steps.iter().filter(runs).collect();
        let compiles = running.iter().filter(|step| planned.plan.steps[step.step].compile().is_some());
        let work = ahead.work();
        Some(Price {
            compiles: compiles.count(),
            steps: running.len(),
            reused: ahead.steps.iter().filter(|step| matches!(step.verdict, Verdict::FromStore(_))).count(),
            work_ms: (work.known != WorkKnown::Unknown).then_some(work.most_ms),
            growth: growth(session, &planned, &ahead),
        })
    }
}

/// How much more the finished files would hold than now: known where no step has to run for them.
fn growth(session: &Session, planned: &Planned, ahead: &Preview) -> Option<i64> {
    let store = session.store();
    let length = |path: PathBuf| {
        let status = std::fs::symlink_metadata(path).ok().filter(std::fs::Metadata::is_file);
        status.and_then(|status| i64::try_from(status.len()).ok()).unwrap_or(0)
    };
    let mut growth = 0;
    for step in &ahead.steps {
        let finished = |location: &&Location| matches!(location, Location::Output(_));
        let mut finished = planned.plan.steps[step.step].writes.iter().filter(finished).peekable();
        let Verdict::FromStore(note) = &step.verdict else {
            if step.timing == Timing::None && finished.peek().is_none() {
                continue;
            }
            return None;
        };
        for location in finished {
            let kept = location.kept();
            let made = note.outputs.iter().find(|output| output.location == kept)?;
            growth += i64::try_from(store.size_of(&made.digest)?).ok()? - length(location.path(&planned.folders));
        }
    }
    let gone = ahead.stale.iter().filter_map(|name| name.strip_prefix("out/"));
    growth -= gone.map(|name| length(planned.folders.parts().join(name))).sum::<i64>();
    Some(growth)
}
