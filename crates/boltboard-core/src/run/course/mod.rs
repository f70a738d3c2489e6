//! A build while it runs: ready steps start longest way first, as many as cores, memory and load allow.

mod sent;

use std::collections::{BTreeMap, BTreeSet, BinaryHeap};
use std::sync::{Mutex, mpsc};
use std::time::{Duration, Instant};

use super::build::{AfterFailure, BuildFault, BuildInput, BuildReport, Ran, Span, Watch};
use super::ended::Ended;
use super::execute::Executor;
use super::graph::Graph;
use super::jobs::Memory;
use crate::base::files::make_room;
use crate::judge::{Ahead, Alike, Judge, Judged, QuickJudge, Reason, Verdict};
use crate::launch::Used;

use crate::journal::{Journal, StepRecord};
use crate::step::{Location, Step, StepId};

use crate::store::Note;
use crate::workers::Seat;

/// How often those who watch are told that time passes.
const TICK: Duration = Duration::from_millis(250);

/// A build while it runs.
pub(super) struct Course<'a, 's> {
    input: &'a BuildInput<'a, 's>,
    judge: &'a Judge<'a>,
    quick: QuickJudge<'a>,
    graph: Graph,
    journal: &'a mut Journal,
    watch: &'a mut dyn Watch,
    report: BuildReport,
    left_ms: u64,
    began: Instant,
    /// What runs.
    running: BTreeMap<StepId, Running>,
    /// How many steps the workers have at hand: those that run, and those whose results are being put away.
    at_hand: usize,
    memory: Memory,
    /// Steps that failed once in a way that may be the machine's fault.
    again: BTreeSet<StepId>,
    /// Those of them that wait until nothing else runs.
    alone: Vec<StepId>,
    /// Ready steps that run on this machine only.
    here: Ready,
    /// Steps that came back from another machine without a result that counts.
    came_back: BTreeSet<StepId>,
}

/// A step that holds one of the jobs.
struct Running {
    /// The memory that it is expected to want, in bytes.
    memory: u64,
    job: usize,
    began: Instant,
    /// Whether another machine has it.
    away: bool,
}

/// What workers tell.
enum Told {
    /// The step's process has ended well: another may start while results are put away.
    Passed(StepId),
    /// What came of the step, and how long all of it took.
    Ended(StepId, Box<Ended>, Duration),
    /// The worker came to an end that it must never come to, with what it said.
    Broke(StepId, String),
}

/// What a panic said.
fn panic_text(said: &(dyn std::any::Any + Send)) -> String {
    let text = said.downcast_ref::<&str>().map(ToString::to_string);
    text.or_else(|| said.downcast_ref::<String>().cloned()).unwrap_or_else(|| "no more is known".into())
}

/// A step to run, with an earlier result that may stand.
type Work = (StepId, Option<Alike>);
type Ready = BinaryHeap<(u64, std::cmp::Reverse<StepId>)>;

impl<'a, 's> Course<'a, 's> {
    pub fn new(
        input: &'a BuildInput<'a, 's>,
        judge: &'a Judge<'a>,
        journal: &'a mut Journal,
        watch: &'a mut dyn Watch,
    ) -> Course<'a, 's> {
        Course {
            input,
            judge,
            quick: QuickJudge::new(judge),
            graph: Graph::of(input.plan, judge),
            journal,
            watch,
            report: BuildReport::default(),
            left_ms: 0,
            began: Instant::now(),
            running: BTreeMap::new(),
            at_hand: 0,
            memory: Memory::of_journal(judge.journal),
            again: BTreeSet::new(),
            alone: Vec::new(),
            here: Ready::new(),
            came_back: BTreeSet::new(),
        }
    }

