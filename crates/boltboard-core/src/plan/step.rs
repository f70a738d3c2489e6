//! Steps: single commands with all that they read and write.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::PathBuf;
use std::sync::{Arc, OnceLock};

use super::flags::{Flags, Known};
use super::location::Location;
use super::macros::{HeaderText, MacroTable};
use crate::base::{Arena, Digest, Epoch, Id};
use crate::board::{Condition, PartId};
use crate::store::Folders;
use crate::survey::Language;

/// Flags that put macros, or the whole command, into the result.
const RECORDING: [&str; 4] =
    ["-fdebug-macro", "-frecord-gcc-switches", "-frecord-command-line", "-grecord-command-line"];

/// The id of a [`Step`].
pub type StepId = Id<Step>;

/// All steps of a build. Steps come after those whose files they read.
#[derive(Debug, Clone)]
pub struct Plan {
    /// The steps.
    pub steps: Arena<Step>,
    /// Where everything lies.
    pub folders: Folders,
    /// The option headers; compiles see them macro by macro, not as files.
    pub headers: Vec<HeaderText>,
    /// The parts that are made, with what each ends in.
    pub parts: BTreeMap<PartId, Vec<Location>>,
    /// The macros of the option headers.
    pub macros: MacroTable,
    /// The names of the parts that steps belong to.
    pub part_names: BTreeMap<PartId, String>,
    /// Variables of the environment that generators have passed on.
    pub variables: BTreeSet<String>,
    /// The time that everything is built as if at.
    pub epoch: Epoch,
    /// Where programs are looked for.
    pub search_path: String,
    /// How many steps more there are, of parts that nothing touches: they are current.
    pub rest: usize,
    /// Who makes each file, by half a digest of its kept name.
    pub(super) makers: OnceLock<HashMap<[u8; 16], StepId>>,
}

impl Plan {
    /// Returns the step that makes a file.
    pub fn maker(&self, file: &Location) -> Option<StepId> {
        let key = |file: &Location| Digest::of(file.kept().as_bytes()).half();
        let all = || self.steps.iter().flat_map(|(id, step)| step.writes.iter().map(move |write| (key(write), id)));
        self.makers.get_or_init(|| all().collect()).get(&key(file)).copied()
    }

    /// Tells whether a step is done before another one starts, whatever the order in which they become ready.
    pub fn comes_before(&self, first: StepId, step: &Step) -> bool {
        let mut seen = BTreeSet::new();
        let mut open: Vec<StepId> = Vec::new();
        let ahead = |step: &Step, open: &mut Vec<StepId>| {
            open.extend(step.after.iter().copied());
            open.extend(step.reads.iter().filter_map(|read| self.maker(read)));
        };
        ahead(step, &mut open);
        while let Some(next) = open.pop() {
            if next == first {
                return true;
            }
            if seen.insert(next) {
                ahead(&self.steps[next], &mut open);
            }
        }
        false
    }

    /// Returns by what the footing of a class is kept: where programs are looked for decides about it as well.
    pub fn footing_key(&self, class: &Digest) -> Digest {
        Digest::of_parts([class.to_string().as_str(), &self.search_path])
    }

    /// Tells whether a file is an option header.
    pub fn is_header(&self, location: &Location) -> bool {
        self.headers.iter().any(|header| header.at == *location)
    }

    /// Returns the name of the part that a step belongs to.
    pub fn owner(&self, step: &Step) -> &str {
        step.part.map_or("option header", |part| self.part_name(part))
    }

    /// Returns the name of a part that steps belong to.
    pub fn part_name(&self, part: PartId) -> &str {
        self.part_names.get(&part).map_or("", String::as_str)
    }

    /// Returns how many steps the build has.
    pub fn count(&self) -> usize {
        self.steps.len() + self.rest
    }
}

