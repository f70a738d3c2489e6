//! What a step saw while it ran: all that its result depends on.

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use super::depends::{ReadFile, Searched, included_binaries, library_misses, misses_of_taken};
use super::execute::Executor;
use super::failure::Cause;
use super::job::{Ends, Run, aside_of};
use super::named::named_files;
use crate::base::{Digest, parse_dependencies};
use crate::launch::{Exit, Job};
use crate::plan::{Action, Assembly, Location, Step};
use crate::store::{Note, Output};
use crate::survey::{Language, Tools};

/// How one run of a step went.
pub(super) struct Account<'a> {
    /// The process.
    pub job: &'a Job,
    /// What it read, but for files that an assembler takes in.
    pub inputs: Vec<Location>,
    /// Asks the assembler what it took in; `None` when it cannot tell.
    pub taken_in: &'a dyn Fn() -> Option<Vec<Location>>,
    /// When it started.
    pub started: SystemTime,
    /// What it made.
    pub outputs: Vec<Output>,
    /// What it said.
    pub said: String,
    /// How long it took.
    pub wall: Duration,
}

impl Executor<'_> {
    /// Puts together what a step saw. `None` when a file of a person changed while it ran.
    pub(super) fn observed(&self, step: &Step, account: Account<'_>) -> Option<Note> {
        let Account { job, mut inputs, taken_in, started, outputs, said, wall } = account;
        let mut files = self.files_read(step, &inputs, started)?;
        let taken = self.taken(step, &files, taken_in);
        let more: Vec<Location> = taken.iter().filter(|taken| !inputs.contains(taken)).cloned().collect();
        files.extend(self.files_read(step, &more, started)?);
        inputs.extend(more);
        let mut digests = Vec::with_capacity(files.len());
        for ReadFile { at, content, .. } in &files {
            if matches!(at, Location::Tree(_)) && step.source().is_some_and(|source| source != at) {
                self.keep(at, content);
            }
            digests.push((at.kept(), self.judge.counted(step, at, *content)));
        }
        let (mut macros, mut absent) = (Vec::new(), BTreeSet::new());
        if let Action::Compile { setting, language } = &step.action
            && *language != Language::Asm
        {
            let reads_header = files.len() < inputs.len();
            macros = self.judge.seen_macros(step, files.iter().map(|file| &file.tokens), reads_header);
            let mut folders = setting.search.before.clone();
            let own = self.tools.compiler(*language).map(|c| c.include_folders.clone()).unwrap_or_default();
            folders.extend(own.into_iter().map(Location::System));
            folders.extend(setting.search.after.iter().cloned());
            let (read, quoted) = (inputs.iter().collect(), &setting.search.quoted[..]);
            let makes = &|file: &Location| self.judge.plan.maker(file).is_some();
            let searched = Searched { read, quoted, folders: &folders, started, makes };
            absent = searched.misses(&files, &self.judge.plan.folders, &self.absences);
        }
        if let Action::Compile { setting, .. } = &step.action {
            absent.extend(misses_of_taken(&taken, &setting.search.before, &self.judge.plan.folders));
        }
        if step.links() {
            let own = linker_folders(self.tools, job);
            absent = library_misses(&inputs, &job.arguments, &own, &self.judge.plan.folders);
        }
        if let Some(source) = step.source()
            && let Some(file) = files.iter().find(|file| file.at == *source)
        {
            // Headers are read again and again, a source hardly ever.
            self.judge.tokens.forget(&file.content);
        }
        let wall_ms = u64::try_from(wall.as_millis()).unwrap_or(u64::MAX);
        let absent = absent.iter().map(Location::kept).collect();
        Some(self.note(step, digests, absent, macros, outputs, said, wall_ms))
    }

    /// The files that a step read, with their contents, but for the option headers. `None` when one is not as it was when the
    /// step started.
    fn files_read(&self, step: &Step, inputs: &[Location], started: SystemTime) -> Option<Vec<ReadFile>> {
        let compiles = matches!(step.action, Action::Compile { .. });
        let read = |at: &Location| {
            let path = at.path(&self.judge.plan.folders);
            let content = match at {
                Location::Tree(_) | Location::System(_) => self.judge.status.digest_since(&path, started)?,
                Location::Made(_) | Location::Object(_) | Location::Output(_) => self.judge.status.digest(&path)?,
            };
            let tokens = if compiles { self.judge.tokens.of(&path, &content)? } else { Arc::default() };
            Some(ReadFile { at: at.clone(), content, tokens })
        };
        inputs.iter().filter(|at| !self.judge.plan.is_header(at)).map(read).collect()
    }

    /// The files that the assembler of a compile took in (`.incbin`, `.include`): no dependency file of a compiler names them.
    fn taken(&self, step: &Step, files: &[ReadFile], taken_in: &dyn Fn() -> Option<Vec<Location>>) -> Vec<Location> {
        let Action::Compile { setting, language } = &step.action else { return Vec::new() };
        let asks = match language {
            Language::C | Language::Cxx => Assembly::Strings,
            Language::Asm | Language::AsmWithCpp => Assembly::Text,
        };
        if files.iter().all(|file| file.tokens.assembly < asks) {
            return Vec::new();
        }
        let plainly = || {
            let own = files.iter().filter(|file| !matches!(file.at, Location::System(_)));
            own.flat_map(|file| included_binaries(&file.tokens, &setting.search.before, &self.judge.plan.folders))
                .collect()
        };
        let mut taken = taken_in().unwrap_or_else(plainly);
        taken.retain(|file| step.source() != Some(file));
        taken
    }

    /// Runs a compile again to have its assembler list what it takes in. `None` when it cannot do that.
    pub(super) fn taken_in(&self, step: &Step, aside: &Path) -> Option<Vec<Location>> {
        let folders = &self.judge.plan.folders;
        let run = Run { folders, defines: None, ends: Ends::Whole };
        let (mut job, _) = self.job(step, aside, &run).ok()?;
        let list = aside.join("taken.d");
        job.arguments.push(format!("-Wa,--MD,{}", list.display()));
        let outcome = self.launch.run(&job).ok();
        step.writes.iter().map(|write| aside_of(step, write, aside)).for_each(|made| {
            let _ = std::fs::remove_file(made);
        });
        let files = outcome.filter(|outcome| outcome.exit == Exit::Code(0)).and(take(&list, listed))?;
        // Beside the files it names what the compiler hands it.
        let paths = files.iter().map(|file| folders.tree.join(file));
        let taken = paths.filter(|path| path.is_file() && !path.starts_with(aside));
        Some(taken.map(|path| Location::of(&path, folders)).collect())
    }

    /// Keeps a header so that the text of today can be had again; without it, a compile is only not spared.
    fn keep(&self, at: &Location, content: &Digest) {
        let is_new = self.headers_kept.lock().unwrap_or_else(std::sync::PoisonError::into_inner).insert(*content);
        if is_new {
            let _ = self.store.copy(&at.path(&self.judge.plan.folders), content);
        }
    }

    /// Adds the files that the words of a compile or link name; those of other steps are declared.
    ///
    /// # Errors
    /// One of them is made by a step that this one does not wait for.
    pub(super) fn add_named(
        &self,
        step: &Step,
        job: &Job,
        aside: &Path,
        inputs: &mut Vec<Location>,
    ) -> Result<(), Cause> {
        let words = match &step.action {
            Action::Compile { setting, .. } => &setting.words,
            Action::Run(command) if step.links() => &command.words,
            Action::Run(_) | Action::Write { .. } | Action::Copy | Action::Link { .. } => return Ok(()),
        };
        // They come first among the arguments. What is nothing but a place is known.
        let flags = words.iter().zip(&job.arguments).filter(|(word, _)| !word.is_place());
        let words = flags.map(|(_, argument)| argument.as_str());
        let mut files = named_files(words.clone(), &job.folder);
        // A compiler that is told to take another linker looks for it by this name.
        let linkers = words.filter_map(|word| word.strip_prefix("-fuse-ld="));
        files.extend(linkers.filter_map(|name| self.tools.program(&format!("ld.{name}"))).map(|(path, _)| path));
        for file in files {
            let location = Location::of(&file, &self.judge.plan.folders);
            self.declared(step, &location)?;
            if step.may_find(&location) && !file.starts_with(aside) && !inputs.contains(&location) {
                inputs.push(location);
            }
        }
        Ok(())
    }

    /// Checks that a generated file which a step read is there when the step runs.
    fn declared(&self, step: &Step, input: &Location) -> Result<(), Cause> {
        let plan = self.judge.plan;
        if !matches!(input, Location::Made(_)) || step.reads.contains(input) {
            return Ok(());
        }
        match plan.maker(input).filter(|maker| !step.after.contains(maker)) {
            Some(maker) => {
                Err(Cause::Undeclared { file: input.to_string(), maker: plan.owner(&plan.steps[maker]).to_string() })
            }
            None => Ok(()),
        }
    }

    /// The files that a compile read, by its dependency file, those that it declares first.
    pub(super) fn inputs_of_compile(&self, step: &Step, dependency_file: &Path) -> Result<Vec<Location>, Cause> {
        let plan = self.judge.plan;
        let Some(files) = listed(dependency_file) else {
            let list = "the list of the files that it read: what stands in the compiler's place must heed `-MF`";
            return Err(Cause::NoOutput(list.into()));
        };
        let mut inputs: Vec<Location> = step.reads.clone();
        for file in files {
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
            self.declared(step, input)?;
        }
        Ok(inputs)
    }
}

/// Returns the files that a dependency file names, `None` when there is none.
pub(super) fn listed(dependency_file: &Path) -> Option<Vec<String>> {
    let text = std::fs::read(dependency_file).ok()?;
    Some(parse_dependencies(&String::from_utf8_lossy(&text)))
}

/// Reads a file and removes it: to have it written over makes some file systems write it out.
pub(super) fn take<T>(file: &Path, read: impl FnOnce(&Path) -> Option<T>) -> Option<T> {
    let content = read(file);
    let _ = std::fs::remove_file(file);
    content
}

/// The folders that a linker searches by itself.
fn linker_folders(tools: &Tools, job: &Job) -> Vec<std::path::PathBuf> {
    let compilers = [Language::C, Language::Cxx].into_iter().filter_map(|language| tools.compiler(language).ok());
    compilers
        .filter(|compiler| compiler.path == job.program)
        .map(|c| c.library_folders.clone())
        .next()
        .unwrap_or_default()
}

fn ends_with(path: &str, ending: &str) -> bool {
    path.strip_suffix(ending).is_some_and(|rest| rest.is_empty() || rest.ends_with('/'))
}
