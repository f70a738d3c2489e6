//! What compiles stand on.

use std::collections::{BTreeSet, HashSet};
use std::path::Path;
use std::time::SystemTime;

use super::named::listed_files;
use super::searched::{Found, Searched};
use super::seen::Seen;
use super::{Ended, Known, Stands};
use crate::base::{Dependencies, Digest, parse_dependencies};
use crate::judge::ReadFile;
use crate::run::execute::Executor;
use crate::run::failure::Cause;
use crate::step::{Compile, Lists, Location, Look, Step, Word};
use crate::survey::Language;
use crate::watch::Depth;

/// Tells whether a file is this host's time zone: compilers open it, and it says nothing about the time that they are given.
fn is_time_zone(at: &Location) -> bool {
    matches!(at, Location::System(path) if path == Path::new("/etc/localtime"))
}

/// What a compile's own lists and the rules of its language say.
pub(in crate::run) struct Reckoned {
    /// The files that it read, its source first, option headers among them.
    pub inputs: Vec<Location>,
    /// The same with what they name, but for option headers.
    pub files: Vec<ReadFile>,
    /// Where it searched.
    pub found: Found,
}

impl Executor<'_> {
    /// What a compile that ended well stands on.
    pub(super) fn compile_stands(&self, step: &Step, compile: &Compile, ended: &Ended<'_>) -> Result<Known, Cause> {
        let Compile { language, setting, .. } = compile;
        let Some(mut reckoned) = self.reckoned(step, compile, ended.lists, ended.started)? else {
            return Ok(Known::Not);
        };
        let expects_all = compile.is_plain(self.tools) && !reckoned.found.unclear;
        let Some(sight) = &ended.outcome.sight else {
            if !expects_all && self.launch.watches() {
                return Ok(Known::OnlyWatched);
            }
            self.add_named(step, &setting.words, ended, &mut reckoned.inputs)?;
            let (stands, _) = self.stands_by_rules(step, reckoned, None, ended.closely);
            return Ok(Known::Wholly(stands, ended.said(), vec![]));
        };
        let inputs = reckoned.inputs.iter().cloned().collect();
        let begins = |at: &Location| step.source() == Some(at);
        let (own, of_class) = self.seeing().of_class(sight, &inputs, &begins, &|_| false);
        // Only of C and C++ is it known what a text can look at.
        let assembly = !matches!(language, Language::C | Language::Cxx);
        let closely = ended.closely || reckoned.found.unclear || assembly;
        let class = step.class().expect("compiles have a class");
        let stands_for = if ended.job.watch == Some(Depth::Looks) {
            self.learn(&class, &of_class, false)?
        } else {
            self.judge.footing_now(&class).unwrap_or_default()
        };
        let (mut stands, unexpected) = self.stands_by_rules(step, reckoned, Some((own, stands_for)), closely);
        if sight.blind.is_some() {
            stands.looks.insert(Look::Unseen);
        }
        let unexpected = if expects_all { unexpected } else { vec![] };
        if !unexpected.is_empty() {
            self.learn(&class, &of_class, true)?;
        }
        Ok(Known::Wholly(stands, ended.said(), unexpected))
    }

    /// Works out what a compile stood on from its lists. `None` when a file of a person changed while it ran.
    ///
    /// # Errors
    /// Its lists are not there, or it read what it must not.
    pub(in crate::run) fn reckoned(
        &self,
        step: &Step,
        compile: &Compile,
        lists: &Lists,
        started: SystemTime,
    ) -> Result<Option<Reckoned>, Cause> {
        let (mut inputs, goes_on) = match &lists.read {
            Some(file) => self.inputs_of_compile(step, file, lists)?,
            None => (step.reads.clone(), false),
        };
        let (taken, is_cut_off) = self.taken_in(lists);
        let folders = &self.judge.plan.folders;
        let spelled = |word: &Word| word.spelled(|at, _| at.path(folders).display().to_string(), |_| String::new());
        let may_list = compile.setting.words.iter().filter(|word| word.texts().any(|text| text.contains('@')));
        let words: Vec<String> = may_list.map(spelled).collect();
        // Only so is it known which macros these name.
        let lists_of_words = listed_files(words.iter().map(String::as_str), &folders.tree);
        let more = taken.iter().cloned().chain(lists_of_words.iter().map(|file| Location::of(file, folders)));
        for at in more.collect::<Vec<_>>() {
            if !inputs.contains(&at) {
                inputs.push(at);
            }
        }
        let Some(files) = self.files_read(step, &inputs, started) else { return Ok(None) };
        let mut found = Found::default();
        if compile.language.is_preprocessed() {
            let flags = &compile.setting.flags;
            let folders = &self.judge.plan.folders;
            let all = self.search_folders(compile);
            let searched = Searched {
                read: inputs.iter().collect(),
                in_order: &inputs,
                quoted: &flags.search.quoted,
                folders: &all,
                asked: &flags.includes,
                forced: &flags.forced,
                started,
                makes: &|file| self.judge.plan.maker(file).is_some(),
                places: folders,
                absences: &self.absences,
                content: &|at| self.judge.status.digest(&at.path(folders)),
            };
            found = searched.found(&files);
            found.present.iter().try_for_each(|at| self.is_made(at))?;
        }
        // Where an assembler looks, no rule of the language says.
        found.unclear |= goes_on
            || is_cut_off
            || !taken.is_empty()
            || !compile.lists_what_is_taken_in(self.tools) && assembles(&files);
        Ok(Some(Reckoned { inputs, files, found }))
    }

    /// The folders in which a compile looks for all headers, first to last, the compiler's own among them.
    pub(in crate::run) fn search_folders(&self, compile: &Compile) -> Vec<Location> {
        let search = &compile.setting.flags.search;
        let own = self
            .tools
            .compiler_for(compile.machine, compile.language)
            .map(|compiler| &compiler.header_search[..])
            .unwrap_or_default();
        let own = own.iter().map(|folder| Location::of(folder, &self.judge.plan.folders));
        search.before.iter().cloned().chain(own).chain(search.after.iter().cloned()).collect()
    }

    /// What a compile stands on by what is reckoned, and by what was seen where it was watched. Returns also what was seen and not
    /// reckoned.
    pub(in crate::run) fn stands_by_rules(
        &self,
        step: &Step,
        reckoned: Reckoned,
        seen: Option<(Seen, Digest)>,
        closely: bool,
    ) -> (Stands, Vec<String>) {
        let of_all = step.class().expect("compiles have a class");
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
        looks.extend(found.twins.iter().cloned().map(Look::Content));
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
                                // Compilers open what they are only asked whether it is there.
                                if !found.present.contains(at) && !found.twins.contains(at) && !is_time_zone(at) {
                                    unexpected.push(format!("it reads {at}"));
                                }
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
                        Look::Interface(_)
                        | Look::Data(_)
                        | Look::Status(_)
                        | Look::Form(_)
                        | Look::Footing(_)
                        | Look::SearchPath
                        | Look::Unseen => {}
                    }
                }
                for place in own.absent {
                    if absent.insert(place.clone()) {
                        unexpected.push(format!("it looks for {place}"));
                    }
                }
                Some(class)
            }
            // Where nobody watches, what was never met is not known, and will not be.
            None if self.launch.watches() => self.judge.footing_now(&of_all),
            None => self.judge.footing(&of_all).map(|footing| footing.generation),
        };
        looks.insert(if class.is_some() { Look::Footing(of_all) } else { Look::SearchPath });
        (Stands { looks, absent, files, passed: found.passed, closely }, unexpected)
    }

    /// Files that an assembler took in, and whether its list was cut off; beside these it names what the compiler handed it.
    fn taken_in(&self, lists: &Lists) -> (Vec<Location>, bool) {
        let Some(list) = &lists.taken_in else { return (vec![], false) };
        let files = take(list, listed).unwrap_or_default().files;
        // It names at least what it was handed; assemblers end well where they could not write it.
        let is_cut_off = files.is_empty();
        let folders = &self.judge.plan.folders;
        let paths = files.into_iter().map(|file| folders.tree.join(lists.here(file, folders)));
        let taken = paths.filter(|path| path.is_file() && !path.starts_with(folders.aside()));
        (taken.map(|path| Location::of(&path, folders)).collect(), is_cut_off)
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
    pub(super) fn keep(&self, at: &Location, content: &Digest) {
        let is_new = self.headers_kept.lock().unwrap_or_else(std::sync::PoisonError::into_inner).insert(*content);
        if is_new {
            let _ = self.store.copy(&at.path(&self.judge.plan.folders), content);
        }
    }

    /// The files that a compile read, by its dependency file, those that it declares first; and whether that list does not say all.
    fn inputs_of_compile(
        &self,
        step: &Step,
        dependency_file: &Path,
        lists: &Lists,
    ) -> Result<(Vec<Location>, bool), Cause> {
        let plan = self.judge.plan;
        let Some(Dependencies { files, goes_on }) = listed(dependency_file) else {
            let list = "the list of the files that it read: a wrapper of the compiler must pass `-MF` on";
            return Err(Cause::NoOutput(list.into()));
        };
        let mut inputs: Vec<Location> = step.reads.clone();
        let mut known: HashSet<Location> = inputs.iter().cloned().collect();
        for file in files {
            if file.to_str().is_none() {
                return Err(Cause::Name(file.display().to_string()));
            }
            let location = Location::of(&lists.here(file, &plan.folders), &plan.folders);
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

/// Returns the files that a dependency file names, `None` when there is none.
pub(in crate::run) fn listed(dependency_file: &Path) -> Option<Dependencies> {
    std::fs::read(dependency_file).ok().map(|text| parse_dependencies(&text))
}

/// Reads a file and removes it: to have it written over makes some file systems write it out.
pub(in crate::run) fn take<T>(file: &Path, read: impl FnOnce(&Path) -> Option<T>) -> Option<T> {
    let content = read(file);
    let _ = std::fs::remove_file(file);
    content
}

fn ends_with(path: &str, ending: &str) -> bool {
    path.strip_suffix(ending).is_some_and(|rest| rest.is_empty() || rest.ends_with('/'))
}
