//! Does what is installed work? Short runs as the tree declares them, in a clean environment and an empty folder.

use std::path::{Path, PathBuf};
use std::time::Duration;

use super::staged;
use crate::base::FileError;
use crate::board::SmokeDef;
use crate::launch::{Exit, Job, Launch};
use crate::plan::PlanInput;

/// Where programs look for others while they are tried.
const SEARCH_PATH: &str = "/usr/bin:/bin";

/// A run with the values of now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SmokeRun {
    /// Its name.
    pub name: String,
    /// One line about it.
    pub summary: String,
    /// The program, where it lies.
    pub program: PathBuf,
    /// Its arguments.
    pub arguments: Vec<String>,
    /// What it must say.
    pub says: Vec<String>,
    /// What it must not say.
    pub silent: Vec<String>,
    /// Exit codes that mean that it works.
    pub success: Vec<i32>,
    /// How long it may take.
    pub limit: Duration,
}

/// What came of a run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Smoked {
    /// It works.
    Works,
    /// It does not.
    Fails {
        /// Why, in words.
        why: String,
        /// What it said.
        said: String,
    },
}

/// The runs that apply, in the order of the definitions. What was unpacked below a folder is run there.
pub fn smoke_runs(input: &PlanInput<'_>, staging: Option<&Path>) -> Vec<SmokeRun> {
    let is_made = |smoke: &SmokeDef| input.is_made(&input.board.parts[smoke.program]);
    let applies = |smoke: &&SmokeDef| input.holds(smoke.when.as_ref()) && is_made(smoke);
    let run = |smoke: &SmokeDef| {
        let [arguments, says, silent] = smoke.lists().map(|list| input.filled(list));
        Some(SmokeRun {
            name: smoke.name.clone(),
            summary: smoke.summary.clone(),
            program: staged(&input.installed_program(smoke.program)?, staging),
            arguments,
            says,
            silent,
            success: smoke.success.clone(),
            limit: Duration::from_secs(smoke.limit_seconds),
        })
    };
    input.board.smokes.iter().map(|(_, smoke)| smoke).filter(applies).filter_map(run).collect()
}

/// Runs one. Libraries of what was unpacked are looked for in `libraries` first.
///
/// # Errors
/// No folder could be made for it.
pub fn smoke(run: &SmokeRun, libraries: &[PathBuf], launch: &dyn Launch) -> Result<Smoked, FileError> {
    let fails = |why: String, said: String| Ok(Smoked::Fails { why, said });
    if !run.program.is_file() {
        return fails(format!("{} is not there", run.program.display()), String::new());
    }
    let place = std::env::temp_dir();
    let scratch = tempfile::tempdir().map_err(FileError::on("make a folder in", &place))?;
    let text = |path: &Path| path.display().to_string();
    let mut environment = std::collections::BTreeMap::from([
        ("PATH".to_string(), SEARCH_PATH.to_string()),
        ("HOME".to_string(), text(scratch.path())),
        ("LC_ALL".to_string(), "C.UTF-8".to_string()),
    ]);
    if !libraries.is_empty() {
        let all: Vec<String> = libraries.iter().map(|folder| text(folder)).collect();
        environment.insert("LD_LIBRARY_PATH".to_string(), all.join(":"));
    }
    let job = Job {
        program: run.program.clone(),
        arguments: run.arguments.clone(),
        folder: scratch.path().to_path_buf(),
        environment,
        limit: Some(run.limit),
        watch: None,
        input: None,
        output: None,
    };
    let outcome = match launch.run(&job) {
        Ok(outcome) => outcome,
        Err(error) => return fails(format!("it cannot be run: {error}"), String::new()),
    };
    let said = outcome.stdout_text() + &outcome.stderr_text();
    match outcome.exit {
        Exit::Code(code) if run.success.contains(&code) => {}
        Exit::Code(code) => return fails(format!("it ended with {code}"), said),
        Exit::TimedOut => return fails(format!("it did not end within {} s", run.limit.as_secs()), said),
        _ => return fails("it did not end by itself".to_string(), said),
    }
    if let Some(missing) = run.says.iter().find(|text| !said.contains(text.as_str())) {
        return fails(format!("it does not say `{missing}`"), said);
    }
    if let Some(wrong) = run.silent.iter().find(|text| said.contains(text.as_str())) {
        return fails(format!("it says `{wrong}`"), said);
    }
    Ok(Smoked::Works)
}
