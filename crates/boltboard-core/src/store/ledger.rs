//! The record of builds: one JSON line each.

use std::fs::File;
use std::io::Write;
use std::path::Path;

use serde::{Deserialize, Serialize};

use crate::base::FileError;
use crate::base::files::read_text;

/// One build.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LedgerEntry {
    /// When it began, in seconds since 1970.
    pub started_s: u64,
    /// The profile.
    pub profile: String,
    /// How it ended.
    pub outcome: LedgerOutcome,
    /// How many steps the plan has.
    pub steps: usize,
    /// How many were run.
    pub ran: usize,
    /// How many were taken from the store.
    pub from_store: usize,
    /// How long it took, in milliseconds.
    pub wall_ms: u64,
    /// How large the finished parts are, in bytes.
    pub output_bytes: u64,
    /// The slowest steps that were run, with their time in milliseconds.
    pub slowest: Vec<(String, u64)>,
}

/// How a build ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LedgerOutcome {
    /// Everything was made.
    Done,
    /// A step failed.
    Failed,
    /// It was interrupted.
    Interrupted,
}

/// All builds of a work folder, oldest first.
#[derive(Debug, Clone, Default)]
pub struct Ledger {
    /// The builds.
    pub entries: Vec<LedgerEntry>,
}

impl Ledger {
    /// Reads the ledger; damaged lines are left out.
    ///
    /// # Errors
    /// The file is there and cannot be read.
    pub fn read(path: &Path) -> Result<Ledger, FileError> {
        let text = read_text(path)?.unwrap_or_default();
        Ok(Ledger { entries: text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect() })
    }

    /// Adds a build.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn append(path: &Path, entry: &LedgerEntry) -> Result<(), FileError> {
        let open = File::options().create(true).append(true).open(path);
        let mut file = open.map_err(FileError::on("open", path))?;
        let line = format!("{}\n", serde_json::to_string(entry).unwrap_or_default());
        file.write_all(line.as_bytes()).map_err(FileError::on("write", path))
    }
}
