//! The kit of a tree: all that add-ons are built against where the sources of the tree are not.
//!
//! A kit is a folder that is read as the tree itself: the same definition files, beside a file that says how the tree was built. Its
//! options have the values that they had then, and its parts are files.

use serde::{Deserialize, Serialize};

use super::need::{NeedId, Provider};
use super::option::OptionId;
use super::value::Value;
use crate::base::{Glob, Place, RelPath};

/// The file that makes a folder a kit, beside the root definition file.
pub const KIT_FILE: &str = "boltboard-kit.toml";

/// Below which folder of a kit the parts lie that were built.
pub const BUILT: &str = "built";

/// What a tree puts into its kit.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct KitDef {
    /// Its name.
    pub name: String,
    /// Headers of the sources.
    pub headers: Vec<Glob>,
    /// Files of the sources that parts follow from.
    pub follows: Vec<RelPath>,
    /// Options that whoever builds against it chooses anew.
    pub open: Vec<OptionId>,
    /// Options that what is built against it depends on: with other values it does not fit any more.
    pub interface: Vec<OptionId>,
    /// Where its file comes to lie, below the folder of generated files.
    pub to: RelPath,
    /// Where its name is written.
    pub place: Place,
}

impl KitDef {
    /// Returns the folder below which all of it is put together.
    pub fn folder(&self) -> RelPath {
        self.to.parent()
    }
}

/// Where a part comes from.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum PartOrigin {
    /// It is made here.
    #[default]
    Here,
    /// It was built elsewhere, and a kit has it.
    Kit(Prebuilt),
    /// It was built elsewhere, if at all, and is not here.
    Absent,
}

/// A part that was built elsewhere.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Prebuilt {
    /// Its file, as a path of the kit; what has none of its own is in the files of what uses it.
    pub file: Option<RelPath>,
    /// Whether there is C++ in it.
    pub has_cxx: bool,
    /// Whether there is Fortran in it.
    pub has_fortran: bool,
}

/// That a board is that of a kit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct InKit {
    /// What options had when the tree was built, each with its place.
    pub values: Vec<(OptionId, Value, Place)>,
    /// Who met needs then, where it was the tree's own copy.
    pub providers: Vec<(NeedId, Provider, Place)>,
    /// Options that what is built against it depends on.
    pub interface: Vec<OptionId>,
    /// The file that says so.
    pub place: Place,
}
