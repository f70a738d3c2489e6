//! The programs that run steps.

use std::path::PathBuf;

use super::location::Location;
use super::word::Word;
use crate::base::Digest;

/// Words of a link that name the result: they do not decide which programs run.
const OF_RESULT: [&str; 2] = ["-Wl,-soname,", "-Wl,-rpath,"];

/// The program that runs a step.
#[derive(Debug, Clone)]
pub struct Tool {
    /// Its name as people see it.
    pub name: String,
    /// Where it is; a part that the tree makes, or a program of the host.
    pub place: ToolPlace,
}

/// Where a tool is.
#[derive(Debug, Clone)]
pub enum ToolPlace {
    /// A program of the host, with the digest of what decides about its output.
    Host {
        /// The program's file.
        path: PathBuf,
        /// What it is.
        identity: Digest,
    },
    /// A program that the tree makes; its content is among the step's inputs.
    Made(Location),
    /// A program of the host that is not there; running the step fails with this name.
    Absent(String),
}

impl Tool {
    /// Returns what stands for links or archives that run it with these words, whatever they are made of and however the result is called.
    pub(super) fn class(&self, sort: &str, words: &[Word]) -> Digest {
        let names_result = |text: &&str| OF_RESULT.iter().any(|own| text.starts_with(own));
        let identity = self.identity().to_string();
        let words = words.iter().filter_map(Word::as_text).filter(|text| !names_result(text));
        Digest::of_parts([sort, &self.name, &identity].into_iter().chain(words))
    }

    /// Returns the words of a command that it runs, the same on every machine.
    pub(super) fn with(&self, words: &[Word], writes: &[Location]) -> Vec<String> {
        std::iter::once(self.name.clone()).chain(words.iter().map(|word| word.neutral(writes))).collect()
    }

    /// Returns a digest of what it is; a made tool's content counts among the inputs instead.
    pub fn identity(&self) -> Digest {
        match &self.place {
            ToolPlace::Host { identity, .. } => *identity,
            ToolPlace::Made(location) => Digest::of_parts(["made", location.kept().as_str()]),
            ToolPlace::Absent(name) => Digest::of_parts(["absent", name.as_str()]),
        }
    }
}
