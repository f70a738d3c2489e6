//! The open JSON form of a compilation database, where no build can be watched: compiles are known from it, and nothing else.

use std::path::{Path, PathBuf};

use serde::Deserialize;

use super::paths::absolute;
use super::watched::{Around, Watched, files_before};
use super::words;
use crate::base::shell_words;
use crate::watch::{Deed, DeedSort, Process, Sight};

#[derive(Deserialize)]
struct Entry {
    directory: PathBuf,
    file: String,
    #[serde(default)]
    command: Option<String>,
    #[serde(default)]
    arguments: Vec<String>,
    #[serde(default)]
    output: Option<String>,
}

/// Reads a database as if each of its compiles had been watched.
///
/// # Errors
/// It is no such database; the error says why.
pub fn from_database(text: &str, name: &str, file: &Path, tree: &Path) -> Result<Watched, String> {
    let entries: Vec<Entry> = serde_json::from_str(text).map_err(|e| e.to_string())?;
    let mut sight = Sight::default();
    for (number, entry) in entries.iter().enumerate() {
        let arguments = match &entry.command {
            Some(command) if entry.arguments.is_empty() => shell_words(command),
            _ => entry.arguments.clone(),
        };
        let folder = entry.directory.to_string_lossy().into_owned();
        let source = absolute(&folder, &entry.file);
        let named = arguments.iter().skip(1).find(|word| absolute(&folder, word) == source);
        let Some(named) = named.cloned() else {
            return Err(format!("entry {}: its command does not name {}", number + 1, entry.file));
        };
        let run = words::read(&arguments[1..], &|_| None);
        let output = entry.output.clone().or(run.output);
        let parent = sight.processes.len();
        let driver = Process {
            program: PathBuf::from(&arguments[0]),
            arguments,
            folder: entry.directory.clone(),
            exit: Some(0),
            ..Process::default()
        };
        let mut deeds = vec![Deed { sort: DeedSort::Opened, path: source.into() }];
        deeds.extend(output.map(|output| {
            let path = absolute(&folder, &output).into();
            Deed { sort: DeedSort::Wrote, path }
        }));
        let first = u32::try_from(number).unwrap_or(u32::MAX / 2) * 2;
        let proper = Process {
            parent: Some(parent),
            program: "cc1".into(),
            arguments: vec!["cc1".into(), named],
            folder: entry.directory.clone(),
            exit: Some(0),
            moments: (first..).take(deeds.len()).collect(),
            deeds,
            ..Process::default()
        };
        sight.processes.extend([driver, proper]);
    }
    let command = [file.display().to_string()];
    Ok(Watched::of(sight, &Around { name, command: &command, tree, before: &files_before(tree), exit: 0 }))
}
