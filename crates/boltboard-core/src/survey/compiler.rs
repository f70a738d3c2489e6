//! Which compiler is at hand, and where it looks for headers.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use super::ProbeMemo;
use crate::base::Digest;
use crate::launch::{Exit, Job, Launch, find_program};

/// A compiler that answered.
#[derive(Debug, Clone)]
pub struct Compiler {
    /// The program as it was found.
    pub path: PathBuf,
    /// What it says of itself, one line.
    pub version: String,
    /// Digest of what decides about its output: the program's file and what it says of itself.
    pub identity: Digest,
    /// Where it looks for headers by itself, in order.
    pub include_folders: Vec<PathBuf>,
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
}

impl Language {
    /// Returns the language of a source by its name's ending, `None` when it cannot be compiled.
    pub fn of(path: &crate::base::RelPath) -> Option<Language> {
        match path.extension() {
            "c" => Some(Language::C),
            "cc" | "cpp" | "cxx" => Some(Language::Cxx),
            "S" => Some(Language::AsmWithCpp),
            "s" => Some(Language::Asm),
            _ => None,
        }
    }
}

/// Why there is no compiler.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum CompilerFault {
    /// It is not in the search path.
    #[error("there is no `{name}` in the search path")]
    Absent {
        /// The program's name.
        name: String,
    },
    /// It did not answer.
    #[error("`{name}` does not work as a compiler: {reason}")]
    Silent {
        /// The program's name.
        name: String,
        /// What came back.
        reason: String,
    },
}

/// Asks a compiler who it is.
///
/// # Errors
/// See [`CompilerFault`].
pub fn identify(
    name: &str,
    language: Language,
    search_path: &str,
    launch: &dyn Launch,
    memo: &ProbeMemo,
) -> Result<Compiler, CompilerFault> {
    let root = Path::new("/");
    let absent = || CompilerFault::Absent { name: name.to_string() };
    let path = find_program(name, search_path, root).ok_or_else(absent)?;
    let silent = |reason: String| CompilerFault::Silent { name: name.to_string(), reason };
    let as_language = if language == Language::Cxx { "c++" } else { "c" };
    let job = Job {
        program: path.clone(),
        arguments: ["-E", "-v", "-x", as_language, "/dev/null", "-o", "/dev/null"].map(str::to_string).to_vec(),
        folder: root.to_path_buf(),
        environment: [("PATH".to_string(), search_path.to_string()), ("LC_ALL".into(), "C".into())].into(),
        limit: Some(Duration::from_secs(20)),
    };
    let real = path.canonicalize().unwrap_or_else(|_| path.clone());
    let shown = real.display().to_string();
    let question = Digest::of_parts(["who are you?", &shown, as_language, search_path]);
    let text = match memo.recall(&question) {
        Some(text) => text,
        None => {
            let outcome = launch.run(&job).map_err(|e| silent(e.source.to_string()))?;
            let text = outcome.stderr_text();
            if outcome.exit != Exit::Code(0) {
                return Err(silent(text.lines().last().unwrap_or("it failed without a word").to_string()));
            }
            memo.keep(question, &text, [real.clone()]);
            text
        }
    };
    let version = text.lines().find(|line| line.contains("version")).unwrap_or("unknown version").trim().to_string();
    let status = std::fs::metadata(&real).map_err(|e| silent(e.to_string()))?;
    let file = format!("{}:{}:{}:{}", real.display(), status.len(), status.mtime(), status.mtime_nsec());
    let identity = Digest::of_parts([file.as_str(), version.as_str()]);
    Ok(Compiler { path, version, identity, include_folders: include_folders(&text) })
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
            let folder = Path::new(line.trim());
            folders.push(folder.canonicalize().unwrap_or_else(|_| folder.to_path_buf()));
        }
    }
    folders
}

/// The compilers and other tools that a build uses, each found or not.
#[derive(Debug, Clone)]
pub struct Tools {
    /// The C compiler.
    pub c: Result<Compiler, CompilerFault>,
    /// The C++ compiler; the same fault as for any absent one when the tree has no C++.
    pub cxx: Result<Compiler, CompilerFault>,
    /// The search path for programs.
    pub search_path: String,
}

impl Tools {
    /// Returns the compiler for a language.
    ///
    /// # Errors
    /// It was not found, or does not work.
    pub fn compiler(&self, language: Language) -> Result<&Compiler, &CompilerFault> {
        match language {
            Language::Cxx => self.cxx.as_ref(),
            Language::C | Language::Asm | Language::AsmWithCpp => self.c.as_ref(),
        }
    }

    /// Returns a program of the search path with a digest of its file's status, `None` when it is not there.
    pub fn program(&self, name: &str) -> Option<(PathBuf, Digest)> {
        let path = find_program(name, &self.search_path, Path::new("/"))?;
        let real = path.canonicalize().ok()?;
        let status = std::fs::metadata(&real).ok()?;
        let text = format!("{}:{}:{}:{}", real.display(), status.len(), status.mtime(), status.mtime_nsec());
        Some((path, Digest::of_parts([text.as_str()])))
    }
}
