//! What a build would do, told beforehand.

use super::judge::{Ahead, Judge, Reason, TextChanges, Verdict};
use super::step::StepId;

/// One step that would not be left alone.
#[derive(Debug, Clone)]
pub struct PreviewStep {
    /// The step.
    pub step: StepId,
    /// What would be done.
    pub verdict: Verdict,
    /// Why.
    pub reasons: Vec<Reason>,
    /// How long it took last time.
    pub timing: Timing,
    /// Whether it is a compile that is spared if its text after preprocessing comes out the same.
    pub may_be_spared: bool,
}

/// How long a step took last time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Timing {
    /// So many milliseconds.
    Known(u64),
    /// It never ran here; a guess from the median of its kind, if there is one.
    Guess(u64),
    /// Nothing like it ever ran here.
    Unknown,
    /// It starts no process.
    None,
}

impl Timing {
    /// Returns the milliseconds to reckon with.
    pub fn ms(self) -> u64 {
        match self {
            Timing::Known(ms) | Timing::Guess(ms) => ms,
            Timing::Unknown | Timing::None => 0,
        }
    }
}

/// How long the steps of a build take one after the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Work {
    /// So many milliseconds, from the last time each step ran.
    Known(u64),
    /// About so many; some steps are guessed from others like them.
    About(u64),
    /// Some step is like none that ever ran here.
    Unknown,
}

/// What a build would do.
#[derive(Debug, Clone)]
pub struct Preview {
    /// The steps that would not be left alone, in an order in which they can run.
    pub steps: Vec<PreviewStep>,
    /// How many steps are current.
    pub current: usize,
    /// Files of earlier builds that no step makes any more.
    pub stale: Vec<String>,
}

impl Preview {
    /// Returns how long the steps take one after the other, in milliseconds.
    pub fn work(&self) -> Work {
        let ran = || self.steps.iter().filter(|s| matches!(s.verdict, Verdict::Run | Verdict::Follows));
        let ms = ran().map(|s| s.timing.ms()).sum();
        if ran().any(|s| s.timing == Timing::Unknown) {
            Work::Unknown
        } else if ran().any(|s| matches!(s.timing, Timing::Guess(_))) {
            Work::About(ms)
        } else {
            Work::Known(ms)
        }
    }
}

/// Judges all steps of a plan, each in the light of what those before it would make.
pub fn preview(judge: &Judge<'_>) -> Preview {
    let mut ahead = Ahead::default();
    let mut steps = Vec::new();
    let mut current = 0;
    for (id, step) in judge.plan.steps.iter() {
        let judged = judge.judge(step, &ahead);
        ahead.add(id, step, &judged);
        if judged.verdict == Verdict::Current {
            current += 1;
        } else {
            let may_be_spared = judged.verdict == Verdict::Run
                && step.is_preprocessed()
                && !step.records_macros()
                && TextChanges::of(step, &judged.reasons).is_some();
            steps.push(PreviewStep {
                step: id,
                may_be_spared,
                verdict: judged.verdict,
                reasons: judged.reasons,
                timing: judge.timing(step),
            });
        }
    }
    Preview { steps, current, stale: judge.stale() }
}

impl Judge<'_> {
    /// Returns how long a step took, or a guess from others of its kind.
    pub fn timing(&self, step: &super::step::Step) -> Timing {
        if !step.has_process() {
            return Timing::None;
        }
        let own = self.journal.records.get(&step.name).and_then(|r| r.note.as_ref()).map(|n| n.wall_ms);
        if let Some(ms) = own {
            return Timing::Known(ms);
        }
        let of_tool = |r: &&crate::store::StepRecord| r.tool == self.tool_identity(step);
        let notes = self.journal.records.values().filter(of_tool).filter_map(|r| r.note.as_ref());
        let mut times: Vec<u64> = notes.map(|n| n.wall_ms).collect();
        times.sort_unstable();
        times.get(times.len() / 2).map_or(Timing::Unknown, |ms| Timing::Guess(*ms))
    }

    /// Returns the names of recorded steps that the plan no longer has.
    pub fn stale(&self) -> Vec<String> {
        let planned: std::collections::BTreeSet<&str> =
            self.plan.steps.iter().map(|(_, step)| step.name.as_str()).collect();
        self.journal.records.keys().filter(|name| !planned.contains(name.as_str())).cloned().collect()
    }
}
