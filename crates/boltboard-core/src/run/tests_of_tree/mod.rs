//! The tree's own tests, several at once, on what was built. One that passed is not run again before something changes that
//! it runs or reads.

mod one;
mod passed;
mod queue;

use std::path::PathBuf;
use std::sync::mpsc;
use std::time::Duration;

use crate::base::files::write_whole;
use crate::base::{Digest, FileError};
use crate::board::{NEED_PREFIX, TestDef, TestId};
use crate::launch::Launch;
use crate::plan::{Plan, PlanInput};
use crate::watch::Sight;
use crate::work::StatusMemo;

use one::{not_run, not_there};
use passed::PassedBefore;
use queue::Queue;

/// How a test ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TestOutcome {
    /// It passed.
    Passed,
    /// It passed before, and nothing that it runs or reads has changed.
    Unchanged,
    /// It failed, or could not be started.
    Failed(String),
    /// It is not there with these options; the condition under which it is.
    NotThere(Option<String>),
}

/// One test's report.
#[derive(Debug, Clone)]
pub struct TestReport {
    /// The test.
    pub test: TestId,
    /// How it ended.
    pub outcome: TestOutcome,
    /// What it said.
    pub said: String,
    /// How long it took.
    pub wall: Duration,
    /// The command that runs it again by hand; empty when it was not run.
    pub command: String,
    /// The file that holds what it said, when it failed.
    pub log: Option<PathBuf>,
}

/// What happens while tests run.
pub enum TestEvent<'a> {
    /// A test starts.
    Starts(TestId),
    /// A test has ended, or need not run.
    Ends(&'a TestReport),
    /// Time passes.
    Passes,
}

/// How often those who watch are told that time passes.
const TICK: Duration = Duration::from_millis(250);

/// Which tests are run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rerun {
    /// Those that did not pass with the same inputs.
    Changed,
    /// All.
    All,
}

/// What is needed to run the tests of a tree that was built.
pub struct TestsInput<'a> {
    /// What the plan was made of.
    pub plan_input: &'a PlanInput<'a>,
    /// The plan.
    pub plan: &'a Plan,
    /// Contents of files.
    pub status: &'a StatusMemo,
    /// Starts processes.
    pub launch: &'a dyn Launch,
    /// Where logs of failed tests go.
    pub logs: PathBuf,
    /// How many run at once.
    pub jobs: usize,
    /// Tells which tests are wanted.
    pub wanted: &'a (dyn Fn(&TestDef) -> bool + Sync),
    /// Which of them are run.
    pub rerun: Rerun,
}

/// Runs the tests of a tree that was built. `watch` is told what happens; the reports come in the order of the board.
///
/// # Errors
/// The record of what passed cannot be written.
pub fn run_tests(input: &TestsInput<'_>, watch: &mut dyn FnMut(TestEvent<'_>)) -> Result<Vec<TestReport>, FileError> {
    let board = input.plan_input.board;
    let mut passed = PassedBefore::load(input.plan.folders.build.join("tests-passed"));
    let mut reports = Vec::new();
    let mut due: Vec<(TestId, Option<Digest>)> = Vec::new();
    let is_wanted = |test: &TestDef| (input.wanted)(test);
    for (id, test) in board.tests.iter().filter(|(_, test)| is_wanted(test)) {
        if let Some(report) = input.not_there(id, test) {
            watch(TestEvent::Ends(&report));
            reports.push(report);
            continue;
        }
        let inputs = input.inputs_of(test);
        if input.rerun == Rerun::Changed
            && inputs.is_some_and(|inputs| input.stands(passed.inputs.get(&test.name), inputs))
        {
            let report = not_run(id, TestOutcome::Unchanged);
            watch(TestEvent::Ends(&report));
            reports.push(report);
            continue;
        }
        due.push((id, inputs));
    }
    let queue = Queue::of(board, due);
    let (send, done) = mpsc::channel();
    std::thread::scope(|scope| {
        for _ in 0..input.jobs.max(1) {
            let (queue, send) = (&queue, send.clone());
            scope.spawn(move || {
                while let Some((id, inputs)) = queue.next() {
                    // Who no longer listens needs no telling.
                    drop(send.send(Told::Starts(id)));
                    let (report, sight) = input.run_one(id);
                    queue.ended(id);
                    if send.send(Told::Ends(Box::new(report), sight, inputs)).is_err() {
                        return;
                    }
                }
            });
        }
        drop(send);
        loop {
            let (mut report, sight, inputs) = match done.recv_timeout(TICK) {
                Ok(Told::Ends(report, sight, inputs)) => (*report, sight, inputs),
                Ok(Told::Starts(id)) => {
                    watch(TestEvent::Starts(id));
                    continue;
                }
                Err(mpsc::RecvTimeoutError::Timeout) => {
                    watch(TestEvent::Passes);
                    continue;
                }
                Err(mpsc::RecvTimeoutError::Disconnected) => break,
            };
            input.keep_log(&mut report);
            let name = &board.tests[report.test].name;
            let inputs = inputs.filter(|_| report.outcome == TestOutcome::Passed);
            match inputs.map(|inputs| input.passed(inputs, sight.as_ref())) {
                Some(passed_with) => passed.inputs.insert(name.clone(), passed_with),
                None => passed.inputs.remove(name),
            };
            watch(TestEvent::Ends(&report));
            reports.push(report);
        }
    });
    reports.sort_by_key(|report| report.test);
    passed.save()?;
    Ok(reports)
}

/// What those who run tests tell.
enum Told {
    Starts(TestId),
    Ends(Box<TestReport>, Option<Sight>, Option<Digest>),
}

impl TestsInput<'_> {
    /// Keeps what a failed test said.
    fn keep_log(&self, report: &mut TestReport) {
        let TestOutcome::Failed(why) = &report.outcome else { return };
        let name = self.plan_input.board.tests[report.test].name.replace('/', "+");
        let log = self.logs.join(format!("test-{name}.log"));
        let text = format!("{}\n\n{}\n{why}\n", report.command, report.said);
        // A log that cannot be written is no reason to lose what the test came to.
        report.log = write_whole(&log, text.as_bytes()).is_ok().then_some(log);
    }

    fn not_there(&self, id: TestId, test: &TestDef) -> Option<TestReport> {
        let input = self.plan_input;
        let board = input.board;
        let lacking = test.needs.iter().find(|need| !input.facts.has(**need));
        if let Some(need) = lacking {
            return Some(not_there(id, Some(format!("{NEED_PREFIX}{}", board.needs[*need].name))));
        }
        let held = test.when.as_ref().filter(|when| !input.resolution.holds(input.facts, &when.expr));
        if let Some(when) = held {
            return Some(not_there(id, Some(board.print(&when.expr))));
        }
        let not_made = test.parts.iter().find(|part| !input.is_made(&board.parts[**part]))?;
        Some(not_there(id, board.parts[*not_made].gate().map(|gate| board.print(&gate))))
    }
}
