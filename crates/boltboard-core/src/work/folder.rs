//! The work folder: everything that is written for a tree.

use std::path::{Path, PathBuf};

use crate::base::files::{make_folder, make_room, read_text, write_whole};
use crate::base::{Digest, FileError};
use crate::definitions::WORK_MARK;
use crate::profile::{ProfileName, Shelf};

/// The folder of a build in which the tree of links lies that it stands on where something in the sources is another.
pub const MIRROR: &str = "tree";

/// The folder for what lay where a file of ours is to be, and is no file.
pub(super) const SET_ASIDE: &str = "set-aside";

/// What cannot be done with a file that should name the profile in use and does not, as errors say it.
pub const PROFILE_IN_USE: &str = "read the profile in use from";

/// The file by which version controls are told to leave a folder out.
const IGNORED_BY: &str = ".gitignore";

/// How many records of installations are known again.
const RECORDS_KNOWN: usize = 100;

/// The folder that holds everything written for a tree. It can be thrown away.
#[derive(Debug, Clone)]
pub struct WorkFolder {
    root: PathBuf,
}

/// Why a folder cannot be the work folder.
#[derive(Debug, thiserror::Error)]
pub enum WorkFault {
    /// A file operation failed.
    #[error(transparent)]
    File(#[from] FileError),
    /// It belongs to another tree.
    #[error("{folder} is the work folder of the tree `{owner}`")]
    OtherTree {
        /// The folder.
        folder: PathBuf,
        /// The tree that it belongs to.
        owner: String,
    },
    /// It holds files of someone else.
    #[error("{0} holds other files and is not a work folder")]
    NotOurs(PathBuf),
    /// It was made by a later version of this program.
    #[error("{0} was made by a later version of this program")]
    Later(PathBuf),
}

/// The folders that steps read and write.
#[derive(Debug, Clone)]
pub struct Folders {
    /// The sources.
    pub tree: PathBuf,
    /// Where a profile's build lies.
    pub build: PathBuf,
}

impl Folders {
    /// The folder of generated files.
    pub fn made(&self) -> PathBuf {
        self.build.join("made")
    }

    /// The folder of objects.
    pub fn objects(&self) -> PathBuf {
        self.build.join("objects")
    }

    /// The folder of finished parts, as steps leave them.
    pub fn parts(&self) -> PathBuf {
        self.build.join("parts")
    }

    /// The folder of finished parts, as people get them: each says how it was made.
    pub fn outputs(&self) -> PathBuf {
        self.build.join("out")
    }

    /// What is known of all that was handed over to people.
    pub fn handed(&self) -> PathBuf {
        self.build.join("handed")
    }

    /// The same while a build goes on, or when it was cut off.
    pub fn handed_before(&self) -> PathBuf {
        self.build.join("handed-before")
    }

    /// Moves aside what lies where files about this build are kept, and is no file. Returns where to.
    ///
    /// # Errors
    /// It cannot be moved.
    pub fn make_room(&self) -> Result<Vec<PathBuf>, FileError> {
        let kept = ["journal", "records", "seal", "course.json", "tests-passed", "handed", "handed-before"];
        let moved = kept.map(|name| make_room(&self.build.join(name), &self.build, &self.set_aside()));
        moved.into_iter().filter_map(Result::transpose).collect()
    }

    /// The seal of a build that is current.
    pub fn seal(&self) -> PathBuf {
        self.build.join("seal")
    }

    /// Where things are kept that lay where results are to be.
    pub fn set_aside(&self) -> PathBuf {
        self.build.join(SET_ASIDE)
    }

    /// Where each test of the tree has a folder of its own.
    pub fn tests(&self) -> PathBuf {
        self.build.join("tests")
    }

    /// The folder of results that are not in place yet.
    pub fn aside(&self) -> PathBuf {
        self.build.join("aside")
    }

    /// Returns the folder for what a person makes by repeating a command of the build.
    pub fn again(&self) -> PathBuf {
        self.build.join("again")
    }
}

/// The places that a work folder outside of its tree belongs to.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Places {
    /// The root of the definitions.
    pub board: PathBuf,
    /// The root of the sources.
    pub sources: PathBuf,
    /// The work folder, where this one only leads there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub work: Option<PathBuf>,
}

impl WorkFolder {
    /// Names a work folder, whether or not it is there.
    pub fn at(root: &Path) -> WorkFolder {
        WorkFolder { root: root.to_path_buf() }
    }

    /// Returns where it lies.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Tells whether it was made already.
    pub fn exists(&self) -> bool {
        self.root.join(WORK_MARK).is_file()
    }

