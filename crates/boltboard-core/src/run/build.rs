//! The whole build: ready steps run longest way first, as many as there are jobs.

use std::collections::{BTreeSet, BinaryHeap, HashMap};
use std::path::PathBuf;
use std::sync::{Mutex, mpsc};
use std::time::Duration;

use super::execute::{Ended, Executor};
use super::failure::Failure;
use super::jobs::Jobs;
use super::same_text::Experience;
use super::watched::{SealWanted, seal};
use crate::base::FileError;
use crate::launch::Launch;
use crate::plan::{Ahead, Alike, Judge, Judged, Location, Plan, QuickJudge, Step, StepId, Timings, TokenMemo, Verdict};
use crate::store::{Journal, Note, StatusMemo, StepRecord, Store, break_seal};
use crate::survey::Tools;

/// Everything a build needs.
pub struct BuildInput<'a> {
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
    /// What to do after a failure.
    pub after_failure: AfterFailure,
    /// What the build is sealed with when all is done; it is not sealed without.
    pub seal: Option<SealWanted>,
    /// Tells whether to stop.
    pub stopped: &'a (dyn Fn() -> bool + Sync),
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
}

/// Why a build cannot go on at all.
#[derive(Debug, thiserror::Error)]
pub enum BuildFault {
    /// A file of the work folder.
    #[error(transparent)]
    File(#[from] FileError),
}

struct Graph {
    waits: Vec<usize>,
    next: Vec<Vec<StepId>>,
    way_ms: Vec<u64>,
    own_ms: Vec<u64>,
}

impl Graph {
    fn of(plan: &Plan, judge: &Judge<'_>) -> Graph {
        let count = plan.steps.len();
        let timings = Timings::of(judge);
        let mut makers: HashMap<&Location, StepId> = HashMap::new();
        for (id, step) in plan.steps.iter() {
            makers.extend(step.writes.iter().map(|write| (write, id)));
        }
        let mut graph =
            Graph { waits: vec![0; count], next: vec![vec![]; count], way_ms: vec![0; count], own_ms: vec![0; count] };
        for (id, step) in plan.steps.iter() {
            let read = step.reads.iter().filter_map(|read| makers.get(read).copied());
            let before: BTreeSet<StepId> = read.chain(step.after.iter().copied()).filter(|b| *b != id).collect();
            graph.waits[id.index()] = before.len();
            before.iter().for_each(|b| graph.next[b.index()].push(id));
            graph.own_ms[id.index()] = timings.step(step).ms();
        }
        // Steps come after those that they read from, so going backwards sees every way.
        for id in plan.steps.ids().rev() {
            let longest = graph.next[id.index()].iter().map(|n| graph.way_ms[n.index()]).max().unwrap_or(0);
            graph.way_ms[id.index()] = graph.own_ms[id.index()] + longest;
        }
        graph
    }
}

/// Brings everything up to date.
///
/// # Errors
/// The work folder cannot be read or written. Steps that fail are in the report instead.
pub fn build(input: &BuildInput<'_>, watch: &mut dyn Watch) -> Result<BuildReport, BuildFault> {
    let plan = input.plan;
    break_seal(&plan.folders.seal())?;
    let mut journal = Journal::open(&plan.folders.build)?;
    let _ = std::fs::remove_dir_all(plan.folders.aside());
    // Judging looks at the records from before this build; each step is judged once, before it runs.
    let before = Journal::open(&plan.folders.build)?;
    let judge = Judge { plan, journal: &before, store: input.store, status: input.status, tokens: input.tokens };
    let graph = Graph::of(plan, &judge);
    let executor = Executor {
        judge: &judge,
        launch: input.launch,
        tools: input.tools,
        store: input.store,
        logs: input.logs.clone(),
        experience: Experience::default(),
    };
    let mut course = Course {
        input,
        judge: &judge,
        quick: QuickJudge::new(&judge),
        graph,
        journal: &mut journal,
        watch,
        report: BuildReport::default(),
        left_ms: 0,
    };
    course.run(&executor)?;
    let mut report = course.report;
    let _ = std::fs::remove_dir_all(plan.folders.aside());
    if report.failures.is_empty() && !report.interrupted {
        report.removed = remove_stale(&judge, &mut journal)?;
        journal.compact()?;
        if let Some(wanted) = &input.seal {
            seal(&judge, &journal, wanted)?;
        }
    }
    Ok(report)
}

struct Course<'a> {
    input: &'a BuildInput<'a>,
    judge: &'a Judge<'a>,
    quick: QuickJudge<'a>,
    graph: Graph,
    journal: &'a mut Journal,
    watch: &'a mut dyn Watch,
    report: BuildReport,
    left_ms: u64,
}

