//! What stands against a command: what happened, where, and what to do next.

mod exit;
mod host;
mod told;
mod typed;
mod wrong;

use boltboard_core::base::{Excerpt, Place, SourceFiles};

pub use exit::Exit;
pub use host::{chosen_at, compiler_diagnostic, needed, refused};
pub use typed::mistyped;

/// What kind of fault it is, for machines.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum FaultKind {
    /// What was typed.
    Usage,
    /// The definitions.
    Definitions,
    /// A profile.
    Profile,
    /// Choices that cannot hold together, or not on this host.
    Clash,
    /// What was chosen cannot be built.
    Plan,
    /// The host lacks something.
    Host,
    /// An installation.
    Install,
    /// A file or folder.
    File,
    /// The work folder.
    WorkFolder,
    /// The answer is no.
    No,
    /// This program.
    Ours,
}

/// A command to type next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Next {
    /// The command, as a shell takes it.
    pub command: String,
    /// What it gives, in a few words.
    pub gives: String,
}

impl Next {
    /// Makes one.
    pub fn new(command: impl Into<String>, gives: impl Into<String>) -> Next {
        Next { command: command.into(), gives: gives.into() }
    }
}

/// Something to tell a person.
#[derive(Debug, Clone, Default)]
pub struct Diagnostic {
    /// What is wrong, in one sentence.
    pub message: String,
    /// The line it is about.
    pub excerpt: Option<Excerpt>,
    /// Another line that belongs to it, with what it is.
    pub related: Option<(String, Excerpt)>,
    /// Further facts, one line each.
    pub notes: Vec<String>,
    /// Names that may have been meant.
    pub near: Vec<String>,
    /// What to do where no command does it, one line each.
    pub help: Vec<String>,
    /// What to type next.
    pub next: Vec<Next>,
    /// More of it for machines.
    pub detail: Option<serde_json::Value>,
}

impl Diagnostic {
    /// Starts with what is wrong.
    pub fn new(message: impl Into<String>) -> Diagnostic {
        Diagnostic { message: message.into(), ..Diagnostic::default() }
    }

    /// Adds the line it is about.
    pub fn at(mut self, files: &SourceFiles, place: Option<Place>) -> Diagnostic {
        self.excerpt = place.map(|place| files.excerpt(place));
        self
    }

    /// Adds names that may have been meant.
    pub fn near(mut self, near: &[String]) -> Diagnostic {
        self.near.extend(near.iter().cloned());
        self
    }

    /// Adds a fact.
    pub fn note(mut self, text: impl Into<String>) -> Diagnostic {
        self.notes.push(text.into());
        self
    }

    /// Adds what to do where no command does it.
    pub fn help(mut self, text: impl Into<String>) -> Diagnostic {
        self.help.push(text.into());
        self
    }

    /// Adds what to type next.
    pub fn next(mut self, command: impl Into<String>, gives: impl Into<String>) -> Diagnostic {
        self.next.push(Next::new(command, gives));
        self
    }
}

/// A command that cannot go on: what to tell, and the exit code.
#[derive(Debug)]
pub struct Stop {
    /// What kind of fault it is.
    pub kind: FaultKind,
    /// What to tell.
    pub diagnostics: Vec<Diagnostic>,
    /// The exit code.
    pub exit: Exit,
}

impl Stop {
    /// What happened, in one plain line.
    pub fn line(&self) -> String {
        let message = self.diagnostics.first().map_or("", |diagnostic| diagnostic.message.as_str());
        console::strip_ansi_codes(message).into_owned()
    }

    /// Makes one of several diagnostics.
    pub fn of_all(kind: FaultKind, exit: Exit, diagnostics: Vec<Diagnostic>) -> Stop {
        Stop { kind, diagnostics, exit }
    }

    /// Makes one of a single diagnostic.
    pub fn new(exit: Exit, diagnostic: Diagnostic) -> Stop {
        let kind = match exit {
            Exit::Done | Exit::No | Exit::Interrupted => FaultKind::No,
            Exit::WrongUse => FaultKind::Usage,
            Exit::Wrong => FaultKind::Definitions,
            Exit::HostLacks => FaultKind::Host,
            Exit::NoPermission | Exit::DiskFull | Exit::Machine => FaultKind::File,
            Exit::Ours => FaultKind::Ours,
        };
        Stop::of_all(kind, exit, vec![diagnostic])
    }

    /// Adds that nothing was written.
    pub fn nothing_changed(mut self) -> Stop {
        if let Some(last) = self.diagnostics.last_mut() {
            last.notes.push("Nothing was changed.".into());
        }
        self
    }

    /// Says of what kind it is.
    pub fn kind(mut self, kind: FaultKind) -> Stop {
        self.kind = kind;
        self
    }

    /// Wrong use.
    pub fn usage(message: impl Into<String>) -> Stop {
        Stop::new(Exit::WrongUse, Diagnostic::new(message))
    }
}
