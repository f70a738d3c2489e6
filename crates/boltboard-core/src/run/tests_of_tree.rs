//! The tree's own tests, several at once, on what was built. One that passed is not run again before something changes that
//! it runs or reads.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, mpsc};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::failure::signal_words;
use super::stands::Seeing;
use crate::base::files::{read_text, write_quickly, write_whole};
use crate::base::{Digest, FileError, shell_word};
use crate::board::{Folder, Interp, PartId, PartKind, Piece, TestDef, TestId};
use crate::launch::{Exit, Job, Launch, LaunchError};
use crate::step::{Location, Look, profiles_beside_objects};

use crate::plan::{Plan, PlanInput};
use crate::watch::{Depth, Sight};
use crate::work::StatusMemo;

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
    /// Tells which tests are wanted, by name.
    pub wanted: &'a (dyn Fn(&str) -> bool + Sync),
    /// Which of them are run.
    pub rerun: Rerun,
}

/// What a test that passed stood on.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct Passed {
    /// All that it says of itself.
    inputs: Digest,
    /// What it was seen to look at, in kept form, with what stood for it.
    looks: Vec<(String, Digest)>,
    /// Where it looked in vain.
    absent: Vec<String>,
}

/// What tests that passed stood on, by name.
#[derive(Debug, Default)]
struct PassedBefore {
    place: PathBuf,
    inputs: BTreeMap<String, Passed>,
}

impl PassedBefore {
    fn load(place: PathBuf) -> PassedBefore {
        let text = read_text(&place).ok().flatten().unwrap_or_default();
        PassedBefore { place, inputs: serde_json::from_str(&text).unwrap_or_default() }
    }

