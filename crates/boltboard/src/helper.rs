//! What this program is as a helper beside steps. The small program `boltboard-steps` is nothing else, and starts sooner.

use std::ffi::OsString;
use std::io::Read;
use std::os::fd::AsFd;
use std::process::ExitCode;

/// The word that starts the guard of another process's steps.
pub const GUARD: &str = "guard-steps";
/// The word that starts the gate of a command that is watched. Who changes what it is told changes the word, because the small program
/// that lies there may be an older one.
pub const GATE: &str = "watch-step";

/// Helps, if that is what the first word asks for, with those that follow. `from` and `to` are what it was started with.
pub fn serve(
    first: &str,
    mut words: impl Iterator<Item = OsString>,
    from: impl Read,
    to: impl AsFd,
) -> Option<ExitCode> {
    match first {
        boltboard_core::launch::ASKS => {
            let known = |word: OsString| word == GUARD || word == GATE;
            Some(if words.all(known) { ExitCode::SUCCESS } else { ExitCode::FAILURE })
        }
        GUARD => {
            if let Ok(list) = to.as_fd().try_clone_to_owned() {
                boltboard_core::launch::serve_guard(from, std::fs::File::from(list));
            }
            Some(ExitCode::SUCCESS)
        }
        GATE => {
            // It comes back only when there is no such program, which the one who watches finds out.
            boltboard_core::watch::serve_gate(words);
            Some(ExitCode::FAILURE)
        }
        _ => None,
    }
}
