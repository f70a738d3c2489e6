//! The tree's own tests, run one after the other on what was built.

use std::time::Duration;

use crate::board::TestId;
use crate::launch::{Exit, Job, Launch, LaunchError};
use crate::plan::PlanInput;
use crate::store::Folders;

/// How a test ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TestOutcome {
    /// It passed.
    Passed,
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
}

/// Runs the tests of a tree that was built.
pub fn run_tests(
    input: &PlanInput<'_>,
    folders: &Folders,
    launch: &dyn Launch,
    wanted: &dyn Fn(&str) -> bool,
    ended: &mut dyn FnMut(&TestReport),
) -> Vec<TestReport> {
    let mut reports = Vec::new();
    for (id, test) in input.board.tests.iter().filter(|(_, test)| wanted(&test.name)) {
        let not_made = test.parts.iter().find(|part| !input.is_made(&input.board.parts[**part]));
        let held = test.when.as_ref().filter(|when| !input.resolution.holds(input.facts, &when.expr));
        let report = if let Some(when) = held {
            not_there(id, Some(input.board.print(&when.expr)))
        } else if let Some(part) = not_made {
            not_there(id, input.board.parts[*part].gate().map(|gate| input.board.print(&gate)))
        } else {
            let words = test.command.iter().map(|word| absolute(input, word, folders)).collect();
            run_one(id, words, test.limit_seconds, input, folders, launch)
        };
        ended(&report);
        reports.push(report);
    }
    reports
}

fn not_there(test: TestId, condition: Option<String>) -> TestReport {
    TestReport { test, outcome: TestOutcome::NotThere(condition), said: String::new(), wall: Duration::ZERO }
}

fn absolute(input: &PlanInput<'_>, interp: &crate::board::Interp, folders: &Folders) -> String {
    use crate::board::{Folder, Piece};
    let piece = |piece: &Piece| match piece {
        Piece::Part(part) => input.main_output(*part).path(folders).display().to_string(),
        Piece::Folder(Folder::Tree) => folders.tree.display().to_string(),
        Piece::Folder(Folder::Board) => input.board.tree.board_root.display().to_string(),
        Piece::Folder(Folder::Made) => folders.made().display().to_string(),
        Piece::Text(text) => text.clone(),
        Piece::Option(option) => input.resolution.value(*option).to_string(),
        Piece::TreeName => input.board.tree.name.clone(),
        Piece::TreeVersion => input.board.tree.version.clone(),
        Piece::Reads | Piece::Writes => String::new(),
    };
    interp.pieces.iter().map(piece).collect()
}

fn run_one(
    test: TestId,
    mut words: Vec<String>,
    limit_seconds: u64,
    input: &PlanInput<'_>,
    folders: &Folders,
    launch: &dyn Launch,
) -> TestReport {
    let name = words.remove(0);
    let failed = |why: String, said: String, wall| TestReport { test, outcome: TestOutcome::Failed(why), said, wall };
    let found = crate::launch::find_program(&name, &input.tools.search_path, &folders.tree);
    let Some(program) = found else {
        return failed(format!("there is no program `{name}`"), String::new(), Duration::ZERO);
    };
    let environment = [
        ("PATH".to_string(), input.tools.search_path.clone()),
        ("LC_ALL".into(), "C".into()),
        ("TMPDIR".into(), std::env::temp_dir().display().to_string()),
    ];
    let limit = Some(Duration::from_secs(limit_seconds));
    let job = Job { program, arguments: words, folder: folders.outputs(), environment: environment.into(), limit };
    match launch.run(&job) {
        Err(LaunchError { source, .. }) => failed(format!("cannot start it: {source}"), String::new(), Duration::ZERO),
        Ok(outcome) => {
            let said = outcome.stdout_text() + &outcome.stderr_text();
            match outcome.exit {
                Exit::Code(0) => TestReport { test, outcome: TestOutcome::Passed, said, wall: outcome.wall },
                Exit::Code(code) => failed(format!("exit code {code}"), said, outcome.wall),
                Exit::Signal(signal) => failed(format!("ended by signal {signal}"), said, outcome.wall),
                Exit::TimedOut => failed(format!("took longer than {limit_seconds} s"), said, outcome.wall),
                Exit::Stopped => failed("interrupted".into(), said, outcome.wall),
            }
        }
    }
}
