//! Which compiler is at hand, what it makes programs for, and where it looks for headers and libraries.

use std::collections::BTreeMap;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use super::ProbeMemo;
use super::behind::Behind;
use super::environment::EnvironmentFault;
use super::wrapper::{self, Wrapper};
use crate::base::{Digest, Epoch};
use crate::board::Machine;
use crate::launch::{Exit, Job, Launch, find_program};
use crate::reading::Standard;

/// A compiler that answered.
#[derive(Debug, Clone)]
pub struct Compiler {
    /// The program as it was found.
    pub path: PathBuf,
    /// The same with all links followed.
    pub real_path: PathBuf,
    /// What it says of itself, one line.
    pub version: String,
    /// What sort of compiler it is.
    pub family: Family,
    /// What it makes programs for, such as `x86_64-linux-gnu`; empty when it does not say.
    pub target: String,
    /// Digest of what decides about its output: the program's file, what it says of itself, and the programs behind it.
    pub identity: Digest,
    /// Where it looks for headers by itself, in order, with all links followed.
    pub include_folders: Vec<PathBuf>,
    /// The same as it names them.
    pub header_search: Vec<PathBuf>,
    /// Where its linker looks for libraries by itself, in order.
    pub library_folders: Vec<PathBuf>,
    /// Whether those are all, so that a library that is in none of them is not there.
    pub library_search: LibrarySearch,
    /// What it runs and adds, where it is a wrapper.
    pub wrapper: Option<Wrapper>,
}

/// Sorts of compilers that take the same flags.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Family {
    /// gcc
    Gcc,
    /// clang
    Clang,
    /// Another one; only what all of them take is asked of it.
    Other,
}

/// How much is known of where a linker looks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LibrarySearch {
    /// All places.
    Known,
    /// It may look elsewhere, too.
    Partly,
}

/// The languages that are compiled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Language {
    /// C
    C,
    /// C++
    Cxx,
    /// Assembly that the preprocessor reads first.
    AsmWithCpp,
    /// Plain assembly.
    Asm,
    /// Fortran.
    Fortran,
    /// Fortran that the preprocessor reads first.
    FortranWithCpp,
    /// Assembly for an assembler of its own.
    OwnAsm,
}

impl Language {
    /// Returns the language of a source by its name's ending, `None` when it cannot be compiled.
    pub fn of(path: &crate::base::RelPath) -> Option<Language> {
        match path.extension() {
            "c" => Some(Language::C),
            "cc" | "cpp" | "cxx" => Some(Language::Cxx),
            "S" => Some(Language::AsmWithCpp),
            "s" => Some(Language::Asm),
            "f" | "for" | "ftn" | "f90" | "f95" | "f03" | "f08" => Some(Language::Fortran),
            "F" | "FOR" | "FTN" | "fpp" | "FPP" | "F90" | "F95" | "F03" | "F08" => Some(Language::FortranWithCpp),
            "asm" | "nasm" => Some(Language::OwnAsm),
            _ => None,
        }
    }

    /// Tells whether the preprocessor reads a text first.
    pub fn is_preprocessed(self) -> bool {
        match self {
            Language::C | Language::Cxx | Language::AsmWithCpp | Language::FortranWithCpp => true,
            Language::Asm | Language::Fortran | Language::OwnAsm => false,
        }
    }

    /// Tells whether it is Fortran.
    pub fn is_fortran(self) -> bool {
        matches!(self, Language::Fortran | Language::FortranWithCpp)
    }
}

/// Why there is no compiler.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum CompilerFault {
    /// It is not in the search path.
    #[error("{name} is not in the search path")]
    Absent {
        /// The program's name.
        name: String,
    },
    /// It is a program of the tree, and those are not run before a build.
    #[error("{name} is inside the tree, and programs of the tree are not run before a build")]
    OfTheTree {
        /// The program's name.
        name: String,
    },
    /// The environment that it is to run in cannot be had.
    #[error(transparent)]
    Environment(EnvironmentFault),
    /// It did not answer.
    #[error("{name} does not work as a compiler: {reason}")]
    Silent {
        /// The program's name.
        name: String,
        /// What came back.
        reason: String,
    },
}

