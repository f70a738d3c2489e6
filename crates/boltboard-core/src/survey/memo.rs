//! What compilers have answered, kept with the files that each answer depends on: the same question runs nothing while they
//! are the same.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use serde::{Deserialize, Serialize};

use crate::base::files::{read_text, write_whole};
use crate::base::{Digest, FileError};
use crate::store::Stamp;

/// Answers to questions, by the question's digest.
#[derive(Debug, Default)]
pub struct ProbeMemo {
    state: Mutex<State>,
}

#[derive(Debug, Default)]
struct State {
    answers: BTreeMap<Digest, Answer>,
    fresh: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Answer {
    text: String,
    depends: Vec<(PathBuf, Stamp)>,
}

impl ProbeMemo {
    /// Reads what was kept; a missing or damaged file is an empty memo.
    pub fn load(path: &Path) -> ProbeMemo {
        let text = read_text(path).ok().flatten().unwrap_or_default();
        let answers = serde_json::from_str(&text).unwrap_or_default();
        ProbeMemo { state: Mutex::new(State { answers, fresh: false }) }
    }

    /// Keeps what was learned, if anything was.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn save(&self, path: &Path) -> Result<(), FileError> {
        let state = self.lock();
        if !state.fresh {
            return Ok(());
        }
        write_whole(path, serde_json::to_string(&state.answers).unwrap_or_default().as_bytes())
    }

    /// Returns the answer to a question, unless a file that it depends on has changed.
    pub(super) fn recall(&self, question: &Digest) -> Option<String> {
        let answer = self.lock().answers.get(question).cloned()?;
        let stands = answer.depends.iter().all(|(path, stamp)| Stamp::of(path) == Some(*stamp));
        stands.then_some(answer.text)
    }

    /// Keeps an answer with the files that it depends on.
    pub(super) fn keep(&self, question: Digest, text: &str, depends: impl IntoIterator<Item = PathBuf>) {
        let depends = depends.into_iter().filter_map(|path| Stamp::of(&path).map(|stamp| (path, stamp))).collect();
        let mut state = self.lock();
        state.answers.insert(question, Answer { text: text.to_string(), depends });
        state.fresh = true;
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_stands_while_its_files_do() {
        let folder = tempfile::tempdir().unwrap();
        let (file, kept) = (folder.path().join("lib.so"), folder.path().join("probes.json"));
        std::fs::write(&file, "one").unwrap();
        let question = Digest::of(b"does it link?");
        let memo = ProbeMemo::default();
        assert_eq!(memo.recall(&question), None);
        memo.keep(question, "links", [file.clone()]);
        memo.save(&kept).unwrap();
        assert_eq!(ProbeMemo::load(&kept).recall(&question).as_deref(), Some("links"));
        std::fs::write(&file, "another").unwrap();
        assert_eq!(ProbeMemo::load(&kept).recall(&question), None, "it was upgraded");
        std::fs::remove_file(&file).unwrap();
        assert_eq!(ProbeMemo::load(&kept).recall(&question), None, "it is gone");
        std::fs::write(&kept, "damaged").unwrap();
        assert_eq!(ProbeMemo::load(&kept).recall(&question), None);
    }
}
