//! What the host answers by itself, without a compiler or a program.

use std::fs::Metadata;
use std::os::unix::fs::FileTypeExt;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

/// One thing that must be there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum HostLook {
    /// A plain file or a folder, by its absolute path.
    File(PathBuf),
    /// A device, by its absolute path.
    Device(PathBuf),
}

/// What was seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Seen {
    /// What was looked for.
    There,
    /// Nothing.
    Nothing,
    /// Something else, for which there is a word: "no device".
    Other(&'static str),
}

impl HostLook {
    /// What is looked for, for people.
    pub fn title(&self) -> String {
        match self {
            HostLook::File(path) => format!("the file {}", path.display()),
            HostLook::Device(path) => format!("the device {}", path.display()),
        }
    }

    /// Where it lies; whatever changes there can change what is seen.
    pub fn place(&self) -> &Path {
        match self {
            HostLook::File(path) | HostLook::Device(path) => path,
        }
    }

    /// Looks at the host.
    pub fn see(&self) -> Seen {
        match (self, std::fs::metadata(self.place())) {
            (_, Err(_)) => Seen::Nothing,
            (HostLook::File(_), Ok(_)) => Seen::There,
            (HostLook::Device(_), Ok(status)) if is_device(&status) => Seen::There,
            (HostLook::Device(_), Ok(_)) => Seen::Other("no device"),
        }
    }
}

fn is_device(status: &Metadata) -> bool {
    status.file_type().is_char_device() || status.file_type().is_block_device()
}