/// Where compilers are looked for, and how they are asked.
#[derive(Clone, Copy)]
pub struct CompilerSearch<'a> {
    /// The search path for programs.
    pub search_path: &'a str,
    /// The folder that stands for `/` of the target, if it is not the compiler's own.
    pub sysroot: Option<&'a Path>,
    /// Folders whose programs are not run when they are named by path: those of the tree.
    pub never_below: &'a [PathBuf],
    /// What the toolchain's environment sets.
    pub environment: &'a BTreeMap<String, String>,
    /// Starts processes.
    pub launch: &'a dyn Launch,
    /// What was answered before.
    pub memo: &'a ProbeMemo,
}

/// Asks a compiler who it is.
///
/// # Errors
/// See [`CompilerFault`].
pub fn identify(name: &str, language: Language, search: CompilerSearch<'_>) -> Result<Compiler, CompilerFault> {
    let CompilerSearch { search_path, sysroot, never_below, environment, launch, memo } = search;
    let root = Path::new("/");
    let absent = || CompilerFault::Absent { name: name.to_string() };
    let path = find_program(name, search_path, root).ok_or_else(absent)?;
    // What the search path finds, the person has put there; a path can come from the tree.
    if name.contains('/') && lies_below(&path, never_below) {
        return Err(CompilerFault::OfTheTree { name: name.to_string() });
    }
    let silent = |reason: String| CompilerFault::Silent { name: name.to_string(), reason };
    let as_language = match language {
        Language::Cxx => "c++",
        Language::Fortran | Language::FortranWithCpp => "f95-cpp-input",
        Language::C | Language::Asm | Language::AsmWithCpp | Language::OwnAsm => "c",
    };
    let own_folder = sysroot;
    let sysroot = sysroot.map(|folder| format!("--sysroot={}", folder.display()));
    let real_path = path.canonicalize().unwrap_or_else(|_| path.clone());
    let job = |words: &[&str]| Job {
        program: path.clone(),
        arguments: sysroot.iter().cloned().chain(words.iter().map(ToString::to_string)).collect(),
        folder: root.to_path_buf(),
        environment: environment
            .clone()
            .into_iter()
            .chain([("PATH".to_string(), search_path.to_string()), ("LC_ALL".into(), "C".into())])
            .collect(),
        limit: Some(Duration::from_secs(20)),
        ..Job::default()
    };
    let ask = |words: &[&str]| -> Result<(Exit, String, String), CompilerFault> {
        let outcome = launch.run(&job(words)).map_err(|e| silent(e.source.to_string()))?;
        Ok((outcome.exit, outcome.stderr_text(), outcome.stdout_text()))
    };
    let shown = real_path.display().to_string();
    let own_root = sysroot.clone().unwrap_or_default();
    let asked = wrapper::is_to_be_asked(name);
    let question = Digest::of_parts([
        "who are you, what stands behind you, what do you add, and where do you and your linker look?",
        &shown,
        as_language,
        search_path,
        &own_root,
        &format!("{environment:?}"),
        if asked { name } else { "" },
    ]);
    let text = match memo.recall(&question).and_then(|bytes| String::from_utf8(bytes).ok()) {
        Some(text) => text,
        None => {
            let mut words = vec!["-E", "-v", "-x", as_language, "/dev/null", "-o", "/dev/null"];
            words.extend(language.is_fortran().then_some("-cpp"));
            let (exit, said, _) = ask(&words)?;
            match exit {
                Exit::Code(0) => {}
                Exit::TimedOut => return Err(silent("it did not answer within 20 s".into())),
                Exit::Code(_) | Exit::Signal(_) | Exit::Stopped => {
                    let last = said.lines().last().unwrap_or("it failed without a message");
                    return Err(silent(last.trim().to_string()));
                }
            }
            // One that does not know the question only lacks this answer.
            let answer = |words: &[&str]| ask(words).map(|(_, _, answer)| answer).unwrap_or_default();
            let folders = answer(&["-print-search-dirs"]);
            // The linker has folders of its own, which only its own script tells.
            let linker = answer(&["-print-prog-name=ld"]);
            let script = find_program(linker.trim(), search_path, root).map(|program| {
                let job = Job { program, arguments: vec!["--verbose".into()], ..job(&[]) };
                launch.run(&job).map(|outcome| outcome.stdout_text()).unwrap_or_default()
            });
            let script = script.unwrap_or_default();
            let own = script.lines().filter(|line| line.trim_start().starts_with("SEARCH_DIR"));
            let behind = Behind::of(&folders, language, search_path);
            let command = if asked { answer(&[wrapper::QUESTION]) } else { String::new() };
            let wraps = command.lines().next().map_or(String::new(), |line| format!("{WRAPS}{line}"));
            let own = own.collect::<Vec<_>>().join("\n");
            let text = format!("{said}\n{folders}\n{own}\n{}\n{wraps}", behind.lines);
            let depends = folders_not_there(&text).into_iter().chain([real_path.clone()]).chain(behind.places);
            memo.keep_at_hand(question, text.as_bytes(), depends);
            text
        }
    };
    let says = |words: &[&str]| text.lines().find(|line| words.iter().any(|word| line.contains(word)));
    let version = says(&["gcc version", "clang version"]).or_else(|| says(&["version"]));
    let version = version.unwrap_or("unknown version").trim().to_string();
    let status = std::fs::metadata(&real_path).map_err(|e| silent(e.to_string()))?;
    let file = identity_of(&real_path, &status);
    let told = if environment.is_empty() { String::new() } else { format!("{environment:?}") };
    let wraps = text.lines().find_map(|line| line.strip_prefix(WRAPS));
    let own = [file.as_str(), version.as_str(), own_root.as_str(), told.as_str(), wraps.unwrap_or_default()];
    let identity = Digest::of_parts(own.into_iter().chain(Behind::lines_in(&text)));
    let target = text.lines().find_map(|line| line.trim().strip_prefix("Target:")).map(str::trim).unwrap_or_default();
    Ok(Compiler {
        family: family(&version),
        target: target.replace("-pc-linux", "-linux"),
        include_folders: include_folders(&text)
            .iter()
            .map(|at| at.canonicalize().unwrap_or_else(|_| at.clone()))
            .collect(),
        header_search: include_folders(&text),
        library_folders: library_folders(&text, own_folder),
        library_search: if text.contains("SEARCH_DIR") { LibrarySearch::Known } else { LibrarySearch::Partly },
        wrapper: wraps.and_then(|answer| Wrapper::of(name, answer)),
        path,
        real_path,
        version,
        identity,
    })
}

