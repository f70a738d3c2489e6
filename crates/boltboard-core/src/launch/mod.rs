//! The only door to other processes: a real one, and a scripted one for tests.

mod guard;
mod helper;
mod real;
mod scripted;

use std::collections::BTreeMap;
use std::fs::File;
use std::path::PathBuf;
use std::process::Stdio;
use std::time::Duration;

use crate::watch::{Depth, Sight};

pub use guard::{Guard, serve_guard};
pub use helper::{ASKS, SmallHelper};
pub use real::{RealLaunch, Stopper, find_program};
pub use scripted::ScriptedLaunch;

#[cfg(test)]
mod tests;

/// A process to run. Its environment holds what is given and nothing else.
#[derive(Debug, Clone, Default)]
pub struct Job {
    /// The program's file.
    pub program: PathBuf,
    /// Its arguments.
    pub arguments: Vec<String>,
    /// The folder it runs in.
    pub folder: PathBuf,
    /// Its whole environment.
    pub environment: BTreeMap<String, String>,
    /// It is ended after so long.
    pub limit: Option<Duration>,
    /// How closely it is watched; not at all without.
    pub watch: Option<Depth>,
    /// The file that it reads as its standard input; nothing without.
    pub input: Option<PathBuf>,
    /// The file that takes its standard output, which else is kept.
    pub output: Option<PathBuf>,
}

impl Job {
    /// Opens what it reads and writes as standard input and output.
    fn streams(&self) -> std::io::Result<(Stdio, Stdio)> {
        let input = self.input.as_ref().map(File::open).transpose()?.map_or(Stdio::null(), Stdio::from);
        let output = self.output.as_ref().map(File::create).transpose()?.map_or(Stdio::piped(), Stdio::from);
        Ok((input, output))
    }
}

/// How a process ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Exit {
    /// By itself, with this code.
    Code(i32),
    /// By this signal.
    Signal(i32),
    /// It ran over its limit and was ended.
    TimedOut,
    /// It was ended because everything stops.
    Stopped,
}

/// What a process left behind.
#[derive(Debug, Clone)]
pub struct Outcome {
    /// How it ended.
    pub exit: Exit,
    /// What it wrote to standard output.
    pub stdout: Vec<u8>,
    /// What it wrote to standard error.
    pub stderr: Vec<u8>,
    /// How long it ran.
    pub wall: Duration,
    /// What it took of the machine.
    pub used: Used,
    /// What it was seen to do, where it was to be watched and could be.
    pub sight: Option<Sight>,
}

/// What a process and those that it waited for took of the machine.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Used {
    /// Processor time.
    pub cpu: Duration,
    /// The most memory that one of them held, in bytes.
    pub memory: u64,
}

impl Outcome {
    /// Adds another process that ran afterwards: it ended as that one did.
    pub fn then(mut self, later: Outcome) -> Outcome {
        self.stdout.extend(later.stdout);
        self.stderr.extend(later.stderr);
        let sight = match (self.sight, later.sight) {
            (Some(mut sight), Some(more)) => {
                sight.append(more);
                Some(sight)
            }
            // What was not seen of one is not known of both.
            _ => None,
        };
        let cpu = self.used.cpu + later.used.cpu;
        let used = Used { cpu, memory: self.used.memory.max(later.used.memory) };
        Outcome { exit: later.exit, wall: self.wall + later.wall, used, sight, ..self }
    }

    /// Returns standard error as text.
    pub fn stderr_text(&self) -> String {
        String::from_utf8_lossy(&self.stderr).into_owned()
    }

    /// Returns standard output as text.
    pub fn stdout_text(&self) -> String {
        String::from_utf8_lossy(&self.stdout).into_owned()
    }
}

/// A process could not be started.
#[derive(Debug, thiserror::Error)]
#[error("cannot start {program}")]
pub struct LaunchError {
    /// The program's file.
    pub program: PathBuf,
    /// What the system says.
    pub source: std::io::Error,
}

/// Runs processes.
pub trait Launch: Sync {
    /// Runs a process to its end.
    ///
    /// # Errors
    /// It could not be started.
    fn run(&self, job: &Job) -> Result<Outcome, LaunchError>;

    /// Tells whether it watches what is to be watched.
    fn watches(&self) -> bool {
        false
    }

    /// Returns why nothing can be watched on this machine, once that has turned out.
    fn unwatched(&self) -> Option<String> {
        None
    }
}
