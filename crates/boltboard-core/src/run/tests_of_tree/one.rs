//! One test: where it runs, what it is given, and whether what it wrote and how it ended is what it should be.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use super::{TestOutcome, TestReport, TestsInput};
use crate::base::files::make_folder;
use crate::base::shell_word;
use crate::board::{Folder, Interp, Piece, SourceFile, TestDef, TestFolder, TestId, Variable};
use crate::launch::{Exit, Job, LaunchError, Outcome};
use crate::plan::PlanInput;
use crate::run::failure::signal_words;
use crate::run::stands::Seeing;
use crate::step::{Location, profiles_beside_objects};
use crate::watch::{Depth, Sight};

/// How much of a line that differs is told, in characters.
const SHOWN: usize = 120;

impl TestsInput<'_> {
    /// Runs a test in its folder, with a folder of its own for what it writes for a while.
    pub(super) fn run_one(&self, id: TestId) -> (TestReport, Option<Sight>) {
        let test = &self.plan_input.board.tests[id];
        let scratch = self.plan.folders.tests().join(test.name.replace('/', "+"));
        // What a run before this one left there is not ours.
        let _ = std::fs::remove_dir_all(&scratch);
        let answer = match make_folder(&scratch) {
            Ok(()) => self.run_in(id, test, &scratch),
            Err(error) => {
                let why = format!("cannot make its folder: {error}");
                (failed(id, why), None)
            }
        };
        if matches!(answer.0.outcome, TestOutcome::Passed) {
            let _ = std::fs::remove_dir_all(&scratch);
        }
        answer
    }

    fn run_in(&self, id: TestId, test: &TestDef, scratch: &Path) -> (TestReport, Option<Sight>) {
        let (input, folders) = (self.plan_input, &self.plan.folders);
        let mut words: Vec<String> = test.command.iter().map(|word| absolute(input, word)).collect();
        let name = words.remove(0);
        let folder = match test.folder {
            TestFolder::Outputs => folders.parts(),
            TestFolder::Scratch => scratch.to_path_buf(),
        };
        let own = self.environment_of(test);
        let stdin = test.input.as_ref().map(|file| self.place_of(file));
        let mut shell: Vec<String> = own.iter().map(|(name, value)| format!("{name}={}", shell_word(value))).collect();
        shell.extend(std::iter::once(&name).chain(&words).map(|word| shell_word(word)));
        shell.extend(stdin.iter().map(|place| format!("< {}", shell_word(&place.display().to_string()))));
        let place = shell_word(&folder.display().to_string());
        let make = match test.folder {
            TestFolder::Outputs => String::new(),
            TestFolder::Scratch => format!("mkdir -p {place} && "),
        };
        let command = format!("{make}cd {place} && {}", shell.join(" "));
        let told = |report: TestReport| TestReport { command: command.clone(), ..report };
        let Some(program) = crate::launch::find_program(&name, &input.tools.search_path, &folders.tree) else {
            return (told(failed(id, format!("there is no program `{name}`"))), None);
        };
        let mut environment: BTreeMap<String, String> = [
            ("PATH".to_string(), input.tools.search_path.clone()),
            ("LC_ALL".into(), "C".into()),
            ("TMPDIR".into(), scratch.display().to_string()),
        ]
        .into();
        if self.plan.steps.iter().any(|(_, step)| step.makes_more()) {
            environment.extend(profiles_beside_objects(folders));
        }
        environment.extend(own);
        let job = Job {
            program,
            arguments: words,
            folder,
            environment,
            limit: Some(Duration::from_secs(test.limit_seconds)),
            watch: Some(Depth::Looks),
            input: stdin,
            output: None,
        };
        match self.launch.run(&job) {
            Err(LaunchError { source, .. }) => (told(failed(id, format!("cannot start it: {source}"))), None),
            Ok(outcome) => {
                let fault = self.fault_of(test, &outcome);
                let ended = fault.map_or(TestOutcome::Passed, TestOutcome::Failed);
                let said = outcome.stdout_text() + &outcome.stderr_text();
                let report = TestReport { said, wall: outcome.wall, ..not_run(id, ended) };
                (told(report), outcome.sight)
            }
        }
    }

    /// The variables that a test's definition gives it.
    fn environment_of(&self, test: &TestDef) -> Vec<(String, String)> {
        let value = |name: &String, value: &Variable| match value {
            Variable::Set(text) => Some(absolute(self.plan_input, text)),
            Variable::Passed => self.plan_input.tools.variables.get(name).cloned(),
        };
        test.environment.iter().filter_map(|(name, of)| Some((name.clone(), value(name, of)?))).collect()
    }

    fn place_of(&self, file: &SourceFile) -> PathBuf {
        match file {
            SourceFile::Tree(path) => path.below(&self.plan.folders.tree),
            SourceFile::Beside(path) => path.below(&self.plan_input.board.tree.board_root),
            SourceFile::Part(part) => self.plan_input.main_output(*part).path(&self.plan.folders),
        }
    }

    /// Why a test that ended has failed; `None` when it passed.
    fn fault_of(&self, test: &TestDef, outcome: &Outcome) -> Option<String> {
        match outcome.exit {
            Exit::Code(code) if test.success.contains(&code) => {}
            Exit::Code(code) => return Some(format!("exit code {code}")),
            Exit::Signal(signal) => return Some(format!("it {}", signal_words(signal))),
            Exit::TimedOut => return Some(format!("stopped after {} s, its time limit", test.limit_seconds)),
            Exit::Stopped => return Some("interrupted".into()),
        }
        if let Some(file) = &test.output {
            let place = self.place_of(file);
            let wanted = match std::fs::read(&place) {
                Ok(wanted) => wanted,
                Err(error) => return Some(format!("cannot read {}, what it is to write: {error}", place.display())),
            };
            if let Some(difference) = difference(&wanted, &outcome.stdout) {
                return Some(difference);
            }
        }
        let seeing = Seeing::new(&self.plan.folders, vec![]);
        let written = outcome.sight.iter().flat_map(|sight| seeing.written(sight));
        let of_tree = written.into_iter().find(|at| matches!(at, Location::Tree(path) if !is_cache(path.as_str())));
        of_tree.map(|at| format!("it writes to {at}, a file of the sources: say `scratch = true`, and write there"))
    }
}