    fn save(&self) -> Result<(), FileError> {
        write_quickly(&self.place, serde_json::to_string(&self.inputs).unwrap_or_default().as_bytes())
    }
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
    for (id, test) in board.tests.iter().filter(|(_, test)| (input.wanted)(&test.name)) {
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
    let next = Mutex::new(due.into_iter());
    let (send, done) = mpsc::channel();
    std::thread::scope(|scope| {
        for _ in 0..input.jobs.max(1) {
            let (next, send) = (&next, send.clone());
            scope.spawn(move || {
                loop {
                    let due = next.lock().unwrap_or_else(std::sync::PoisonError::into_inner).next();
                    let Some((id, inputs)) = due else { return };
                    // Who no longer listens needs no telling.
                    drop(send.send(Told::Starts(id)));
                    let (report, sight) = input.run_one(id);
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
        let held = test.when.as_ref().filter(|when| !input.resolution.holds(input.facts, &when.expr));
        if let Some(when) = held {
            return Some(not_there(id, Some(board.print(&when.expr))));
        }
        let not_made = test.parts.iter().find(|part| !input.is_made(&board.parts[**part]))?;
        Some(not_there(id, board.parts[*not_made].gate().map(|gate| board.print(&gate))))
    }

    /// Returns the digest of all that a test runs and reads, as far as it says so; none when it is given a folder of sources,
    /// of which it may read anything.
    fn inputs_of(&self, test: &TestDef) -> Option<Digest> {
        let (input, folders) = (self.plan_input, &self.plan.folders);
        let board = input.board;
        let mut words: Vec<String> = vec![test.limit_seconds.to_string()];
        for interp in &test.command {
            let word = absolute(input, interp);
            let path = Path::new(&word);
            let of_sources = [&folders.tree, &board.tree.board_root].iter().any(|root| path.starts_with(root));
            if of_sources && path.is_dir() {
                return None;
            }
            words.push(self.status.digest(path).map_or(String::new(), |digest| digest.to_string()));
            words.push(word);
        }
        for option in &test.options {
            words.push(input.resolution.value(*option).to_string());
        }
        for part in self.reached(&test.parts) {
            for output in self.plan.parts.get(&part).into_iter().flatten() {
                let content = self.status.digest(&output.path(folders))?;
                words.extend([output.to_string(), content.to_string()]);
            }
        }
        Some(Digest::of_parts(words.iter().map(String::as_str)))
    }

    /// Parts with all that they use, and with the modules of programs, which may load them.
    fn reached(&self, parts: &[PartId]) -> BTreeSet<PartId> {
        let input = self.plan_input;
        let mut reached: BTreeSet<PartId> = BTreeSet::new();
        // Whatever runs may read the data of the tree.
        let data = input.board.parts.iter().filter(|(_, part)| matches!(part.kind, PartKind::Data));
        let mut open: Vec<PartId> = parts.iter().copied().chain(data.map(|(id, _)| id)).collect();
        let mut modules: BTreeMap<PartId, Vec<PartId>> = BTreeMap::new();
        for (module, part) in input.board.parts.iter() {
            if let PartKind::Module(role) = &part.kind {
                modules.entry(role.program).or_default().push(module);
            }
        }
        while let Some(id) = open.pop() {
            if reached.insert(id) {
                open.extend(input.uses(&input.board.parts[id]));
                open.extend(modules.get(&id).into_iter().flatten());
            }
        }
        reached
    }

    /// What a test that passed stood on, as far as it was seen.
    fn passed(&self, inputs: Digest, sight: Option<&Sight>) -> Passed {
        let Some(sight) = sight else { return Passed { inputs, looks: vec![], absent: vec![] } };
        let folders = &self.plan.folders;
        let work = folders.build.parent().and_then(Path::parent).map(Path::to_path_buf);
        let seeing = Seeing::new(folders, [Some(folders.aside()), work].into_iter().flatten().collect());
        let mut seen = seeing.whole(sight);
        if sight.blind.is_some() {
            seen.looks.insert(Look::Unseen);
        }
        let now = |look: &Look| (look.kept(), look.alone(folders, self.status).unwrap_or_default());
        let looks = seen.looks.iter().map(now).collect();
        Passed { inputs, looks, absent: seen.absent.iter().map(Location::kept).collect() }
    }

    /// Tells whether all that a test stood on when it passed is as it was.
    fn stands(&self, passed: Option<&Passed>, inputs: Digest) -> bool {
        let folders = &self.plan.folders;
        let look = |(look, then): &(String, Digest)| {
            let now = look.parse::<Look>().ok().and_then(|look| look.alone(folders, self.status));
            now == Some(*then)
        };
        let absent = |place: &String| place.parse::<Location>().is_ok_and(|at| !at.path(folders).exists());
        passed.is_some_and(|passed| {
            passed.inputs == inputs && passed.looks.iter().all(look) && passed.absent.iter().all(absent)
        })
    }

    fn run_one(&self, id: TestId) -> (TestReport, Option<Sight>) {
        let input = self.plan_input;
        let test = &input.board.tests[id];
        let words = test.command.iter().map(|word| absolute(input, word)).collect();
        run_one(id, words, test.limit_seconds, input, self.plan, self.launch)
    }
}

fn not_run(test: TestId, outcome: TestOutcome) -> TestReport {
    TestReport { test, outcome, said: String::new(), wall: Duration::ZERO, command: String::new(), log: None }
}

fn not_there(test: TestId, condition: Option<String>) -> TestReport {
    not_run(test, TestOutcome::NotThere(condition))
}

fn absolute(input: &PlanInput<'_>, interp: &Interp) -> String {
    let folders = input.folders;
    let piece = |piece: &Piece| match piece {
        Piece::Part(part) => input.main_output(*part).path(folders).display().to_string(),
        Piece::Folder(Folder::Tree) => folders.tree.display().to_string(),
        Piece::Folder(Folder::Board) => input.board.tree.board_root.display().to_string(),
        Piece::Folder(Folder::Made) => folders.made().display().to_string(),
        Piece::Text(text) => text.clone(),
        Piece::Option(option) => input.resolution.value(*option).to_string(),
        Piece::TreeName => input.board.tree.name.clone(),
        Piece::TreeVersion => input.board.tree.version.clone(),
        Piece::Reads | Piece::Writes | Piece::Source(_) | Piece::Value(_) => String::new(),
    };
    interp.pieces.iter().map(piece).collect()
}

fn run_one(
    test: TestId,
    mut words: Vec<String>,
    limit_seconds: u64,
    input: &PlanInput<'_>,
    plan: &Plan,
    launch: &dyn Launch,
) -> (TestReport, Option<Sight>) {
    let folders = &plan.folders;
    let name = words.remove(0);
    let shell: Vec<String> = std::iter::once(&name).chain(&words).map(|word| shell_word(word)).collect();
    let command = format!("cd {} && {}", shell_word(&folders.outputs().display().to_string()), shell.join(" "));
    let ended = |outcome, said, wall| TestReport { said, wall, command: command.clone(), ..not_run(test, outcome) };
    let failed = |why: String, said: String, wall| ended(TestOutcome::Failed(why), said, wall);
    let found = crate::launch::find_program(&name, &input.tools.search_path, &folders.tree);
    let Some(program) = found else {
        return (failed(format!("there is no program `{name}`"), String::new(), Duration::ZERO), None);
    };
    let environment = [
        ("PATH".to_string(), input.tools.search_path.clone()),
        ("LC_ALL".into(), "C".into()),
        ("TMPDIR".into(), std::env::temp_dir().display().to_string()),
    ];
    let mut environment: BTreeMap<String, String> = environment.into();
    if plan.steps.iter().any(|(_, step)| step.makes_more()) {
        environment.extend(profiles_beside_objects(folders));
    }
    let limit = Some(Duration::from_secs(limit_seconds));
    let job = Job {
        program,
        arguments: words,
        folder: folders.outputs(),
        environment,
        limit,
        watch: Some(Depth::Looks),
        ..Job::default()
    };
    match launch.run(&job) {
        Err(LaunchError { source, .. }) => {
            (failed(format!("cannot start it: {source}"), String::new(), Duration::ZERO), None)
        }
        Ok(outcome) => {
            let said = outcome.stdout_text() + &outcome.stderr_text();
            let report = match outcome.exit {
                Exit::Code(0) => ended(TestOutcome::Passed, said, outcome.wall),
                Exit::Code(code) => failed(format!("exit code {code}"), said, outcome.wall),
                Exit::Signal(signal) => failed(format!("it {}", signal_words(signal)), said, outcome.wall),
                Exit::TimedOut => {
                    failed(format!("stopped after {limit_seconds} s, its time limit"), said, outcome.wall)
                }
                Exit::Stopped => failed("interrupted".into(), said, outcome.wall),
            };
            (report, outcome.sight)
        }
    }
}
