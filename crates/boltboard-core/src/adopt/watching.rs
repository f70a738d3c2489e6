//! Runs a tree's usual build, watched.

use std::collections::BTreeMap;
use std::os::fd::AsFd;
use std::path::Path;
use std::process::Stdio;

use super::watched::{Around, Watched, files_before};
use crate::launch::find_program;
use crate::watch::{Depth, Gate, Interest, follow};

/// The build to watch.
pub struct WatchAsk<'a> {
    /// How this program becomes a gate.
    pub gate: &'a Gate,
    /// What the build is called.
    pub name: &'a str,
    /// The command that builds.
    pub command: &'a [String],
    /// The tree, in whose root it runs.
    pub tree: &'a Path,
    /// The environment that it is given.
    pub environment: &'a BTreeMap<String, String>,
    /// Where programs are looked for.
    pub search_path: &'a str,
    /// Where what the build says goes.
    pub said: Said,
}

/// Where what a build says goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Said {
    /// Where it goes without us.
    AsUsual,
    /// All of it where errors go: standard output is for our answer.
    ToErrors,
}

/// Why a build cannot be watched.
#[derive(Debug, thiserror::Error)]
pub enum WatchFault {
    /// There is no such program.
    #[error("there is no program `{0}`")]
    NoProgram(String),
    /// The kernel does not let us watch, or the program cannot be started.
    #[error("`{program}` cannot be watched: {error}")]
    NotWatched {
        /// What was to run.
        program: String,
        /// What the system said.
        error: std::io::Error,
    },
}

/// Runs a build with the terminal's own input and output, and returns what it did.
///
/// # Errors
/// It cannot be started, or not be watched.
pub fn watch(ask: &WatchAsk<'_>) -> Result<Watched, WatchFault> {
    let word = ask.command.first().cloned().unwrap_or_default();
    let program = find_program(&word, ask.search_path, ask.tree).ok_or_else(|| WatchFault::NoProgram(word.clone()))?;
    let before = files_before(ask.tree);
    let child = ask.gate.start(Depth::Opens, &program, |command| {
        command.args(&ask.command[1..]).current_dir(ask.tree).env_clear().envs(ask.environment);
        command.stdin(Stdio::inherit()).stdout(Stdio::inherit()).stderr(Stdio::inherit());
        if ask.said == Said::ToErrors
            && let Ok(errors) = std::io::stderr().as_fd().try_clone_to_owned()
        {
            command.stdout(errors);
        }
        // What the terminal sends reaches the build as without us.
        std::os::unix::process::CommandExt::process_group(command, rustix::process::getpgrp().as_raw_nonzero().get());
    });
    let mut child = child.map_err(|error| WatchFault::NotWatched { program: word.clone(), error })?;
    let followed = follow(&child, ask.environment, Interest::Processes);
    let _ = child.wait();
    if !followed.started {
        let error = std::io::Error::from(std::io::ErrorKind::PermissionDenied);
        return Err(WatchFault::NotWatched { program: word, error });
    }
    let around = Around { name: ask.name, command: ask.command, tree: ask.tree, before: &before, exit: followed.exit };
    Ok(Watched::of(followed.sight, &around))
}
