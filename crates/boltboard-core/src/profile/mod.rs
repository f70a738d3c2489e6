//! Profiles: named, saved sets of choices, in layers. Reading, checking against a board, and writing that keeps
//! comments and order.

mod fault;
mod file;
mod layers;
mod shelf;

pub use fault::{ProfileFault, ProfileProblem};
pub use file::{ProfileFile, ProfileName};
pub use layers::{
    CHANGE_PREFIX, ChangeSort, Choice, Choices, Layer, LayerId, ProfileSource, ProviderChoice, SourceChange,
    changes_folder,
};
pub use shelf::Shelf;

#[cfg(test)]
mod tests;
