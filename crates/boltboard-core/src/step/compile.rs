//! Compiles: one source becomes an object, and whatever else its flags ask for.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::flags::{Flags, Known, leaves_more};
use super::kind::{Acts, Runs, Sees, Step};
use super::location::Location;
use super::process::{AbsentTool, ByHand, Ends, Lists, Process, Setup};
use super::tool::{Tool, ToolPlace};
use super::word::{Fragment, Word};
use crate::base::Digest;
use crate::board::Machine;
use crate::launch::Job;
use crate::survey::{Family, Language, Tools};
use crate::work::Folders;

/// Flags that put macros, or the whole command, into the result.
const RECORDING: [&str; 4] =
    ["-fdebug-macro", "-frecord-gcc-switches", "-frecord-command-line", "-grecord-command-line"];
/// Where a compile's list of what it read lies aside.
const READS: &str = "reads.d";
/// Where the list of what its assembler took in lies aside.
const TAKEN_IN: &str = "taken-in.d";
/// What hands the assembler the place of that list.
const LIST_TAKEN_IN: &str = "-Wa,--MD,";
/// How many words ask for the first list.
const LIST_WORDS: usize = 5;
/// The folder aside by a name that is the same in every build: what a compile writes into its object of where it lies (profiles, debug
/// information in a file of its own) then says nothing about this machine.
const NEUTRAL: &str = "/proc/self/fd/9";
/// Opens the folder aside by that name, and becomes the command.
const WITH_NEUTRAL: &str = "exec \"$@\" 9<\"$0\"";
/// The shell that does.
const SHELL: &str = "/bin/sh";
/// Spellings of the flag that keeps what lies between the phases, and where it is to lie: beside the object, not in the tree.
const SAVE_TEMPS: [&str; 3] = ["-save-temps", "--save-temps", "-save-temps=cwd"];
const BESIDE_OBJECT: &str = "-save-temps=obj";
/// Where a text after preprocessing lies aside.
pub const TEXT: &str = "text";

/// Returns the variables that make instrumented programs leave their profiles beside the objects, whose own names for these places
/// are neutral.
pub fn profiles_beside_objects(folders: &Folders) -> [(String, String); 2] {
    let steps = NEUTRAL.split('/').filter(|part| !part.is_empty()).count();
    let build = folders.build.display().to_string();
    [("GCOV_PREFIX".into(), build), ("GCOV_PREFIX_STRIP".into(), steps.to_string())]
}

/// Compiles one source.
#[derive(Debug, Clone)]
pub struct Compile {
    /// The source's language.
    pub language: Language,
    /// What it makes of it.
    pub form: Form,
    /// The machine that it is made for.
    pub machine: Machine,
    /// How, shared with others.
    pub setting: Arc<Setting>,
}

/// What a compile makes of its source.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// An object.
    Object,
    /// Assembly.
    Assembly,
    /// The text after preprocessing, without marks of lines.
    Text,
}

impl Form {
    /// The words that ask for it.
    fn words(self) -> &'static [&'static str] {
        match self {
            Form::Object => &["-c"],
            Form::Assembly => &["-S"],
            Form::Text => &["-E", "-P"],
        }
    }
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
    /// Whether a result holds every macro, named or not.
    pub(super) records_macros: bool,
    /// Stands for all compiles that use the same programs in the same way.
    class: Digest,
    /// Digest of the compiler and the words.
    digest: Digest,
}

impl Setting {
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
        let path = match &tool.place {
            ToolPlace::Host { path, .. } => path.display().to_string(),
            ToolPlace::Made(_) | ToolPlace::Absent(_) => tool.name.clone(),
        };
        let way = [identity.as_str(), tag_of(language), path.as_str()];
        let class = Digest::of_parts(way.into_iter().chain(flags.of_class.iter().map(String::as_str)));
        let records = |text: &String| {
            let third = text.starts_with("-g") && text.ends_with('3') && !text.starts_with("-gdwarf-");
            third || RECORDING.contains(&text.as_str())
        };
        let records_macros = neutral.iter().any(records);
        Setting { digest: Digest::of_parts(parts), class, tool, words, defines, flags, records_macros }
    }

    /// Returns the folders of results that it is told to search.
    pub fn searched_results(&self) -> impl Iterator<Item = &Location> {
        self.words.iter().filter_map(|word| match word.fragments.as_slice() {
            [Fragment::Text(flag), Fragment::At(at @ Location::Object(_))] if flag == "-I" => Some(at),
            _ => None,
        })
    }

    /// Returns the texts in its words that can define macros or say what they stand for: all that is no place, nor a flag with one.
    pub fn defining_words(&self) -> Vec<String> {
        let defining = self.words.iter().filter_map(|word| match word.as_text() {
            Some(text) => Some(text.strip_prefix("-D").unwrap_or(text).to_string()),
            None => word.texts().collect::<Vec<_>>().join(" ").strip_prefix("-D").map(str::to_string),
        });
        defining.collect()
    }
}

