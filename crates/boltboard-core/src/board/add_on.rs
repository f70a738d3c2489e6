//! Folders outside of the tree that bring more to its board.

use serde::{Deserialize, Serialize};

use super::OptionId;
use crate::base::{Place, RelPath};

/// Below which folder of the tree add-ons count as lying.
pub const ADD_ONS: &str = "add-ons";

/// An add-on of the board.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct AddOn {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// One line about it.
    pub summary: String,
    /// The versions of the tree that it fits, where it says so.
    pub fits: Option<String>,
    /// More about it, for packages.
    pub about: String,
    /// Who answers for its packages, as in `Name <address>`.
    pub maintainer: Option<String>,
    /// Its licence, as SPDX writes it.
    pub license: Option<String>,
    /// Where it is at home.
    pub homepage: Option<String>,
    /// Where it counts as lying, as a path of the tree.
    pub folder: RelPath,
    /// The switch that all that it brings depends on.
    pub switch: OptionId,
    /// Where it is written.
    pub place: Place,
}
