//! The gate: this very program, started once more, which becomes the command once it is watched.

use std::ffi::OsString;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use nix::sys::signal::{Signal, raise};

use super::{Depth, filter};

/// How often a program that is busy being written is tried again, and how long each time is waited.
const BUSY_TRIES: u32 = 50;
const BUSY_PAUSE: Duration = Duration::from_millis(4);

/// How this program is started as a gate.
#[derive(Debug, Clone)]
pub struct Gate {
    /// This program's file.
    pub program: PathBuf,
    /// The word that makes it call [`serve_gate`] with all that follows.
    pub word: &'static str,
}

impl Gate {
    /// Returns the command that starts `program` behind the gate; its words, folder and environment are still to be added.
    pub(super) fn before(&self, depth: Depth, program: &Path) -> Command {
        let mut command = Command::new(&self.program);
        command.arg(self.word).arg(depth.word()).arg(program);
        command
    }
}

/// Waits to be watched, and becomes the command. It comes back only when that fails: with the number of the system's error, or `None`
/// when the call was wrong or the filter cannot be had.
///
/// `words` are a depth, a program's file, and its arguments.
pub fn serve_gate(mut words: impl Iterator<Item = OsString>) -> Option<i32> {
    let depth = words.next().and_then(|word| Depth::of_word(word.to_str()?))?;
    let program = words.next()?;
    let filter = filter::program(depth)?;
    raise(Signal::SIGSTOP).ok()?;
    seccompiler::apply_filter(&filter).ok()?;
    let mut command = Command::new(program);
    command.args(words);
    // A program that was written a moment ago can still be held open by a child that another thread is about to start.
    let mut error = command.exec();
    for _ in 0..BUSY_TRIES {
        if error.kind() != std::io::ErrorKind::ExecutableFileBusy {
            break;
        }
        std::thread::sleep(BUSY_PAUSE);
        error = command.exec();
    }
    error.raw_os_error()
}
