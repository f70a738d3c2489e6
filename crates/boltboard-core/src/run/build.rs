//! The whole build: what it needs, whom it tells, what it comes to.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Mutex;
use std::time::Duration;

use tracing::debug;

use super::course::Course;
use super::execute::Executor;
use super::failure::Failure;
use super::jobs::Jobs;
use super::reaches::Reaches;
use super::same_text::Experience;
use super::stands::{Absences, Watching};
use crate::base::FileError;
use crate::base::files::{remove_empty_above, remove_file};
use crate::judge::{Judge, Reason, SealWanted, Since, seal_build};
use crate::launch::Launch;

use crate::step::{Location, Step, StepId};

use crate::journal::Journal;
use crate::plan::Plan;
use crate::reading::TokenMemo;

use crate::work::StatusMemo;

use crate::store::Store;

use crate::judge::break_seal;
use crate::survey::Tools;
use crate::workers::Crew;

/// Everything a build needs.
pub struct BuildInput<'a, 's> {
    /// What to do.
    pub plan: &'a Plan,
    /// Results of any profile and day.
    pub store: &'a Store,
    /// Contents of files.
    pub status: &'a StatusMemo,
    /// Names in files.
    pub tokens: &'a TokenMemo,
    /// Starts processes.
    pub launch: &'a dyn Launch,
    /// The compilers and other tools.
    pub tools: &'a Tools,
    /// Where logs of failed steps go.
    pub logs: PathBuf,
    /// How many steps run at once.
    pub jobs: Jobs,
    /// Other machines that take steps.
    pub crew: Option<&'a Crew>,
    /// Whether generators may read what they do not declare.
    pub reads: Reads,
    /// The steps to bring up to date; all when there is no list. It holds all that its steps wait for.
    pub only: Option<BTreeSet<StepId>>,
    /// Which compiles are watched.
    pub watching: Watching,
    /// What to do after a failure.
    pub after_failure: AfterFailure,
    /// What the build is sealed with when all is done; it is not sealed without.
    pub seal: Option<SealWanted>,
    /// The sealed build that this one goes on from, where the plan holds only what was touched since.
    pub since: Option<Since<'a, 's>>,
    /// Tells whether to stop.
    pub stopped: &'a (dyn Fn() -> bool + Sync),
}

/// Whether generators may read what they do not declare.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reads {
    /// They may; what they read counts all the same.
    Free,
    /// They fail if they do.
    Declared,
}

/// What to do after a step failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AfterFailure {
    /// Start no more steps.
    Stop,
    /// Go on with what does not depend on it.
    GoOn,
}

/// Is told what happens while it happens.
pub trait Watch {
    /// The build begins; so many steps may run.
    fn begins(&mut self, steps: usize);
    /// A step starts.
    fn starts(&mut self, id: StepId, step: &Step);
    /// A step ended, or turned out to have nothing to do. `work_left_ms` is a guess at the work of all steps not done.
    fn ends(&mut self, id: StepId, step: &Step, ran: &Ran, work_left_ms: u64);
    /// Time passes while steps run.
    fn passes(&mut self) {}
    /// A step failed.
    fn fails(&mut self, failure: &Failure, step: &Step);
}

/// How a step came to be done.
#[derive(Debug, Clone, PartialEq)]
pub enum Ran {
    /// Nothing was to do.
    Current,
    /// It was spared: its text after preprocessing is the same as for its last result.
    Spared {
        /// What it had said.
        said: String,
    },
    /// Its results were put in place from the store; what it had said then is told again.
    FromStore {
        /// What it had said.
        said: String,
    },
    /// It ran.
    Now {
        /// What it said.
        said: String,
        /// How long it took.
        wall: Duration,
    },
}

/// What a build did.
#[derive(Debug, Default)]
pub struct BuildReport {
    /// Steps whose process ran, with their times.
    pub ran: Vec<(StepId, Duration)>,
    /// Those of them that ran on other machines.
    pub away: Vec<StepId>,
    /// Steps taken from the store.
    pub from_store: Vec<StepId>,
    /// Compiles whose result stands because their text after preprocessing is the same.
    pub spared: Vec<StepId>,
    /// Files written that follow from the resolution: headers, templates, tables.
    pub written: Vec<StepId>,
    /// Steps with nothing to do.
    pub current: usize,
    /// Steps that failed.
    pub failures: Vec<Failure>,
    /// Steps that did not run because of a failure or a stop.
    pub left: usize,
    /// Files that no step makes any more and that were removed.
    pub removed: Vec<String>,
    /// Whether the build was interrupted.
    pub interrupted: bool,
    /// Steps that failed in a way that may be the machine's fault, and passed when they ran alone.
    pub unsteady: Vec<StepId>,
    /// Why steps were not current, but for those that are new.
    pub reasons: Vec<(StepId, Vec<Reason>)>,
    /// How many steps are new, and nothing else.
    pub new: usize,
    /// When what ran, and on which of the jobs.
    pub spans: Vec<Span>,
    /// Processor time of all steps.
    pub cpu: Duration,
    /// The most memory that one step held, in bytes.
    pub memory: u64,
    /// What steps were seen to do that we did not reckon with.
    pub unexpected: Vec<(StepId, Vec<String>)>,
    /// Where things went that lay where results are to be, and were no files.
    pub set_aside: Vec<PathBuf>,
    /// Finished parts that lay changed, or not at all, where people get them, and were handed over again.
    pub mended: Vec<String>,
    /// Why nothing could be watched, if so.
    pub unwatched: Option<String>,
    /// Whether some of the records of earlier builds were damaged, and dropped.
    pub damaged: bool,
}

