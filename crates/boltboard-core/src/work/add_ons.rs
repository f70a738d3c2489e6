//! Which folders outside of a tree bring more to its board, as a file of the work folder.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::WorkFolder;
use crate::base::FileError;
use crate::base::files::{read_text, remove_file, write_whole};
use crate::definitions::AddOnPlace;

/// The format that is written.
const FORMAT: u32 = 1;

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Kept {
    format: u32,
    /// Their folders, by name.
    add_ons: BTreeMap<String, PathBuf>,
}

impl WorkFolder {
    fn add_ons_file(&self) -> PathBuf {
        self.root().join("add-ons.toml")
    }

    /// Returns the folder of add-ons that came as archives.
    pub fn own_add_ons(&self) -> PathBuf {
        self.root().join("add-ons")
    }

    /// Returns the add-ons, by name.
    ///
    /// # Errors
    /// The file that says so cannot be read, or is none.
    pub fn add_ons(&self) -> Result<Vec<AddOnPlace>, FileError> {
        let file = self.add_ons_file();
        let Some(text) = read_text(&file)? else { return Ok(Vec::new()) };
        let wrong = |text: String| FileError::on("read", &file)(std::io::Error::new(std::io::ErrorKind::InvalidData, text));
        let kept: Kept = toml_edit::de::from_str(&text).map_err(|e| wrong(e.message().to_string()))?;
        if kept.format != FORMAT {
            return Err(wrong("it was made by a later version of this program".into()));
        }
        Ok(kept.add_ons.into_iter().map(|(name, folder)| AddOnPlace { name, folder: self.whole(&folder) }).collect())
    }

    /// What came as an archive moves with the work folder.
    fn whole(&self, folder: &Path) -> PathBuf {
        if folder.is_absolute() { folder.to_path_buf() } else { self.root().join(folder) }
    }

    /// Keeps which add-ons there are.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn set_add_ons(&self, add_ons: &[AddOnPlace]) -> Result<(), FileError> {
        let file = self.add_ons_file();
        if add_ons.is_empty() {
            return remove_file(&file);
        }
        let kept = |one: &AddOnPlace| {
            let folder = one.folder.strip_prefix(self.root()).unwrap_or(&one.folder);
            (one.name.clone(), folder.to_path_buf())
        };
        let kept = Kept { format: FORMAT, add_ons: add_ons.iter().map(kept).collect() };
        // Names and paths: they can be written.
        let Ok(text) = toml_edit::ser::to_string_pretty(&kept) else { return Ok(()) };
        write_whole(&file, text.as_bytes())
    }
}
