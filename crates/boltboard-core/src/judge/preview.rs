//! What a build would do, told beforehand.

use std::collections::{HashMap, HashSet};

use super::quick::QuickJudge;
use super::step::Judge;
use super::verdict::{Ahead, Reason, Verdict};
use crate::base::Digest;
use crate::journal::Number;
use crate::step::{Step, StepId};

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

/// The processor time of a build's steps, in milliseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Work {
    /// Of those that run for sure.
    pub sure_ms: u64,
    /// Of those too that may turn out to have nothing to do.
    pub most_ms: u64,
    /// How well it is known.
    pub known: WorkKnown,
}

/// How well the time of a build is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WorkKnown {
    /// From the last time that each step ran.
    Measured,
    /// Some steps are guessed from others like them.
    Guessed,
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
    /// Returns the processor time of the steps that run.
    pub fn work(&self) -> Work {
        let ran = || self.steps.iter().filter(|s| matches!(s.verdict, Verdict::Run | Verdict::Follows));
        let sure = ran().filter(|step| step.verdict == Verdict::Run && !step.may_be_spared);
        let known = if ran().any(|s| s.timing == Timing::Unknown) {
            WorkKnown::Unknown
        } else if ran().any(|s| matches!(s.timing, Timing::Guess(_))) {
            WorkKnown::Guessed
        } else {
            WorkKnown::Measured
        };
        Work {
            sure_ms: sure.map(|step| step.timing.ms()).sum(),
            most_ms: ran().map(|step| step.timing.ms()).sum(),
            known,
        }
    }
}

/// Judges all steps of a plan, each in the light of what those before it would make.
pub fn preview(judge: &Judge<'_>) -> Preview {
    let mut ahead = Ahead::default();
    let mut steps = Vec::new();
    let mut current = judge.plan.rest;
    let (mut quick, timings) = (QuickJudge::new(judge), Timings::of(judge));
    for (id, step) in judge.plan.steps.iter() {
        if quick.is_current(step, &ahead) {
            current += 1;
            continue;
        }
        let judged = judge.judge(step, &ahead);
        ahead.add(id, step, &judged);
        if judged.verdict == Verdict::Current {
            current += 1;
        } else {
            let may_be_spared = judged.verdict == Verdict::Run
                && step.is_preprocessed()
                && !step.records_macros()
                && judge.text_changes(step, &judged.reasons).is_some();
            steps.push(PreviewStep {
                step: id,
                may_be_spared,
                verdict: judged.verdict,
                reasons: judged.reasons,
                timing: timings.step(step),
            });
        }
    }
    Preview { steps, current, stale: judge.stale() }
}

/// How long steps take, from what the journal knows.
pub struct Timings<'a> {
    judge: &'a Judge<'a>,
    /// The median of each tool.
    of_tools: HashMap<Digest, u64>,
}

impl<'a> Timings<'a> {
    /// Looks at all records.
    pub fn of(judge: &'a Judge<'a>) -> Timings<'a> {
        let mut times: HashMap<Number, Vec<u64>> = HashMap::new();
        for record in judge.journal.all() {
            if let Some(note) = &record.note {
                times.entry(record.tool).or_default().push(note.work_ms);
            }
        }
        let median = |(tool, mut times): (Number, Vec<u64>)| {
            let middle = times.len() / 2;
            (judge.journal.digest(tool), *times.select_nth_unstable(middle).1)
        };
        Timings { judge, of_tools: times.into_iter().map(median).collect() }
    }

    /// Returns how long a step took, or a guess from others of its kind.
    pub fn step(&self, step: &Step) -> Timing {
        if !step.has_process() {
            return Timing::None;
        }
        let own = self.judge.journal.packed(&step.name).and_then(|record| record.note.as_ref());
        match own {
            Some(note) => Timing::Known(note.work_ms),
            None => self.of_tools.get(&step.tool_identity()).map_or(Timing::Unknown, |ms| Timing::Guess(*ms)),
        }
    }
}

impl Judge<'_> {
    /// Returns the names of recorded steps that the plan no longer has.
    pub fn stale(&self) -> Vec<String> {
        let planned: HashSet<&str> = self.plan.steps.iter().map(|(_, step)| step.name.as_str()).collect();
        self.journal.names().into_iter().filter(|name| !planned.contains(name)).map(str::to_string).collect()
    }
}