/// Begins the line that keeps what a wrapper answered.
const WRAPS: &str = "wraps: ";

/// The largest program whose content is read to know it, in bytes; reading this much takes some milliseconds.
const MAX_READ: u64 = 16 << 20;

/// Stands for a program's file: its content, or for a large one the time at which its status changed last, which nobody can set.
fn identity_of(file: &Path, status: &std::fs::Metadata) -> String {
    let content = if status.len() <= MAX_READ { Digest::of_file(file).ok() } else { None };
    let by_status = || format!("{}:{}:{}", status.len(), status.ctime(), status.ctime_nsec());
    format!("{}:{}", file.display(), content.map_or_else(by_status, |content| content.to_string()))
}

/// Tells whether a file really lies below one of these folders.
pub(super) fn lies_below(file: &Path, folders: &[PathBuf]) -> bool {
    let real = file.canonicalize().unwrap_or_else(|_| file.to_path_buf());
    folders.iter().any(|folder| real.starts_with(folder) || file.starts_with(folder))
}

fn family(version: &str) -> Family {
    if version.contains("clang") {
        Family::Clang
    } else if version.contains("gcc") || version.contains("g++") {
        Family::Gcc
    } else {
        Family::Other
    }
}

fn include_folders(text: &str) -> Vec<PathBuf> {
    let mut folders = Vec::new();
    let mut inside = false;
    for line in text.lines() {
        if line.starts_with("#include ") {
            inside = true;
        } else if line.starts_with("End of search list") {
            break;
        } else if inside {
            folders.push(PathBuf::from(line.trim()));
        }
    }
    folders
}

