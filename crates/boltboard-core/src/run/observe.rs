//! What a step stood on while it ran: all that its result depends on. Commands are watched; plain compiles are known by what their compiler
//! lists and by the rules of their language, and watched where that is not enough.

use std::collections::{BTreeSet, HashSet};
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use super::execute::Executor;
use super::failure::Cause;
use super::job::Lists;
use super::named::named_files;
use super::searched::{Found, ReadFile, Searched};
use super::seen::{Seeing, Seen};
use super::traced::library_misses;
use crate::base::{Dependencies, Digest, parse_dependencies};
use crate::launch::Job;
use crate::plan::{Action, Forms, Location, Look, Setting, Step};
use crate::store::{Note, Output};
use crate::survey::{Family, Language, Tools};
use crate::watch::Sight;

/// How one run of a step went.
pub(super) struct Account {
    /// What it stood on, as far as that is known.
    pub stands: Stands,
    /// When it started.
    pub started: SystemTime,
    /// What it made.
    pub outputs: Vec<Output>,
    /// What it said.
    pub said: String,
    /// How long it took.
    pub wall: Duration,
}

/// What a step's result stands on.
#[derive(Debug, Default)]
pub(super) struct Stands {
    /// What it looked at.
    pub looks: BTreeSet<Look>,
    /// Where it looked in vain.
    pub absent: BTreeSet<Location>,
    /// Files that a compile read, with what they name.
    pub files: Vec<ReadFile>,
    /// Whether that can be known only by watching.
    pub closely: bool,
}

/// What a compile's own lists and the rules of its language say.
pub(super) struct Reckoned {
    /// The files that it read, its source first, option headers among them.
    pub inputs: Vec<Location>,
    /// The same with what they name, but for option headers.
    pub files: Vec<ReadFile>,
    /// Where it searched.
    pub found: Found,
}

