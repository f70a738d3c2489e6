//! Results that others made and that lie elsewhere: what a store asks for when it has nothing itself.

use std::fmt;

use super::{Footing, Note};
use crate::base::Digest;

/// Where results of others lie. Nothing that it gives is believed beyond what its digest tells; whoever judges holds each note against what
/// stands here.
pub trait Elsewhere: fmt::Debug + Send + Sync {
    /// The notes for a command.
    fn notes(&self, key: &Digest) -> Vec<Note>;

    /// What others know of a class.
    fn footings(&self, class: &Digest) -> Vec<Footing>;

    /// Tells whether a content is there, as far as that is known.
    fn has(&self, digest: &Digest) -> bool;

    /// A content, which has this digest.
    fn content(&self, digest: &Digest) -> Option<Vec<u8>>;

    /// Takes in that a content was put in place here.
    fn took(&self, digest: &Digest);

    /// Has a note kept here from now on, with what it stands on, because it was gone by.
    fn keep(&self, key: &Digest, note: &Note);

    /// Takes in that a step was made here; its results are in the store.
    fn made(&self, key: &Digest, note: &Note);
}
