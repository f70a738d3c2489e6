//! A build that was watched, as it is kept: what every process was, read and wrote, and what the build left behind.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::code::code_of;
use crate::base::files::{packed, read_regular, unsealed, write_sealed};
use crate::base::{Digest, FileError};
use crate::definitions::Listing;
use crate::run::signal_words;
use crate::watch::{DeedSort, Process, Sight};

/// What the kept file begins with.
const MARK: &[u8] = b"boltboard watched 1\n";
/// The longest text that is kept of a file that a build wrote, in bytes.
const LONGEST_TEXT: usize = 1 << 20;
/// Names like these hold what nobody should keep.
const SECRET: [&str; 6] = ["TOKEN", "KEY", "PASSWORD", "PASSWD", "SECRET", "CREDENTIAL"];
/// Variables that compilers and linkers look at.
const KEPT_VARIABLES: [&str; 6] =
    ["CPATH", "C_INCLUDE_PATH", "CPLUS_INCLUDE_PATH", "LIBRARY_PATH", "COMPILER_PATH", "GCC_EXEC_PREFIX"];

/// A path of a watched build, by its number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct PathId(u32);

/// A build that was watched.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Watched {
    /// What it is called.
    pub name: String,
    /// The command that builds.
    pub command: Vec<String>,
    /// The tree.
    pub tree: PathBuf,
    /// How the command ended.
    pub exit: i32,
    /// What could not be seen, if something could not.
    pub blind: Option<String>,
    /// All processes, in the order in which they began.
    pub processes: Vec<Seen>,
    /// Files of the tree that were there before it.
    pub before: BTreeSet<PathId>,
    /// The content of each file that it wrote and left.
    pub left: BTreeMap<PathId, Digest>,
    /// What objects among these are apart from their debug information.
    pub code: BTreeMap<PathId, Digest>,
    /// Short texts among these.
    pub texts: BTreeMap<PathId, String>,
    paths: Vec<String>,
}

/// One process, from a program's beginning to its end.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Seen {
    /// Who started it.
    pub parent: Option<usize>,
    /// Whether it is a copy of that one, and ran no program of its own.
    pub forked: bool,
    /// The program's file.
    pub program: String,
    /// The file that was asked to be run: the program's, or a script's.
    pub asked: String,
    /// Its words, the first of which is its name.
    pub words: Vec<String>,
    /// The folder that it began in.
    pub folder: String,
    /// Its exit code, `None` when it became another program.
    pub exit: Option<i32>,
    /// Variables that compilers look at and that the build set itself.
    pub variables: BTreeMap<String, String>,
    /// Texts of files that its words name as `@FILE`.
    pub responses: BTreeMap<String, String>,
    /// What its standard input and output were: a file, or the name of a pipe.
    pub streams: Vec<String>,
    /// What it did with files, in order.
    pub deeds: Vec<Did>,
}

/// One thing that a process did with a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Did {
    /// What.
    pub what: What,
    /// With which.
    pub path: PathId,
    /// When: a number that grows over all processes.
    pub at: u32,
}

/// What a process can do with a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum What {
    /// It read it.
    Read,
    /// It read the names in this folder.
    Listed,
    /// It wrote it.
    Wrote,
    /// It took it away.
    Removed,
    /// It gave it this name; the file before it in the list is the one that had another.
    Named,
    /// It took a name from it; the next in the list is the new one.
    Unnamed,
}

/// What is known of a build beside what its processes did.
pub struct Around<'a> {
    /// What it is called.
    pub name: &'a str,
    /// The command.
    pub command: &'a [String],
    /// The tree.
    pub tree: &'a Path,
    /// Files that were there before, below the tree.
    pub before: &'a [PathBuf],
    /// How it ended.
    pub exit: i32,
}

impl Watched {
    /// How the build's own process ended, as a part of a sentence.
    pub fn how_it_ended(&self) -> String {
        if self.exit < 0 { signal_words(-self.exit) } else { format!("ended with exit code {}", self.exit) }
    }

    /// Puts together what is to be kept. The files that the build left are read for their contents.
    pub fn of(sight: Sight, around: &Around<'_>) -> Watched {
        let mut numbers = Numbers::default();
        let processes: Vec<Seen> = sight.processes.into_iter().map(|process| seen(process, &mut numbers)).collect();
        let before = around.before.iter().map(|path| numbers.of(path)).collect();
        let mut watched = Watched {
            name: around.name.to_string(),
            command: around.command.iter().map(|word| without_secret(word)).collect(),
            tree: around.tree.to_path_buf(),
            exit: around.exit,
            blind: sight.blind.map(|blind| blind.to_string()),
            processes,
            before,
            paths: numbers.paths,
            ..Watched::default()
        };
        watched.look_at_what_is_left();
        watched
    }

