//! How a step ended, and what stands against it.

use super::failure::{Cause, Failure};
use crate::base::FileError;
use crate::launch::Used;
use crate::step::MakeFault;
use crate::store::Note;

/// What came of a step that ran.
pub(super) enum Ended {
    /// It is done; `note` is none when an input changed while it ran.
    Done {
        /// What it saw and made.
        note: Option<Note>,
        said: String,
        used: Used,
        /// What it was seen to do that we did not reckon with.
        unexpected: Vec<String>,
    },
    /// It was spared: its text after preprocessing is the same as for an earlier result.
    Spared { note: Note, in_place: bool },
    /// It failed.
    Failed(Box<Failure>),
    /// It was sent to another machine, and nothing of that counts.
    NotCounted(NotCounted),
    /// Everything stops.
    Stopped,
}

/// Why what another machine made does not count.
pub(super) enum NotCounted {
    /// The machine is lost.
    Lost,
    /// Something is not there as it is here, in words.
    Unlike(String),
    /// The step must run here, for this reason where it is worth a word.
    Stays(Option<String>),
}

/// What a run that ended well came to.
pub(super) enum Concluded {
    /// It is done.
    Done(Box<Ended>),
    /// What it stands on is known only by watching.
    OnlyWatched,
    /// It stands on something that does not count, in words.
    Unlike(String),
}

/// A step's trouble before it is told as a [`Failure`].
pub(super) struct Trouble {
    pub cause: Cause,
    pub said: String,
    pub command: String,
}

impl From<MakeFault> for Trouble {
    fn from(fault: MakeFault) -> Trouble {
        match fault {
            MakeFault::File(error) => error.into(),
            MakeFault::Unloadable(names) => Trouble {
                cause: Cause::Unloadable { open: names.0.len() },
                said: names.to_string(),
                command: String::new(),
            },
        }
    }
}

impl From<FileError> for Trouble {
    fn from(error: FileError) -> Trouble {
        Trouble { cause: error.into(), said: String::new(), command: String::new() }
    }
}
