//! One step: run aside, looked at, moved into place.

use std::collections::HashSet;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use super::build::Reads;
use super::depends::{Absences, traced};
use super::failure::{Cause, Failure, first_error, forbidden};
use super::job::{Ends, Run, aside_of, repeatable};
use super::observe::Account;
use super::same_text::Experience;
use crate::base::files::{make_folder, move_file, write_quickly, write_whole};
use crate::base::{Digest, FileError};
use crate::launch::{Exit, Job, Launch, LaunchError, Used};
use crate::plan::{Action, Alike, Judge, Location, Step, StepId};
use crate::store::{Note, Output, Store, time_of_files};
use crate::survey::Tools;

/// What is needed to run steps; shared by all workers.
pub(super) struct Executor<'a> {
    pub judge: &'a Judge<'a>,
    pub launch: &'a dyn Launch,
    pub tools: &'a Tools,
    pub store: &'a Store,
    pub logs: PathBuf,
    pub experience: Experience,
    pub reads: Reads,
    /// The time of the build as `__TIMESTAMP__` spells it.
    pub timestamp: String,
    pub absences: Absences,
    /// Headers whose content was put into the store in this build.
    pub headers_kept: Mutex<HashSet<Digest>>,
}

/// What came of a step that ran.
pub(super) enum Ended {
    /// It is done; `note` is none when an input changed while it ran.
    Done { note: Option<Note>, said: String, used: Used },
    /// It was spared: its text after preprocessing is the same as for an earlier result.
    Spared { note: Note, in_place: bool },
    /// It failed.
    Failed(Box<Failure>),
    /// Everything stops.
    Stopped,
}

