//! Asking files and processes about their records.

use std::path::{Path, PathBuf};

use super::{Covers, ReadFault, Record, RecordFault, Said, Seen, read_records};
use crate::base::{mapped_files, near_matches};

/// What was looked at, and what was found there.
#[derive(Debug)]
pub struct Inspected {
    /// The file as it was named; of a process, its number and its program.
    pub name: String,
    /// Whether it is what a process has loaded beside its program.
    pub loaded: bool,
    /// Its records.
    pub found: Result<Vec<Seen>, ReadFault>,
}

/// The answer to a question about an option.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// Whether it is so.
    pub yes: bool,
    /// The value that the option has.
    pub value: String,
}

/// Why there is no answer.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AskFault {
    /// The file cannot be read.
    #[error("{0}")]
    Unread(String),
    /// It has no record.
    #[error("{0} has no record")]
    NoRecord(String),
    /// Its record cannot be used.
    #[error("the record of {name} cannot be used: {fault}")]
    Unusable {
        /// The file.
        name: String,
        /// What is wrong with the record.
        fault: RecordFault,
    },
    /// The record says nothing of this option.
    #[error("the record of {name} says nothing of an option `{option}`")]
    UnknownOption {
        /// The file.
        name: String,
        /// The option.
        option: String,
        /// Options with names like this one.
        near: Vec<String>,
        /// What the record tells.
        covers: Covers,
    },
    /// It has several records that do not say the same.
    #[error("{name} has {count} records, and they contradict each other about {about}")]
    Contradict {
        /// The file.
        name: String,
        /// How many.
        count: usize,
        /// About what.
        about: String,
    },
    /// The record tells only what its part names.
    #[error("the record of {0} does not tell what was chosen")]
    NoChoices(String),
    /// It is of another tree.
    #[error("{name} was built from the tree `{other}`, and this is `{tree}`")]
    OtherTree {
        /// The file.
        name: String,
        /// Its tree.
        other: String,
        /// This one.
        tree: String,
    },
}

impl ReadFault {
    /// What stands against reading, with what the system says.
    pub fn in_words(&self) -> String {
        match self {
            ReadFault::File(error) => format!("{error}: {}", error.source),
            other => other.to_string(),
        }
    }
}

/// Looks at a file; where there is none and the name is a number, at the process of that number, with all that it has loaded and that has a
/// record.
pub fn inspect(file: &Path) -> Vec<Inspected> {
    let name = file.display().to_string();
    match name.parse::<u32>() {
        Ok(number) if !file.exists() => of_process(number),
        _ => vec![Inspected { found: read_records(file), loaded: false, name }],
    }
}

fn of_process(number: u32) -> Vec<Inspected> {
    let process = PathBuf::from(format!("/proc/{number}"));
    let program = process.join("exe");
    let Ok(path) = std::fs::read_link(&program) else {
        let found = Err(ReadFault::NoProcess(number));
        return vec![Inspected { name: format!("process {number}"), loaded: false, found }];
    };
    let name = format!("process {number}, {}", path.display());
    let mut all = vec![Inspected { name, loaded: false, found: read_records(&program) }];
    let maps = std::fs::read(process.join("maps")).unwrap_or_default();
    let maps = String::from_utf8_lossy(&maps);
    let mut loaded: Vec<_> = mapped_files(&maps).filter(|file| file.is_code && Path::new(file.path) != path).collect();
    loaded.sort_unstable_by_key(|file| file.path);
    loaded.dedup_by_key(|file| file.path);
    for file in loaded {
        // What was replaced since is still there by its place in memory.
        let still = process.join("map_files").join(file.range);
        let found = read_records(Path::new(file.path)).or_else(|_| read_records(&still));
        if found.as_ref().is_ok_and(|seen| !seen.is_empty()) {
            all.push(Inspected { name: file.path.to_string(), loaded: true, found });
        }
    }
    all
}

impl Inspected {
    /// The records that speak for it as a whole, at least one.
    fn records(&self) -> Result<Vec<&Record>, AskFault> {
        let name = || self.name.clone();
        let seen = self.found.as_ref().map_err(|fault| AskFault::Unread(fault.in_words()))?;
        let whole = seen.iter().filter(|seen| seen.member.is_none());
        let records: Vec<&Record> = whole.filter_map(|seen| seen.record.as_ref().ok()).collect();
        if !records.is_empty() {
            return Ok(records);
        }
        let fault = seen.iter().find_map(|seen| seen.record.as_ref().err());
        Err(fault.map_or_else(
            || AskFault::NoRecord(name()),
            |fault| AskFault::Unusable { name: name(), fault: fault.clone() },
        ))
    }

    /// Answers `OPTION`, whether it is on or not empty, and `OPTION=VALUE`, whether it has that value.
    ///
    /// # Errors
    /// There is no record that can be used, or it does not tell.
    pub fn has(&self, question: &str) -> Result<Answer, AskFault> {
        let (option, wanted) = question.split_once('=').map_or((question, None), |(option, of)| (option, Some(of)));
        let records = self.records()?;
        let answers = records.iter().map(|record| answer(&self.name, record, option, wanted));
        let answers = answers.collect::<Result<Vec<_>, _>>()?;
        let first = answers[0].clone();
        if answers.iter().all(|answer| answer.yes == first.yes) {
            return Ok(first);
        }
        let (name, about) = (self.name.clone(), format!("`{option}`"));
        Err(AskFault::Contradict { name, count: records.len(), about })
    }

    /// The record from which it is clear what was chosen in a tree.
    ///
    /// # Errors
    /// There is none.
    pub fn of_tree(&self, tree: &str) -> Result<&Record, AskFault> {
        let records = self.records()?;
        let record = records[0];
        let name = self.name.clone();
        if records.iter().any(|other| other.choices != record.choices || other.tree != record.tree) {
            return Err(AskFault::Contradict { name, count: records.len(), about: "what was chosen".into() });
        }
        if record.tree != tree {
            return Err(AskFault::OtherTree { name, other: record.tree.clone(), tree: tree.to_string() });
        }
        if record.covers == Covers::Named { Err(AskFault::NoChoices(name)) } else { Ok(record) }
    }
}

fn answer(name: &str, record: &Record, option: &str, wanted: Option<&str>) -> Result<Answer, AskFault> {
    let Some(said) = record.value(option) else {
        let near = near_matches(option, record.all_values().into_keys());
        let (name, option) = (name.to_string(), option.to_string());
        return Err(AskFault::UnknownOption { name, option, near, covers: record.covers });
    };
    let value = said.to_string();
    let yes = match (wanted, &said) {
        (Some(wanted), _) => value == wanted,
        (None, Said::Text(text)) => !text.is_empty() && text != "off",
        (None, Said::Words(words)) => !words.is_empty(),
        (None, Said::Number(_)) => true,
    };
    Ok(Answer { yes, value })
}