/// One command of a build.
#[derive(Debug, Clone)]
pub struct Step {
    /// Its name: the first file that it writes, as people see it. No two steps share one.
    pub name: String,
    /// The part that it belongs to; none for what serves all.
    pub part: Option<PartId>,
    /// What it does.
    pub action: Action,
    /// Files that it reads and that are known beforehand.
    pub reads: Vec<Location>,
    /// Those of them that are shared libraries: only their interface counts.
    pub interfaces: Vec<Location>,
    /// Files that it writes.
    pub writes: Vec<Location>,
    /// Steps that must come first, beyond those whose files it reads.
    pub after: Arc<[StepId]>,
    /// The condition that brought its source into the part.
    pub brought_by: Option<Arc<Condition>>,
}

/// What a step does.
#[derive(Debug, Clone)]
pub enum Action {
    /// Compiles one source.
    Compile {
        /// The source's language.
        language: Language,
        /// How, shared with others.
        setting: Arc<Setting>,
    },
    /// Runs another command: links, archives, generators.
    Run(Box<Command>),
    /// Writes a text that follows from the resolution.
    Write {
        /// The text.
        content: String,
    },
    /// Puts a file of the tree among the outputs.
    Copy,
    /// Makes another name of an output.
    Link {
        /// What the name leads to.
        target: String,
    },
}

/// A command that is no compile.
#[derive(Debug, Clone)]
pub struct Command {
    /// The program.
    pub tool: Tool,
    /// Its words.
    pub words: Vec<Word>,
    /// The folder it runs in.
    pub folder: Location,
    /// Variables of its environment.
    pub environment: Vec<(String, Vec<Word>)>,
    /// Exit codes that mean success.
    pub success: Vec<i32>,
    /// What it reads beyond [`Step::reads`].
    pub finds: Finds,
    /// Stands for all links or archives that use the same programs in the same way; none for generators, each of which is its own.
    pub class: Option<Digest>,
}

/// What compiles have in common but for their sources.
#[derive(Debug)]
pub struct Setting {
    /// The compiler.
    pub tool: Tool,
    /// Its words, but for the source, the output and macros.
    pub words: Vec<Word>,
    /// Macros given as flags to files that name them.
    pub defines: BTreeMap<String, Option<String>>,
    /// What the words say.
    pub flags: Flags,
    /// Stands for all compiles that use the same programs in the same way.
    pub class: Digest,
    /// Digest of the compiler and the words.
    pub(super) digest: Digest,
    /// Whether a result holds every macro, named or not.
    records_macros: bool,
}

impl Setting {
    /// Returns the texts in its words that can define macros or say what they stand for: all that is no place.
    pub(super) fn defining_words(&self) -> Vec<String> {
        let text = |word: &Word| match word.fragments.as_slice() {
            [Fragment::Text(text)] => Some(text.strip_prefix("-D").unwrap_or(text).to_string()),
            _ => None,
        };
        self.words.iter().filter_map(text).collect()
    }

    /// Puts a setting together.
    pub fn new(
        tool: Tool,
        words: Vec<Word>,
        defines: BTreeMap<String, Option<String>>,
        language: Language,
        flags: Flags,
    ) -> Setting {
        let neutral: Vec<String> = words.iter().map(|word| word.neutral(&[])).collect();
        let identity = tool.identity().to_string();
        let parts = [tool.name.as_str(), identity.as_str()].into_iter().chain(neutral.iter().map(String::as_str));
        let way = [
            identity.as_str(),
            match language {
                Language::C => "c",
                Language::Cxx => "c++",
                Language::AsmWithCpp => "assembly with macros",
                Language::Asm => "assembly",
            },
        ];
        let path = match &tool.place {
            ToolPlace::Host { path, .. } => path.display().to_string(),
            ToolPlace::Made(_) | ToolPlace::Absent(_) => tool.name.clone(),
        };
        let class = way.into_iter().chain([path.as_str()]).chain(flags.of_class.iter().map(String::as_str));
        let class = Digest::of_parts(class);
        let records = |text: &String| {
            let third = text.starts_with("-g") && text.ends_with('3') && !text.starts_with("-gdwarf-");
            third || RECORDING.contains(&text.as_str())
        };
        let records_macros = neutral.iter().any(records);
        Setting { digest: Digest::of_parts(parts), class, tool, words, defines, flags, records_macros }
    }
}