impl Executor<'_> {
    /// Runs a step to its end.
    /// `worker` numbers those that run side by side: each has a folder aside. `passed` is called once its process has ended
    /// well, before its results are put away.
    pub fn run(&self, worker: usize, id: StepId, step: &Step, alike: Option<Alike>, passed: &dyn Fn()) -> Ended {
        let aside = self.judge.plan.folders.aside().join(worker.to_string());
        let result = match &step.action {
            Action::Write { content } => self.write(step, content),
            Action::Copy => self.copy(step),
            Action::Link { target } => self.name(step, target),
            Action::Compile { .. } => self.compile(step, &aside, alike, passed),
            Action::Run(_) => self.process(step, &aside, None, passed),
        };
        // A compile leaves nothing but the list of what it read; making folders anew for each costs too much.
        let tidy = matches!(step.action, Action::Compile { .. }) && matches!(result, Ok(Ended::Done { .. }));
        if step.has_process() && !tidy {
            let _ = std::fs::remove_dir_all(&aside);
        }
        match result {
            Ok(ended) => ended,
            Err(trouble) => Ended::Failed(Box::new(self.failure(id, step, trouble))),
        }
    }

    fn failure(&self, id: StepId, step: &Step, trouble: Trouble) -> Failure {
        let command = trouble.command;
        let text = format!("{command}\n\n{}\n{}\n", trouble.said, trouble.cause);
        let log = self.logs.join(format!("{}.log", step.name.replace('/', "+")));
        let log = write_whole(&log, text.as_bytes()).is_ok().then_some(log);
        Failure {
            step: id,
            first: first_error(&trouble.said),
            cause: trouble.cause,
            said: trouble.said,
            command,
            brought_by: step.brought_by.clone(),
            log,
        }
    }

    fn write(&self, step: &Step, content: &str) -> Result<Ended, Trouble> {
        let path = step.writes[0].path(&self.judge.plan.folders);
        let digest = Digest::of(content.as_bytes());
        write_quickly(&path, content.as_bytes())?;
        if !self.judge.plan.is_header(&step.writes[0]) {
            self.store.copy(&path, &digest)?;
        }
        self.in_process(step, digest, 0o644)
    }

    fn copy(&self, step: &Step) -> Result<Ended, Trouble> {
        let folders = &self.judge.plan.folders;
        let from = step.reads[0].path(folders);
        let content = std::fs::read(&from).map_err(FileError::on("read", &from))?;
        write_quickly(&step.writes[0].path(folders), &content)?;
        self.in_process(step, Digest::of(&content), 0o644)
    }

    fn name(&self, step: &Step, target: &str) -> Result<Ended, Trouble> {
        let path = step.writes[0].path(&self.judge.plan.folders);
        make_folder(path.parent().unwrap_or(Path::new(".")))?;
        match std::fs::remove_file(&path) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => return Err(FileError::on("remove", &path)(e).into()),
            _ => {}
        }
        std::os::unix::fs::symlink(target, &path).map_err(FileError::on("make the link", &path))?;
        self.in_process(step, Digest::of(target.as_bytes()), 0o777)
    }

    fn in_process(&self, step: &Step, digest: Digest, mode: u32) -> Result<Ended, Trouble> {
        if !matches!(step.action, Action::Link { .. }) {
            self.judge.status.learn(&step.writes[0].path(&self.judge.plan.folders), digest);
        }
        // A copy has the content of what it copies; the other texts follow from the resolution alone.
        let inputs = step.reads.iter().map(|read| (read.kept(), digest)).collect();
        let outputs = vec![Output { location: step.writes[0].kept(), digest, mode }];
        let note = self.note(step, inputs, vec![], vec![], outputs, String::new(), 0);
        Ok(Ended::Done { note: Some(note), said: String::new(), used: Used::default() })
    }

    #[allow(clippy::too_many_arguments, reason = "the fields of a note, each of another sort, set in this one place")]
    pub(super) fn note(
        &self,
        step: &Step,
        inputs: Vec<(String, Digest)>,
        absent: Vec<String>,
        macros: Vec<(String, Option<String>)>,
        outputs: Vec<Output>,
        said: String,
        wall_ms: u64,
    ) -> Note {
        Note {
            inputs,
            absent,
            macros,
            macro_names: self.judge.names_digest(step),
            outputs,
            said,
            wall_ms,
            memory: 0,
            text: None,
        }
    }

    /// Tells what was wrong with how a step's process ended.
    fn bad_end(&self, step: &Step, job: &Job, exit: Exit, said: &str) -> Option<Cause> {
        let success: &[i32] = match &step.action {
            Action::Run(command) => &command.success,
            Action::Compile { .. } | Action::Write { .. } | Action::Copy | Action::Link { .. } => &[0],
        };
        match exit {
            Exit::Code(code) if success.contains(&code) => None,
            Exit::Code(code) => {
                let hidden = job.fence.as_ref().and_then(|_| forbidden(said)).map(Cause::UndeclaredRead);
                let full = said.contains("No space left on device");
                let full = full.then(|| Cause::DiskFull(self.judge.plan.folders.build.display().to_string()));
                Some(hidden.or(full).unwrap_or(Cause::Code(code)))
            }
            Exit::Signal(signal) => Some(Cause::Signal(signal)),
            Exit::TimedOut | Exit::Stopped => Some(Cause::Signal(9)),
        }
    }

    pub(super) fn process(
        &self,
        step: &Step,
        aside: &Path,
        text: Option<Digest>,
        passed: &dyn Fn(),
    ) -> Result<Ended, Trouble> {
        let started = time_of_files();
        let run = Run { folders: &self.judge.plan.folders, defines: None, ends: Ends::Whole };
        let (job, dependency_file) = self.job(step, aside, &run)?;
        let trouble = |cause: Cause, said: &str| {
            let command = repeatable(step, &job, aside);
            Trouble { cause, said: said.to_string(), command }
        };
        let outcome = self.launch.run(&job).map_err(|e| trouble(not_started(&job, &e), ""))?;
        let mut said = outcome.stdout_text() + &outcome.stderr_text();
        if outcome.exit == Exit::Stopped {
            return Ok(Ended::Stopped);
        }
        if let Some(cause) = self.bad_end(step, &job, outcome.exit, &said) {
            return Err(trouble(cause, &said));
        }
        passed();
        let outputs = outputs_of(step, aside).map_err(|cause| trouble(cause, &said))?;
        let mut inputs = match &dependency_file {
            Some(file) => self.inputs_of_compile(step, file).map_err(|cause| trouble(cause, &said))?,
            None if step.links() => {
                let traced = traced(&outcome.stdout_text(), &step.reads, aside, &self.judge.plan.folders);
                said = traced.rest + &outcome.stderr_text();
                traced.inputs
            }
            None => step.reads.clone(),
        };
        self.add_named(step, &job, aside, &mut inputs).map_err(|cause| trouble(cause, &said))?;
        for write in &step.writes {
            let place = write.path(&self.judge.plan.folders);
            move_file(&aside_of(step, write, aside), &place).map_err(|e| trouble(e.into(), &said))?;
        }
        let (taken_in, wall) = (&|| self.taken_in(step, aside), outcome.wall);
        let account = Account { job: &job, inputs, taken_in, started, outputs, said: said.clone(), wall };
        let note = self.observed(step, account);
        let note = note.map(|note| Note { text, memory: outcome.used.memory, ..note });
        if let Some(note) = &note {
            for output in &note.outputs {
                if let Ok(location) = output.location.parse::<Location>() {
                    let path = location.path(&self.judge.plan.folders);
                    match location {
                        Location::Object(_) => self.store.put(&path, &output.digest)?,
                        _ => self.store.copy(&path, &output.digest)?,
                    }
                    self.judge.status.learn(&path, output.digest);
                }
            }
            self.store.add_note(&self.judge.base_key(step), note, dependency_file.as_deref())?;
        }
        Ok(Ended::Done { note, said, used: outcome.used })
    }
}

/// What a step has made, while it still lies aside.
fn outputs_of(step: &Step, aside: &Path) -> Result<Vec<Output>, Cause> {
    let output = |write: &Location| {
        let made = aside_of(step, write, aside);
        let status = std::fs::metadata(&made).ok().filter(std::fs::Metadata::is_file);
        let mode = status.ok_or_else(|| Cause::NoOutput(write.to_string()))?.permissions().mode() & 0o777;
        let digest = Digest::of_file(&made).map_err(FileError::on("read", &made))?;
        Ok(Output { location: write.kept(), digest, mode })
    };
    step.writes.iter().map(output).collect()
}

/// Why a process could not be started.
fn not_started(job: &Job, error: &LaunchError) -> Cause {
    let folder = job.folder.display();
    let lost = || format!("its folder {folder} is not there: make it, or correct the part's `folder`");
    Cause::Start(if job.folder.is_dir() { error.source.to_string() } else { lost() })
}

/// A step's trouble before it is told as a [`Failure`].
pub(super) struct Trouble {
    pub cause: Cause,
    pub said: String,
    pub command: String,
}

impl From<FileError> for Trouble {
    fn from(error: FileError) -> Trouble {
        Trouble { cause: error.into(), said: String::new(), command: String::new() }
    }
}
