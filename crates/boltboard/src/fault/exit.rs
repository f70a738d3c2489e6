//! Exit codes.

use boltboard_core::base::FileError;

/// The exit codes; `docs/scripting.md` tells of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exit {
    /// Done.
    Done = 0,
    /// The answer is no: differences, a failed build or test.
    No = 1,
    /// Wrong use.
    WrongUse = 2,
    /// The definitions or a profile are wrong, or choices clash.
    Wrong = 3,
    /// The host lacks something.
    HostLacks = 4,
    /// A place may not be read or written.
    NoPermission = 5,
    /// The disk is full.
    DiskFull = 6,
    /// The machine failed in another way.
    Machine = 7,
    /// The fault is ours.
    Ours = 8,
    /// Interrupted.
    Interrupted = 130,
}

impl Exit {
    /// The code for a file that cannot be read or written.
    pub fn of_file(error: &FileError) -> Exit {
        if error.is_full() {
            Exit::DiskFull
        } else if error.is_read_only() {
            Exit::NoPermission
        } else {
            Exit::Machine
        }
    }
}

impl From<Exit> for std::process::ExitCode {
    fn from(exit: Exit) -> Self {
        std::process::ExitCode::from(exit as u8)
    }
}
