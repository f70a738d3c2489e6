//! What a front end knows of the person and the machine before anything is read.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use crate::base::Epoch;
use crate::definitions::AddOnPlace;
use crate::launch::{Guard, SmallHelper};
use crate::shared::Sharing;
use crate::survey::EPOCH_VARIABLE;
use crate::watch::Gate;
use crate::workers::OwnWords;

/// Where programs are looked for.
const SEARCH_PATH: &str = "PATH";

/// The machine and the process that asks.
#[derive(Debug, Clone, Default)]
pub struct Surroundings {
    /// The folder in which it is asked.
    pub folder: PathBuf,
    /// The environment; steps see of it what they declare.
    pub variables: BTreeMap<String, String>,
    /// What tells this program from others, and from other versions of it.
    pub program: String,
    /// This program's file, with the words that start it as a helper of its own; without, steps are neither watched nor guarded.
    pub own: Option<OwnProgram>,
    /// How many processors there are.
    pub cores: usize,
    /// Where results are shared, as far as the person says.
    pub sharing: Sharing,
}

/// This program, and what it is started as to help itself.
#[derive(Debug, Clone)]
pub struct OwnProgram {
    /// Its file.
    pub file: PathBuf,
    /// What becomes gate and guard in its place, and starts sooner.
    pub small: SmallHelper,
    /// The word that starts it as the gate of a command that is watched.
    pub gate: &'static str,
    /// The word that starts it as the guard of steps.
    pub guard: &'static str,
    /// The word that starts it as a worker.
    pub serve: &'static str,
    /// The word that has it hold an allocation of a workload manager.
    pub hold: &'static str,
}

impl OwnProgram {
    /// The file of what becomes gate and guard: of the small program where that will do, else of this one.
    fn helper(&self) -> &Path {
        self.small.that_knows(&[self.gate, self.guard]).unwrap_or(&self.file)
    }

    /// Returns what a command is watched behind.
    pub fn gate(&self) -> Gate {
        Gate { program: self.helper().to_path_buf(), word: self.gate }
    }

    /// Starts what ends steps when this process is gone.
    ///
    /// # Errors
    /// It cannot be started.
    pub fn guard(&self) -> std::io::Result<Guard> {
        Guard::start(self.helper(), &[self.guard])
    }

    /// Returns what starts it on other machines.
    pub fn on_others(&self) -> OwnWords<'_> {
        OwnWords { file: &self.file, serve: self.serve, hold: self.hold }
    }
}

impl Surroundings {
    /// Returns a variable of the environment; an empty text when it is not set.
    pub fn variable(&self, name: &str) -> &str {
        self.variables.get(name).map_or("", String::as_str)
    }

    /// Returns where programs are looked for.
    pub fn search_path(&self) -> &str {
        self.variable(SEARCH_PATH)
    }

    /// Returns the folders in which programs are looked for, first to last.
    pub fn search_folders(&self) -> impl Iterator<Item = PathBuf> {
        std::env::split_paths(self.search_path()).filter(|folder| folder.is_absolute())
    }

    /// Returns the time that everything is built as if at; the text at fault when it is none.
    pub(super) fn epoch(&self) -> Result<Epoch, String> {
        match self.variable(EPOCH_VARIABLE) {
            "" => Ok(Epoch::default()),
            text => Epoch::parse(text).ok_or_else(|| text.to_string()),
        }
    }

    /// Returns a path as it is meant from where it is asked.
    pub fn path_here(&self, path: &Path) -> PathBuf {
        self.folder.join(path)
    }
}

/// What all answers of a session are about.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Scope {
    /// The folder of the tree, or one within it; else the folder in which it is asked.
    pub tree: Option<PathBuf>,
    /// Where the sources are, when the board lies outside of them.
    pub sources: Option<PathBuf>,
    /// The work folder.
    pub work: Option<PathBuf>,
    /// The profile; else the one in use.
    pub profile: Option<String>,
    /// Choices that are made for these answers only.
    pub tried: Vec<String>,
    /// Needs that the host is taken to have, as `NEED` or `NEED=VERSION`.
    pub assume: Vec<String>,
    /// Needs that the host is taken to lack.
    pub forbid: Vec<String>,
    /// The file with the facts of another host.
    pub facts: Option<PathBuf>,
    /// An add-on that is tried beside those that are kept; nothing is kept of what follows.
    pub with_add_on: Option<AddOnPlace>,
}

impl Scope {
    /// Tells whether the answers are about something that is only supposed.
    pub fn is_supposed(&self) -> bool {
        !self.tried.is_empty() || self.is_about_another_host()
    }

    /// Tells whether the host is taken for another one than it is.
    pub fn is_about_another_host(&self) -> bool {
        !self.assume.is_empty() || !self.forbid.is_empty() || self.facts.is_some()
    }
}
