//! What each step of a profile last did. Entries are appended one by one, so that what is done is known after a kill at any instant.

mod entries;
mod file;
mod packed;

pub use entries::{Journal, Opening};
pub use packed::{Number, PackedNote, PackedRecord, StepRecord};

#[cfg(test)]
mod tests;