    /// Runs all steps that are to run.
    pub fn run(mut self, executor: &Executor<'_>) -> Result<BuildReport, BuildFault> {
        let plan = self.input.plan;
        let mut ready: Ready = BinaryHeap::new();
        for id in plan.steps.ids().filter(|id| self.graph.waits[id.index()] == 0 && self.is_wanted(*id)) {
            ready.push((self.graph.way_ms[id.index()], std::cmp::Reverse(id)));
        }
        self.left_ms = plan.steps.ids().filter(|id| self.is_wanted(*id)).map(|id| self.graph.own_ms[id.index()]).sum();
        let wanted = self.input.only.as_ref().map_or(plan.steps.len(), BTreeSet::len);
        self.watch.begins(wanted);
        let (send_work, work) = mpsc::channel::<Work>();
        let work = Mutex::new(work);
        let (tell, told) = mpsc::channel::<Told>();
        std::thread::scope(|scope| {
            // As many again put results away meanwhile.
            for worker in 0..2 * self.input.jobs.count {
                let (work, tell) = (&work, tell.clone());
                scope.spawn(move || {
                    loop {
                        let next = work.lock().unwrap_or_else(std::sync::PoisonError::into_inner).recv();
                        let Ok((id, alike)) = next else { return };
                        let began = Instant::now();
                        // Who no longer listens needs no telling.
                        let passed = || drop(tell.send(Told::Passed(id)));
                        let step = &plan.steps[id];
                        let run = std::panic::AssertUnwindSafe(|| executor.run(worker, id, step, alike, &passed));
                        let ended = match std::panic::catch_unwind(run) {
                            Ok(ended) => Box::new(ended),
                            Err(said) => {
                                // Without a word everybody would wait for this step for ever.
                                drop(tell.send(Told::Broke(id, panic_text(&*said))));
                                return;
                            }
                        };
                        if tell.send(Told::Ended(id, ended, began.elapsed())).is_err() {
                            return;
                        }
                    }
                });
            }
            // Each step that is away has a thread that waits for it.
            let send_away = |id: StepId, seat: Seat| {
                let tell = tell.clone();
                scope.spawn(move || {
                    let began = Instant::now();
                    let step = &plan.steps[id];
                    let run = std::panic::AssertUnwindSafe(|| executor.run_away(&seat, step));
                    let ran = std::panic::catch_unwind(run);
                    drop(seat);
                    // Who no longer listens needs no telling.
                    drop(match ran {
                        Ok(ended) => tell.send(Told::Ended(id, Box::new(ended), began.elapsed())),
                        Err(said) => tell.send(Told::Broke(id, panic_text(&*said))),
                    });
                });
            };
            let result = self.coordinate(&mut ready, executor, &send_work, &send_away, &told);
            drop(send_work);
            result
        })?;
        let report = &self.report;
        let done = [&report.from_store, &report.spared, &report.written].map(Vec::len).iter().sum::<usize>();
        let finished = report.ran.len() + done + report.current;
        self.report.left = wanted - finished - self.report.failures.len();
        Ok(self.report)
    }

    fn is_wanted(&self, id: StepId) -> bool {
        self.input.only.as_ref().is_none_or(|only| only.contains(&id))
    }

