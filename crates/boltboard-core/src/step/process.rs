//! From a step to the process that runs it, and to the line that repeats it by hand.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::kind::Step;
use super::location::Location;
use super::tool::{Tool, ToolPlace};
use super::word::Word;
use crate::base::files::make_folder;
use crate::base::{FileError, shell_word};
use crate::launch::Job;
use crate::survey::{EPOCH_VARIABLE, Tools};
use crate::watch::Depth;
use crate::work::Folders;

/// What a step's process is made for.
#[derive(Clone, Copy)]
pub struct Setup<'a> {
    /// Where everything lies.
    pub folders: &'a Folders,
    /// The compilers and other tools.
    pub tools: &'a Tools,
    /// The time of the build as `__TIMESTAMP__` spells it.
    pub timestamp: &'a str,
    /// The folder aside in which results lie until they are moved into place.
    pub aside: &'a Path,
    /// Macros that a compile is given instead of its own.
    pub defines: Option<&'a BTreeMap<String, Option<String>>>,
    /// How far a compile goes.
    pub ends: Ends,
    /// How closely it is watched.
    pub watch: Option<Depth>,
}

/// How far a compile goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ends {
    /// To the end.
    Whole,
    /// To the text after preprocessing.
    Preprocessed,
}

/// A step's process.
#[derive(Debug)]
pub struct Process {
    /// What runs before it, one after the other, as long as each ends well.
    pub before: Vec<Job>,
    /// What is started last.
    pub job: Job,
    /// A folder aside that is to be there, and empty.
    pub own_folder: Option<PathBuf>,
    /// Files that are to lie there, with their places.
    pub laid_out: Vec<(PathBuf, PathBuf)>,
    /// Where it lists what it read.
    pub lists: Lists,
}

impl Process {
    /// Lays out what is to lie aside before it starts.
    ///
    /// # Errors
    /// A file cannot be read or written.
    pub fn lay_out(&self) -> Result<(), FileError> {
        if let Some(folder) = &self.own_folder {
            // What a run before this one left there is not ours.
            let _ = std::fs::remove_dir_all(folder);
            make_folder(folder)?;
        }
        for (from, to) in &self.laid_out {
            if let Some(folder) = to.parent() {
                make_folder(folder)?;
            }
            std::fs::copy(from, to).map_err(FileError::on("copy", from))?;
        }
        Ok(())
    }

    /// One that lists nothing.
    pub(super) fn plain(job: Job) -> Process {
        Process { before: vec![], job, own_folder: None, laid_out: vec![], lists: Lists::default() }
    }
}

/// Where a compile lists what it read.
#[derive(Debug, Clone, Default)]
pub struct Lists {
    /// Files that its preprocessor read.
    pub read: Option<PathBuf>,
    /// Files that its assembler took in.
    pub taken_in: Option<PathBuf>,
    /// The folders by which they name files, where that was written on another machine.
    pub written_by: Option<Folders>,
}

impl Lists {
    /// Returns a file that they name as it is called here.
    pub fn here(&self, file: PathBuf, folders: &Folders) -> PathBuf {
        let moved = |there: &Path, here: &Path| file.strip_prefix(there).ok().map(|rest| here.join(rest));
        let there = self.written_by.as_ref();
        let found =
            there.and_then(|there| moved(&there.build, &folders.build).or_else(|| moved(&there.tree, &folders.tree)));
        found.unwrap_or(file)
    }
}

/// A step's program is not there.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct AbsentTool(pub String);

impl Setup<'_> {
    /// Spells a word as a process takes it.
    pub(super) fn spelled(&self, step: &Step, word: &Word) -> String {
        word.spelled(|at, _| at.path(self.folders).display().to_string(), |index| self.result(step, index))
    }

    /// The place aside of a result.
    pub(super) fn result(&self, step: &Step, index: usize) -> String {
        step.writes.get(index).map_or(String::new(), |write| step.aside(write, self.aside).display().to_string())
    }

    /// The process of a tool, in the tree's root and the plain environment of steps.
    pub(super) fn job(&self, step: &Step, tool: &Tool, arguments: Vec<String>) -> Result<Job, AbsentTool> {
        let program = match &tool.place {
            ToolPlace::Host { path, .. } => path.clone(),
            ToolPlace::Made(at) => at.path(self.folders),
            ToolPlace::Absent(why) => return Err(AbsentTool(why.clone())),
        };
        debug_assert!(!step.writes.is_empty(), "every step makes something");
        let environment = [
            ("PATH".to_string(), self.tools.search_path.clone()),
            ("LC_ALL".into(), "C".into()),
            (EPOCH_VARIABLE.into(), self.tools.epoch.to_string()),
            ("TMPDIR".into(), self.aside.display().to_string()),
        ];
        let folder = self.folders.tree.clone();
        let environment = self.tools.environment.clone().into_iter().chain(environment).collect();
        Ok(Job { program, arguments, folder, environment, watch: self.watch, ..Job::default() })
    }
}

