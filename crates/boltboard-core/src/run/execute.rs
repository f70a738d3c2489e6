//! One step: run aside, looked at, moved into place.

use std::collections::HashSet;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use super::build::Reads;
use super::ended::{Concluded, Ended, Trouble};
use super::failure::{Cause, Failure, LeftOver, first_error};
use super::reaches::Reaches;
use super::same_text::Experience;
use super::stands::{self, Absences, Account, Known, Stands, Watching};
use crate::base::files::{make_folder, make_room, move_file, remove_file, write_whole};
use crate::base::{Digest, FileError, shell_word};
use crate::launch::{Exit, Job, Launch, LaunchError, Outcome, Used};
use crate::step::{AbsentTool, Ends, Location, Look, Made, Makes, Process, Setup, Step, StepId, repeatable};

use crate::judge::{Ahead, Alike, Judge};
use crate::store::{Note, Output, Store};

use crate::survey::Tools;
use crate::watch::Depth;
use crate::work::time_of_files;

/// What is needed to run steps; shared by all workers.
pub(super) struct Executor<'a> {
    pub judge: &'a Judge<'a>,
    pub launch: &'a dyn Launch,
    pub tools: &'a Tools,
    pub store: &'a Store,
    pub logs: PathBuf,
    pub experience: Experience,
    pub reads: Reads,
    pub watching: Watching,
    /// Held while what a class of compiles stands on is put down.
    pub learning: Mutex<()>,
    /// Where things went that lay where results are to be.
    pub set_aside: Mutex<Vec<PathBuf>>,
    /// The time of the build as `__TIMESTAMP__` spells it.
    pub timestamp: String,
    pub absences: Absences,
    /// Headers whose content was put into the store in this build.
    pub headers_kept: Mutex<HashSet<Digest>>,
    /// Where files lead that a compile takes along to another machine.
    pub reaches: Reaches,
    /// Tells whether to stop.
    pub stopped: &'a (dyn Fn() -> bool + Sync),
}

/// The longest command that is told as it is, in bytes. Nobody reads more, or finds what follows it; a longer one is written to a file.
const MOST_SHOWN: usize = 1000;

