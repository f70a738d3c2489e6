//! Profiles: named, saved sets of choices, in layers. Reading, checking against a board, and writing that keeps
//! comments and order.

mod choices;
pub(crate) mod document;
mod draft;
mod fault;
mod file;
mod layers;
mod merge;
mod only_with;
mod reshape;
mod shelf;

pub use choices::{
    CHANGE_PREFIX, ChangeSort, Choice, Choices, Layer, LayerId, ProfileSource, ProviderChoice, SourceChange,
    changes_folder,
};
pub use draft::Draft;
pub use fault::{ProfileFault, ProfileProblem, WrongProfile};
pub use file::{ProfileFile, ProfileName};
pub use merge::{From3, Join, Joined, MergeAsk, Merged, Said, Subject};
pub use only_with::{CompilerWanted, OnlyWith, Unfit};
pub use reshape::{Factored, Layers, ReshapeFault};
pub use shelf::{Shelf, bases_of};

#[cfg(test)]
mod tests;
