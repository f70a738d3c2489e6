//! What a machine shows of what it uses: its devices, loaded modules of the kernel, what running programs have mapped.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::base::files::{read_text, write_whole};
use crate::base::{FileError, mapped_files};

/// How deep folders of devices nest at most, and how many are looked at.
const DEEPEST: usize = 24;
const MOST_FOLDERS: usize = 400_000;
/// The longest line and the largest file that is read of a machine, in bytes.
const MAX_LINE: usize = 4096;
const MAX_FILE: u64 = 64 << 20;
/// The format that is written.
const FORMAT: u32 = 1;

/// What a machine shows, in a form that can be saved and looked at elsewhere.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Evidence {
    format: u32,
    /// The machine's name, so that a reader of several knows which one it was.
    pub machine: String,
    /// Devices, as the kernel's aliases name them (`/sys/**/modalias`).
    #[serde(default)]
    pub devices: BTreeSet<String>,
    /// Modules that the kernel has loaded.
    #[serde(default)]
    pub modules: BTreeSet<String>,
    /// Names of programs and shared objects that running processes have mapped, without their folders.
    #[serde(default)]
    pub mapped: BTreeSet<String>,
    /// Files that definitions ask about and that are there.
    #[serde(default)]
    pub files: BTreeSet<String>,
}

/// Evidence cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum EvidenceFault {
    /// A file cannot be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// The file holds something else.
    #[error("{file} holds no evidence: {reason}", file = .file.display())]
    Wrong {
        /// The file.
        file: PathBuf,
        /// What is wrong.
        reason: String,
    },
    /// There is no such process, or it is another person's.
    #[error("what the process {0} has mapped cannot be read")]
    Process(u32),
}

impl Evidence {
    /// Looks at a machine below `root`, which is `/`. Of `files` it is noted which are there. What cannot be read is left out: other people's
    /// processes are none of ours.
    pub fn of_machine(root: &Path, files: &BTreeSet<String>) -> Evidence {
        let line = |path: PathBuf| std::fs::read_to_string(path).ok().map(|text| text.trim().to_string());
        let mut evidence = Evidence {
            format: FORMAT,
            machine: line(root.join("proc/sys/kernel/hostname")).unwrap_or_default(),
            devices: devices(&root.join("sys/devices")),
            files: files.iter().filter(|file| below(root, file).exists()).cloned().collect(),
            ..Evidence::default()
        };
        let modules = std::fs::read_to_string(root.join("proc/modules")).unwrap_or_default();
        evidence.modules.extend(modules.lines().filter_map(|line| line.split_whitespace().next()).map(str::to_string));
        let processes = std::fs::read_dir(root.join("proc")).into_iter().flatten().filter_map(Result::ok);
        for process in processes {
            if process.file_name().to_string_lossy().bytes().all(|byte| byte.is_ascii_digit()) {
                evidence.mapped.extend(mapped(&process.path().join("maps")).unwrap_or_default());
            }
        }
        evidence
    }

    /// Looks at a single running process.
    ///
    /// # Errors
    /// What it has mapped cannot be read.
    pub fn of_process(root: &Path, process: u32) -> Result<Evidence, EvidenceFault> {
        let maps = root.join("proc").join(process.to_string()).join("maps");
        let mapped = mapped(&maps).ok_or(EvidenceFault::Process(process))?;
        Ok(Evidence { format: FORMAT, machine: format!("process {process}"), mapped, ..Evidence::default() })
    }

    /// Reads what was saved.
    ///
    /// # Errors
    /// See [`EvidenceFault`].
    pub fn load(file: &Path) -> Result<Evidence, EvidenceFault> {
        let wrong = |reason: String| EvidenceFault::Wrong { file: file.to_path_buf(), reason };
        if std::fs::metadata(file).is_ok_and(|status| status.len() > MAX_FILE) {
            return Err(wrong("it is larger than 64 MiB".into()));
        }
        let text = read_text(file)?.ok_or_else(|| wrong("it is not there".into()))?;
        let evidence: Evidence =
            toml_edit::de::from_str(&text).map_err(|e| wrong(e.message().trim().replace('\n', "; ")))?;
        if evidence.format != FORMAT {
            return Err(wrong(format!("it is in format {}, this program reads {FORMAT}", evidence.format)));
        }
        Ok(evidence)
    }

    /// Saves it.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn save(&self, file: &Path) -> Result<(), FileError> {
        let head = "# What a machine shows of what it uses; `boltboard tailor --evidence` reads it.\n";
        let text = toml_edit::ser::to_string_pretty(self).expect("evidence is plain data");
        write_whole(file, format!("{head}{text}").as_bytes())
    }
}

/// A path of the machine below the folder that stands for `/`.
fn below(root: &Path, file: &str) -> PathBuf {
    root.join(file.trim_start_matches('/'))
}

/// Reads all aliases of devices below a folder; links are not followed, as they lead around in rings.
fn devices(folder: &Path) -> BTreeSet<String> {
    let mut found = BTreeSet::new();
    let mut open = vec![(folder.to_path_buf(), 0)];
    let mut looked = 0;
    while let Some((folder, depth)) = open.pop() {
        looked += 1;
        if looked > MOST_FOLDERS {
            break;
        }
        for entry in std::fs::read_dir(&folder).into_iter().flatten().filter_map(Result::ok) {
            let Ok(kind) = entry.file_type() else { continue };
            if kind.is_dir() && depth < DEEPEST {
                open.push((entry.path(), depth + 1));
            } else if kind.is_file() && entry.file_name() == "modalias" {
                let text = std::fs::read_to_string(entry.path()).unwrap_or_default();
                found.extend(
                    text.lines().map(str::trim).filter(|l| !l.is_empty() && l.len() < MAX_LINE).map(str::to_string),
                );
            }
        }
    }
    found
}

/// The names of files that a process has mapped.
fn mapped(maps: &Path) -> Option<BTreeSet<String>> {
    let text = std::fs::read(maps).ok()?;
    let text = String::from_utf8_lossy(&text);
    let names = mapped_files(&text).filter_map(|file| file.path.rsplit('/').next());
    Some(names.filter(|name| !name.is_empty() && name.len() < MAX_LINE).map(str::to_string).collect())
}