/// When a step ran.
#[derive(Debug, Clone, Copy)]
pub struct Span {
    /// The step.
    pub step: StepId,
    /// The job that it ran on.
    pub job: usize,
    /// When it started, from the start of the build.
    pub began: Duration,
    /// How long it took.
    pub wall: Duration,
}

/// Why a build cannot go on at all.
#[derive(Debug, thiserror::Error)]
pub enum BuildFault {
    /// A file of the work folder.
    #[error(transparent)]
    File(#[from] FileError),
    /// This program is wrong.
    #[error("boltboard itself is at fault at {step}: {said}")]
    Ours {
        /// The step at which it showed.
        step: String,
        /// What is known.
        said: String,
    },
}

/// Brings everything up to date.
///
/// # Errors
/// The work folder cannot be read or written. Steps that fail are in the report instead.
pub fn build(input: &BuildInput<'_, '_>, watch: &mut dyn Watch) -> Result<BuildReport, BuildFault> {
    let plan = input.plan;
    let set_aside = plan.folders.make_room()?;
    break_seal(&plan.folders.seal())?;
    let mut journal = match input.since {
        None => Journal::open(&plan.folders.build)?,
        Some(since) => since.journal.as_opened(),
    };
    let _ = std::fs::remove_dir_all(plan.folders.aside());
    // Judging looks at the records from before this build; each step is judged once, before it runs.
    let before = journal.as_opened();
    let judge = Judge::new(plan, &before, input.store, input.status, input.tokens);
    // A compile could come upon a generated file that is no longer made.
    let generated = |location: &Location| matches!(location, Location::Made(_));
    let removed = remove_stale(&judge, &mut journal, &generated)?;
    let executor = Executor {
        judge: &judge,
        launch: input.launch,
        tools: input.tools,
        store: input.store,
        logs: input.logs.clone(),
        experience: Experience::default(),
        reads: input.reads,
        watching: input.watching,
        learning: Mutex::default(),
        set_aside: Mutex::default(),
        timestamp: input.tools.epoch.timestamp(),
        absences: Absences::default(),
        headers_kept: Mutex::default(),
        reaches: Reaches::default(),
        stopped: input.stopped,
    };
    let mut report = Course::new(input, &judge, &mut journal, watch).run(&executor)?;
    debug!("all steps are done");
    report.removed = removed;
    report.set_aside.extend(set_aside);
    report.set_aside.extend(executor.set_aside.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner));
    report.damaged = journal.damaged;
    report.unwatched = input.launch.unwatched();
    report.current += plan.rest;
    let _ = std::fs::remove_dir_all(plan.folders.aside());
    if input.only.is_some() {
        // The rest stays as it is.
    } else if report.failures.is_empty() && !report.interrupted {
        // What was built before stays until there is something in its place.
        report.removed.extend(remove_stale(&judge, &mut journal, &|_| true)?);
        if input.since.is_none() {
            journal.settle()?;
        }
        debug!("seals");
        if let Some(wanted) = &input.seal {
            seal_build(&judge, &journal, wanted, input.since)?;
        }
    } else if let Some(since) = input.since {
        since.sweep.leave_open(since.parts, plan.rest + journal.all().count())?;
    }
    Ok(report)
}

/// Removes files of steps that the plan no longer has, so that the folder looks as after a clean build; only of steps all of whose files
/// are of such a sort.
fn remove_stale(
    judge: &Judge<'_>,
    journal: &mut Journal,
    of_sort: &dyn Fn(&Location) -> bool,
) -> Result<Vec<String>, BuildFault> {
    let stale = judge.stale();
    if stale.is_empty() {
        return Ok(Vec::new());
    }
    let kept: BTreeSet<String> =
        judge.plan.steps.iter().flat_map(|(_, step)| step.writes.iter().map(Location::kept)).collect();
    let mut removed = Vec::new();
    for name in stale {
        // What is no longer known was removed before.
        let Some(record) = journal.get(&name) else { continue };
        let outputs = record.note.map_or(Vec::new(), |note| note.outputs);
        let locations: Vec<Location> = outputs.iter().filter_map(|output| output.location.parse().ok()).collect();
        if !locations.iter().all(of_sort) {
            continue;
        }
        for location in locations.iter().filter(|location| !kept.contains(&location.kept())) {
            let path = location.path(&judge.plan.folders);
            remove_file(&path)?;
            removed.push(location.to_string());
            remove_empty_above(&path, &judge.plan.folders.build);
        }
        journal.remove(&name)?;
    }
    Ok(removed)
}
