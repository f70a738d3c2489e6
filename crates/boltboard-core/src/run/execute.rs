//! One step: run aside, looked at, moved into place.

use std::collections::BTreeSet;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use super::build::Reads;
use super::depends::{self, included_binaries, search_misses};
use super::failure::{Cause, Failure, first_error, forbidden};
use super::job::{Ends, Run, aside_of, repeatable};
use super::same_text::Experience;
use crate::base::files::{make_folder, write_quickly, write_whole};
use crate::base::{Digest, FileError, parse_dependencies};
use crate::launch::{Exit, Job, Launch, Used};
use crate::plan::{Action, Alike, Judge, Location, Step, StepId};
use crate::store::{Note, Output, StatusMemo, Store};
use crate::survey::{Language, Tools};

/// What is needed to run steps; shared by all workers.
pub(super) struct Executor<'a> {
    pub judge: &'a Judge<'a>,
    pub launch: &'a dyn Launch,
    pub tools: &'a Tools,
    pub store: &'a Store,
    pub logs: PathBuf,
    pub experience: Experience,
    pub reads: Reads,
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
    /// `worker` numbers those that run side by side: each has a folder aside.
    pub fn run(&self, worker: usize, id: StepId, step: &Step, alike: Option<Alike>) -> Ended {
        let aside = self.judge.plan.folders.aside().join(worker.to_string());
        let result = match &step.action {
            Action::Write { content } => self.write(step, content),
            Action::Copy => self.copy(step),
            Action::Link { target } => self.name(step, target),
            Action::Compile { .. } => self.compile(step, &aside, alike),
            Action::Run(_) => self.process(step, &aside, None),
        };
        // A compile leaves nothing but the list of what it read; making folders anew for each costs more than compiling.
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
        self.judge.tokens.forget(&path);
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
    fn note(
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

    pub(super) fn process(&self, step: &Step, aside: &Path, text: Option<Digest>) -> Result<Ended, Trouble> {
        let started = SystemTime::now();
        let run = Run { folders: &self.judge.plan.folders, defines: None, ends: Ends::Whole };
        let (job, dependency_file) = self.job(step, aside, &run)?;
        let command = repeatable(step, &job, aside);
        let trouble = |cause: Cause, said: String| Trouble { cause, said, command: command.clone() };
        let outcome = self.launch.run(&job).map_err(|e| trouble(Cause::Start(e.source.to_string()), String::new()))?;
        let mut said = outcome.stdout_text();
        said.push_str(&outcome.stderr_text());
        let success: &[i32] = match &step.action {
            Action::Run(command) => &command.success,
            Action::Compile { .. } | Action::Write { .. } | Action::Copy | Action::Link { .. } => &[0],
        };
        match outcome.exit {
            Exit::Code(code) if success.contains(&code) => {}
            Exit::Code(code) => {
                let full = said.contains("No space left on device");
                let hidden = job.fence.as_ref().and_then(|_| forbidden(&said));
                let cause = if let Some(file) = hidden {
                    Cause::UndeclaredRead(file)
                } else if full {
                    Cause::DiskFull(self.judge.plan.folders.build.display().to_string())
                } else {
                    Cause::Code(code)
                };
                return Err(trouble(cause, said));
            }
            Exit::Signal(signal) => return Err(trouble(Cause::Signal(signal), said)),
            Exit::TimedOut => return Err(trouble(Cause::Signal(9), said)),
            Exit::Stopped => return Ok(Ended::Stopped),
        }
        let inputs = match dependency_file {
            Some(file) => self.inputs_of_compile(step, &file).map_err(|cause| trouble(cause, said.clone()))?,
            None if step.links() => {
                let traced = depends::traced(&outcome.stdout_text(), &step.reads, aside, &self.judge.plan.folders);
                said = traced.rest + &outcome.stderr_text();
                traced.inputs
            }
            None => step.reads.clone(),
        };
        let inputs = self.with_binaries(step, inputs);
        let outputs = self.settle_outputs(step, aside).map_err(|t| Trouble {
            command: command.clone(),
            said: said.clone(),
            ..t
        })?;
        let wall_ms = u64::try_from(outcome.wall.as_millis()).unwrap_or(u64::MAX);
        let note = self.observed(step, &job, &inputs, started, outputs, said.clone(), wall_ms);
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
            self.store.add_note(&self.judge.base_key(step), note)?;
        }
        Ok(Ended::Done { note, said, used: outcome.used })
    }

    #[allow(clippy::too_many_arguments, reason = "what was seen of one run, each of another sort")]
    /// Puts together what the step saw. `None` when a file of the tree changed while it ran.
    pub(super) fn observed(
        &self,
        step: &Step,
        job: &Job,
        inputs: &[Location],
        started: SystemTime,
        outputs: Vec<Output>,
        said: String,
        wall_ms: u64,
    ) -> Option<Note> {
        let folders = &self.judge.plan.folders;
        let (headers, files): (Vec<Location>, Vec<Location>) =
            inputs.iter().cloned().partition(|input| self.judge.plan.is_header(input));
        let reads_header = !headers.is_empty();
        let mut digests = Vec::new();
        for file in &files {
            let path = file.path(folders);
            let of_person = matches!(file, Location::Tree(_) | Location::System(_));
            if of_person && StatusMemo::changed_since(&path, started) {
                return None;
            }
            let content = self.judge.status.digest(&path)?;
            if matches!(file, Location::Tree(_)) && step.source().is_some_and(|source| source != file) {
                // Kept so that the text of then can be had again; without it, a compile is only not spared.
                let _ = self.store.copy(&path, &content);
            }
            digests.push((file.kept(), self.judge.counted(step, file, content)));
        }
        let (mut macros, mut absent) = (Vec::new(), BTreeSet::new());
        if let Action::Compile { setting, language } = &step.action
            && *language != Language::Asm
        {
            macros = self.judge.seen_macros(step, &files, reads_header);
            let mut places = setting.search.before.clone();
            let own = self.tools.compiler(*language).map(|c| c.include_folders.clone()).unwrap_or_default();
            places.extend(own.into_iter().map(Location::System));
            places.extend(setting.search.after.iter().cloned());
            absent = search_misses(inputs, &setting.search.quoted, &places, folders, self.judge.tokens);
        }
        if step.links() {
            let program = &job.program;
            let linker =
                [Language::C, Language::Cxx].into_iter().filter_map(|language| self.tools.compiler(language).ok());
            let own = linker.filter(|compiler| compiler.path == *program).map(|c| c.library_folders.clone()).next();
            absent = depends::library_misses(inputs, &job.arguments, &own.unwrap_or_default(), folders);
        }
        Some(self.note(step, digests, absent.iter().map(Location::kept).collect(), macros, outputs, said, wall_ms))
    }

    pub(super) fn with_binaries(&self, step: &Step, mut inputs: Vec<Location>) -> Vec<Location> {
        if let Action::Compile { setting, .. } = &step.action {
            let own: Vec<Location> = inputs.iter().filter(|i| !matches!(i, Location::System(_))).cloned().collect();
            let taken = own.iter().flat_map(|input| {
                included_binaries(input, &setting.search.before, &self.judge.plan.folders, self.judge.tokens)
            });
            for file in taken.collect::<Vec<_>>() {
                if !inputs.contains(&file) {
                    inputs.push(file);
                }
            }
        }
        inputs
    }

    fn inputs_of_compile(&self, step: &Step, dependency_file: &Path) -> Result<Vec<Location>, Cause> {
        let plan = self.judge.plan;
        let text = std::fs::read_to_string(dependency_file).unwrap_or_default();
        let mut inputs: Vec<Location> = step.reads.clone();
        for file in parse_dependencies(&text) {
            let location = Location::of(Path::new(&file), &plan.folders);
            if !inputs.contains(&location) {
                inputs.push(location);
            }
        }
        for input in &inputs {
            if let Location::Tree(path) = input {
                let mut headers = plan.headers.iter().map(|header| &header.at);
                let shipped =
                    headers.find(|h| matches!(h, Location::Made(made) if ends_with(path.as_str(), made.as_str())));
                if let Some(header) = shipped.filter(|header| !inputs.contains(header)) {
                    return Err(Cause::ShippedHeader { found: path.to_string(), header: header.to_string() });
                }
            }
            if let Location::Made(_) = input
                && let Some(maker) = plan.maker(input)
                && !step.after.contains(&maker)
                && !step.reads.contains(input)
            {
                return Err(Cause::Undeclared {
                    file: input.to_string(),
                    maker: plan.owner(&plan.steps[maker]).to_string(),
                });
            }
        }
        Ok(inputs)
    }

    fn settle_outputs(&self, step: &Step, aside: &Path) -> Result<Vec<Output>, Trouble> {
        let folders = &self.judge.plan.folders;
        let mut outputs = Vec::new();
        for write in &step.writes {
            let made = aside_of(step, write, aside);
            if !made.is_file() {
                return Err(Trouble {
                    cause: Cause::NoOutput(write.to_string()),
                    said: String::new(),
                    command: String::new(),
                });
            }
            let digest = Digest::of_file(&made).map_err(FileError::on("read", &made))?;
            let mode = std::fs::metadata(&made).map_err(FileError::on("look at", &made))?.permissions().mode() & 0o777;
            let target = write.path(folders);
            make_folder(target.parent().unwrap_or(Path::new(".")))?;
            std::fs::rename(&made, &target).map_err(FileError::on("move into place", &target))?;
            self.judge.tokens.forget(&target);
            outputs.push(Output { location: write.kept(), digest, mode });
        }
        Ok(outputs)
    }
}

fn ends_with(path: &str, ending: &str) -> bool {
    path.strip_suffix(ending).is_some_and(|rest| rest.is_empty() || rest.ends_with('/'))
}

/// A step's trouble before it is told as a [`Failure`].
pub(super) struct Trouble {
    pub cause: Cause,
    pub said: String,
    pub command: String,
}

impl From<FileError> for Trouble {
    fn from(error: FileError) -> Trouble {
        let text = format!("{error}: {}", error.source);
        let cause = if error.is_full() { Cause::DiskFull(error.path.display().to_string()) } else { Cause::File(text) };
        Trouble { cause, said: String::new(), command: String::new() }
    }
}
