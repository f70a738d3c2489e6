//! Folders outside of the tree that come to its board, and go again.

use std::path::{Path, PathBuf};

use super::open::Session;
use super::place::Whereabouts;
use crate::base::files::{make_folder, remove_folder};
use crate::base::{FileError, Place};
use crate::board::{Condition, options_of};
use crate::definitions::{AddOnPlace, add_on_in};
use crate::expr::is_name;
use crate::fetch::{UnpackFault, unpack_named};
use crate::profile::{ProfileFile, ProfileName};

/// Why an add-on is not taken in.
#[derive(Debug, thiserror::Error)]
pub enum AddOnFault {
    /// A file cannot be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// An archive cannot be unpacked.
    #[error("{file} is not unpacked: {fault}")]
    Unpack {
        /// The archive.
        file: PathBuf,
        /// What is wrong with it.
        fault: UnpackFault,
    },
    /// There is nothing of that name.
    #[error("{0} is not there")]
    Absent(PathBuf),
    /// It is no add-on.
    #[error("{0} is no add-on: it has no boltboard.toml with a name in its table [add-on]")]
    None(PathBuf),
    /// There is one of that name.
    #[error("there is an add-on `{name}` already, in {folder}")]
    Known {
        /// The name.
        name: String,
        /// Where that one lies.
        folder: PathBuf,
    },
}

/// An add-on that is looked at before it is kept.
#[derive(Debug)]
pub struct Incoming {
    /// Its name and where it lies now.
    pub place: AddOnPlace,
    /// Where it was unpacked, if it came as an archive; it goes again unless it is kept.
    unpacked: Option<tempfile::TempDir>,
}

impl Whereabouts {
    /// Looks at a folder or an archive. Nothing is kept yet.
    ///
    /// # Errors
    /// It is no add-on, or there is one of its name.
    pub fn incoming(&self, from: &Path) -> Result<Incoming, AddOnFault> {
        let mut unpacked = None;
        if !from.exists() {
            return Err(AddOnFault::Absent(from.to_path_buf()));
        }
        let folder = if from.is_dir() {
            from.canonicalize().map_err(FileError::on("read", from))?
        } else {
            let own = self.work.own_add_ons();
            make_folder(&own)?;
            let aside =
                tempfile::Builder::new().prefix(".new-").tempdir_in(&own).map_err(FileError::on("write", &own))?;
            let is_archive = unpack_named(from, aside.path());
            match is_archive.map_err(|fault| AddOnFault::Unpack { file: from.to_path_buf(), fault })? {
                false => return Err(AddOnFault::None(from.to_path_buf())),
                true => {
                    let root = only_folder(aside.path());
                    unpacked = Some(aside);
                    root
                }
            }
        };
        let name = add_on_in(&folder).filter(|name| is_name(name));
        let name = name.ok_or_else(|| AddOnFault::None(from.to_path_buf()))?;
        if let Some(known) = self.add_ons.iter().find(|known| known.name == name) {
            return Err(AddOnFault::Known { name, folder: known.folder.clone() });
        }
        Ok(Incoming { place: AddOnPlace { name, folder }, unpacked })
    }

    /// Keeps an add-on, with the options that it brings.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn keep_add_on(&self, incoming: Incoming, options: Vec<String>) -> Result<AddOnPlace, AddOnFault> {
        let Incoming { mut place, unpacked } = incoming;
        if let Some(aside) = unpacked {
            let own = self.work.own_add_ons().join(&place.name);
            remove_folder(&own)?;
            std::fs::rename(&place.folder, &own).map_err(FileError::on("make", &own))?;
            drop(aside);
            place.folder = own;
        }
        self.work.keep_add_on(&place, options)?;
        Ok(place)
    }

    /// Takes an add-on out; of one that came as an archive nothing stays. Returns where it lay, or `None` where there is no such one.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn drop_add_on(&self, name: &str) -> Result<Option<PathBuf>, AddOnFault> {
        let Some(folder) = self.work.drop_add_on(name)? else { return Ok(None) };
        let own = self.work.own_add_ons();
        if folder.starts_with(&own) {
            remove_folder(&own.join(name))?;
        }
        // Where no other one is in it, its folder goes as well.
        let _ = std::fs::remove_dir(&own);
        Ok(Some(folder))
    }
}

/// The folder that is all that lies in another one, which archives often have.
fn only_folder(folder: &Path) -> PathBuf {
    let mut entries = std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok);
    match (entries.next(), entries.next()) {
        (Some(one), None) if one.path().is_dir() => one.path(),
        _ => folder.to_path_buf(),
    }
}

impl Whereabouts {
    /// Takes choices about these options out of all own profiles. Returns what was taken out of which.
    ///
    /// # Errors
    /// A profile cannot be read or written.
    pub fn forget_choices(&self, options: &[String]) -> Result<Vec<(ProfileName, Vec<String>)>, FileError> {
        let shelf = self.work.shelf(self.root.join("profiles"));
        let mut taken = Vec::new();
        for name in shelf.list()?.into_keys() {
            let Some(mut profile) = ProfileFile::open(&shelf.own_path(&name))? else { continue };
            let mut entries = profile.entries();
            entries.retain(|(option, _)| options.contains(option));
            if entries.is_empty() {
                continue;
            }
            for (option, _) in &entries {
                profile.unset(option);
            }
            profile.save()?;
            taken.push((name, entries.iter().map(|(option, value)| format!("{option}={value}")).collect()));
        }
        Ok(taken)
    }
}

/// What an add-on brings to the board.
#[derive(Debug, Clone, Default)]
pub struct Brought {
    /// The names of its options, its switch among them.
    pub options: Vec<String>,
    /// How many parts.
    pub parts: usize,
    /// How many tests.
    pub tests: usize,
}

impl Session {
    /// Tells what an add-on brings; nothing where there is no such one.
    pub fn brought_by(&self, name: &str) -> Brought {
        let board = &self.board;
        let Some(add_on) = board.add_ons.iter().find(|add_on| add_on.name == name) else { return Brought::default() };
        let is_of = |place: Place| board.is_written_in(place, &add_on.folder);
        // Only what it brings depends on its switch.
        let is_gated = |when: &Condition| options_of(&when.expr).contains(&add_on.switch);
        let options = board.options.iter().filter(|(_, option)| is_of(option.place));
        Brought {
            options: options.map(|(_, option)| option.name.clone()).collect(),
            parts: board.parts.iter().filter(|(_, part)| is_of(part.place)).count(),
            tests: board.tests.iter().filter(|(_, test)| test.when.as_ref().is_some_and(is_gated)).count(),
        }
    }
}