/// A step to run, with an earlier result that may stand.
type Work = (StepId, Option<Alike>);
type Ready = BinaryHeap<(u64, std::cmp::Reverse<StepId>)>;

impl Course<'_> {
    fn run(&mut self, executor: &Executor<'_>) -> Result<(), BuildFault> {
        let plan = self.input.plan;
        let mut ready: Ready = BinaryHeap::new();
        for id in plan.steps.ids().filter(|id| self.graph.waits[id.index()] == 0) {
            ready.push((self.graph.way_ms[id.index()], std::cmp::Reverse(id)));
        }
        self.left_ms = self.graph.own_ms.iter().sum();
        self.watch.begins(plan.steps.len());
        let (send_work, work) = mpsc::channel::<Work>();
        let work = Mutex::new(work);
        let (send_done, done) = mpsc::channel::<(StepId, Ended)>();
        std::thread::scope(|scope| {
            for _ in 0..self.input.jobs.count {
                let (work, send_done) = (&work, send_done.clone());
                scope.spawn(move || {
                    loop {
                        let next = work.lock().unwrap_or_else(std::sync::PoisonError::into_inner).recv();
                        let Ok((id, alike)) = next else { return };
                        if send_done.send((id, executor.run(id, &plan.steps[id], alike))).is_err() {
                            return;
                        }
                    }
                });
            }
            let result = self.coordinate(&mut ready, &send_work, &done);
            drop(send_work);
            result
        })?;
        let report = &self.report;
        let done = [&report.from_store, &report.spared, &report.written].map(Vec::len).iter().sum::<usize>();
        let finished = report.ran.len() + done + report.current;
        self.report.left = plan.steps.len() - finished - self.report.failures.len();
        Ok(())
    }

    fn coordinate(
        &mut self,
        ready: &mut Ready,
        send_work: &mpsc::Sender<Work>,
        done: &mpsc::Receiver<(StepId, Ended)>,
    ) -> Result<(), BuildFault> {
        let mut running = 0;
        let mut halted = false;
        loop {
            while !halted && running < self.input.jobs.count {
                if (self.input.stopped)() {
                    self.report.interrupted = true;
                    halted = true;
                    break;
                }
                let Some((_, std::cmp::Reverse(id))) = ready.pop() else { break };
                if self.settle(id, ready)? {
                    continue;
                }
                let step = &self.input.plan.steps[id];
                self.watch.starts(id, step);
                running += 1;
                halted |= send_work.send((id, self.judge.alike(step))).is_err();
            }
            if running == 0 {
                return Ok(());
            }
            let Ok((id, ended)) = done.recv() else { return Ok(()) };
            running -= 1;
            match ended {
                Ended::Done { note, said, wall } => self.done(id, note, said, wall, ready)?,
                Ended::Spared { note, in_place } => {
                    if in_place || self.restore(&note)? {
                        self.spared(id, note, ready)?;
                    } else if send_work.send((id, None)).is_ok() {
                        running += 1;
                    }
                }
                Ended::Failed(failure) => {
                    self.watch.fails(&failure, &self.input.plan.steps[id]);
                    self.report.failures.push(*failure);
                    halted |= self.input.after_failure == AfterFailure::Stop;
                }
                Ended::Stopped => {
                    self.report.interrupted = true;
                    halted = true;
                }
            }
        }
    }

    /// Does what can be done without a process. Returns whether the step is settled.
    fn settle(&mut self, id: StepId, ready: &mut Ready) -> Result<bool, BuildFault> {
        let step = &self.input.plan.steps[id];
        if self.quick.is_current(step, &Ahead::default()) {
            self.report.current += 1;
            self.passed(id, &Ran::Current, ready);
            return Ok(true);
        }
        let Judged { verdict, .. } = self.judge.judge(step, &Ahead::default());
        match verdict {
            Verdict::Current => {
                self.report.current += 1;
                self.passed(id, &Ran::Current, ready);
                Ok(true)
            }
            Verdict::FromStore(note) => {
                if !self.restore(&note)? {
                    return Ok(false);
                }
                self.record(step, Some((*note).clone()))?;
                self.report.from_store.push(id);
                self.passed(id, &Ran::FromStore { said: note.said }, ready);
                Ok(true)
            }
            Verdict::Run | Verdict::Follows => Ok(false),
        }
    }

    /// Returns `false` when something kept was damaged, so that the step must run.
    fn restore(&self, note: &Note) -> Result<bool, BuildFault> {
        for output in &note.outputs {
            let Ok(location) = output.location.parse::<Location>() else { return Ok(false) };
            let path = location.path(&self.input.plan.folders);
            if !self.input.store.restore(&output.digest, &path, output.mode)? {
                return Ok(false);
            }
            self.input.status.learn(&path, output.digest);
            self.input.tokens.forget(&path);
        }
        Ok(true)
    }

    fn done(
        &mut self,
        id: StepId,
        note: Option<Note>,
        said: String,
        wall: Duration,
        ready: &mut Ready,
    ) -> Result<(), BuildFault> {
        let step = &self.input.plan.steps[id];
        self.record(step, note)?;
        if step.has_process() {
            self.report.ran.push((id, wall));
        } else {
            self.report.written.push(id);
        }
        self.passed(id, &Ran::Now { said, wall }, ready);
        Ok(())
    }

    fn spared(&mut self, id: StepId, note: Note, ready: &mut Ready) -> Result<(), BuildFault> {
        let said = note.said.clone();
        self.record(&self.input.plan.steps[id], Some(note))?;
        self.report.spared.push(id);
        self.passed(id, &Ran::Spared { said }, ready);
        Ok(())
    }

    fn record(&mut self, step: &Step, note: Option<Note>) -> Result<(), BuildFault> {
        self.journal.add(&StepRecord {
            step: step.name.clone(),
            base_key: self.judge.base_key(step),
            command: step.command(),
            tool: self.judge.tool_identity(step),
            note,
        })?;
        step.writes.iter().for_each(|write| self.quick.forget(write));
        Ok(())
    }

    fn passed(&mut self, id: StepId, ran: &Ran, ready: &mut Ready) {
        self.left_ms = self.left_ms.saturating_sub(self.graph.own_ms[id.index()]);
        self.watch.ends(id, &self.input.plan.steps[id], ran, self.left_ms);
        for next in std::mem::take(&mut self.graph.next[id.index()]) {
            self.graph.waits[next.index()] -= 1;
            if self.graph.waits[next.index()] == 0 {
                ready.push((self.graph.way_ms[next.index()], std::cmp::Reverse(next)));
            }
        }
    }
}