    fn coordinate(
        &mut self,
        ready: &mut Ready,
        executor: &Executor<'_>,
        send_work: &mpsc::Sender<Work>,
        send_away: &dyn Fn(StepId, Seat),
        told: &mpsc::Receiver<Told>,
    ) -> Result<(), BuildFault> {
        let mut halted = false;
        loop {
            while !halted && self.running_here() < self.input.jobs.count {
                if (self.input.stopped)() {
                    self.report.interrupted = true;
                    halted = true;
                    break;
                }
                let Some(id) = self.next(ready)? else { break };
                let alike = if self.again.contains(&id) { None } else { self.judge.alike(&self.input.plan.steps[id]) };
                halted |= send_work.send((id, alike)).is_err();
            }
            if !halted {
                self.fill_away(ready, executor, send_away)?;
            }
            if self.at_hand == 0 {
                return Ok(());
            }
            let (id, ended, wall) = match told.recv_timeout(TICK) {
                Ok(Told::Passed(id)) => {
                    self.frees(id);
                    continue;
                }
                Ok(Told::Ended(id, ended, wall)) => (id, *ended, wall),
                Ok(Told::Broke(id, said)) => {
                    return Err(BuildFault::Ours { step: self.input.plan.steps[id].name.clone(), said });
                }
                Err(mpsc::RecvTimeoutError::Timeout) => {
                    self.watch.passes();
                    continue;
                }
                Err(mpsc::RecvTimeoutError::Disconnected) => return Ok(()),
            };
            let was_away = self.frees(id);
            self.at_hand -= 1;
            match ended {
                Ended::Done { note, said, used, unexpected } => {
                    if was_away {
                        self.report.away.push(id);
                    }
                    if !unexpected.is_empty() {
                        self.report.unexpected.push((id, unexpected));
                    }
                    self.done(id, note, said, wall, used, ready)?;
                }
                Ended::NotCounted(why) => self.comes_back(id, why),
                Ended::Spared { note, in_place } => {
                    if in_place || self.restore(&note)? {
                        self.spared(id, note, ready)?;
                    } else if send_work.send((id, None)).is_ok() {
                        self.holds(id, 0);
                    }
                }
                Ended::Failed(failure) if failure.may_be_the_machine() && self.again.insert(id) => self.alone.push(id),
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

    /// Takes the next step that needs a process and may start now.
    fn next(&mut self, ready: &mut Ready) -> Result<Option<StepId>, BuildFault> {
        if self.running.keys().any(|id| self.again.contains(id)) {
            return Ok(None);
        }
        if let Some(id) = self.alone.last().copied() {
            // What failed for lack of memory runs again with the whole machine to itself.
            if self.running.is_empty() {
                self.alone.pop();
                self.starts(id, 0);
                return Ok(Some(id));
            }
            return Ok(None);
        }
        // The longest way first, of those that may run anywhere and those that may run here.
        while let Some((way, std::cmp::Reverse(id))) =
            if self.here.peek() > ready.peek() { self.here.pop() } else { ready.pop() }
        {
            if !self.came_back.contains(&id) && self.settle(id, ready)? {
                continue;
            }
            let wanted = self.memory.of(self.judge, &self.input.plan.steps[id]);
            let running = self.running_here();
            if !self.input.jobs.have_room(self.running.values().map(|r| r.memory).sum(), wanted, running) {
                ready.push((way, std::cmp::Reverse(id)));
                return Ok(None);
            }
            self.starts(id, wanted);
            return Ok(Some(id));
        }
        Ok(None)
    }

    fn running_here(&self) -> usize {
        self.running.values().filter(|running| !running.away).count()
    }

    fn starts(&mut self, id: StepId, memory: u64) {
        self.holds(id, memory);
        if !self.came_back.contains(&id) {
            self.watch.starts(id, &self.input.plan.steps[id]);
        }
    }

    /// Gives the step the first free job.
    fn holds(&mut self, id: StepId, memory: u64) {
        let taken: BTreeSet<usize> = self.running.values().map(|running| running.job).collect();
        let job = (0..).find(|job| !taken.contains(job)).unwrap_or(0);
        self.running.insert(id, Running { memory, job, began: Instant::now(), away: false });
        self.at_hand += 1;
    }

    /// Takes the step's job from it, if it still holds one. Returns whether another machine had it.
    fn frees(&mut self, id: StepId) -> bool {
        let Some(Running { job, began, away, .. }) = self.running.remove(&id) else { return false };
        self.report.spans.push(Span { step: id, job, began: began - self.began, wall: began.elapsed() });
        away
    }

    /// Does what can be done without a process. Returns whether the step is settled.
    fn settle(&mut self, id: StepId, ready: &mut Ready) -> Result<bool, BuildFault> {
        let step = &self.input.plan.steps[id];
        if self.quick.is_current(step, &Ahead::default()) {
            self.report.current += 1;
            self.passed(id, &Ran::Current, ready);
            return Ok(true);
        }
        let Judged { verdict, reasons } = self.judge.judge(step, &Ahead::default());
        if reasons == [Reason::New] {
            self.report.new += 1;
        } else {
            self.report.reasons.push((id, reasons));
        }
        match verdict {
            Verdict::Current => {
                let record = self.judge.journal.get(&step.name).and_then(|record| record.note);
                if let Some(renewed) = record.and_then(|note| self.judge.renewed(step, &note)) {
                    self.record(step, Some(renewed))?;
                }
                self.report.current += 1;
                self.passed(id, &Ran::Current, ready);
                Ok(true)
            }
            Verdict::FromStore(note) => {
                if !self.restore(&note)? {
                    return Ok(false);
                }
                let key = step.base_key();
                self.input.store.used(&key);
                self.input.store.keep_of_others(&key, &note);
                let mut note = note;
                if let Some(renewed) = self.judge.renewed(step, &note) {
                    self.input.store.add_note(&key, &renewed, None)?;
                    *note = renewed;
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
    fn restore(&mut self, note: &Note) -> Result<bool, BuildFault> {
        for output in &note.outputs {
            let Ok(location) = output.location.parse::<Location>() else { return Ok(false) };
            let path = location.path(&self.input.plan.folders);
            let folders = &self.input.plan.folders;
            self.report.set_aside.extend(make_room(&path, &folders.build, &folders.set_aside())?);
            if !self.input.store.restore(&output.digest, &self.input.plan.folders.aside(), &path, output.mode)? {
                return Ok(false);
            }
            self.input.status.learn(&path, output.digest);
        }
        Ok(true)
    }

    fn done(
        &mut self,
        id: StepId,
        note: Option<Note>,
        said: String,
        wall: Duration,
        used: Used,
        ready: &mut Ready,
    ) -> Result<(), BuildFault> {
        let step = &self.input.plan.steps[id];
        self.record(step, note)?;
        self.report.cpu += used.cpu;
        self.report.memory = self.report.memory.max(used.memory);
        if self.again.contains(&id) {
            self.report.unsteady.push(id);
        }
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
            part: step.part.map_or(String::new(), |part| self.input.plan.part_name(part).to_string()),
            base_key: step.base_key(),
            command: step.command(),
            tool: step.tool_identity(),
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
            if self.graph.waits[next.index()] == 0 && self.is_wanted(next) {
                ready.push((self.graph.way_ms[next.index()], std::cmp::Reverse(next)));
            }
        }
    }
}
