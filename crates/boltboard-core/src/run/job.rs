//! From a step to the process that runs it.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::execute::{Executor, Trouble};
use super::failure::Cause;
use crate::base::files::make_folder;
use crate::launch::Job;
use crate::plan::{Action, Command, Fragment, Location, Step, ToolPlace, Word, leaves_more};
use crate::store::Folders;
use crate::survey::{EPOCH_VARIABLE, Family, Language};
use crate::watch::Depth;

/// Makes every linker name the files that it reads, one a line; where it cannot be watched.
const TRACE: &str = "-Wl,-t";
/// Where a compile's list of what it read lies aside.
const READS: &str = "reads.d";
/// Where the list of what its assembler took in lies aside.
const TAKEN_IN: &str = "taken-in.d";
/// The folder aside by a name that is the same in every build: what a compile writes into its object of where it lies (profiles, debug
/// information in a file of its own) then says nothing about this machine.
const NEUTRAL: &str = "/proc/self/fd/9";
/// Opens the folder aside by that name, and becomes the command.
const WITH_NEUTRAL: &str = "exec \"$@\" 9<\"$0\"";
/// Where a text after preprocessing lies aside.
pub(super) const TEXT: &str = "text";

/// Variables that make instrumented programs leave their profiles beside the objects, whose own names for these places are neutral.
pub(super) fn profiles_beside_objects(folders: &Folders) -> [(String, String); 2] {
    let steps = NEUTRAL.split('/').filter(|part| !part.is_empty()).count();
    let build = folders.build.display().to_string();
    [("GCOV_PREFIX".into(), build), ("GCOV_PREFIX_STRIP".into(), steps.to_string())]
}

/// What is wanted of a compiler's run, and what it runs on.
pub(super) struct Run<'a> {
    pub folders: &'a Folders,
    pub defines: Option<&'a BTreeMap<String, Option<String>>>,
    pub ends: Ends,
    /// How closely it is watched.
    pub watch: Option<Depth>,
}

/// Where a compile lists what it read.
#[derive(Debug, Clone, Default)]
pub(super) struct Lists {
    /// Files that its preprocessor read.
    pub read: Option<PathBuf>,
    /// Files that its assembler took in.
    pub taken_in: Option<PathBuf>,
}

/// How far a compile goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Ends {
    /// To the end.
    Whole,
    /// To the text after preprocessing.
    Preprocessed,
}

impl Executor<'_> {
    /// Makes the process of a step; for compiles also the places of their lists.
    pub(super) fn job(&self, step: &Step, aside: &Path, run: &Run<'_>) -> Result<(Job, Lists), Trouble> {
        let folders = run.folders;
        for write in &step.writes {
            let place = aside_of(step, write, aside);
            let folder = place.parent().unwrap_or(aside);
            if !folder.is_dir() {
                make_folder(folder)?;
            }
        }
        let word = |word: &Word| -> String {
            let fragments = word.fragments.len();
            let fragment = |fragment: &Fragment| match fragment {
                Fragment::Text(text) => text.clone(),
                // From the tree's root, paths of sources are the same on every machine.
                Fragment::At(Location::Tree(path))
                    if matches!(step.action, Action::Compile { .. }) && !is_map(word) =>
                {
                    // A name must not be taken for a flag, or for a list of words.
                    let name = path.to_string();
                    let taken = fragments == 1 && name.starts_with(['-', '@']);
                    if taken { format!("./{name}") } else { name }
                }
                Fragment::At(at) => at.path(folders).display().to_string(),
                Fragment::Result(index) => {
                    step.writes.get(*index).map_or(String::new(), |w| aside_of(step, w, aside).display().to_string())
                }
            };
            word.fragments.iter().map(fragment).collect()
        };
        let mut environment: BTreeMap<String, String> = [
            ("PATH".to_string(), self.tools.search_path.clone()),
            ("LC_ALL".into(), "C".into()),
            (EPOCH_VARIABLE.into(), self.tools.epoch.to_string()),
            ("TMPDIR".into(), aside.display().to_string()),
        ]
        .into();
        let (mut arguments, mut lists, mut folder) = (Vec::new(), Lists::default(), folders.tree.clone());
        match &step.action {
            Action::Compile { setting, language } => {
                arguments.extend(setting.words.iter().map(word));
                arguments.extend(step.source().map(|source| word(&Word::place(source.clone()))));
                arguments.extend(run.defines.unwrap_or(&setting.defines).iter().map(|(name, value)| {
                    value.as_ref().map_or_else(|| format!("-D{name}"), |value| format!("-D{name}={value}"))
                }));
                let (end, result) = match run.ends {
                    Ends::Whole if step.makes_more() => {
                        let beside = aside_of(step, &step.writes[0], aside);
                        let rest = beside.strip_prefix(aside).unwrap_or(&beside);
                        ("-c", Path::new(NEUTRAL).join(rest))
                    }
                    Ends::Whole => ("-c", aside_of(step, &step.writes[0], aside)),
                    Ends::Preprocessed => ("-E", aside.join(TEXT)),
                };
                if run.ends == Ends::Whole {
                    if !step.makes_more() {
                        // The same bytes without a file between compiler and assembler.
                        arguments.push("-pipe".into());
                    }
                    if arguments
                        .iter()
                        .any(|word| word == "-save-temps" || word == "--save-temps" || word == "-save-temps=cwd")
                    {
                        // Not where it runs, which is the tree.
                        arguments.push("-save-temps=obj".into());
                    }
                    if run.defines.is_none() && self.lists_what_is_taken_in(setting, *language) {
                        let list = aside.join(TAKEN_IN);
                        arguments.push(format!("-Wa,--MD,{}", list.display()));
                        lists.taken_in = Some(list);
                    }
                }
                let family = self.tools.compiler(*language).map(|compiler| compiler.family);
                if family == Ok(Family::Gcc) {
                    // What it makes up by chance, such as the names of sections, follows from the name of the result.
                    arguments.push(format!("-frandom-seed={}", step.name));
                    if *language != Language::Asm {
                        // Headers of the host by the names by which they were found, so that links that come to lead elsewhere count.
                        arguments.push("-fno-canonical-system-headers".into());
                    }
                }
                arguments.extend([end.into(), "-o".into(), result.display().to_string()]);
                if *language != Language::Asm {
                    // Else it would be the time of the source's last change, whatever that change was.
                    let stamp = format!("-D__TIMESTAMP__=\"{}\"", self.timestamp);
                    arguments.extend(["-Wno-builtin-macro-redefined".into(), stamp]);
                    if run.defines.is_none() {
                        let file = aside.join(READS);
                        arguments.extend(["-MD", "-MT", "x", "-MF"].map(String::from));
                        arguments.push(file.display().to_string());
                        lists.read = Some(file);
                    }
                }
            }
            Action::Run(command) => {
                let Command { words, folder: at, environment: own, .. } = &**command;
                arguments.extend(words.iter().map(word));
                folder = at.path(folders);
                for (name, words) in own {
                    environment.insert(name.clone(), words.iter().map(word).collect::<Vec<_>>().join(" "));
                }
            }
            Action::Write { .. } | Action::Copy | Action::Link { .. } => {}
        }
        if step.links() && run.watch.is_none() {
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
        let (program, arguments) = if step.makes_more() && run.ends == Ends::Whole {
            let aside = aside.display().to_string();
            let before = ["-c".to_string(), WITH_NEUTRAL.into(), aside, program.display().to_string()];
            (PathBuf::from("/bin/sh"), before.into_iter().chain(arguments).collect())
        } else {
            (program, arguments)
        };
        Ok((Job { program, arguments, folder, environment, limit: None, watch: run.watch }, lists))
    }
}

