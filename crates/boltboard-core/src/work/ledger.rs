//! The record of builds: one JSON line each.

use std::collections::HashSet;
use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::folder::SET_ASIDE;
use super::why::Why;
use crate::base::files::{make_room, read_regular, read_text, write_quickly};
use crate::base::{FileError, json_text};
use crate::definitions::WORK_MARK;

/// One build.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
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
    /// How many of them on other machines.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub away: usize,
    /// How many results of earlier builds were reused.
    pub reused: usize,
    /// How long it took, in milliseconds.
    pub wall_ms: u64,
    /// How large the finished parts are, in bytes.
    pub output_bytes: u64,
    /// How many compiles did not run because their text after preprocessing was the same.
    #[serde(default)]
    pub same_text: usize,
    /// How many contents came from others.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub shared: usize,
    /// How many steps passed only when they ran alone.
    #[serde(default)]
    pub flaky: usize,
    /// Why steps ran, the most frequent reason first.
    #[serde(default)]
    pub reasons: Vec<Why>,
    /// Processor time of all steps, in milliseconds.
    #[serde(default)]
    pub cpu_ms: u64,
    /// The most memory that one step held, in bytes.
    #[serde(default, rename = "memory-bytes")]
    pub memory: u64,
    /// What lies on disk when the build is over.
    #[serde(default)]
    pub disk: Disk,
    /// The slowest steps that were run, with their time in milliseconds.
    pub slowest: Vec<(String, u64)>,
}

/// How much lies on disk, in bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Disk {
    /// The sources.
    pub sources: u64,
    /// The profile's build.
    pub build: u64,
    /// The store.
    pub store: u64,
}

impl Disk {
    /// Adds up what lies below folders; a file with several names counts where it is met first, and the work folder does not
    /// count among the sources.
    pub fn of(sources: &Path, build: &Path, store: &Path) -> Disk {
        let mut met = HashSet::new();
        let work = [build, store].map(Path::to_path_buf);
        Disk {
            build: below(build, &[], &mut met),
            store: below(store, &[], &mut met),
            sources: below(sources, &work, &mut met),
        }
    }
}

/// Returns how large the files below a folder are, in bytes; a file with several names counts once.
pub fn folder_bytes(folder: &Path) -> u64 {
    below(folder, &[], &mut HashSet::new())
}

fn below(folder: &Path, but: &[PathBuf], met: &mut HashSet<u64>) -> u64 {
    use std::os::unix::fs::MetadataExt;
    let Ok(entries) = std::fs::read_dir(folder) else { return 0 };
    let mut sum = 0;
    for entry in entries.filter_map(Result::ok) {
        let path = entry.path();
        match entry.metadata() {
            Ok(status) if status.is_dir() => {
                let ours = but.iter().any(|place| place.starts_with(&path)) && path.join(WORK_MARK).is_file();
                sum += if ours { 0 } else { below(&path, but, met) };
            }
            Ok(status) if status.is_file() && (status.nlink() == 1 || met.insert(status.ino())) => sum += status.len(),
            _ => {}
        }
    }
    sum
}

/// When each step of a profile's last build ran.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Course {
    /// When the build began, in seconds since 1970.
    pub started_s: u64,
    /// The steps, in the order in which they ended.
    pub spans: Vec<CourseSpan>,
}

/// When one step ran.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CourseSpan {
    /// What it works on.
    pub subject: String,
    /// What it does, in one word.
    pub verb: String,
    /// The part that it belongs to.
    pub part: String,
    /// The job that it ran on, from 0.
    pub job: usize,
    /// When it started, in microseconds from the start of the build.
    pub began_us: u64,
    /// How long it took, in microseconds.
    pub wall_us: u64,
}

impl Course {
    /// Reads what was kept of a profile's last build that ran anything, `None` when there is nothing.
    pub fn load(build: &Path) -> Option<Course> {
        serde_json::from_str(&read_text(&build.join("course.json")).ok()??).ok()
    }

    /// Keeps it.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn save(&self, build: &Path) -> Result<(), FileError> {
        write_quickly(&build.join("course.json"), json_text(self).as_bytes())
    }
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "as serde asks")]
fn is_zero(count: &usize) -> bool {
    *count == 0
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
    /// How many lines could not be read.
    pub damaged: usize,
}

impl Ledger {
    /// Reads the ledger; damaged lines are left out, and counted.
    ///
    /// # Errors
    /// The file is there and cannot be read.
    pub fn read(path: &Path) -> Result<Ledger, FileError> {
        let bytes = match read_regular(path) {
            Ok(bytes) => bytes,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(Ledger::default()),
            Err(e) => return Err(FileError::on("read", path)(e)),
        };
        let mut ledger = Ledger::default();
        for line in bytes.split(|byte| *byte == b'\n').filter(|line| !line.trim_ascii().is_empty()) {
            match serde_json::from_slice(line) {
                Ok(entry) => ledger.entries.push(entry),
                Err(_) => ledger.damaged += 1,
            }
        }
        Ok(ledger)
    }

    /// Adds a build.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn append(path: &Path, entry: &LedgerEntry) -> Result<(), FileError> {
        // Something else in its place would keep the build from ending, or hold it up for ever.
        let folder = path.parent().unwrap_or(Path::new("."));
        make_room(path, folder, &folder.join(SET_ASIDE))?;
        let open = File::options().create(true).append(true).open(path);
        let mut file = open.map_err(FileError::on("open", path))?;
        let line = format!("{}\n", json_text(entry));
        file.write_all(line.as_bytes()).map_err(FileError::on("write", path))
    }
}
