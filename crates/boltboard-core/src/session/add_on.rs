//! Folders outside of the tree that come to its board, and go again.

use std::path::{Path, PathBuf};

use super::open::Session;
use super::place::Whereabouts;
use crate::base::files::{make_folder, remove_folder};
use crate::base::{FileError, RelPath};
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
        let folder = if from.is_dir() {
            from.canonicalize().map_err(FileError::on("read", from))?
        } else {
            let own = self.work.own_add_ons();
            make_folder(&own)?;
            let aside = tempfile::Builder::new().prefix(".new-").tempdir_in(&own).map_err(FileError::on("write", &own))?;
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
        if let Some(known) = self.work.add_ons()?.into_iter().find(|known| known.name == name) {
            return Err(AddOnFault::Known { name, folder: known.folder });
        }
        Ok(Incoming { place: AddOnPlace { name, folder }, unpacked })
    }

    /// Keeps an add-on.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn keep_add_on(&self, incoming: Incoming) -> Result<AddOnPlace, AddOnFault> {
        let Incoming { mut place, unpacked } = incoming;
        if let Some(aside) = unpacked {
            let own = self.work.own_add_ons().join(&place.name);
            remove_folder(&own)?;
            std::fs::rename(&place.folder, &own).map_err(FileError::on("make", &own))?;
            drop(aside);
            place.folder = own;
        }
        let mut all = self.work.add_ons()?;
        all.push(place.clone());
        self.work.set_add_ons(&all)?;
        Ok(place)
    }

    /// Takes an add-on out; of one that came as an archive nothing stays. Returns where it lay, or `None` where there is no such one.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn drop_add_on(&self, name: &str) -> Result<Option<PathBuf>, AddOnFault> {
        let mut all = self.work.add_ons()?;
        let Some(at) = all.iter().position(|one| one.name == name) else { return Ok(None) };
        let dropped = all.remove(at);
        self.work.set_add_ons(&all)?;
        let own = self.work.own_add_ons();
        if dropped.folder.starts_with(&own) {
            remove_folder(&own.join(name))?;
        }
        // Where no other one is in it, its folder goes as well.
        let _ = std::fs::remove_dir(&own);
        Ok(Some(dropped.folder))
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

impl Session {
    /// Returns the names of the options that an add-on brings, its switch among them.
    pub fn options_of_add_on(&self, name: &str) -> Vec<String> {
        let Some(add_on) = self.board.add_ons.iter().find(|add_on| add_on.name == name) else { return Vec::new() };
        let is_of = |file: &str| RelPath::of_file(file).is_ok_and(|path| path.beneath(&add_on.folder).is_some());
        let options = self.board.options.iter().filter(|(_, option)| is_of(self.board.files.name(option.place.file)));
        options.map(|(_, option)| option.name.clone()).collect()
    }

    /// Takes choices about these options out of all own profiles. Returns what was taken out of which.
    ///
    /// # Errors
    /// A profile cannot be read or written.
    pub fn forget_choices(&self, options: &[String]) -> Result<Vec<(ProfileName, Vec<String>)>, FileError> {
        let mut taken = Vec::new();
        for name in self.shelf.list()?.into_keys() {
            let path = self.shelf.own_path(&name);
            let Some(mut profile) = ProfileFile::open(&path)? else { continue };
            let entries = profile.entries();
            let gone: Vec<&(String, String)> = entries.iter().filter(|(option, _)| options.contains(option)).collect();
            if gone.is_empty() {
                continue;
            }
            gone.iter().for_each(|(option, _)| {
                profile.unset(option);
            });
            profile.save()?;
            taken.push((name, gone.iter().map(|(option, value)| format!("{option}={value}")).collect()));
        }
        Ok(taken)
    }
}
