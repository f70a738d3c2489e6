//! Programs that the system's service manager is to run: what its files for them say, and what they need on the machine.

use super::interp::Interp;
use super::part::{PartId, When};
use crate::base::Place;

/// A program that the system's service manager runs.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct ServiceDef {
    /// Its name, and that of its files.
    pub name: String,
    /// One line about it.
    pub summary: String,
    /// The program; it is installed.
    pub program: PartId,
    /// Its arguments.
    pub arguments: Vec<When<Interp>>,
    /// Variables of its environment.
    pub environment: Vec<(String, Interp)>,
    /// The user that it runs as; the administrator where that is not told.
    pub user: Option<Interp>,
    /// Folders that it keeps its things in, below nothing that is installed.
    pub folders: Vec<When<ServiceFolder>>,
    /// Ports that it listens on: a number, or `udp:` and a number.
    pub listens: Vec<When<Interp>>,
    /// Files that must be there and that its user must be able to read.
    pub files: Vec<When<Interp>>,
    /// When it counts as started.
    pub ready: ServiceReady,
    /// When it is started again after it ended.
    pub again: ServiceAgain,
    /// Where its name is written.
    pub place: Place,
}

/// A folder of a service.
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct ServiceFolder {
    /// Where.
    pub path: Interp,
    /// Permission bits.
    pub mode: u32,
}

/// When a service counts as started.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum ServiceReady {
    /// As soon as its program runs.
    Runs,
    /// When its program tells the service manager.
    Tells,
    /// When its program has ended: it does something once.
    Ended,
}

/// When a service is started again after it ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum ServiceAgain {
    /// When it failed.
    Failed,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// One of the files of a service.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum ServiceFile {
    /// How the program is run.
    Unit,
    /// The user that the system is to have.
    User,
    /// The folders that the system is to have.
    Folders,
}

impl ServiceFile {
    /// All, in the order in which they are made.
    pub const ALL: [ServiceFile; 3] = [ServiceFile::Unit, ServiceFile::User, ServiceFile::Folders];

    /// Returns what the part that makes it adds to the service's name.
    pub fn word(self) -> &'static str {
        match self {
            ServiceFile::Unit => "unit",
            ServiceFile::User => "user",
            ServiceFile::Folders => "folders",
        }
    }

    /// Returns the folder below `lib` in which the service manager looks for such files.
    pub fn folder(self) -> &'static str {
        match self {
            ServiceFile::Unit => "systemd/system",
            ServiceFile::User => "sysusers.d",
            ServiceFile::Folders => "tmpfiles.d",
        }
    }

    /// Returns what the file's name ends in.
    pub fn ending(self) -> &'static str {
        match self {
            ServiceFile::Unit => "service",
            ServiceFile::User | ServiceFile::Folders => "conf",
        }
    }
}

impl ServiceDef {
    /// Returns its lists of texts that conditions can leave out.
    pub fn lists(&self) -> [&[When<Interp>]; 3] {
        [&self.arguments, &self.listens, &self.files]
    }

    /// Returns all texts that are filled in.
    pub fn texts(&self) -> impl Iterator<Item = &Interp> {
        let listed = self.lists().into_iter().flatten().map(|entry| &entry.item);
        let folders = self.folders.iter().map(|entry| &entry.item.path);
        listed.chain(folders).chain(self.environment.iter().map(|(_, value)| value)).chain(&self.user)
    }
}
