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
    /// Where it counts as lying, as a path of the tree.
    pub folder: RelPath,
    /// The switch that all that it brings depends on.
    pub switch: OptionId,
    /// Where it is written.
    pub place: Place,
}