fn is_map(word: &Word) -> bool {
    matches!(word.fragments.first(), Some(Fragment::Text(text)) if text == "-ffile-prefix-map=")
}

/// Where a result lies until it is moved into place: by its path, because generators may go by that, but for compiles, which are
/// many.
pub(super) fn aside_of(step: &Step, write: &Location, aside: &Path) -> PathBuf {
    let path = match write {
        Location::Tree(path) | Location::Made(path) | Location::Object(path) | Location::Output(path) => path,
        Location::System(_) => return aside.join("file"),
    };
    match step.action {
        // What such a compile writes of its own place is to be what it is later.
        Action::Compile { .. } if step.makes_more() => aside.join("objects").join(path.as_str()),
        Action::Compile { .. } => aside.join(path.name()),
        Action::Run(_) | Action::Write { .. } | Action::Copy | Action::Link { .. } => aside.join(path.as_str()),
    }
}

/// Writes a job as a shell would take it, so that it can be run again by hand: what lies aside is gone by then, so results go
/// nowhere.
pub(super) fn repeatable(step: &Step, job: &Job, aside: &Path) -> String {
    let safe = |c: char| c.is_ascii_alphanumeric() || "-_./=+,:@%".contains(c);
    let quoted = |text: &str| {
        let plain = !text.is_empty() && text.chars().all(safe);
        if plain { text.to_string() } else { format!("'{}'", text.replace('\'', "'\\''")) }
    };
    let (mut program, mut arguments) = (job.program.display().to_string(), job.arguments.as_slice());
    if let [_, script, _, compiler, rest @ ..] = arguments
        && script == WITH_NEUTRAL
    {
        (program, arguments) = (compiler.clone(), rest);
    }
    if let Action::Compile { language, .. } = &step.action
        && *language != Language::Asm
    {
        // The last five ask for the dependency file.
        arguments = &arguments[..arguments.len().saturating_sub(5)];
    }
    if arguments.last().is_some_and(|last| last == TRACE) {
        arguments = &arguments[..arguments.len().saturating_sub(1)];
    }
    let variable = |(name, _): &(String, Vec<Word>)| {
        job.environment.get(name).map_or(String::new(), |value| format!("{name}={} ", quoted(value)))
    };
    let set: String = match &step.action {
        Action::Run(command) => command.environment.iter().map(variable).collect(),
        Action::Compile { .. } | Action::Write { .. } | Action::Copy | Action::Link { .. } => String::new(),
    };
    let aside = aside.display().to_string();
    let is_result = |word: &String| word.starts_with(&aside) || word.starts_with(NEUTRAL);
    let word = |word: &String| if is_result(word) { "/dev/null".into() } else { quoted(word) };
    // Only we read that list, and further files would be left beside the place that stands for nowhere.
    let words: Vec<String> = arguments
        .iter()
        .filter(|word| !(word.starts_with("-Wa,--MD,") || step.makes_more() && leaves_more(word)))
        .map(word)
        .collect();
    let folder = job.folder.display().to_string();
    format!("cd {} && {set}{} {}", quoted(&folder), quoted(&program), words.join(" "))
}