impl Executor<'_> {
    /// Runs a step to its end.
    /// `worker` numbers those that run side by side: each has a folder aside. `passed` is called once its process has ended
    /// well, before its results are put away.
    pub fn run(&self, worker: usize, id: StepId, step: &Step, alike: Option<Alike>, passed: &dyn Fn()) -> Ended {
        // A command may write where it ran into what it makes, so that must not depend on who ran it; making folders anew for each of the
        // many compiles costs too much.
        let name = match step.compile() {
            Some(_) => worker.to_string(),
            None => Digest::of(step.name.as_bytes()).to_string()[..8].to_string(),
        };
        let aside = self.judge.plan.folders.aside().join(name);
        let result = match (step.makes(), step.compile()) {
            (Some(makes), _) => self.make(step, makes),
            (None, Some(compile)) => self.compile(step, compile, &aside, alike, passed),
            (None, None) => self.process(step, &aside, None, passed),
        };
        // A compile leaves nothing but the list of what it read; making folders anew for each costs too much.
        let leaves_nothing = step.compile().is_some() && !step.makes_more() && step.fortran().is_none();
        let tidy = leaves_nothing && matches!(result, Ok(Ended::Done { .. }));
        if step.has_process() && !tidy {
            let _ = std::fs::remove_dir_all(&aside);
        }
        match result {
            Ok(ended) => ended,
            Err(trouble) => Ended::Failed(Box::new(self.failure(id, step, trouble))),
        }
    }

    fn failure(&self, id: StepId, step: &Step, trouble: Trouble) -> Failure {
        let mut command = trouble.command;
        let text = format!("{command}\n\n{}\n{}\n", trouble.said, trouble.cause);
        let name = step.name.replace('/', "+");
        if command.len() > MOST_SHOWN {
            let script = self.logs.join(format!("{name}.sh"));
            if write_whole(&script, format!("{command}\n").as_bytes()).is_ok() {
                command = format!("sh {}", shell_word(&script.display().to_string()));
            }
        }
        let log = self.logs.join(format!("{name}.log"));
        let log = write_whole(&log, text.as_bytes()).is_ok().then_some(log);
        Failure {
            step: id,
            first: first_error(&trouble.said),
            cause: trouble.cause,
            said: trouble.said,
            command,
            brought_by: step.brought_by.clone(),
            log,
            gone: self.gone_since(step),
            reasons: self.judge.judge(step, &Ahead::default()).reasons,
            left_over: if step.link().is_some() { self.left_over() } else { vec![] },
        }
    }

    /// The objects of the last build that this one does not make.
    fn left_over(&self) -> Vec<LeftOver> {
        let records = self.judge.stale().into_iter().filter_map(|name| self.judge.journal.get(&name)?.note);
        let of_note = |note: Note| {
            let first = |texts: &mut dyn Iterator<Item = &String>, wanted: &dyn Fn(&Location) -> bool| {
                texts.filter_map(|text| text.parse::<Location>().ok()).find(wanted)
            };
            let object = first(&mut note.outputs.iter().map(|o| &o.location), &|at| matches!(at, Location::Object(_)))?;
            // An object is called by its source.
            let of_object = |at: &Location| matches!(at, Location::Tree(path) if object.to_string().ends_with(&format!("/{path}.o")));
            let source = first(&mut note.inputs.iter().map(|(look, _)| look), &of_object)?;
            Some(LeftOver { source, object })
        };
        records.filter_map(of_note).collect()
    }

    /// The objects that a link or archive was made of the last time, and is not made of any more, by their sources' names.
    fn gone_since(&self, step: &Step) -> Vec<String> {
        let before = self.judge.journal.get(&step.name).and_then(|record| record.note);
        let inputs = before.map_or(Vec::new(), |note| note.inputs);
        let objects = inputs.iter().filter_map(|(look, _)| match look.parse().ok()? {
            Look::Content(at @ Location::Object(_)) if !step.reads.contains(&at) => Some(at.to_string()),
            _ => None,
        });
        objects.map(|name| name.trim_end_matches(".o").to_string()).collect()
    }

    /// Makes the file of a step that needs no process.
    fn make(&self, step: &Step, makes: &dyn Makes) -> Result<Ended, Trouble> {
        let folders = &self.judge.plan.folders;
        let path = step.writes[0].path(folders);
        self.make_room(&path)?;
        let Made { digest, mode, looked } = makes.make(step, folders)?;
        if step.text().is_some() && !self.judge.plan.is_header(&step.writes[0]) {
            self.store.copy(&path, &digest)?;
        }
        if step.leads_to().is_none() {
            self.judge.status.learn(&path, digest);
        }
        // A copy has the content of what it copies; the other texts follow from the resolution alone.
        let inputs = match looked.as_slice() {
            [] => step.reads.iter().map(|read| (read.kept(), digest)).collect(),
            looked => looked.iter().map(|(at, content)| (at.kept(), *content)).collect(),
        };
        let outputs = vec![Output { location: step.writes[0].kept(), digest, mode }];
        let note = self.note(step, inputs, vec![], vec![], outputs, String::new(), 0);
        Ok(Ended::Done { note: Some(note), said: String::new(), used: Used::default(), unexpected: vec![] })
    }

    /// What a step's process is made for.
    pub(super) fn setup<'s>(&'s self, aside: &'s Path, watch: Option<Depth>) -> Setup<'s> {
        Setup {
            folders: &self.judge.plan.folders,
            tools: self.tools,
            timestamp: &self.timestamp,
            aside,
            defines: None,
            ends: Ends::Whole,
            watch,
        }
    }

    /// Makes a step's process, and the folders aside for its results.
    pub(super) fn process_of(&self, step: &Step, setup: &Setup<'_>) -> Result<Process, Trouble> {
        for write in &step.writes {
            let place = step.aside(write, setup.aside);
            let folder = place.parent().unwrap_or(setup.aside);
            if !folder.is_dir() {
                make_folder(folder)?;
            }
        }
        if let Some(compile) = step.fortran() {
            // Where modules are looked for is the same for all from the first one on.
            for folder in compile.setting.searched_results() {
                make_folder(&folder.path(setup.folders))?;
            }
        }
        let made = step.runs().map(|runs| runs.process(step, setup));
        made.unwrap_or_else(|| Err(AbsentTool(format!("{} starts no process", step.name)))).map_err(
            |AbsentTool(why)| Trouble {
                cause: Cause::NoTool(why),
                said: String::new(),
                command: step.command().join(" "),
            },
        )
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
        work_ms: u64,
    ) -> Note {
        Note {
            inputs,
            absent,
            macros,
            macro_names: self.judge.names_digest(step),
            outputs,
            said,
            work_ms,
            memory: 0,
            text: None,
            closely: false,
        }
    }

    /// Tells what was wrong with how a step's process ended.
    fn bad_end(&self, step: &Step, exit: Exit, said: &str) -> Option<Cause> {
        match exit {
            Exit::Code(code) if step.runs().is_none_or(|runs| runs.succeeds(code)) => None,
            Exit::Code(code) => {
                let full = said.contains("No space left on device");
                let full = full.then(|| Cause::DiskFull(self.judge.plan.folders.build.display().to_string()));
                Some(full.unwrap_or(Cause::Code(code)))
            }
            Exit::Signal(signal) => Some(Cause::Signal(signal)),
            Exit::TimedOut | Exit::Stopped => Some(Cause::Signal(9)),
        }
    }

    /// Runs a step's process, looks at what it did, and moves its results into place. A compile that turns out to be known only by watching
    /// runs once more, watched.
    pub(super) fn process(
        &self,
        step: &Step,
        aside: &Path,
        text: Option<Digest>,
        passed: &dyn Fn(),
    ) -> Result<Ended, Trouble> {
        let before = self.judge.journal.packed(&step.name).and_then(|record| record.note.as_ref());
        let mut closely = before.is_some_and(|note| note.closely);
        let mut told = false;
        loop {
            let depth = self.depth(step, closely);
            let started = time_of_files();
            let process = self.process_of(step, &self.setup(aside, depth))?;
            let Process { job, lists, .. } = &process;
            let trouble = |cause: Cause, said: &str| {
                let command = repeatable(step, &process, aside, &self.judge.plan.folders.again());
                Trouble { cause, said: said.to_string(), command }
            };
            process.lay_out().map_err(|e| trouble(e.into(), ""))?;
            let outcome = self.run_all(step, &process).map_err(|cause| trouble(cause, ""))?;
            if outcome.exit == Exit::Stopped {
                return Ok(Ended::Stopped);
            }
            if depth.is_some() && outcome.sight.is_none() && step.class().is_some() && !self.launch.watches() {
                // It has just turned out that nothing can be watched here, so the linker must tell.
                continue;
            }
            let said = self.by_final_names(step, aside, outcome.stdout_text() + &outcome.stderr_text());
            if let Some(cause) = self.bad_end(step, outcome.exit, &said) {
                return Err(trouble(cause, &said));
            }
            if !told {
                told = true;
                passed();
            }
            let ended = stands::Ended { job, outcome: &outcome, lists, aside, started, closely };
            match self.conclude(step, &ended, said, text, &|_| Ok(()), &trouble)? {
                Concluded::Done(ended) => return Ok(*ended),
                Concluded::OnlyWatched | Concluded::Unlike(_) => closely = true,
            }
        }
    }

    /// Looks at what a run that ended well did, and moves its results into place, if `counts` has nothing against what it stands on.
    pub(super) fn conclude(
        &self,
        step: &Step,
        run: &stands::Ended<'_>,
        said: String,
        text: Option<Digest>,
        counts: &dyn Fn(Option<&Stands>) -> Result<(), String>,
        trouble: &dyn Fn(Cause, &str) -> Trouble,
    ) -> Result<Concluded, Trouble> {
        let (aside, outcome, started) = (run.aside, run.outcome, run.started);
        if step.fortran().is_some() {
            without_modules(step, aside).map_err(|e| trouble(e.into(), &said))?;
        }
        let outputs = outputs_of(step, aside).map_err(|cause| trouble(cause, &said))?;
        let known = self.stands(step, run);
        let (stands, said, unexpected) = match known.map_err(|cause| trouble(cause, &said))? {
            Known::Wholly(stands, said, unexpected) => {
                (Some(stands), self.by_final_names(step, aside, said), unexpected)
            }
            Known::Not => (None, said, vec![]),
            Known::OnlyWatched => return Ok(Concluded::OnlyWatched),
        };
        if let Err(why) = counts(stands.as_ref()) {
            return Ok(Concluded::Unlike(why));
        }
        for output in &outputs {
            self.move_into_place(step, output, aside).map_err(|e| trouble(e.into(), &said))?;
        }
        self.remove_older(step, &outputs).map_err(|e| trouble(e.into(), &said))?;
        // A clock of a busy hour would tell too much.
        let cpu = outcome.used.cpu;
        let work = if cpu.is_zero() { outcome.wall } else { cpu };
        let note = stands
            .and_then(|stands| self.observed(step, Account { stands, started, outputs, said: said.clone(), work }));
        let note = note.map(|note| Note { text, memory: outcome.used.memory, ..note });
        if let Some(note) = &note {
            self.put_away(step, note, run.lists.read.as_deref())?;
        }
        Ok(Concluded::Done(Box::new(Ended::Done { note, said, used: outcome.used, unexpected })))
    }

    /// What a step said, with its results called by where they will lie: they are made aside.
    pub(super) fn by_final_names(&self, step: &Step, aside: &Path, said: String) -> String {
        // Most say nothing.
        let writes = if said.is_empty() { &[] } else { step.writes.as_slice() };
        writes
            .iter()
            .fold(said, |said, write| said.replace(&*step.aside(write, aside).to_string_lossy(), &write.to_string()))
    }

    /// Runs all of a process, one command after the other, up to the first that does not end well.
    fn run_all(&self, step: &Step, process: &Process) -> Result<Outcome, Cause> {
        let run = |job: &Job| self.launch.run(job).map_err(|e| not_started(job, &e));
        let mut earlier: Option<Outcome> = None;
        for job in process.before.iter().chain([&process.job]) {
            let outcome = run(job)?;
            let outcome = match earlier {
                None => outcome,
                Some(earlier) => earlier.then(outcome),
            };
            if self.bad_end(step, outcome.exit, "").is_some() {
                return Ok(outcome);
            }
            earlier = Some(outcome);
        }
        earlier.ok_or_else(|| Cause::Start("there is no command".into()))
    }

    /// Moves a result to where it belongs. What a person put there that is no file is kept aside.
    fn move_into_place(&self, step: &Step, output: &Output, aside: &Path) -> Result<(), FileError> {
        let Ok(location) = output.location.parse::<Location>() else { return Ok(()) };
        let place = location.path(&self.judge.plan.folders);
        self.make_room(&place)?;
        move_file(&step.aside(&location, aside), &place)
    }

    /// Keeps what lies where a file is to be, and is no file, aside.
    pub(super) fn make_room(&self, place: &Path) -> Result<(), FileError> {
        let folders = &self.judge.plan.folders;
        if let Some(moved) = make_room(place, &folders.build, &folders.set_aside())? {
            self.set_aside.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push(moved);
        }
        Ok(())
    }

    /// Removes further files that the step made before and does not make now.
    fn remove_older(&self, step: &Step, outputs: &[Output]) -> Result<(), FileError> {
        let Some(before) = self.judge.journal.get(&step.name).and_then(|record| record.note) else { return Ok(()) };
        let gone = before.outputs.iter().filter(|old| outputs.iter().all(|output| output.location != old.location));
        for location in gone.filter_map(|old| old.location.parse::<Location>().ok()) {
            // Another step may make it now.
            if self.judge.plan.maker(&location).is_some() {
                continue;
            }
            remove_file(&location.path(&self.judge.plan.folders))?;
        }
        Ok(())
    }

    /// Puts results into the store, with a note of what they were made from.
    fn put_away(&self, step: &Step, note: &Note, scrap: Option<&Path>) -> Result<(), FileError> {
        for output in &note.outputs {
            if let Ok(location) = output.location.parse::<Location>() {
                let path = location.path(&self.judge.plan.folders);
                match location {
                    Location::Object(_) => self.store.put(&path, &output.digest)?,
                    Location::Tree(_) | Location::Made(_) | Location::Output(_) | Location::System(_) => {
                        self.store.copy(&path, &output.digest)?;
                    }
                }
                self.judge.status.learn(&path, output.digest);
            }
        }
        let key = step.base_key();
        self.store.add_note(&key, note, scrap)?;
        self.store.tell_others(&key, note);
        Ok(())
    }
}

