//! Static libraries: objects collected by an archiver.

use super::kind::{Acts, Runs, Sees, Step};
use super::process::{AbsentTool, Process, Setup};
use super::tool::Tool;
use super::word::Word;
use crate::base::Digest;

/// Collects objects.
#[derive(Debug, Clone)]
pub struct Archive {
    /// The archiver.
    tool: Tool,
    /// Its words.
    words: Vec<Word>,
    class: Digest,
}

impl Archive {
    /// Puts one together.
    pub fn new(tool: Tool, words: Vec<Word>) -> Archive {
        Archive { class: tool.class("archive", &words), tool, words }
    }
}

impl Acts for Archive {
    fn tag(&self) -> &'static str {
        "archive 4"
    }

    fn verb(&self) -> &'static str {
        "archive"
    }

    fn command(&self, step: &Step) -> Vec<String> {
        self.tool.with(&self.words, &step.writes)
    }

    /// An archiver reads what it is given; all else that it looks at is its class's.
    fn sees(&self) -> Sees {
        Sees::Class
    }
}

impl Runs for Archive {
    fn tool(&self) -> &Tool {
        &self.tool
    }

    fn class(&self) -> Option<Digest> {
        Some(self.class)
    }

    fn process(&self, step: &Step, setup: &Setup<'_>) -> Result<Process, AbsentTool> {
        let arguments = self.words.iter().map(|word| setup.spelled(step, word)).collect();
        setup.job(step, &self.tool, arguments).map(Process::plain)
    }
}