/// Stands for a language in keys.
fn tag_of(language: Language) -> &'static str {
    match language {
        Language::C => "c",
        Language::Cxx => "c++",
        Language::AsmWithCpp => "assembly with macros",
        Language::Asm => "assembly",
        Language::Fortran => "fortran",
        Language::FortranWithCpp => "fortran with macros",
        Language::OwnAsm => "assembly of its own",
    }
}

impl Compile {
    /// Returns the digest of what is the same whatever the files hold.
    pub(super) fn key(&self, step: &Step) -> Digest {
        let source = step.reads.first().map_or(String::new(), Location::kept);
        let form = self.form.words().concat();
        Digest::of_parts([self.tag(), &form, &self.setting.digest.to_string(), &source, &step.name])
    }

    /// Tells whether it leaves further files beside its object.
    pub fn makes_more(&self) -> bool {
        self.setting.flags.makes_more
    }

    /// Tells whether what it looks at follows from its words, its text and its lists.
    pub fn is_plain(&self, tools: &Tools) -> bool {
        let preprocessed = matches!(self.language, Language::C | Language::Cxx);
        let family = tools.compiler_for(self.machine, self.language).map(|compiler| compiler.family);
        preprocessed && self.setting.flags.known == Known::Wholly && matches!(family, Ok(Family::Gcc | Family::Clang))
    }

    /// Tells whether its assembler lists what it takes in.
    pub fn lists_what_is_taken_in(&self, tools: &Tools) -> bool {
        let family = tools.compiler_for(self.machine, self.language).map(|compiler| compiler.family);
        // What such a compile keeps for the link names its own words, and with them the list.
        let keeps_words = self.setting.flags.of_class.iter().any(|word| word.starts_with("-flto"));
        // Only an object has seen an assembler.
        self.form == Form::Object
            && family == Ok(Family::Gcc)
            && self.setting.flags.known == Known::Wholly
            && !keeps_words
    }

    /// Spells a word: from the tree's root, paths of sources are the same on every machine.
    fn spelled(&self, step: &Step, setup: &Setup<'_>, word: &Word) -> String {
        let maps = word.fragments.first().is_some_and(|first| *first == Fragment::Text("-ffile-prefix-map=".into()));
        let place = |at: &Location, whole: bool| match at {
            // A name must not be taken for a flag, or for a list of words.
            Location::Tree(path) if !maps && whole && path.as_str().starts_with(['-', '@']) => format!("./{path}"),
            Location::Tree(path) if !maps => path.to_string(),
            at => at.path(setup.folders).display().to_string(),
        };
        word.spelled(place, |index| setup.result(step, index))
    }

    /// What makes a whole compile leave all that it makes aside, and nothing of chance in it.
    fn whole(&self, step: &Step, setup: &Setup<'_>, arguments: &mut Vec<String>, lists: &mut Lists) -> PathBuf {
        if !self.makes_more() && self.form == Form::Object {
            // The same bytes without a file between compiler and assembler.
            arguments.push("-pipe".into());
        }
        if arguments.iter().any(|word| SAVE_TEMPS.contains(&word.as_str())) {
            // Not where it runs, which is the tree.
            arguments.push(BESIDE_OBJECT.into());
        }
        if setup.defines.is_none() && self.lists_what_is_taken_in(setup.tools) {
            let list = setup.aside.join(TAKEN_IN);
            arguments.push(format!("{LIST_TAKEN_IN}{}", list.display()));
            lists.taken_in = Some(list);
        }
        let aside = PathBuf::from(setup.result(step, 0));
        match aside.strip_prefix(setup.aside) {
            Ok(rest) if self.makes_more() => Path::new(NEUTRAL).join(rest),
            Ok(_) | Err(_) => aside,
        }
    }
}

impl Acts for Compile {
    fn tag(&self) -> &'static str {
        "compile 6"
    }

    fn verb(&self) -> &'static str {
        match self.form {
            Form::Object | Form::Assembly => "compile",
            Form::Text => "preprocess",
        }
    }

    fn command(&self, step: &Step) -> Vec<String> {
        let mut all = self.setting.tool.with(&self.setting.words, &step.writes);
        all.extend(step.reads.first().map(Location::to_string));
        let form = if self.language == Language::OwnAsm { &[][..] } else { self.form.words() };
        all.extend(form.iter().map(ToString::to_string));
        all.extend(["-o".to_string(), step.name.clone()]);
        all
    }

    fn sees(&self) -> Sees {
        Sees::Text
    }
}

