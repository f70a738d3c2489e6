//! Profiles: named, saved sets of choices, in layers. Reading, checking against a board, and writing that keeps
//! comments and order.

mod file;
mod layers;

pub use file::{ProfileFile, ProfileName};
pub use layers::{Choice, Choices, Layer, LayerId, ProfileFault, ProfileProblem, ProfileSource, ProviderChoice, Shelf};

#[cfg(test)]
mod tests;
