//! Links: programs, shared libraries and modules.

use super::kind::{Acts, Runs, Sees, Step};
use super::location::Location;
use super::look::Look;
use super::process::{AbsentTool, ByHand, Process, Setup};
use super::tool::Tool;
use super::word::Word;
use crate::base::Digest;
use crate::launch::Job;

/// Makes every linker name the files that it reads, one a line; where it cannot be watched.
const TRACE: &str = "-Wl,-t";

/// Links objects and libraries.
#[derive(Debug, Clone)]
pub struct Link {
    /// The compiler that calls the linker.
    tool: Tool,
    /// Its words.
    pub words: Vec<Word>,
    /// Those of the step's reads that are shared libraries: only their interface counts.
    interfaces: Vec<Location>,
    class: Digest,
}

impl Link {
    /// Puts one together; of `interfaces` only the interface counts.
    pub fn new(tool: Tool, words: Vec<Word>, interfaces: Vec<Location>) -> Link {
        Link { class: tool.class("link", &words), tool, words, interfaces }
    }

    /// Tells whether only the interface of a file counts, known by what the step declares, or else by its name.
    pub fn by_interface(&self, at: &Location) -> bool {
        let name = match at {
            Location::System(path) => path.file_name().map(|name| name.to_string_lossy().into_owned()),
            Location::Tree(path) | Location::Made(path) | Location::Object(path) | Location::Output(path) => {
                Some(path.name().to_string())
            }
        };
        self.interfaces.contains(at) || name.is_some_and(|name| name.contains(".so"))
    }
}

impl Acts for Link {
    fn tag(&self) -> &'static str {
        "link 4"
    }

    fn verb(&self) -> &'static str {
        "link"
    }

    fn command(&self, step: &Step) -> Vec<String> {
        self.tool.with(&self.words, &step.writes)
    }

    /// Which libraries a linker looks for, and where, only watching tells.
    fn sees(&self) -> Sees {
        Sees::Class
    }

    fn look(&self, read: &Location) -> Look {
        if self.interfaces.contains(read) { Look::Interface(read.clone()) } else { Look::Content(read.clone()) }
    }
}

impl Runs for Link {
    fn tool(&self) -> &Tool {
        &self.tool
    }

    fn class(&self) -> Option<Digest> {
        Some(self.class)
    }

    fn process(&self, step: &Step, setup: &Setup<'_>) -> Result<Process, AbsentTool> {
        let mut arguments: Vec<String> = self.words.iter().map(|word| setup.spelled(step, word)).collect();
        if setup.watch.is_none() {
            arguments.push(TRACE.into());
        }
        setup.job(step, &self.tool, arguments).map(Process::plain)
    }

    fn by_hand<'j>(&self, job: &'j Job) -> ByHand<'j> {
        let mut by_hand = ByHand::of(job);
        by_hand.arguments.retain(|word| *word != TRACE);
        by_hand
    }
}