/// Folders that the compiler would search if they were there.
fn folders_not_there(text: &str) -> Vec<PathBuf> {
    let said = text.lines().filter_map(|line| line.trim().strip_prefix("ignoring nonexistent directory \""));
    said.map(|rest| PathBuf::from(rest.trim_end_matches('"'))).collect()
}

/// Each real folder once; those that are not there stay, for they may appear.
fn library_folders(text: &str, sysroot: Option<&Path>) -> Vec<PathBuf> {
    let line = text.lines().find_map(|line| line.strip_prefix("libraries:")).unwrap_or_default();
    let told = line.trim().trim_start_matches('=').split(':').filter(|folder| !folder.is_empty()).map(PathBuf::from);
    let in_script = text.split("SEARCH_DIR(\"").skip(1).filter_map(|rest| rest.split('"').next());
    // `=` stands for the folder that stands for `/`.
    let below = |folder: &str| match (folder.strip_prefix('='), sysroot) {
        (Some(rest), Some(sysroot)) => sysroot.join(rest.trim_start_matches('/')),
        (Some(rest), None) => PathBuf::from(rest),
        (None, _) => PathBuf::from(folder),
    };
    let mut folders = Vec::new();
    for folder in told.chain(in_script.map(below)) {
        let folder = folder.canonicalize().unwrap_or(folder);
        // Paths that lead up again from what is not there lead nowhere.
        let sound = !folder.components().any(|part| part == std::path::Component::ParentDir);
        if sound && !folders.contains(&folder) {
            folders.push(folder);
        }
    }
    folders
}

impl Compiler {
    /// Returns the standards that it may go by in a language when nothing is said: one where that is known.
    pub fn standards(&self, language: Language) -> Vec<Standard> {
        let number = self.version.split("version ").nth(1).and_then(|rest| rest.split(['.', ' ', '-']).next());
        let major: u32 = number.and_then(|number| number.parse().ok()).unwrap_or(0);
        let extended = true;
        match (language, self.family) {
            (
                Language::Asm | Language::AsmWithCpp | Language::Fortran | Language::FortranWithCpp | Language::OwnAsm,
                _,
            ) => {
                vec![Standard::Assembly]
            }
            (Language::C, Family::Gcc) if (5..15).contains(&major) => vec![Standard::C99 { extended }],
            (Language::C, Family::Clang) if (4..20).contains(&major) => vec![Standard::C99 { extended }],
            (Language::C, _) => vec![Standard::C99 { extended }, Standard::C23 { extended }],
            (Language::Cxx, Family::Gcc) if (6..11).contains(&major) => vec![Standard::Cxx14 { extended }],
            (Language::Cxx, Family::Gcc) if major >= 11 => vec![Standard::Cxx17],
            (Language::Cxx, Family::Clang) if major >= 16 => vec![Standard::Cxx17],
            (Language::Cxx, _) => vec![Standard::Cxx98 { extended }, Standard::Cxx14 { extended }],
        }
    }

    /// Returns its name and version in a few words, such as `gcc 12.2.0`.
    pub fn short_version(&self) -> String {
        let number = self.version.split("version ").nth(1).and_then(|rest| rest.split_whitespace().next());
        let name = match self.family {
            Family::Gcc => "gcc",
            Family::Clang => "clang",
            Family::Other => return self.version.clone(),
        };
        format!("{name} {}", number.unwrap_or("of unknown version"))
    }