/// What a command reads beyond what it is given.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Finds {
    /// Nothing.
    Nothing,
    /// Libraries that it looks for by name, and start files: a link.
    Libraries,
}

/// The program that runs a step.
#[derive(Debug, Clone)]
pub struct Tool {
    /// Its name as people see it.
    pub name: String,
    /// Where it is; a part that the tree makes, or a program of the host.
    pub place: ToolPlace,
}

/// Where a tool is.
#[derive(Debug, Clone)]
pub enum ToolPlace {
    /// A program of the host, with the digest of what decides about its output.
    Host {
        /// The program's file.
        path: PathBuf,
        /// What it is.
        identity: Digest,
    },
    /// A program that the tree makes; its content is among the step's inputs.
    Made(Location),
    /// A program of the host that is not there; running the step fails with this name.
    Absent(String),
}

/// A word of a command, put together from fragments.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Word {
    /// The fragments, in order.
    pub fragments: Vec<Fragment>,
}

/// A fragment of a [`Word`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fragment {
    /// Text as it is.
    Text(String),
    /// A file or folder.
    At(Location),
    /// One of the step's own results, by its index in [`Step::writes`]; while the step runs that is a file aside.
    Result(usize),
}

impl Word {
    /// Makes a word as it is.
    pub fn text(text: impl Into<String>) -> Word {
        Word { fragments: vec![Fragment::Text(text.into())] }
    }

    /// Makes a word that is a file.
    pub fn place(at: Location) -> Word {
        Word { fragments: vec![Fragment::At(at)] }
    }

    /// Makes a word such as `-Ifolder`.
    pub fn flag(before: &str, at: Location) -> Word {
        Word { fragments: vec![Fragment::Text(before.into()), Fragment::At(at)] }
    }

    /// Makes a word that is a result of the step.
    pub fn result(index: usize) -> Word {
        Word { fragments: vec![Fragment::Result(index)] }
    }

    /// Tells whether it is a file or folder and nothing else.
    pub fn is_place(&self) -> bool {
        matches!(self.fragments[..], [Fragment::At(_)])
    }

    /// Returns the generated file that it names below their folder, as in `-Wl,--version-script=${path:made}/exports.map`.
    pub(super) fn made_file(&self) -> Option<Location> {
        self.fragments.windows(2).find_map(|pair| match pair {
            [Fragment::At(Location::Made(folder)), Fragment::Text(rest)] => {
                let name = rest.strip_prefix('/')?.split(',').next()?;
                folder.join(name).ok().map(Location::Made)
            }
            _ => None,
        })
    }

    /// Returns the word the same on every machine; for keys and for people.
    pub fn neutral(&self, writes: &[Location]) -> String {
        let fragment = |fragment: &Fragment| match fragment {
            Fragment::Text(text) => text.clone(),
            Fragment::At(at) => at.to_string(),
            Fragment::Result(index) => writes.get(*index).map_or(String::new(), Location::to_string),
        };
        self.fragments.iter().map(fragment).collect()
    }
}

impl Step {
    /// Returns the words of its command the same on every machine; empty for steps without a command.
    pub fn command(&self) -> Vec<String> {
        let neutral = |words: &[Word]| words.iter().map(|w| w.neutral(&self.writes)).collect::<Vec<String>>();
        let with =
            |tool: &Tool, words: &[Word]| std::iter::once(tool.name.clone()).chain(neutral(words)).collect::<Vec<_>>();
        match &self.action {
            Action::Compile { setting, .. } => {
                let mut all = with(&setting.tool, &setting.words);
                all.extend(self.source().map(Location::to_string));
                all.extend(["-c".to_string(), "-o".into(), self.name.clone()]);
                all
            }
            Action::Run(command) => {
                let variable = |(name, words): &(String, Vec<Word>)| format!("{name}={}", neutral(words).join(" "));
                let set = command.environment.iter().map(variable);
                set.chain(with(&command.tool, &command.words)).collect()
            }
            Action::Write { .. } | Action::Copy => vec![],
            Action::Link { target } => vec!["link to".into(), target.clone()],
        }
    }

