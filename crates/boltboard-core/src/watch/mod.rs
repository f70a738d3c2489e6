//! What does a command really do? It runs under the kernel's own watch, and comes back as data: every process, every file that
//! one opened, looked for in vain, listed, asked about, wrote, renamed or removed.
//!
//! The tool starts a [gate](serve_gate), a helper of its own, which stops until it is watched, loads a filter that stops it and all that
//! it starts at the calls that matter, and becomes the command. Nothing here judges what was seen.

mod calls;
mod filter;
mod gate;
mod tracer;

use std::collections::BTreeMap;
use std::path::PathBuf;

pub use gate::{Gate, serve_gate};
pub use tracer::{Followed, follow};

/// How closely a command is watched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Depth {
    /// Programs, all that is opened, and all that is changed.
    Opens,
    /// Also what is only asked about: whether something is there, its status, where a link leads.
    Looks,
}

/// What a command is watched for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Interest {
    /// What its result stands on: also what it looked for in vain, because a later file in such a place would have been found.
    Result,
    /// How its processes hang together: what they are copies of, where they read and write, which files of arguments they take, and when
    /// they did what. Most of what compilers look for is not there, and is left out.
    Processes,
}

/// What a command did, as far as it was seen.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Sight {
    /// All processes, in the order in which they began; those that ran a program anew stand there again.
    pub processes: Vec<Process>,
    /// Why not everything was seen; `None` when it was.
    pub blind: Option<Blind>,
}

/// A process from one program's beginning to its end, or to the next program that it became.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Process {
    /// Who started it, as an index in [`Sight::processes`]; `None` for the first.
    pub parent: Option<usize>,
    /// The program's file; for a script that of its interpreter.
    pub program: PathBuf,
    /// Its words.
    pub arguments: Vec<String>,
    /// The folder that it began in.
    pub folder: PathBuf,
    /// Variables that are not as they were given to the command, `None` where they are gone.
    pub environment: BTreeMap<String, Option<String>>,
    /// Its exit code, or the negative number of the signal that ended it; `None` when it became another program.
    pub exit: Option<i32>,
    /// Whether it is a copy of the one that started it, and runs no program of its own yet.
    pub forked: bool,
    /// What its standard input and output were when it began, as the kernel names it: a file's path, or `pipe:[NUMBER]`. Told for
    /// [`Interest::Processes`], and not of a copy.
    pub streams: Vec<PathBuf>,
    /// Texts of files that its arguments name as `@FILE`, by these arguments: many programs take further arguments from there. Told likewise.
    pub responses: BTreeMap<String, String>,
    /// What it did, in order, each thing once.
    pub deeds: Vec<Deed>,
    /// When it did each of these: numbers that grow over all processes. Told likewise.
    pub moments: Vec<u32>,
}

/// One thing that a process did with a place.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Deed {
    /// What.
    pub sort: DeedSort,
    /// The place, absolute.
    pub path: PathBuf,
}

/// What a process can do with a place.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum DeedSort {
    /// It became this program, or had this script or interpreter run.
    Ran,
    /// It opened a file to read.
    Opened,
    /// It looked for something where there was nothing.
    Missed,
    /// It opened a folder, and can have read the names in it.
    Listed,
    /// It asked for the status of what a path leads to, or whether it may be used.
    Asked,
    /// It asked where a link leads, or about the link itself.
    AskedLink,
    /// It opened a file to write, or made something there.
    Wrote,
    /// It took something away.
    Removed,
    /// It gave something another name.
    Renamed {
        /// Where it was before.
        from: PathBuf,
    },
}

/// Why not everything that a command did was seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Blind {
    /// A program watches others itself, and cannot while it is watched.
    #[error("one of its programs traces processes itself, and cannot do that while it is watched")]
    Traces,
    /// A program was sent a signal of a sort that cannot be handed on.
    #[error("one of its programs uses real-time signals, which cannot be handed on while it is watched")]
    Signals,
    /// A program makes its calls through a queue.
    #[error("one of its programs opens files through a queue of the kernel, which nobody can watch")]
    Queues,
    /// A program is made for another architecture, whose calls have other numbers.
    #[error("one of its programs is made for another architecture, whose calls are not watched")]
    Foreign,
}

impl Sight {
    /// Adds what another command did that ran afterwards.
    pub fn append(&mut self, later: Sight) {
        let before = self.processes.len();
        let moved = |process: Process| Process { parent: process.parent.map(|parent| parent + before), ..process };
        self.processes.extend(later.processes.into_iter().map(moved));
        self.blind = self.blind.or(later.blind);
    }

    /// Returns all that was done, with the process that did it.
    pub fn deeds(&self) -> impl Iterator<Item = (&Process, &Deed)> {
        self.processes.iter().flat_map(|process| process.deeds.iter().map(move |deed| (process, deed)))
    }
}