    /// Returns the same, with the wrapper before it, such as `gcc 12.2.0 behind mpicc`.
    pub fn in_words(&self) -> String {
        let behind = self.wrapper.as_ref().map_or(String::new(), |wrapper| format!(" behind {}", wrapper.name));
        self.short_version() + &behind
    }
}

/// The compilers for a machine, each found or not.
#[derive(Debug, Clone)]
pub struct Compilers {
    /// The C compiler.
    pub c: Result<Compiler, CompilerFault>,
    /// The C++ compiler; the same fault as for any absent one when the tree has no C++.
    pub cxx: Result<Compiler, CompilerFault>,
    /// The Fortran compiler, likewise.
    pub fortran: Result<Compiler, CompilerFault>,
}

/// The compilers and other tools that a build uses.
#[derive(Debug, Clone)]
pub struct Tools {
    /// Those for the machine that the tree is built for.
    pub target: Compilers,
    /// Those for the machine that builds, where anything is made for it.
    pub host: Option<Compilers>,
    /// What the toolchain's environment sets, beside the search path.
    pub environment: BTreeMap<String, String>,
    /// The search path for programs.
    pub search_path: String,
    /// The environment of whoever builds; steps see of it what they declare.
    pub variables: BTreeMap<String, String>,
    /// The time that everything is built as if at.
    pub epoch: Epoch,
    /// Stands for this machine's processor, which counts where a compiler is asked for code for whatever it runs on.
    pub processor: Digest,
}

/// The variable that says the time that everything is built as if at.
pub const EPOCH_VARIABLE: &str = "SOURCE_DATE_EPOCH";

impl Tools {
    /// Returns the compiler for a language and a machine.
    ///
    /// # Errors
    /// It was not found, or does not work.
    pub fn compiler_for(&self, machine: Machine, language: Language) -> Result<&Compiler, &CompilerFault> {
        let compilers = match (machine, &self.host) {
            (Machine::Host, Some(host)) => host,
            (Machine::Target, _) | (Machine::Host, None) => &self.target,
        };
        match language {
            Language::Cxx => compilers.cxx.as_ref(),
            Language::Fortran | Language::FortranWithCpp => compilers.fortran.as_ref(),
            Language::C | Language::Asm | Language::AsmWithCpp | Language::OwnAsm => compilers.c.as_ref(),
        }
    }

    /// Returns all compilers that were found.
    pub fn found(&self) -> impl Iterator<Item = &Compiler> {
        let all = std::iter::once(&self.target).chain(&self.host);
        all.flat_map(|compilers| [&compilers.c, &compilers.cxx, &compilers.fortran])
            .filter_map(|compiler| compiler.as_ref().ok())
    }

    /// Returns a program of the search path with a digest of its file's status, `None` when it is not there.
    pub fn program(&self, name: &str) -> Option<(PathBuf, Digest)> {
        let path = find_program(name, &self.search_path, Path::new("/"))?;
        let real = path.canonicalize().ok()?;
        let status = std::fs::metadata(&real).ok()?;
        let told = if self.environment.is_empty() { String::new() } else { format!("{:?}", self.environment) };
        let identity = identity_of(&real, &status);
        let parts = std::iter::once(identity.as_str()).chain((!told.is_empty()).then_some(told.as_str()));
        Some((path, Digest::of_parts(parts)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::base::{RelPath, SOURCE_ENDINGS};

    #[test]
    fn what_counts_as_a_source_has_a_language_and_nothing_else_has() {
        let of = |ending: &str| Language::of(&RelPath::parse(&format!("a/b.{ending}")).unwrap());
        for ending in SOURCE_ENDINGS {
            assert!(of(ending).is_some(), "{ending}");
        }
        for ending in ["h", "o", "C++", "txt", "FOR.txt", "f9", ""] {
            assert_eq!(of(ending), None, "{ending}");
        }
    }
}