/// Whether a path is one that interpreters and version controls keep for themselves.
fn is_cache(path: &str) -> bool {
    path.split('/').any(|folder| folder == "__pycache__" || folder.starts_with(".git"))
}

/// The first line in which a text is not as it should be.
fn difference(wanted: &[u8], given: &[u8]) -> Option<String> {
    if wanted == given {
        return None;
    }
    let (wanted, given) = (String::from_utf8_lossy(wanted).into_owned(), String::from_utf8_lossy(given).into_owned());
    let (mut want, mut have) = (wanted.lines(), given.lines());
    let mut number = 0;
    loop {
        number += 1;
        match (want.next(), have.next()) {
            (Some(one), Some(other)) if one == other => {}
            (None, None) => return Some("what it writes ends with another line ending than it should".into()),
            (one, other) => {
                let shown = |line: Option<&str>| {
                    line.map_or("nothing".to_string(), |line| {
                        format!("`{}`", line.chars().take(SHOWN).collect::<String>().escape_debug())
                    })
                };
                return Some(format!("line {number} of what it writes is {}, not {}", shown(other), shown(one)));
            }
        }
    }
}

/// A report of a test that was not run.
pub(super) fn not_run(test: TestId, outcome: TestOutcome) -> TestReport {
    TestReport { test, outcome, said: String::new(), wall: Duration::ZERO, command: String::new(), log: None }
}

/// A report of a test that is not there.
pub(super) fn not_there(test: TestId, condition: Option<String>) -> TestReport {
    not_run(test, TestOutcome::NotThere(condition))
}

fn failed(test: TestId, why: String) -> TestReport {
    not_run(test, TestOutcome::Failed(why))
}

/// Fills in a text with absolute places.
pub(super) fn absolute(input: &PlanInput<'_>, interp: &Interp) -> String {
    let folders = input.folders;
    let piece = |piece: &Piece| match piece {
        Piece::Part(part) => input.main_output(*part).path(folders).display().to_string(),
        Piece::Beside(path) => path.below(&input.board.tree.board_root).display().to_string(),
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
