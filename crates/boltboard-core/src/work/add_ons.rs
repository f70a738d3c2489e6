//! Which folders outside of a tree bring more to its board, as a file of the work folder.

use std::collections::BTreeMap;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::WorkFolder;
use crate::base::FileError;
use crate::base::files::{read_text, remove_file, write_whole};
use crate::definitions::AddOnPlace;

/// What cannot be done with a file that should list the add-ons and does not, as errors say it.
pub const ADD_ONS_KEPT: &str = "read which add-ons there are from";
/// The format that is written.
const FORMAT: u32 = 1;

#[derive(Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Kept {
    format: u32,
    add_on: BTreeMap<String, KeptAddOn>,
}

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct KeptAddOn {
    folder: PathBuf,
    /// The options that it brought when it was added, for the day on which it cannot be read.
    options: Vec<String>,
}

impl WorkFolder {
    fn add_ons_file(&self) -> PathBuf {
        self.root().join("add-ons.toml")
    }

    /// Returns the folder of add-ons that came as archives.
    pub fn own_add_ons(&self) -> PathBuf {
        self.root().join("add-ons")
    }

    fn kept_add_ons(&self) -> Result<Kept, FileError> {
        let file = self.add_ons_file();
        let Some(text) = read_text(&file)? else { return Ok(Kept { format: FORMAT, ..Kept::default() }) };
        let wrong = |text: String| {
            FileError::on(ADD_ONS_KEPT, &file)(std::io::Error::new(std::io::ErrorKind::InvalidData, text))
        };
        let kept: Kept = toml_edit::de::from_str(&text).map_err(|e| wrong(e.message().to_string()))?;
        if kept.format != FORMAT {
            return Err(wrong("it was made by a later version of this program".into()));
        }
        Ok(kept)
    }

    fn keep_add_ons(&self, kept: &Kept) -> Result<(), FileError> {
        let file = self.add_ons_file();
        if kept.add_on.is_empty() {
            return remove_file(&file);
        }
        // Names and paths: they can be written.
        let Ok(text) = toml_edit::ser::to_string_pretty(kept) else { return Ok(()) };
        write_whole(&file, text.as_bytes())
    }

    /// Returns the add-ons, by name.
    ///
    /// # Errors
    /// The file that says so cannot be read, or is none.
    pub fn add_ons(&self) -> Result<Vec<AddOnPlace>, FileError> {
        // What came as an archive moves with the work folder.
        let place = |(name, kept): (String, KeptAddOn)| AddOnPlace { name, folder: self.root().join(kept.folder) };
        Ok(self.kept_add_ons()?.add_on.into_iter().map(place).collect())
    }

    /// Keeps an add-on, with the options that it brings.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn keep_add_on(&self, place: &AddOnPlace, options: Vec<String>) -> Result<(), FileError> {
        let mut kept = self.kept_add_ons()?;
        let folder = place.folder.strip_prefix(self.root()).unwrap_or(&place.folder).to_path_buf();
        kept.add_on.insert(place.name.clone(), KeptAddOn { folder, options });
        self.keep_add_ons(&kept)
    }

    /// Returns the options that an add-on brought when it was added.
    ///
    /// # Errors
    /// The file that says so cannot be read, or is none.
    pub fn options_of_add_on(&self, name: &str) -> Result<Vec<String>, FileError> {
        Ok(self.kept_add_ons()?.add_on.remove(name).map_or_else(Vec::new, |kept| kept.options))
    }

    /// Keeps an add-on no more. Returns where it lay, or `None` where there is no such one.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn drop_add_on(&self, name: &str) -> Result<Option<PathBuf>, FileError> {
        let mut kept = self.kept_add_ons()?;
        let Some(dropped) = kept.add_on.remove(name) else { return Ok(None) };
        self.keep_add_ons(&kept)?;
        Ok(Some(self.root().join(dropped.folder)))
    }
}
