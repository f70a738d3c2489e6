//! What went wrong with a step, so that a person sees the first real error at once.

use std::path::PathBuf;
use std::sync::Arc;

use crate::base::FileError;
use crate::board::Condition;
use crate::judge::Reason;
use crate::step::{Location, StepId};

/// A step that failed.
#[derive(Debug, Clone)]
pub struct Failure {
    /// The step.
    pub step: StepId,
    /// What happened.
    pub cause: Cause,
    /// Everything that the step said.
    pub said: String,
    /// The command as a shell would take it, with the folder it ran in.
    pub command: String,
    /// The first error in what it said.
    pub first: Option<FirstError>,
    /// The condition that brought its source in.
    pub brought_by: Option<Arc<Condition>>,
    /// The file that holds everything it said.
    pub log: Option<PathBuf>,
    /// Sources whose objects were part of it the last time, and are not any more.
    pub gone: Vec<String>,
    /// Why it ran: what is not as it was when it last ended well.
    pub reasons: Vec<Reason>,
    /// What was compiled for the last build and is not compiled for this one. It lies there until a build ends well.
    pub left_over: Vec<LeftOver>,
}

/// An object of an earlier build that this one does not make.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftOver {
    /// Its source.
    pub source: Location,
    /// Where it lies.
    pub object: Location,
}

/// What compilers and systems say when there is not enough memory or are not enough processes.
const SHORT_OF: [&str; 6] = [
    "annot allocate memory",
    "out of memory",
    "virtual memory exhausted",
    "Resource temporarily unavailable",
    "Killed signal terminated program",
    "std::bad_alloc",
];

impl Failure {
    /// Tells whether the machine may be at fault rather than the step: it was killed, or could not get what it asked for.
    pub fn may_be_the_machine(&self) -> bool {
        const KILLED: i32 = 9;
        const BUS: i32 = 7;
        match self.cause {
            Cause::Signal(KILLED | BUS) => true,
            Cause::Code(_) | Cause::Start(_) => SHORT_OF.iter().any(|words| self.said.contains(words)),
            _ => false,
        }
    }
}

/// What happened to a step.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Cause {
    /// It ended with another code than those that mean success.
    #[error("it ended with exit code {0}")]
    Code(i32),
    /// It crashed or was killed.
    #[error("it {}", signal_words(*.0))]
    Signal(i32),
    /// Its program is not there.
    #[error("{0}")]
    NoTool(String),
    /// Its program cannot be started.
    #[error("cannot start it: {0}")]
    Start(String),
    /// It succeeded but did not write a file that it declares.
    #[error("it succeeded but did not write {0}")]
    NoOutput(String),
    /// It made something else than a file at a place where it is to make one.
    #[error("it made a folder or a link where its file {0} is to be: have it write the file itself")]
    NoFile(String),
    /// It read a generated file of a part that its own part does not use.
    #[error("it reads {file}, which part `{maker}` makes, but its own part does not use `{maker}`")]
    Undeclared {
        /// The file.
        file: String,
        /// The part that makes it.
        maker: String,
    },
    /// It read a file of the build that nothing makes.
    #[error(
        "it reads {0}, which no step makes and a clean build does not have: remove it, or name it in `output` of the part that makes it"
    )]
    Stray(String),
    /// It read a file that it does not declare.
    #[error("it reads {0}, which it does not declare: add it to its `reads`")]
    UndeclaredRead(String),
    /// It read a file whose name is no text.
    #[error("it reads {0}, whose name is not UTF-8: give the file another name")]
    Name(String),
    /// It wrote to a file of the tree.
    #[error("it writes to {0}, a file of the sources: have it write to its own results, or copy what it changes first")]
    WroteElsewhere(String),
    /// A copy of an option header that lies in the tree was found first.
    #[error("{found} was found instead of the option header {header}, so every option would be ignored")]
    ShippedHeader {
        /// The file in the tree.
        found: String,
        /// The header.
        header: String,
    },
    /// Modules leave names open that nobody gives.
    #[error(
        "its modules cannot be loaded as they are: give what they need to `uses` of a part, or say in `exports` what they can use ({open} open)"
    )]
    Unloadable {
        /// How many names are open.
        open: usize,
    },
    /// A file could not be read or written.
    #[error("{0}")]
    File(String),
    /// The disk is full.
    #[error("no space is left on the disk: {0}")]
    DiskFull(String),
}

impl From<FileError> for Cause {
    fn from(error: FileError) -> Cause {
        let text = format!("{error}: {}", error.source);
        if error.is_full() { Cause::DiskFull(error.path.display().to_string()) } else { Cause::File(text) }
    }
}

/// Says how a signal ended a process, with the signal's name.
pub fn signal_words(signal: i32) -> String {
    use nix::sys::signal::Signal;
    let name = Signal::try_from(signal).map_or_else(|_| format!("signal {signal}"), |signal| signal.to_string());
    match Signal::try_from(signal) {
        Ok(Signal::SIGILL | Signal::SIGBUS | Signal::SIGFPE | Signal::SIGSEGV | Signal::SIGABRT) => {
            format!("crashed ({name})")
        }
        Ok(Signal::SIGKILL) => format!("was killed ({name}), often for lack of memory"),
        Ok(Signal::SIGSYS) => format!("made a system call that is not allowed here ({name})"),
        _ => format!("was ended by {name}"),
    }
}

/// An error message of a compiler or linker.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FirstError {
    /// The file, as the tool names it.
    pub file: String,
    /// One-based line, if it names one.
    pub line: Option<usize>,
    /// One-based column, if it names one.
    pub column: Option<usize>,
    /// The message.
    pub message: String,
}

/// Finds the first error in what a tool said.
pub fn first_error(said: &str) -> Option<FirstError> {
    let marks = ["fatal error: ", "error: ", "undefined reference to ", "multiple definition of ", "cannot find "];
    let told = |line: &&str| marks.iter().any(|mark| line.contains(mark)) && !line.starts_with("collect2: ");
    let line = said.lines().find(told)?;
    let at = marks.iter().filter_map(|mark| line.find(mark)).min()?;
    let message = line[at..].trim_start_matches("fatal ").trim_start_matches("error: ").to_string();
    let mut place = line[..at].trim().trim_end_matches(':').split(':');
    let file = place.next().unwrap_or("").trim().to_string();
    let mut number = || place.next().and_then(|text| text.trim().parse().ok());
    Some(FirstError { file, line: number(), column: number(), message })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_error_is_found_among_warnings() {
        let said = "In file included from src/a.c:1:\nsrc/a.h:3:1: warning: odd\nsrc/a.c:12:5: error: 'x' undeclared\nsrc/a.c:13:1: error: more\n";
        let want =
            FirstError { file: "src/a.c".into(), line: Some(12), column: Some(5), message: "'x' undeclared".into() };
        assert_eq!(first_error(said), Some(want));
        let linker =
            "/usr/bin/ld: objects/a.o: in function `main':\na.c:(.text+0x5): undefined reference to `lamp_on'\n";
        let found = first_error(linker).expect("an error");
        assert_eq!(found.message, "undefined reference to `lamp_on'");
        assert_eq!(first_error("all is well\n"), None);
    }
}
