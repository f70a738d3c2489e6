//! What a person says about other machines that work along.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::Deserialize;

use crate::base::files::read_text;
use crate::base::{FileError, near_matches};

/// Why a build cannot go to other machines.
#[derive(Debug, thiserror::Error)]
pub enum CrewFault {
    /// A file cannot be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// What a person wrote down is wrong.
    #[error("{file}: {why}")]
    Wrong {
        /// The file.
        file: PathBuf,
        /// What is wrong with it.
        why: String,
    },
    /// Nothing of this name is written down.
    #[error("{file} names no workers `{name}`")]
    Unknown {
        /// The file.
        file: PathBuf,
        /// The name.
        name: String,
        /// Names that are there and like it.
        near: Vec<String>,
    },
}

/// All that a person wrote down, by name.
#[derive(Debug, Clone, Default)]
pub struct CrewFile {
    file: PathBuf,
    crews: BTreeMap<String, CrewConfig>,
}

/// Machines that work along.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CrewConfig {
    /// How they are reached.
    pub reach: Reach,
    /// This program over there; the same file as here without.
    pub program: Option<String>,
    /// Where a worker keeps what it was sent; in the cache folder of the person there without.
    pub folder: Option<String>,
    /// How many steps each runs at once; as many as it has processors without.
    pub jobs: Option<usize>,
    /// How long a build waits for them before it begins.
    pub wait: Duration,
}

/// How machines are reached.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reach {
    /// One by one, by a remote shell.
    Hosts {
        /// Their names.
        hosts: Vec<String>,
        /// The command before a host's name; what comes after the name is run there by a shell.
        command: Vec<String>,
    },
    /// As one allocation of the workload manager.
    Slurm {
        /// How many machines are asked for.
        workers: usize,
        /// Further words for the manager.
        options: Vec<String>,
    },
}

/// The remote shell that is used without another word; it asks nothing.
const REMOTE_SHELL: [&str; 3] = ["ssh", "-o", "BatchMode=yes"];
/// How many workers one crew may have.
const MOST_WORKERS: usize = 4096;
/// The longest time that a build may be told to wait, in seconds.
const MOST_WAIT: u64 = 3600;

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
struct Written {
    hosts: Option<Vec<String>>,
    reach: Option<Vec<String>>,
    manager: Option<Manager>,
    workers: Option<usize>,
    options: Option<Vec<String>>,
    program: Option<String>,
    folder: Option<String>,
    jobs: Option<usize>,
    wait: Option<u64>,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Manager {
    Slurm,
}

impl CrewFile {
    /// Reads what a person wrote down; a file that is not there says nothing.
    ///
    /// # Errors
    /// See [`CrewFault`].
    pub fn read(file: &Path) -> Result<CrewFile, CrewFault> {
        let wrong = |why: String| CrewFault::Wrong { file: file.to_path_buf(), why };
        let Some(text) = read_text(file)? else {
            return Ok(CrewFile { file: file.to_path_buf(), ..CrewFile::default() });
        };
        let written: BTreeMap<String, Written> =
            toml_edit::de::from_str(&text).map_err(|e| wrong(e.message().trim().replace('\n', "; ")))?;
        let mut crews = BTreeMap::new();
        for (name, written) in written {
            crews.insert(name.clone(), written.checked().map_err(|why| wrong(format!("[{name}] {why}")))?);
        }
        Ok(CrewFile { file: file.to_path_buf(), crews })
    }

    /// Returns the file.
    pub fn file(&self) -> &Path {
        &self.file
    }

    /// Returns all that is written down, by name.
    pub fn crews(&self) -> &BTreeMap<String, CrewConfig> {
        &self.crews
    }