impl Runs for Compile {
    fn tool(&self) -> &Tool {
        &self.setting.tool
    }

    fn class(&self) -> Option<Digest> {
        Some(self.setting.class)
    }

    fn process(&self, step: &Step, setup: &Setup<'_>) -> Result<Process, AbsentTool> {
        let mut arguments: Vec<String> =
            self.setting.words.iter().map(|word| self.spelled(step, setup, word)).collect();
        let source = step.reads.first().map(|source| Word::place(source.clone()));
        arguments.extend(source.map(|source| self.spelled(step, setup, &source)));
        let defines = setup.defines.unwrap_or(&self.setting.defines).iter();
        arguments.extend(defines.map(|(name, value)| match value {
            Some(value) => format!("-D{name}={value}"),
            None => format!("-D{name}"),
        }));
        let mut lists = Lists::default();
        let (end, result) = match setup.ends {
            // Its flags say what it makes, and it makes nothing else.
            Ends::Whole if self.language == Language::OwnAsm => (&[][..], PathBuf::from(setup.result(step, 0))),
            Ends::Whole => (self.form.words(), self.whole(step, setup, &mut arguments, &mut lists)),
            Ends::Preprocessed => (&["-E"][..], setup.aside.join(TEXT)),
        };
        let (preprocessed, fortran) = (self.language.is_preprocessed(), self.language.is_fortran());
        let family = setup.tools.compiler_for(self.machine, self.language).map(|compiler| compiler.family);
        if family == Ok(Family::Gcc) && self.language != Language::OwnAsm {
            // What it makes up by chance, such as the names of sections, follows from the name of the result.
            arguments.push(format!("-frandom-seed={}", step.name));
            if preprocessed && !fortran {
                // Headers of the host by the names by which they were found, so that links that come to lead elsewhere count.
                arguments.push("-fno-canonical-system-headers".into());
            }
        }
        if fortran {
            if family == Ok(Family::Gcc) {
                // Else the place where modules are put aside stands in the debug information. Whoever asks for the flags there has them.
                arguments.insert(0, "-gno-record-gcc-switches".into());
            }
            arguments.extend(preprocessed.then(|| "-cpp".to_string()));
            arguments.push(format!("-J{}", setup.aside.display()));
        }
        arguments.extend(end.iter().map(ToString::to_string));
        arguments.extend(["-o".to_string(), result.display().to_string()]);
        if preprocessed {
            if !fortran {
                // Else it would be the time of the source's last change, whatever that change was.
                let stamp = format!("-D__TIMESTAMP__=\"{}\"", setup.timestamp);
                arguments.extend(["-Wno-builtin-macro-redefined".into(), stamp]);
            }
            if setup.defines.is_none() {
                let file = setup.aside.join(READS);
                arguments.extend(["-MD", "-MT", "x", "-MF"].map(String::from));
                arguments.push(file.display().to_string());
                lists.read = Some(file);
            }
        }
        let mut job = setup.job(step, &self.setting.tool, arguments)?;
        if self.makes_more() && setup.ends == Ends::Whole {
            let aside = setup.aside.display().to_string();
            let before = ["-c".to_string(), WITH_NEUTRAL.into(), aside, job.program.display().to_string()];
            job.arguments = before.into_iter().chain(job.arguments).collect();
            job.program = SHELL.into();
        }
        Ok(Process { lists, ..Process::plain(job) })
    }

    /// By its name alone, because compiles are many; what one that leaves more writes of its own place is to be what it is later.
    fn aside(&self, write: &Location, aside: &Path) -> PathBuf {
        if self.makes_more() {
            return aside.join("objects").join(write.below_root());
        }
        aside.join(write.below_root().rsplit('/').next().unwrap_or_default())
    }

    /// Without our lists, and without what would leave further files beside the place that stands for nowhere.
    fn by_hand<'j>(&self, job: &'j Job) -> ByHand<'j> {
        let mut by_hand = ByHand::of(job);
        if let [_, WITH_NEUTRAL, _, compiler, rest @ ..] = by_hand.arguments.as_slice() {
            (by_hand.program, by_hand.arguments) = (compiler, rest.to_vec());
        }
        if self.language.is_preprocessed() {
            by_hand.arguments.truncate(by_hand.arguments.len().saturating_sub(LIST_WORDS));
        }
        by_hand.arguments.retain(|word| !(word.starts_with(LIST_TAKEN_IN) || self.makes_more() && leaves_more(word)));
        by_hand.gone.push(NEUTRAL);
        by_hand
    }
}