    /// Returns what it does, in one word.
    pub fn verb(&self) -> &'static str {
        match &self.action {
            Action::Compile { .. } => "compile",
            Action::Run(_) => match self.writes.first() {
                Some(Location::Output(path)) if path.extension() == "a" => "archive",
                Some(Location::Output(_)) => "link",
                _ => "generate",
            },
            Action::Write { .. } => "write",
            Action::Copy => "copy",
            Action::Link { .. } => "name",
        }
    }

    /// Returns what stands for all steps that use the same programs in the same way; none where each is its own.
    pub fn class(&self) -> Option<Digest> {
        match &self.action {
            Action::Compile { setting, .. } => Some(setting.class),
            Action::Run(command) => command.class,
            Action::Write { .. } | Action::Copy | Action::Link { .. } => None,
        }
    }

    /// Tells whether it links, and so looks for libraries by name.
    pub fn links(&self) -> bool {
        matches!(&self.action, Action::Run(command) if command.finds == Finds::Libraries)
    }

    /// Tells whether it may look at what is not known beforehand.
    pub fn may_find(&self) -> bool {
        self.has_process()
    }

    /// Tells whether it is a compile that leaves further files beside its object.
    pub fn makes_more(&self) -> bool {
        matches!(&self.action, Action::Compile { setting, .. } if setting.flags.makes_more)
    }

    /// Tells whether a compile's words are all known, so that it can look at nothing else than they and its text say.
    pub fn is_known(&self) -> bool {
        matches!(&self.action, Action::Compile { setting, .. } if setting.flags.known == Known::Wholly)
    }

    /// Tells whether it compiles a text that goes through the preprocessor.
    pub fn is_preprocessed(&self) -> bool {
        matches!(&self.action, Action::Compile { language, .. } if *language != Language::Asm)
    }

    /// Tells whether its result holds every macro, named or not, as debug information of the third level does.
    pub fn records_macros(&self) -> bool {
        matches!(&self.action, Action::Compile { setting, .. } if setting.records_macros)
    }

    /// Returns its source, if it compiles one.
    pub fn source(&self) -> Option<&Location> {
        match &self.action {
            Action::Compile { .. } => self.reads.first(),
            Action::Run(_) | Action::Write { .. } | Action::Copy | Action::Link { .. } => None,
        }
    }

    /// Returns the program that runs it.
    pub fn tool(&self) -> Option<&Tool> {
        match &self.action {
            Action::Compile { setting, .. } => Some(&setting.tool),
            Action::Run(command) => Some(&command.tool),
            Action::Write { .. } | Action::Copy | Action::Link { .. } => None,
        }
    }
}

impl Tool {
    /// Returns what stands for links or archives that run it with these words, whatever they are made of and however the result is called.
    pub(super) fn class(&self, sort: &str, words: &[Word]) -> Digest {
        let own = ["-Wl,-soname,", "-Wl,-rpath,"];
        let text = |word: &Word| match word.fragments.as_slice() {
            [Fragment::Text(text)] if !own.iter().any(|own| text.starts_with(own)) => Some(text.clone()),
            _ => None,
        };
        let identity = self.identity().to_string();
        let words: Vec<String> = words.iter().filter_map(text).collect();
        Digest::of_parts([sort, &self.name, &identity].into_iter().chain(words.iter().map(String::as_str)))
    }

    /// Returns a digest of what it is; a made tool's content counts among the inputs instead.
    pub fn identity(&self) -> Digest {
        match &self.place {
            ToolPlace::Host { identity, .. } => *identity,
            ToolPlace::Made(location) => Digest::of_parts(["made", location.kept().as_str()]),
            ToolPlace::Absent(name) => Digest::of_parts(["absent", name.as_str()]),
        }
    }
}