/// What a person types to repeat a process.
#[derive(Debug)]
pub struct ByHand<'j> {
    /// Variables of the environment.
    pub variables: Vec<(String, &'j str)>,
    /// The program.
    pub program: &'j str,
    /// Its arguments.
    pub arguments: Vec<&'j str>,
    /// Beginnings of places that are gone by then.
    pub gone: Vec<&'j str>,
}

impl<'j> ByHand<'j> {
    /// All of a process.
    pub(super) fn of(job: &'j Job) -> ByHand<'j> {
        ByHand {
            variables: Vec::new(),
            program: job.program.to_str().unwrap_or_default(),
            arguments: job.arguments.iter().map(String::as_str).collect(),
            gone: Vec::new(),
        }
    }
}

/// Writes a process as a shell would take it, so that it can be run again by hand. What it made aside goes to the folder `again` instead,
/// so that nothing of the build, and nothing else, is written over.
pub fn repeatable(step: &Step, process: &Process, aside: &Path, again: &Path) -> String {
    let again_text = again.display().to_string();
    let aside = aside.display().to_string();
    let place = |path: &Path| shell_word(&path.display().to_string().replace(&aside, &again_text));
    let line = |job: &Job, is_first: bool, is_last: bool| {
        let by_hand = step.runs().map_or_else(|| ByHand::of(job), |runs| runs.by_hand(job));
        let mut gone = by_hand.gone.clone();
        gone.push(&aside);
        let word = |word: &&str| {
            let moved = gone.iter().fold((*word).to_string(), |word, place| word.replace(place, &again_text));
            shell_word(&moved)
        };
        let set = by_hand.variables.iter().map(|(name, value)| format!("{name}={}", shell_word(value)));
        let mut words: Vec<String> = set.collect();
        words.push(shell_word(by_hand.program));
        words.extend(by_hand.arguments.iter().map(word));
        words.extend(job.input.iter().filter(|_| is_first).map(|input| format!("< {}", place(input))));
        words.extend(job.output.iter().filter(|_| is_last).map(|output| format!("> {}", place(output))));
        words.join(" ")
    };
    let mut folders: BTreeSet<PathBuf> =
        step.writes.iter().filter_map(|write| step.aside(write, again).parent().map(Path::to_path_buf)).collect();
    folders.extend(process.own_folder.iter().map(|_| again.to_path_buf()));
    folders.extend(process.laid_out.iter().filter_map(|(_, to)| {
        to.parent().map(|folder| PathBuf::from(folder.display().to_string().replace(&aside, &again_text)))
    }));
    let folders: Vec<String> = folders.iter().map(|folder| shell_word(&folder.display().to_string())).collect();
    let mut all = vec![format!("mkdir -p {}", folders.join(" "))];
    all.extend(process.laid_out.iter().map(|(from, to)| format!("cp {} {}", place(from), place(to))));
    all.push(format!("cd {}", place(&process.job.folder)));
    let last = process.before.len();
    let lines = process.before.iter().chain([&process.job]).enumerate();
    all.push(lines.map(|(index, job)| line(job, index == 0, index == last)).collect::<Vec<_>>().join(" | "));
    all.join(" && ")
}

impl Location {
    /// Returns its path below its root; a file of the host is just called `file`.
    pub(super) fn below_root(&self) -> &str {
        match self {
            Location::Tree(path) | Location::Made(path) | Location::Object(path) | Location::Output(path) => {
                path.as_str()
            }
            Location::System(_) => "file",
        }
    }
}