/// Removes files of steps that the plan no longer has, so that the folder looks as after a clean build.
fn remove_stale(judge: &Judge<'_>, journal: &mut Journal) -> Result<Vec<String>, BuildFault> {
    let kept: BTreeSet<String> =
        judge.plan.steps.iter().flat_map(|(_, step)| step.writes.iter().map(Location::kept)).collect();
    let mut removed = Vec::new();
    for name in judge.stale() {
        let outputs = journal.get(&name).and_then(|r| r.note).map(|n| n.outputs);
        for output in outputs.unwrap_or_default().iter().filter(|o| !kept.contains(&o.location)) {
            let Ok(location) = output.location.parse::<Location>() else { continue };
            let path = location.path(&judge.plan.folders);
            match std::fs::remove_file(&path) {
                Ok(()) => {}
                Err(e) if e.kind() == std::io::ErrorKind::NotFound => {}
                Err(e) => return Err(FileError::on("remove", &path)(e).into()),
            }
            removed.push(location.to_string());
            remove_empty_folders(&path, &judge.plan.folders.build);
        }
        journal.remove(&name)?;
    }
    Ok(removed)
}

fn remove_empty_folders(file: &std::path::Path, build: &std::path::Path) {
    let inside = file.ancestors().skip(1).take_while(|folder| *folder != build);
    for folder in inside {
        // Fails as soon as a folder still holds something, which is where to stop.
        if std::fs::remove_dir(folder).is_err() {
            return;
        }
    }
}
