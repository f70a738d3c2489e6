//! What each step of a build last did: one JSON line a step, later lines win. A line cut off by a kill is left out.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::base::files::{make_folder, read_text, write_whole};
use crate::base::{Digest, FileError};

/// What a step saw and made: enough to tell whether the same would come out again.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Note {
    /// All files read, with their content, but for option headers.
    pub inputs: Vec<(String, Digest)>,
    /// Places where a header was looked for and not found before the one that was read.
    pub absent: Vec<String>,
    /// The macros that carry options and that the files read name, with what they stood for (`None`: not defined).
    pub macros: Vec<(String, Option<String>)>,
    /// Digest of the names of all such macros there were.
    pub macro_names: Digest,
    /// What was made.
    pub outputs: Vec<Output>,
    /// What the step said, such as warnings.
    pub said: String,
    /// How long it ran, in milliseconds.
    pub wall_ms: u64,
    /// Digest of a compile's text after preprocessing, where it was looked at.
    #[serde(default)]
    pub text: Option<Digest>,
}

/// A file that a step made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Output {
    /// Where it lies.
    pub location: String,
    /// Its content.
    pub digest: Digest,
    /// Permission bits.
    pub mode: u32,
}

/// A step's last run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct StepRecord {
    /// The step's name.
    pub step: String,
    /// Digest of its command and tools.
    pub base_key: Digest,
    /// The command's words.
    pub command: Vec<String>,
    /// Digest of the tool that ran it.
    pub tool: Digest,
    /// What it saw and made; `None` when an input changed while it ran, so that it counts as not done.
    pub note: Option<Note>,
}

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Line {
    Done(Box<StepRecord>),
    Removed(String),
}

/// The records of one build folder, by step name.
#[derive(Debug)]
pub struct Journal {
    path: PathBuf,
    file: Option<File>,
    lines: usize,
    /// The records.
    pub records: BTreeMap<String, StepRecord>,
}

impl Journal {
    /// Reads the journal of a build folder; none is an empty one.
    ///
    /// # Errors
    /// The file is there and cannot be read.
    pub fn open(build: &Path) -> Result<Journal, FileError> {
        let path = build.join("journal.jsonl");
        let mut journal = Journal { path, file: None, lines: 0, records: BTreeMap::new() };
        for line in read_text(&journal.path)?.unwrap_or_default().lines() {
            journal.lines += 1;
            match serde_json::from_str(line) {
                Ok(Line::Done(record)) => {
                    journal.records.insert(record.step.clone(), *record);
                }
                Ok(Line::Removed(step)) => {
                    journal.records.remove(&step);
                }
                // A torn or damaged line costs one step run again.
                Err(_) => {}
            }
        }
        Ok(journal)
    }

    /// Adds a step's record.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn add(&mut self, record: StepRecord) -> Result<(), FileError> {
        self.write(&Line::Done(Box::new(record.clone())))?;
        self.records.insert(record.step.clone(), record);
        Ok(())
    }

    /// Takes a step's record out.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn remove(&mut self, step: &str) -> Result<(), FileError> {
        self.write(&Line::Removed(step.to_string()))?;
        self.records.remove(step);
        Ok(())
    }

    fn write(&mut self, line: &Line) -> Result<(), FileError> {
        let failed = FileError::on("write", &self.path);
        if self.file.is_none() {
            make_folder(self.path.parent().unwrap_or(Path::new(".")))?;
            let open = File::options().create(true).append(true).open(&self.path);
            let mut file = open.map_err(FileError::on("open", &self.path))?;
            // Ends a line that an earlier kill cut off.
            if self.lines > 0 {
                file.write_all(b"\n").map_err(FileError::on("write", &self.path))?;
            }
            self.file = Some(file);
        }
        let mut text = serde_json::to_string(line).unwrap_or_default();
        text.push('\n');
        self.lines += 1;
        match &mut self.file {
            Some(file) => file.write_all(text.as_bytes()).map_err(failed),
            None => Ok(()),
        }
    }

    /// Writes the journal anew when most of its lines no longer count.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn compact(&mut self) -> Result<(), FileError> {
        if self.lines < 4 * self.records.len() + 100 {
            return Ok(());
        }
        let mut text = String::new();
        for record in self.records.values() {
            text.push_str(&serde_json::to_string(&Line::Done(Box::new(record.clone()))).unwrap_or_default());
            text.push('\n');
        }
        self.file = None;
        self.lines = self.records.len();
        write_whole(&self.path, text.as_bytes())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn record(step: &str) -> StepRecord {
        let digest = Digest::of(step.as_bytes());
        StepRecord { step: step.into(), base_key: digest, command: vec![], tool: digest, note: None }
    }

    #[test]
    fn a_torn_line_costs_only_itself() {
        let folder = tempfile::tempdir().unwrap();
        let mut journal = Journal::open(folder.path()).unwrap();
        journal.add(record("a")).unwrap();
        journal.add(record("b")).unwrap();
        drop(journal);
        let path = folder.path().join("journal.jsonl");
        let text = std::fs::read_to_string(&path).unwrap();
        std::fs::write(&path, &text[..text.len() - 20]).unwrap();
        let mut journal = Journal::open(folder.path()).unwrap();
        assert_eq!(journal.records.keys().collect::<Vec<_>>(), ["a"]);
        journal.add(record("c")).unwrap();
        let again = Journal::open(folder.path()).unwrap();
        assert_eq!(again.records.keys().collect::<Vec<_>>(), ["a", "c"], "what came after the torn line is kept");
    }
}
