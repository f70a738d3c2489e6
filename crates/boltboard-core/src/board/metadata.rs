//! What a library tells those who build on it: its metadata file.

use super::interp::Interp;
use super::need::NeedId;
use super::part::{PartId, When};
use crate::base::Place;

/// The metadata file (`.pc`) of libraries that are installed.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct MetadataDef {
    /// Its name, by which others ask for it.
    pub name: String,
    /// One line about it.
    pub summary: String,
    /// The libraries; they are installed.
    pub libraries: Vec<PartId>,
    /// Folders that those who use it search for headers.
    pub include: Vec<When<Interp>>,
    /// Further flags of their compiles.
    pub flags: Vec<When<Interp>>,
    /// Needs that its headers have as well.
    pub public_needs: Vec<When<NeedId>>,
    /// Where its name is written.
    pub place: Place,
}

impl MetadataDef {
    /// Returns its lists of texts that conditions can leave out.
    pub fn lists(&self) -> [&[When<Interp>]; 2] {
        [&self.include, &self.flags]
    }
}
