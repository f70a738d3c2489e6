//! What a run of a step stood on and made: enough to tell whether the same would come out again.

use serde::{Deserialize, Serialize};

use crate::base::Digest;

/// What a step saw and made: enough to tell whether the same would come out again.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Note {
    /// All that was looked at, in kept form, with what stood for it; mostly files that were read, with their content.
    pub inputs: Vec<(String, Digest)>,
    /// Places where something was looked for in vain.
    pub absent: Vec<String>,
    /// The macros that carry options and that the files read name, with what they stood for (`None`: not defined).
    pub macros: Vec<(String, Option<String>)>,
    /// Digest of the names of all such macros there were.
    pub macro_names: Digest,
    /// What was made.
    pub outputs: Vec<Output>,
    /// What the step said, such as warnings.
    pub said: String,
    /// How long it ran, in milliseconds.
    pub work_ms: u64,
    /// The most memory that it held, in bytes; 0 where that is not known.
    #[serde(default)]
    pub memory: u64,
    /// Digest of a compile's text after preprocessing, where it was looked at.
    #[serde(default)]
    pub text: Option<Digest>,
    /// Whether what it looked at is known only by watching it.
    #[serde(default)]
    pub closely: bool,
}

impl Note {
    /// Tells whether another one is of a run that stood on the same.
    pub fn is_like(&self, other: &Note) -> bool {
        self.inputs == other.inputs && self.macros == other.macros && self.absent == other.absent
    }
}

/// A file that a step made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Output {
    /// Where it lies.
    pub location: String,
    /// Its content.
    pub digest: Digest,
    /// Permission bits.
    pub mode: u32,
}