impl Executor<'_> {
    /// Puts together what a step saw. `None` when a file of a person changed while it ran.
    pub(super) fn observed(&self, step: &Step, account: Account) -> Option<Note> {
        let Account { stands, started, outputs, said, wall } = account;
        let mut inputs = Vec::with_capacity(stands.looks.len());
        for look in &stands.looks {
            inputs.push((look.kept(), self.seen_as(look, started)?));
        }
        let mut macros = Vec::new();
        if let Action::Compile { language, .. } = &step.action
            && *language != Language::Asm
        {
            let forms = self.judge.forms(inputs.iter().map(|(look, _)| look.as_str()));
            macros = self.macros_of(step, &stands.files, &forms);
        }
        for file in &stands.files {
            if matches!(file.at, Location::Tree(_)) && step.source().is_some_and(|source| *source != file.at) {
                self.keep(&file.at, &file.content);
            }
            if step.source() == Some(&file.at) {
                // Headers are read again and again, a source hardly ever.
                self.judge.tokens.forget(&file.content);
            }
        }
        let wall_ms = u64::try_from(wall.as_millis()).unwrap_or(u64::MAX);
        let absent = stands.absent.iter().map(Location::kept).collect();
        let note = self.note(step, inputs, absent, macros, outputs, said, wall_ms);
        Some(Note { closely: stands.closely, ..note })
    }

    /// What stood for a look since the step started; `None` when it has changed since, or is gone.
    fn seen_as(&self, look: &Look, started: SystemTime) -> Option<Digest> {
        let content = |at: &Location| {
            let path = at.path(&self.judge.plan.folders);
            match at {
                Location::Tree(_) | Location::System(_) => self.judge.status.digest_since(&path, started),
                Location::Made(_) | Location::Object(_) | Location::Output(_) => self.judge.status.digest(&path),
            }
        };
        match look {
            Look::Content(at) => content(at),
            Look::Interface(at) => content(at).map(|content| self.judge.interface(at, content)),
            Look::Unseen => Some(Digest::default()),
            Look::Names(_) | Look::Mode(_) | Look::Status(_) | Look::Leads(_) | Look::Form(_) | Look::Footing(_) => {
                self.judge.look_now(look, &crate::plan::Ahead::default()).ok()?
            }
        }
    }

    /// The macros that the files of a compile name.
    fn macros_of(&self, step: &Step, files: &[ReadFile], forms: &Forms) -> Vec<(String, Option<String>)> {
        let precompiled = |file: &ReadFile| {
            file.at.path(&self.judge.plan.folders).extension().is_some_and(|e| e == "gch" || e == "pch")
        };
        if files.iter().any(precompiled) {
            // Nobody reads what one that was compiled before names.
            return self.judge.all_macros(step, forms);
        }
        if !files.iter().any(|file| file.tokens.pragmas) {
            return self.judge.seen_macros(step, files.iter().map(|file| &file.tokens), forms);
        }
        // What is handed to a pragma may stand in any string.
        let dialects = step.dialects().clone().everywhere();
        let read = |file: &ReadFile| {
            let path = file.at.path(&self.judge.plan.folders);
            self.judge.tokens.of(&path, &file.content, &dialects).unwrap_or_else(|| file.tokens.clone())
        };
        let tokens: Vec<Arc<crate::reading::Tokens>> = files.iter().map(read).collect();
        self.judge.seen_macros(step, &tokens, forms)
    }

    /// Works out what a compile stood on from its lists. `None` when a file of a person changed while it ran.
    ///
    /// # Errors
    /// Its lists are not there, or it read what it must not.
    pub(super) fn reckoned(&self, step: &Step, lists: &Lists, started: SystemTime) -> Result<Option<Reckoned>, Cause> {
        let (mut inputs, goes_on) = match &lists.read {
            Some(file) => self.inputs_of_compile(step, file)?,
            None => (step.reads.clone(), false),
        };
        let taken = self.taken_in(lists);
        inputs.extend(taken.iter().filter(|at| !inputs.contains(at)).cloned().collect::<Vec<_>>());
        let Some(files) = self.files_read(step, &inputs, started) else { return Ok(None) };
        let Action::Compile { setting, language } = &step.action else { return Ok(None) };
        let mut found = Found::default();
        if *language != Language::Asm {
            let flags = &setting.flags;
            let folders = &self.judge.plan.folders;
            let own = self.tools.compiler(*language).map(|compiler| &compiler.header_search[..]).unwrap_or_default();
            let own = own.iter().map(|folder| Location::of(folder, folders));
            let all: Vec<Location> =
                flags.search.before.iter().cloned().chain(own).chain(flags.search.after.iter().cloned()).collect();
            let searched = Searched {
                read: inputs.iter().collect(),
                quoted: &flags.search.quoted,
                folders: &all,
                asked: &flags.includes,
                started,
                makes: &|file| self.judge.plan.maker(file).is_some(),
                places: folders,
                absences: &self.absences,
            };
            found = searched.found(&files);
        }
        // Where an assembler looks, no rule of the language says.
        found.unclear |=
            goes_on || !taken.is_empty() || !self.lists_what_is_taken_in(setting, *language) && assembles(&files);
        Ok(Some(Reckoned { inputs, files, found }))
    }

    /// Whether the assembler of a compile lists what it takes in.
    pub(super) fn lists_what_is_taken_in(&self, setting: &Setting, language: Language) -> bool {
        let family = self.tools.compiler(language).map(|compiler| compiler.family);
        // What such a compile keeps for the link names its own words, and with them the list.
        let keeps_words = setting.flags.of_class.iter().any(|word| word.starts_with("-flto"));
        family == Ok(Family::Gcc) && setting.flags.known == crate::plan::Known::Wholly && !keeps_words
    }

    /// Files that an assembler took in; beside these its list names what the compiler handed it.
    fn taken_in(&self, lists: &Lists) -> Vec<Location> {
        let files = lists.taken_in.as_ref().and_then(|list| take(list, listed)).unwrap_or_default().files;
        let folders = &self.judge.plan.folders;
        let paths = files.iter().map(|file| folders.tree.join(file));
        let taken = paths.filter(|path| path.is_file() && !path.starts_with(folders.aside()));
        taken.map(|path| Location::of(&path, folders)).collect()
    }

    /// What a compile stands on by what is reckoned, and by what was seen where it was watched. Returns also what was seen and not
    /// reckoned.
    pub(super) fn compile_stands(
        &self,
        step: &Step,
        setting: &Setting,
        reckoned: Reckoned,
        seen: Option<(Seen, Digest)>,
        closely: bool,
    ) -> (Stands, Vec<String>) {
        let Reckoned { inputs, mut files, found } = reckoned;
        let mut looks: BTreeSet<Look> = BTreeSet::new();
        for input in &inputs {
            let header = self.judge.plan.is_header(input);
            if header {
                looks.insert(Look::Form(input.clone()));
            }
            // What records every macro records in which line each stands.
            if !header || step.records_macros() {
                looks.insert(Look::Content(input.clone()));
            }
        }
        looks.extend(found.present.iter().cloned().map(Look::Mode));
        let mut absent = found.absent;
        let mut unexpected = Vec::new();
        let class = match seen {
            Some((own, class)) => {
                for look in own.looks {
                    match &look {
                        Look::Content(at) if self.judge.plan.is_header(at) => {
                            looks.insert(Look::Form(at.clone()));
                        }
                        Look::Content(at) => {
                            if !inputs.contains(at) {
                                unexpected.push(format!("it reads {at}"));
                                files.extend(
                                    self.files_read(step, std::slice::from_ref(at), SystemTime::now())
                                        .into_iter()
                                        .flatten(),
                                );
                            }
                            looks.insert(look);
                        }
                        // Of a file that was read its mode says nothing more, and of an option header there is none to ask for.
                        Look::Mode(at) if inputs.contains(at) => {}
                        Look::Names(_) | Look::Mode(_) | Look::Leads(_) => {
                            looks.insert(look);
                        }
                        Look::Interface(_) | Look::Status(_) | Look::Form(_) | Look::Footing(_) | Look::Unseen => {}
                    }
                }
                for place in own.absent {
                    if absent.insert(place.clone()) {
                        unexpected.push(format!("it looks for {place}"));
                    }
                }
                Some(class)
            }
            None => self.judge.footing_now(&setting.class),
        };
        if class.is_some() {
            looks.insert(Look::Footing(setting.class));
        }
        (Stands { looks, absent, files, closely }, unexpected)
    }

    /// What a generator stands on, when it was watched: all that it was seen to look at, and what it declares.
    ///
    /// # Errors
    /// It read what a step makes that it does not wait for, wrote where it must not, or, where that is asked, read what it does not declare.
    pub(super) fn generator_stands(&self, step: &Step, sight: &Sight) -> Result<Stands, Cause> {
        let seeing = self.seeing();
        let Seen { mut looks, absent } = seeing.whole(sight);
        for at in looks.iter().filter_map(Look::file) {
            self.waits_for(step, at)?;
            self.declares(step, at)?;
        }
        let elsewhere = seeing.written(sight).into_iter().find(|at| matches!(at, Location::Tree(_)) && !is_cache(at));
        if let Some(at) = elsewhere {
            return Err(Cause::WroteElsewhere(at.to_string()));
        }
        looks.extend(step.reads.iter().cloned().map(Look::Content));
        if sight.blind.is_some() {
            looks.insert(Look::Unseen);
        }
        Ok(Stands { looks, absent, ..Stands::default() })
    }

    /// What a link or archive stands on: what is its own, and what its class stands on. One that was not watched reads what it declares.
    ///
    /// # Errors
    /// It read what a step makes that it does not wait for, or what its class stands on cannot be kept.
    pub(super) fn linked_stands(&self, step: &Step, class: &Digest, sight: Option<&Sight>) -> Result<Stands, Cause> {
        let library = |at: &Location| {
            let path = at.path(&self.judge.plan.folders);
            path.file_name().is_some_and(|name| name.to_string_lossy().contains(".so"))
        };
        let interface = |at: &Location| step.links() && (step.interfaces.contains(at) || library(at));
        let declared = |at: &Location| {
            let by_interface = step.interfaces.contains(at);
            if by_interface { Look::Interface(at.clone()) } else { Look::Content(at.clone()) }
        };
        let mut stands = Stands { looks: step.reads.iter().map(declared).collect(), ..Stands::default() };
        if let Some(sight) = sight {
            let inputs = step.reads.iter().cloned().collect();
            let begins = |at: &Location| step.reads.contains(at);
            let (mut own, mut of_class) = self.seeing().of_class(sight, &inputs, &begins, &interface);
            if !step.links() {
                // An archiver reads what it is given, and nothing else that follows from it.
                let given = |look: &Look| look.place().is_some_and(|at| step.reads.contains(at));
                of_class.looks.extend(own.looks.iter().filter(|look| !given(look)).cloned());
                of_class.absent.append(&mut own.absent);
                own.looks.clear();
            }
            self.learn(class, &of_class, false)?;
            for look in own.looks {
                if let Some(at) = look.file() {
                    self.waits_for(step, at)?;
                    if step.reads.contains(at) {
                        continue;
                    }
                }
                stands.looks.insert(look);
            }
            stands.absent = own.absent;
            if sight.blind.is_some() {
                stands.looks.insert(Look::Unseen);
            }
        }
        stands.looks.insert(Look::Footing(*class));
        Ok(stands)
    }

    /// What a command other than a compile stands on by its words, where nothing can be watched.
    pub(super) fn command_stands_by_words(
        &self,
        step: &Step,
        job: &Job,
        mut inputs: Vec<Location>,
        aside: &Path,
    ) -> Result<Stands, Cause> {
        self.add_named(step, job, aside, &mut inputs)?;
        let mut absent = BTreeSet::new();
        if step.links() {
            let own = linker_folders(self.tools, job);
            absent = library_misses(&inputs, &job.arguments, &own, &self.judge.plan.folders);
        }
        let library = |at: &Location| match at {
            Location::System(path) => path.file_name().is_some_and(|name| name.to_string_lossy().contains(".so")),
            other => step.interfaces.contains(other),
        };
        let look = |at: Location| if step.links() && library(&at) { Look::Interface(at) } else { Look::Content(at) };
        Ok(Stands { looks: inputs.into_iter().map(look).collect(), absent, ..Stands::default() })
    }

    /// Reads what commands of this build were seen to do.
    pub(super) fn seeing(&self) -> Seeing<'_> {
        let folders = &self.judge.plan.folders;
        let work = self.store.root().parent().map(Path::to_path_buf);
        Seeing::new(folders, [Some(folders.aside()), work].into_iter().flatten().collect())
    }

    /// Checks that what a step read of this build was made before it.
    fn waits_for(&self, step: &Step, at: &Location) -> Result<(), Cause> {
        let plan = self.judge.plan;
        let Some(maker) = plan.maker(at).filter(|_| !step.reads.contains(at)) else { return Ok(()) };
        let own = plan.steps[maker].writes.first() == step.writes.first();
        if own || plan.comes_before(maker, step) {
            return Ok(());
        }
        Err(Cause::Undeclared { file: at.to_string(), maker: plan.owner(&plan.steps[maker]).to_string() })
    }

    /// Checks that a generator declares what it read, where that is asked.
    fn declares(&self, step: &Step, at: &Location) -> Result<(), Cause> {
        let of_tree = matches!(at, Location::Tree(_) | Location::Made(_) | Location::Object(_));
        let tool =
            step.tool().is_some_and(|tool| matches!(&tool.place, crate::plan::ToolPlace::Made(own) if own == at));
        let free = self.reads == super::build::Reads::Free || step.links() || tool || !of_tree;
        if free || step.reads.contains(at) { Ok(()) } else { Err(Cause::UndeclaredRead(at.to_string())) }
    }

    /// The files that a step read, with their contents, but for the option headers. `None` when one is not as it was when the
    /// step started.
    fn files_read(&self, step: &Step, inputs: &[Location], started: SystemTime) -> Option<Vec<ReadFile>> {
        let read = |at: &Location| {
            let path = at.path(&self.judge.plan.folders);
            let content = match at {
                Location::Tree(_) | Location::System(_) => self.judge.status.digest_since(&path, started)?,
                Location::Made(_) | Location::Object(_) | Location::Output(_) => self.judge.status.digest(&path)?,
            };
            let tokens = self.judge.tokens.of(&path, &content, step.dialects())?;
            Some(ReadFile { at: at.clone(), content, tokens })
        };
        inputs.iter().filter(|at| !self.judge.plan.is_header(at)).map(read).collect()
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
            if !file.starts_with(aside) && !inputs.contains(&location) {
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

    /// The files that a compile read, by its dependency file, those that it declares first; and whether that list does not say all.
    fn inputs_of_compile(&self, step: &Step, dependency_file: &Path) -> Result<(Vec<Location>, bool), Cause> {
        let plan = self.judge.plan;
        let Some(Dependencies { files, goes_on }) = listed(dependency_file) else {
            let list = "the list of the files that it read: what stands in the compiler's place must heed `-MF`";
            return Err(Cause::NoOutput(list.into()));
        };
        let mut inputs: Vec<Location> = step.reads.clone();
        let mut known: HashSet<Location> = inputs.iter().cloned().collect();
        for file in files {
            if file.to_str().is_none() {
                return Err(Cause::Name(file.display().to_string()));
            }
            let location = Location::of(&file, &plan.folders);
            if known.insert(location.clone()) {
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
        Ok((inputs, goes_on))
    }
}

/// Whether files of the tree or the build hand text to an assembler; those of the host only give symbols other names so.
fn assembles(files: &[ReadFile]) -> bool {
    files.iter().any(|file| file.tokens.assembles && !matches!(file.at, Location::System(_)))
}

/// Whether a file is what an interpreter keeps of a script for itself.
fn is_cache(at: &Location) -> bool {
    at.to_string().contains("__pycache__")
}

/// Returns the files that a dependency file names, `None` when there is none.
pub(super) fn listed(dependency_file: &Path) -> Option<Dependencies> {
    std::fs::read(dependency_file).ok().map(|text| parse_dependencies(&text))
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
