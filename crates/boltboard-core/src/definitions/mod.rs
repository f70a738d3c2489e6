//! Finds the definition files of a tree, reads them within limits, checks and links them into one [`Board`].
//!
//! Reading never stops at the first mistake: a [`Reading`] holds every problem found. Nothing of the tree is run.

mod accept;
mod action;
mod add_on;
mod delivery;
mod delivery_keys;
mod each;
mod entries;
mod entry;
mod fetch;
mod fields;
mod find;
mod generators;
mod history;
mod keys;
mod kit;
mod kit_file;
mod link;
mod list_line;
mod lists;
mod lookup;
mod metadata;
mod needs;
mod options;
mod order;
mod outputs;
mod outside;
mod parts;
mod problem;
mod read;
mod schema;
mod service;
mod smoke;
mod sets;
mod sources;
mod test;

pub use find::{TreeFault, WORK_MARK, add_on_in, boards_named, find_root, tree_of_add_on};
pub use keys::{Key, Shape, TABLES, TableKeys};
pub(crate) use kit_file::{KitLanguage, KitPart, KitText, built_at, kit_values, made_at};
pub use needs::DISTRIBUTIONS;
pub(crate) use needs::version_regex;
pub use outside::{AddOnPlace, FetchPlace, Outside};
pub use problem::{Fault, Problem};
pub use read::read_tree;
pub use schema::{definitions_schema, profile_schema, reference_text};
pub use sources::{Listing, check_sources};

use crate::base::SourceFiles;
use crate::board::Board;

#[cfg(test)]
mod tests;

/// What came of reading a tree's definitions.
#[derive(Debug)]
pub struct Reading {
    /// The board, when there was no problem.
    pub board: Option<Board>,
    /// Everything that is wrong, in the order of the files.
    pub problems: Vec<Problem>,
    /// The files, for showing the problems' places.
    pub files: SourceFiles,
    /// The files of the tree, where definition files are named by pattern.
    pub listing: Option<Listing>,
}
