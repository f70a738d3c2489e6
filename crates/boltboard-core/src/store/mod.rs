//! Results of any profile and day, by content: files, notes of what each was made from, what the programs of a class stand on. Everything
//! is written aside and moved, so that it is whole after a kill at any instant.

mod content;
mod elsewhere;
mod footing;
mod limits;
mod note;

pub use content::Store;
pub use elsewhere::Elsewhere;
pub use footing::Footing;
pub use limits::{StoreLimits, Trimmed};
pub use note::{Note, Output};

#[cfg(test)]
mod tests;
