//! The gate: a helper of this program, which becomes the command once it is watched.

use std::ffi::OsString;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::OnceLock;
use std::time::Duration;

use nix::sys::signal::{Signal, raise};
use seccompiler::{BpfProgram, sock_filter};

use super::{Depth, filter};

/// How often a program that is busy being written is tried again, and how long each time is waited.
const BUSY_TRIES: u32 = 50;
const BUSY_PAUSE: Duration = Duration::from_millis(4);

/// How a gate is started.
#[derive(Debug, Clone)]
pub struct Gate {
    /// The file of the program that becomes the gate.
    pub program: PathBuf,
    /// The word that makes it call [`serve_gate`] with all that follows.
    pub word: &'static str,
}

impl Gate {
    /// Returns the command that starts `program` behind the gate; its words, folder and environment are still to be added.
    ///
    /// The gate is given the filter itself, so that what is seen never hangs on which version of the gate lies there.
    ///
    /// # Errors
    /// The machine is one whose calls we cannot read.
    pub(super) fn before(&self, depth: Depth, program: &Path) -> std::io::Result<Command> {
        let filter = filter_word(depth).ok_or(std::io::ErrorKind::Unsupported)?;
        let mut command = Command::new(&self.program);
        command.arg(self.word).arg(filter).arg(program);
        Ok(command)
    }
}

/// The filter of a depth as a word; it is the same for all steps.
fn filter_word(depth: Depth) -> Option<&'static str> {
    static OPENS: OnceLock<Option<String>> = OnceLock::new();
    static LOOKS: OnceLock<Option<String>> = OnceLock::new();
    let known = match depth {
        Depth::Opens => &OPENS,
        Depth::Looks => &LOOKS,
    };
    known.get_or_init(|| filter::program(depth).map(|filter| spelt(&filter))).as_deref()
}

/// Spells a filter, sixteen hexadecimal digits for each instruction.
fn spelt(filter: &[sock_filter]) -> String {
    let bytes = |step: &sock_filter| {
        let ([c0, c1], [k0, k1, k2, k3]) = (step.code.to_be_bytes(), step.k.to_be_bytes());
        [c0, c1, step.jt, step.jf, k0, k1, k2, k3]
    };
    hex::encode(filter.iter().flat_map(bytes).collect::<Vec<u8>>())
}

/// Reads what [`spelt`] wrote.
fn read_filter(text: &str) -> Option<BpfProgram> {
    let bytes = hex::decode(text).ok().filter(|bytes| !bytes.is_empty())?;
    let (steps, rest) = bytes.as_chunks::<8>();
    let read = |&[c0, c1, jt, jf, k0, k1, k2, k3]: &[u8; 8]| sock_filter {
        code: u16::from_be_bytes([c0, c1]),
        jt,
        jf,
        k: u32::from_be_bytes([k0, k1, k2, k3]),
    };
    rest.is_empty().then(|| steps.iter().map(read).collect())
}

/// Waits to be watched, and becomes the command. It comes back only when that fails: with the number of the system's error, or `None`
/// when the call was wrong or the filter cannot be had.
///
/// `words` are a filter, a program's file, and its arguments.
pub fn serve_gate(mut words: impl Iterator<Item = OsString>) -> Option<i32> {
    let filter = words.next().and_then(|word| read_filter(word.to_str()?))?;
    let program = words.next()?;
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_filter_is_handed_over_word_by_word() {
        for depth in [Depth::Opens, Depth::Looks] {
            let filter = filter::program(depth).expect("this machine's calls are known");
            let read = read_filter(&spelt(&filter)).expect("it was just written");
            let parts = |step: &sock_filter| (step.code, step.jt, step.jf, step.k);
            assert_eq!(read.iter().map(parts).collect::<Vec<_>>(), filter.iter().map(parts).collect::<Vec<_>>());
        }
        let whole = spelt(&filter::program(Depth::Opens).expect("known"));
        for wrong in ["", "opens", &whole[1..], &whole.replacen('0', "+", 1), "000000000000000\u{e9}"] {
            assert!(read_filter(wrong).is_none(), "{wrong}");
        }
    }
}