/// Puts an empty file in the place of each file of a module that a Fortran compile did not make after all, because of what its preprocessor
/// left out; nobody who uses the module can be compiled with it.
fn without_modules(step: &Step, aside: &Path) -> Result<(), FileError> {
    for place in step.writes.iter().skip(1).map(|write| step.aside(write, aside)).filter(|place| !place.exists()) {
        write_whole(&place, b"")?;
    }
    Ok(())
}

/// What a step has made, while it still lies aside: what it declares, and whatever else a compile with such flags leaves beside its
/// object.
fn outputs_of(step: &Step, aside: &Path) -> Result<Vec<Output>, Cause> {
    let output = |write: &Location| {
        let made = step.aside(write, aside);
        let status = std::fs::symlink_metadata(&made).map_err(|_| Cause::NoOutput(write.to_string()))?;
        if !status.is_file() {
            return Err(Cause::NoFile(write.to_string()));
        }
        let mode = status.permissions().mode() & 0o777;
        let digest = Digest::of_file(&made).map_err(FileError::on("read", &made))?;
        Ok(Output { location: write.kept(), digest, mode })
    };
    let mut all: Vec<Output> = step.writes.iter().map(output).collect::<Result<_, _>>()?;
    if step.makes_more() {
        let beside = step.writes.first().map(|object| step.aside(object, aside));
        let folder = beside.as_deref().and_then(Path::parent).unwrap_or(aside);
        let mut names: Vec<String> = std::fs::read_dir(folder)
            .map_err(FileError::on("read", folder))?
            .filter_map(|entry| entry.ok()?.file_name().into_string().ok())
            .collect();
        names.sort();
        for name in names {
            let place = step.writes.first().and_then(|object| object.beside(&name));
            if let Some(place) = place.filter(|place| !step.writes.contains(place)) {
                all.push(output(&place)?);
            }
        }
    }
    Ok(all)
}

/// Why a process could not be started.
fn not_started(job: &Job, error: &LaunchError) -> Cause {
    let folder = job.folder.display();
    let lost = || format!("its folder {folder} is not there: make it, or correct the part's `folder`");
    Cause::Start(if job.folder.is_dir() { error.source.to_string() } else { lost() })
}
