//! Generators: commands of the tree that make sources, headers and data.

use super::kind::{Acts, Runs, Sees, Step};
use super::location::Location;
use super::process::{AbsentTool, ByHand, Process, Setup};
use super::tool::Tool;
use super::word::Word;
use crate::base::Digest;
use crate::launch::Job;

/// Runs a command of the tree.
#[derive(Debug, Clone)]
pub struct Generate {
    /// The program.
    pub tool: Tool,
    /// Its words.
    pub words: Vec<Word>,
    /// The folder it runs in.
    pub folder: Location,
    /// Variables of its environment.
    pub environment: Vec<(String, Vec<Word>)>,
    /// Exit codes that mean success.
    pub success: Vec<i32>,
}

impl Acts for Generate {
    fn tag(&self) -> &'static str {
        "generate 4"
    }

    fn verb(&self) -> &'static str {
        "generate"
    }

    fn command(&self, step: &Step) -> Vec<String> {
        let neutral =
            |words: &[Word]| words.iter().map(|word| word.neutral(&step.writes)).collect::<Vec<_>>().join(" ");
        let set = self.environment.iter().map(|(name, words)| format!("{name}={}", neutral(words)));
        set.chain(self.tool.with(&self.words, &step.writes)).collect()
    }

    fn decides(&self) -> Vec<String> {
        vec![self.folder.kept(), format!("{:?}", self.success)]
    }

    fn sees(&self) -> Sees {
        Sees::All
    }
}

impl Runs for Generate {
    fn tool(&self) -> &Tool {
        &self.tool
    }

    fn class(&self) -> Option<Digest> {
        None
    }

    fn process(&self, step: &Step, setup: &Setup<'_>) -> Result<Process, AbsentTool> {
        let spelled = |words: &[Word]| words.iter().map(|word| setup.spelled(step, word)).collect::<Vec<String>>();
        let mut job = setup.job(step, &self.tool, spelled(&self.words))?;
        job.folder = self.folder.path(setup.folders);
        for (name, words) in &self.environment {
            job.environment.insert(name.clone(), spelled(words).join(" "));
        }
        Ok(Process::plain(job))
    }

    fn succeeds(&self, code: i32) -> bool {
        self.success.contains(&code)
    }

    fn by_hand<'j>(&self, job: &'j Job) -> ByHand<'j> {
        let value = |(name, _): &(String, Vec<Word>)| Some((name.clone(), job.environment.get(name)?.as_str()));
        ByHand { variables: self.environment.iter().filter_map(value).collect(), ..ByHand::of(job) }
    }
}