    fn look_at_what_is_left(&mut self) {
        let deeds = self.processes.iter().flat_map(|process| &process.deeds);
        let made: BTreeSet<PathId> =
            deeds.filter(|did| matches!(did.what, What::Wrote | What::Named)).map(|did| did.path).collect();
        for id in made {
            // A queue or a device is nothing that a build leaves.
            let Ok(bytes) = read_regular(Path::new(self.text(id))) else { continue };
            self.left.insert(id, Digest::of(&bytes));
            if let Some(code) = code_of(&bytes) {
                self.code.insert(id, code);
            } else if bytes.len() <= LONGEST_TEXT && !bytes.contains(&0) {
                self.texts.extend(String::from_utf8(bytes).ok().map(|text| (id, text)));
            }
        }
    }

    /// Returns the path of a number.
    pub fn text(&self, id: PathId) -> &str {
        self.paths.get(id.0 as usize).map_or("", String::as_str)
    }

    /// Reads what was kept; `None` where there is nothing, or nothing whole.
    pub fn load(file: &Path) -> Option<Watched> {
        postcard::from_bytes(unsealed(&read_regular(file).ok()?, MARK)?).ok()
    }

    /// Keeps it.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn save(&self, file: &Path) -> Result<(), FileError> {
        write_sealed(file, MARK, &packed(self, file)?)
    }
}

/// Returns the files of a tree before its build; hidden ones and work folders are left out.
pub(super) fn files_before(tree: &Path) -> Vec<PathBuf> {
    Listing::of(tree).files().iter().map(|file| file.below(tree)).collect()
}

/// Gives paths numbers.
#[derive(Default)]
struct Numbers {
    known: HashMap<String, PathId>,
    paths: Vec<String>,
}

impl Numbers {
    fn of(&mut self, path: &Path) -> PathId {
        let text = path.to_string_lossy();
        if let Some(known) = self.known.get(&*text) {
            return *known;
        }
        let id = PathId(u32::try_from(self.paths.len()).unwrap_or(u32::MAX));
        self.paths.push(text.to_string());
        self.known.insert(text.into_owned(), id);
        id
    }
}

/// Whether a path belongs to the kernel, and says nothing of a build.
fn is_of_kernel(path: &Path) -> bool {
    ["/proc", "/sys", "/dev"].iter().any(|root| path.starts_with(root) && !path.starts_with("/dev/shm"))
}

fn seen(process: Process, numbers: &mut Numbers) -> Seen {
    let mut deeds = Vec::with_capacity(process.deeds.len());
    for (deed, at) in process.deeds.iter().zip(&process.moments).filter(|(deed, _)| !is_of_kernel(&deed.path)) {
        let mut did = |what, path: &Path| deeds.push(Did { what, path: numbers.of(path), at: *at });
        match &deed.sort {
            DeedSort::Opened => did(What::Read, &deed.path),
            DeedSort::Listed => did(What::Listed, &deed.path),
            DeedSort::Wrote => did(What::Wrote, &deed.path),
            DeedSort::Removed => did(What::Removed, &deed.path),
            DeedSort::Renamed { from } => {
                did(What::Unnamed, from);
                did(What::Named, &deed.path);
            }
            DeedSort::Ran | DeedSort::Missed | DeedSort::Asked | DeedSort::AskedLink => {}
        }
    }
    let ran = process.deeds.iter().find(|deed| deed.sort == DeedSort::Ran);
    let asked = ran.map_or(String::new(), |deed| deed.path.to_string_lossy().into_owned());
    let kept = |(name, value): (String, Option<String>)| {
        KEPT_VARIABLES.contains(&name.as_str()).then_some(value).flatten().map(|value| (name, value))
    };
    let text = |path: &PathBuf| path.to_string_lossy().into_owned();
    // A copy says again what the one before it said.
    let words = if process.forked { vec![] } else { process.arguments.iter().map(|w| without_secret(w)).collect() };
    Seen {
        parent: process.parent,
        forked: process.forked,
        program: text(&process.program),
        asked,
        words,
        folder: text(&process.folder),
        exit: process.exit,
        variables: process.environment.into_iter().filter_map(kept).collect(),
        responses: process.responses,
        streams: process.streams.iter().map(text).collect(),
        deeds,
    }
}

/// A word as it may be kept: the value of what is called like a secret is left out.
fn without_secret(word: &str) -> String {
    let Some((name, _)) = word.split_once('=') else { return word.to_string() };
    let upper = name.to_uppercase();
    // A macro of the sources is no secret: they can be read.
    let secret = !name.starts_with("-D") && SECRET.iter().any(|part| upper.contains(part));
    if secret { format!("{name}=…") } else { word.to_string() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_secret_is_kept() {
        for (word, kept) in [
            ("API_TOKEN=abc", "API_TOKEN=…"),
            ("--password=abc", "--password=…"),
            ("-DKEY_BITS=8", "-DKEY_BITS=8"),
            ("CFLAGS=-O2", "CFLAGS=-O2"),
            ("main.c", "main.c"),
        ] {
            assert_eq!(without_secret(word), kept);
        }
    }
}