    /// Makes the folder, or checks that it belongs to this tree.
    ///
    /// # Errors
    /// See [`WorkFault`].
    pub fn prepare(&self, tree: &str) -> Result<(), WorkFault> {
        self.check(tree)?;
        if !self.exists() {
            let foreign = std::fs::read_dir(&self.root).is_ok_and(|mut entries| entries.next().is_some());
            if foreign {
                return Err(WorkFault::NotOurs(self.root.clone()));
            }
            self.mark(tree)?;
        }
        for file in [self.status(), self.board(), self.probes(), self.known_options(), self.store_limits()] {
            make_room(&file, &self.root, &self.root.join(SET_ASIDE))?;
        }
        Ok(())
    }

    /// Remembers which places it belongs to, so that it is found from within the sources too.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn remember(&self, places: &Places) -> Result<(), FileError> {
        let Ok(text) = toml_edit::ser::to_string(places) else { return Ok(()) };
        let file = self.places_file();
        if read_text(&file).is_ok_and(|known| known.as_deref() == Some(&text)) {
            return Ok(());
        }
        write_whole(&file, text.as_bytes())
    }

    /// Returns the places that it belongs to, where it was made outside of its tree.
    pub fn places(&self) -> Option<Places> {
        toml_edit::de::from_str(&read_text(&self.places_file()).ok()??).ok()
    }

    /// Returns the folder that this one leads to, else itself.
    pub fn behind(self) -> WorkFolder {
        match self.places().and_then(|places| places.work) {
            Some(work) => WorkFolder::at(&work),
            None => self,
        }
    }

    /// Makes a small folder that only leads to this one, so that it is found from there as well. What lies there and is none stays.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn sign_at(&self, folder: &Path, tree: &str, places: &Places) -> Result<(), WorkFault> {
        let sign = WorkFolder::at(folder);
        if sign.root.symlink_metadata().is_ok() && sign.places().is_none_or(|known| known.work.is_none()) {
            return Ok(());
        }
        if !sign.exists() {
            sign.mark(tree)?;
        }
        Ok(sign.remember(&Places { work: Some(self.root.clone()), ..places.clone() })?)
    }

    fn mark(&self, tree: &str) -> Result<(), FileError> {
        write_whole(&self.root.join(WORK_MARK), format!("format 1\ntree {tree}\n").as_bytes())?;
        // Nothing of it belongs into a version control.
        write_whole(&self.root.join(IGNORED_BY), b"*\n")
    }

    fn places_file(&self) -> PathBuf {
        self.root.join("places.toml")
    }

    /// Checks that the folder, when it is there, belongs to this tree and is in a format that we know.
    ///
    /// # Errors
    /// See [`WorkFault`].
    pub fn check(&self, tree: &str) -> Result<(), WorkFault> {
        let Some(mark) = read_text(&self.root.join(WORK_MARK))? else { return Ok(()) };
        let line = |key: &str| mark.lines().find_map(|l| l.strip_prefix(key)).map(str::trim);
        if line("format ") != Some("1") {
            return Err(WorkFault::Later(self.root.clone()));
        }
        match line("tree ") {
            Some(owner) if owner != tree => {
                Err(WorkFault::OtherTree { folder: self.root.clone(), owner: owner.to_string() })
            }
            _ => Ok(()),
        }
    }

    /// Where profiles are kept; `shipped` is the tree's folder of them.
    pub fn shelf(&self, shipped: PathBuf) -> Shelf {
        Shelf { own: self.root.join("profiles"), shipped, aside: None }
    }

    /// The file that says which profile is in use.
    fn active_file(&self) -> PathBuf {
        self.root.join("active")
    }

    /// Returns the profile in use, if one was chosen.
    ///
    /// # Errors
    /// The file that says so cannot be read.
    pub fn active(&self) -> Result<Option<ProfileName>, FileError> {
        let file = self.active_file();
        let Some(text) = read_text(&file)? else { return Ok(None) };
        let wrong = || std::io::Error::new(std::io::ErrorKind::InvalidData, "it names no profile");
        // To go on with another profile than the one that was in use would be to guess.
        ProfileName::parse(text.trim()).map(Some).ok_or_else(|| FileError::on(PROFILE_IN_USE, &file)(wrong()))
    }

    /// Returns the names of the profiles that were built here, so that one of them was in use.
    pub fn built(&self) -> Vec<String> {
        let entries = std::fs::read_dir(self.root.join("builds")).into_iter().flatten();
        // A preview leaves a mirror of the sources at most.
        let is_built = |entry: &std::fs::DirEntry| {
            let inside = std::fs::read_dir(entry.path()).into_iter().flatten().filter_map(Result::ok);
            inside.map(|entry| entry.file_name()).any(|name| name != MIRROR)
        };
        let built = entries.filter_map(Result::ok).filter(is_built);
        let mut names: Vec<String> = built.filter_map(|entry| entry.file_name().into_string().ok()).collect();
        names.sort();
        names
    }

    /// Tells whether the record of an installation with this seal was written from here.
    pub fn wrote_record(&self, seal: &Digest) -> bool {
        let seal = seal.to_string();
        read_text(&self.installed()).ok().flatten().is_some_and(|text| text.lines().any(|line| line == seal))
    }

    /// Remembers that the record of an installation with this seal is written from here.
    ///
    /// # Errors
    /// It cannot be kept.
    pub fn note_record(&self, seal: &Digest) -> Result<(), FileError> {
        let before = read_text(&self.installed()).ok().flatten().unwrap_or_default();
        let seal = seal.to_string();
        let mut seals: Vec<&str> = before.lines().filter(|line| *line != seal).collect();
        seals.push(&seal);
        let kept = &seals[seals.len().saturating_sub(RECORDS_KNOWN)..];
        write_whole(&self.installed(), format!("{}\n", kept.join("\n")).as_bytes())
    }

    fn installed(&self) -> PathBuf {
        self.root.join("installed")
    }

    /// Puts a profile in use.
    ///
    /// # Errors
    /// The file that says so cannot be written.
    pub fn set_active(&self, profile: &ProfileName) -> Result<(), FileError> {
        write_whole(&self.active_file(), format!("{profile}\n").as_bytes())
    }

    /// Returns the folders of a profile's build.
    pub fn folders(&self, tree: &Path, profile: &ProfileName) -> Folders {
        Folders { tree: tree.to_path_buf(), build: self.root.join("builds").join(profile.as_str()) }
    }

    /// Returns the folders of a build that only tries other choices on a profile.
    pub fn tried_folders(&self, tree: &Path, profile: &ProfileName) -> Folders {
        Folders { tree: tree.to_path_buf(), build: self.tried().join(profile.as_str()) }
    }

    /// Where builds lie that only try other choices.
    pub fn tried(&self) -> PathBuf {
        self.root.join("tried")
    }

    /// Returns the folder of watched builds.
    pub fn watched(&self) -> PathBuf {
        self.root.join("adopt")
    }

    /// Where what was fetched is kept by its digest.
    pub fn fetched(&self) -> PathBuf {
        self.root.join("fetched")
    }

    /// Where results are kept by content.
    pub fn store(&self) -> PathBuf {
        self.root.join("store")
    }

    /// The limits of the store that a person set.
    pub fn store_limits(&self) -> PathBuf {
        self.root.join("store-limits")
    }

    /// Where logs of builds lie.
    pub fn logs(&self) -> PathBuf {
        self.root.join("logs")
    }

    /// The tree's board in the form in which it is kept.
    pub fn board(&self) -> PathBuf {
        self.root.join("board")
    }

    /// The options that there were at the last build.
    pub fn known_options(&self) -> PathBuf {
        self.root.join("known-options")
    }

    /// Marks when the store was last looked through for what it need not keep.
    pub fn store_trimmed(&self) -> PathBuf {
        self.root.join("store-trimmed")
    }

    /// The record of builds.
    pub fn ledger(&self) -> PathBuf {
        self.root.join("ledger.jsonl")
    }

    /// What was last seen of files.
    pub fn status(&self) -> PathBuf {
        self.root.join("status")
    }

    /// What Fortran sources say of modules.
    pub fn units(&self) -> PathBuf {
        self.root.join("units")
    }

    /// What compilers have answered.
    pub fn probes(&self) -> PathBuf {
        self.root.join("probes")
    }

    /// Makes a folder for passing files that is gone when dropped: in here if that can be, else where the system keeps such.
    /// Looking at a tree must not fail because its work folder is read-only.
    ///
    /// # Errors
    /// It cannot be made at either place.
    pub fn scratch(&self) -> Result<tempfile::TempDir, FileError> {
        let inside = self.root.join("scratch");
        if self.exists()
            && make_folder(&inside).is_ok()
            && let Ok(folder) = tempfile::tempdir_in(&inside)
        {
            return Ok(folder);
        }
        tempfile::tempdir().map_err(FileError::on("make a folder in", &std::env::temp_dir()))
    }
}