    /// Returns what is written down of this name.
    ///
    /// # Errors
    /// Nothing is.
    pub fn get(&self, name: &str) -> Result<&CrewConfig, CrewFault> {
        self.crews.get(name).ok_or_else(|| CrewFault::Unknown {
            file: self.file.clone(),
            name: name.into(),
            near: near_matches(name, self.crews.keys().map(String::as_str)),
        })
    }
}

impl Written {
    fn checked(self) -> Result<CrewConfig, String> {
        let few = |what: &str, count: usize| match count {
            0 => Err(format!("`{what}` names none")),
            many if many > MOST_WORKERS => Err(format!("`{what}` may be at most {MOST_WORKERS}")),
            _ => Ok(()),
        };
        let reach = match (self.hosts, self.manager) {
            (Some(hosts), None) => {
                few("hosts", hosts.len())?;
                if let Some(odd) = hosts.iter().find(|host| host.is_empty() || host.starts_with('-')) {
                    return Err(format!("`{odd}` is no name of a host"));
                }
                if self.workers.is_some() || self.options.is_some() {
                    return Err("`workers` and `options` are for a `manager`".into());
                }
                let command = self.reach.unwrap_or_else(|| REMOTE_SHELL.map(String::from).to_vec());
                if command.is_empty() {
                    return Err("`reach` must be a command, such as [\"ssh\", \"-p\", \"2222\"]".into());
                }
                Reach::Hosts { hosts, command }
            }
            (None, Some(Manager::Slurm)) => {
                if self.reach.is_some() {
                    return Err("`reach` is for `hosts`".into());
                }
                let workers = self.workers.unwrap_or(1);
                few("workers", workers)?;
                Reach::Slurm { workers, options: self.options.unwrap_or_default() }
            }
            (Some(_), Some(_)) => return Err("it has `hosts` and a `manager`; it takes one of them".into()),
            (None, None) => return Err("it needs `hosts = [\"…\"]` or `manager = \"slurm\"`".into()),
        };
        if self.jobs == Some(0) {
            return Err("`jobs` must be at least 1".into());
        }
        let wait = self.wait.unwrap_or(0);
        if wait > MOST_WAIT {
            return Err(format!("`wait` may be at most {MOST_WAIT} seconds"));
        }
        let wait = Duration::from_secs(wait);
        Ok(CrewConfig { reach, program: self.program, folder: self.folder, jobs: self.jobs, wait })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Result<CrewFile, String> {
        let folder = tempfile::tempdir().expect("a folder");
        let file = folder.path().join("workers.toml");
        std::fs::write(&file, text).expect("written");
        CrewFile::read(&file).map_err(|e| e.to_string())
    }

    #[test]
    fn what_a_person_writes_is_read_and_what_is_wrong_is_told() {
        let both = "[office]\nhosts = [\"lamp\", \"fog\"]\njobs = 2\n\n[cluster]\nmanager = \"slurm\"\nworkers = 3\n";
        let file = read(both).expect("sound");
        assert_eq!(file.crews().keys().collect::<Vec<_>>(), ["cluster", "office"]);
        let office = file.get("office").expect("there");
        assert_eq!(office.jobs, Some(2));
        let Reach::Hosts { hosts, command } = &office.reach else { panic!("hosts") };
        assert_eq!((hosts.len(), command[0].as_str()), (2, "ssh"));
        assert_eq!(file.get("cluster").expect("there").reach, Reach::Slurm { workers: 3, options: vec![] });
        match file.get("ofice") {
            Err(CrewFault::Unknown { near, .. }) => assert_eq!(near, ["office"]),
            other => panic!("{other:?}"),
        }
        for (text, said) in [
            ("[a]\n", "it needs `hosts"),
            ("[a]\nhosts = []\n", "`hosts` names none"),
            ("[a]\nhosts = [\"-oProxyCommand=x\"]\n", "is no name of a host"),
            ("[a]\nhosts = [\"b\"]\nmanager = \"slurm\"\n", "takes one of them"),
            ("[a]\nhosts = [\"b\"]\nworkers = 2\n", "are for a `manager`"),
            ("[a]\nhosts = [\"b\"]\nreach = []\n", "must be a command"),
            ("[a]\nhosts = [\"b\"]\njobs = 0\n", "at least 1"),
            ("[a]\nhosts = [\"b\"]\nwait = 9999\n", "at most 3600 seconds"),
            ("[a]\nmanager = \"slurm\"\nworkers = 0\n", "`workers` names none"),
            ("[a]\nmanager = \"slurm\"\nworkers = 5000\n", "at most 4096"),
            ("[a]\nmanager = \"slurm\"\nreach = [\"ssh\"]\n", "is for `hosts`"),
            ("[a]\nmanager = \"other\"\n", "unknown variant"),
            ("[a]\nlamps = 2\n", "unknown field"),
        ] {
            let told = read(text).expect_err(text);
            assert!(told.contains(said), "{text}: {told}");
        }
        assert!(CrewFile::read(Path::new("/nowhere/workers.toml")).expect("nothing").crews().is_empty());
    }
}
