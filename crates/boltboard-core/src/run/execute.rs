//! One step: run aside, looked at, moved into place.

use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use super::depends::{self, included_binaries, search_misses};
use super::failure::{Cause, Failure, first_error};
use crate::base::files::{make_folder, write_whole};
use crate::base::{Digest, FileError, parse_dependencies};
use crate::launch::{Exit, Job, Launch};
use crate::plan::{Action, Fragment, Judge, Location, Step, StepId, ToolPlace, Word};
use crate::store::{Note, Output, StatusMemo, Store};
use crate::survey::{Language, Tools};

/// Makes every linker name the files that it reads, one a line.
const TRACE: &str = "-Wl,-t";

/// What is needed to run steps; shared by all workers.
pub(super) struct Executor<'a> {
    pub judge: &'a Judge<'a>,
    pub launch: &'a dyn Launch,
    pub tools: &'a Tools,
    pub store: &'a Store,
    pub logs: PathBuf,
}

/// What came of a step that ran.
pub(super) enum Ended {
    /// It is done; `note` is none when an input changed while it ran.
    Done { note: Option<Note>, said: String, wall: Duration },
    /// It failed.
    Failed(Box<Failure>),
    /// Everything stops.
    Stopped,
}

impl Executor<'_> {
    /// Runs a step to its end.
    pub fn run(&self, id: StepId, step: &Step) -> Ended {
        let aside = self.judge.plan.folders.aside().join(id.index().to_string());
        let result = match &step.action {
            Action::Write { content } => self.write(step, content),
            Action::Copy => self.copy(step),
            Action::Link { target } => self.name(step, target),
            Action::Compile { .. } | Action::Run { .. } => self.process(step, &aside),
        };
        // What is left aside is of no use; a new run starts with an empty folder anyway.
        let _ = std::fs::remove_dir_all(&aside);
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
        write_whole(&path, content.as_bytes())?;
        self.judge.tokens.forget(&path);
        self.in_process(step, Digest::of(content.as_bytes()), 0o644)
    }

    fn copy(&self, step: &Step) -> Result<Ended, Trouble> {
        let folders = &self.judge.plan.folders;
        let from = step.reads[0].path(folders);
        let content = std::fs::read(&from).map_err(FileError::on("read", &from))?;
        write_whole(&step.writes[0].path(folders), &content)?;
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
        // A copy has the content of what it copies; the other texts follow from the resolution alone.
        let inputs = step.reads.iter().map(|read| (read.kept(), digest)).collect();
        let outputs = vec![Output { location: step.writes[0].kept(), digest, mode }];
        let note = self.note(step, inputs, vec![], vec![], outputs, String::new(), 0);
        Ok(Ended::Done { note: Some(note), said: String::new(), wall: Duration::ZERO })
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
        Note { inputs, absent, macros, macro_names: self.judge.names_digest(step), outputs, said, wall_ms }
    }

    fn process(&self, step: &Step, aside: &Path) -> Result<Ended, Trouble> {
        let started = SystemTime::now();
        let (job, dependency_file) = self.job(step, aside)?;
        let command = repeatable(step, &job, aside);
        let trouble = |cause: Cause, said: String| Trouble { cause, said, command: command.clone() };
        let outcome = self.launch.run(&job).map_err(|e| trouble(Cause::Start(e.source.to_string()), String::new()))?;
        let mut said = outcome.stdout_text();
        said.push_str(&outcome.stderr_text());
        let success: &[i32] = match &step.action {
            Action::Run { success, .. } => success,
            Action::Compile { .. } | Action::Write { .. } | Action::Copy | Action::Link { .. } => &[0],
        };
        match outcome.exit {
            Exit::Code(code) if success.contains(&code) => {}
            Exit::Code(code) => {
                let full = said.contains("No space left on device");
                let cause = if full {
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
        if let Some(note) = &note {
            for output in &note.outputs {
                if let Ok(location) = output.location.parse::<Location>() {
                    self.store.put(&location.path(&self.judge.plan.folders), &output.digest)?;
                }
            }
            self.store.add_note(&self.judge.base_key(step), note)?;
        }
        Ok(Ended::Done { note, said, wall: outcome.wall })
    }

    #[allow(clippy::too_many_arguments, reason = "what was seen of one run, each of another sort")]
    /// Puts together what the step saw. `None` when a file of the tree changed while it ran.
    fn observed(
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
        let headers = &self.judge.plan.headers;
        let reads_header = inputs.iter().any(|input| headers.contains(input));
        let files: Vec<Location> = inputs.iter().filter(|input| !headers.contains(input)).cloned().collect();
        let mut digests = Vec::new();
        for file in &files {
            let path = file.path(folders);
            let of_person = matches!(file, Location::Tree(_) | Location::System(_));
            if of_person && StatusMemo::changed_since(&path, started) {
                return None;
            }
            let content = self.judge.status.digest(&path)?;
            digests.push((file.kept(), self.judge.counted(step, file, content)));
        }
        let (mut macros, mut absent) = (Vec::new(), BTreeSet::new());
        if let Action::Compile { search, language, .. } = &step.action
            && *language != Language::Asm
        {
            macros = self.judge.seen_macros(step, &files, reads_header);
            let mut places = search.clone();
            let own = self.tools.compiler(*language).map(|c| c.include_folders.clone()).unwrap_or_default();
            places.extend(own.into_iter().map(Location::System));
            absent = search_misses(inputs, &places, folders, self.judge.tokens);
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

    fn with_binaries(&self, step: &Step, mut inputs: Vec<Location>) -> Vec<Location> {
        if let Action::Compile { search, .. } = &step.action {
            let own: Vec<Location> = inputs.iter().filter(|i| !matches!(i, Location::System(_))).cloned().collect();
            let taken = own.iter().flat_map(|input| included_binaries(input, search, &self.judge.plan.folders));
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
                let shipped = plan
                    .headers
                    .iter()
                    .find(|h| matches!(h, Location::Made(made) if ends_with(path.as_str(), made.as_str())));
                if let Some(header) = shipped.filter(|header| !inputs.contains(header)) {
                    return Err(Cause::ShippedHeader { found: path.to_string(), header: header.to_string() });
                }
            }
            if let Location::Made(_) = input
                && let Some((maker, made)) = plan.steps.iter().find(|(_, s)| s.writes.contains(input))
                && !step.after.contains(&maker)
                && !step.reads.contains(input)
            {
                return Err(Cause::Undeclared { file: input.to_string(), maker: plan.owner(made).to_string() });
            }
        }
        Ok(inputs)
    }

    fn settle_outputs(&self, step: &Step, aside: &Path) -> Result<Vec<Output>, Trouble> {
        let folders = &self.judge.plan.folders;
        let mut outputs = Vec::new();
        for write in &step.writes {
            let made = aside_of(write, aside);
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

    /// Makes the process of a step; for compiles also the place of the dependency file.
    fn job(&self, step: &Step, aside: &Path) -> Result<(Job, Option<PathBuf>), Trouble> {
        let folders = &self.judge.plan.folders;
        let _ = std::fs::remove_dir_all(aside);
        for write in &step.writes {
            make_folder(aside_of(write, aside).parent().unwrap_or(aside))?;
        }
        let word = |word: &Word| -> String {
            let fragment = |fragment: &Fragment| match fragment {
                Fragment::Text(text) => text.clone(),
                // From the tree's root, paths of sources are the same on every machine.
                Fragment::At(Location::Tree(path))
                    if matches!(step.action, Action::Compile { .. }) && !is_map(word) =>
                {
                    path.to_string()
                }
                Fragment::At(at) => at.path(folders).display().to_string(),
                Fragment::Result(index) => {
                    step.writes.get(*index).map_or(String::new(), |w| aside_of(w, aside).display().to_string())
                }
            };
            word.fragments.iter().map(fragment).collect()
        };
        let mut environment: BTreeMap<String, String> = [
            ("PATH".to_string(), self.tools.search_path.clone()),
            ("LC_ALL".into(), "C".into()),
            ("SOURCE_DATE_EPOCH".into(), "0".into()),
            ("TMPDIR".into(), aside.display().to_string()),
        ]
        .into();
        let (mut arguments, mut dependency_file, mut folder) = (Vec::new(), None, folders.tree.clone());
        match &step.action {
            Action::Compile { words, defines, language, .. } => {
                arguments.extend(words.iter().map(word));
                arguments.extend(defines.iter().map(|(name, value)| {
                    value.as_ref().map_or_else(|| format!("-D{name}"), |value| format!("-D{name}={value}"))
                }));
                arguments.extend(["-c".into(), "-o".into(), aside_of(&step.writes[0], aside).display().to_string()]);
                if *language != Language::Asm {
                    let file = aside.join("reads.d");
                    arguments.extend([
                        "-MD".into(),
                        "-MT".into(),
                        "x".into(),
                        "-MF".into(),
                        file.display().to_string(),
                    ]);
                    dependency_file = Some(file);
                }
            }
            Action::Run { words, folder: at, environment: own, .. } => {
                arguments.extend(words.iter().map(word));
                folder = at.path(folders);
                for (name, words) in own {
                    environment.insert(name.clone(), words.iter().map(word).collect::<Vec<_>>().join(" "));
                }
            }
            Action::Write { .. } | Action::Copy | Action::Link { .. } => {}
        }
        if step.links() {
            arguments.push(TRACE.into());
        }
        let program = match step.tool().map(|tool| &tool.place) {
            Some(ToolPlace::Host { path, .. }) => path.clone(),
            Some(ToolPlace::Made(at)) => at.path(folders),
            Some(ToolPlace::Absent(why)) => {
                let command = step.command().join(" ");
                return Err(Trouble { cause: Cause::NoTool(why.clone()), said: String::new(), command });
            }
            None => PathBuf::new(),
        };
        Ok((Job { program, arguments, folder, environment, limit: None }, dependency_file))
    }
}

fn is_map(word: &Word) -> bool {
    matches!(word.fragments.first(), Some(Fragment::Text(text)) if text == "-ffile-prefix-map=")
}

fn ends_with(path: &str, ending: &str) -> bool {
    path.strip_suffix(ending).is_some_and(|rest| rest.is_empty() || rest.ends_with('/'))
}

fn aside_of(write: &Location, aside: &Path) -> PathBuf {
    let path = match write {
        Location::Tree(path) | Location::Made(path) | Location::Object(path) | Location::Output(path) => path.as_str(),
        Location::System(_) => "file",
    };
    aside.join(path)
}

/// A step's trouble before it is told as a [`Failure`].
struct Trouble {
    cause: Cause,
    said: String,
    command: String,
}

impl From<FileError> for Trouble {
    fn from(error: FileError) -> Trouble {
        let text = format!("{error}: {}", error.source);
        let cause = if error.is_full() { Cause::DiskFull(error.path.display().to_string()) } else { Cause::File(text) };
        Trouble { cause, said: String::new(), command: String::new() }
    }
}

/// Writes a job as a shell would take it, so that it can be run again by hand: what lies aside is gone by then, so results go
/// nowhere.
fn repeatable(step: &Step, job: &Job, aside: &Path) -> String {
    let safe = |c: char| c.is_ascii_alphanumeric() || "-_./=+,:@%".contains(c);
    let quoted = |text: &str| {
        let plain = !text.is_empty() && text.chars().all(safe);
        if plain { text.to_string() } else { format!("'{}'", text.replace('\'', "'\\''")) }
    };
    let mut arguments = job.arguments.as_slice();
    if let Action::Compile { language, .. } = &step.action
        && *language != Language::Asm
    {
        // The last five ask for the dependency file.
        arguments = &arguments[..arguments.len().saturating_sub(5)];
    }
    if step.links() {
        arguments = &arguments[..arguments.len().saturating_sub(1)];
    }
    let aside = aside.display().to_string();
    let word = |word: &String| if word.starts_with(&aside) { "/dev/null".into() } else { quoted(word) };
    let words: Vec<String> = arguments.iter().map(word).collect();
    let (folder, program) = (job.folder.display().to_string(), job.program.display().to_string());
    format!("cd {} && {} {}", quoted(&folder), quoted(&program), words.join(" "))
}
