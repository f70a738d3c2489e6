//! Generators: commands of the tree that make sources, headers and data.

use std::path::{Path, PathBuf};

use super::kind::{Acts, Runs, Sees, Step};
use super::location::Location;
use super::process::{AbsentTool, ByHand, Process, Setup};
use super::tool::{Tool, ToolPlace};
use super::word::Word;
use crate::base::{Digest, Glob, RelPath};
use crate::launch::Job;

/// The folder aside that is a command's own.
const SCRATCH: &str = "scratch";
/// What lies aside between two commands.
const BETWEEN: &str = "between";

/// Runs commands of the tree, of which each reads what the one before it writes.
#[derive(Debug, Clone)]
pub struct Generate {
    /// The commands.
    pub stages: Vec<Stage>,
    /// Where they run.
    pub folder: RunFolder,
    /// Variables of their environment.
    pub environment: Vec<(String, Vec<Word>)>,
    /// Exit codes that mean success.
    pub success: Vec<i32>,
    /// What the first of them reads as its standard input.
    pub input: Option<Location>,
    /// Which of the step's results is what the last of them writes to its standard output.
    pub output: Option<usize>,
    /// Results that they leave in their own folder, with the names there.
    pub left: Vec<(Location, RelPath)>,
    /// What they say they read of the sources.
    pub reads: Vec<Glob>,
}

/// One command.
#[derive(Debug, Clone)]
pub struct Stage {
    /// The program.
    pub tool: Tool,
    /// Its words.
    pub words: Vec<Word>,
}

/// Where commands run.
#[derive(Debug, Clone)]
pub enum RunFolder {
    /// In a folder that is there.
    At(Location),
    /// In a folder aside in which these files lie under these names.
    Scratch(Vec<(RelPath, Location)>),
}

impl Generate {
    fn folder_path(&self, setup: &Setup<'_>) -> PathBuf {
        match &self.folder {
            RunFolder::At(folder) => folder.path(setup.folders),
            RunFolder::Scratch(_) => setup.aside.join(SCRATCH),
        }
    }
}

impl Acts for Generate {
    fn tag(&self) -> &'static str {
        "generate 5"
    }

    fn verb(&self) -> &'static str {
        "generate"
    }

    fn command(&self, step: &Step) -> Vec<String> {
        let neutral =
            |words: &[Word]| words.iter().map(|word| word.neutral(&step.writes)).collect::<Vec<_>>().join(" ");
        let mut all: Vec<String> =
            self.environment.iter().map(|(name, words)| format!("{name}={}", neutral(words))).collect();
        for (index, stage) in self.stages.iter().enumerate() {
            all.extend((index > 0).then(|| "|".to_string()));
            all.extend(stage.tool.with(&stage.words, &step.writes));
            let input = self.input.as_ref().filter(|_| index == 0);
            all.extend(input.into_iter().flat_map(|input| ["<".to_string(), input.to_string()]));
        }
        let output = self.output.and_then(|output| step.writes.get(output));
        all.extend(output.into_iter().flat_map(|output| [">".to_string(), output.to_string()]));
        all
    }

    fn decides(&self) -> Vec<String> {
        let mut all: Vec<String> = match &self.folder {
            RunFolder::At(folder) => vec![folder.kept()],
            RunFolder::Scratch(files) => {
                let laid_out = files.iter().map(|(name, file)| format!("{name} is {}", file.kept()));
                std::iter::once(SCRATCH.to_string()).chain(laid_out).collect()
            }
        };
        all.push(format!("{:?}", self.success));
        all.extend(self.left.iter().map(|(file, name)| format!("{} was {name}", file.kept())));
        all.extend(self.stages.iter().skip(1).map(|stage| stage.tool.identity().to_string()));
        all
    }

    fn sees(&self) -> Sees {
        Sees::All
    }
}

impl Runs for Generate {
    /// The first program, or the first that is not there.
    fn tool(&self) -> &Tool {
        let absent = self.stages.iter().map(|stage| &stage.tool).find(|t| matches!(t.place, ToolPlace::Absent(_)));
        absent.unwrap_or(&self.stages[0].tool)
    }

    fn class(&self) -> Option<Digest> {
        None
    }

    fn process(&self, step: &Step, setup: &Setup<'_>) -> Result<Process, AbsentTool> {
        let spelled = |words: &[Word]| words.iter().map(|word| setup.spelled(step, word)).collect::<Vec<String>>();
        let mut jobs: Vec<Job> = Vec::new();
        for stage in &self.stages {
            let mut job = setup.job(step, &stage.tool, spelled(&stage.words))?;
            job.folder = self.folder_path(setup);
            for (name, words) in &self.environment {
                job.environment.insert(name.clone(), spelled(words).join(" "));
            }
            let number = jobs.len();
            job.input = match jobs.last_mut() {
                None => self.input.as_ref().map(|input| input.path(setup.folders)),
                Some(before) => Some(before.output.insert(setup.aside.join(format!("{BETWEEN}.{number}"))).clone()),
            };
            jobs.push(job);
        }
        if let (Some(last), Some(output)) = (jobs.last_mut(), self.output) {
            last.output = Some(PathBuf::from(setup.result(step, output)));
        }
        let Some(job) = jobs.pop() else { return Err(AbsentTool("there is no command".into())) };
        let laid_out = match &self.folder {
            RunFolder::At(_) => vec![],
            RunFolder::Scratch(files) => {
                let place = |(name, file): &(RelPath, Location)| {
                    (file.path(setup.folders), name.below(&setup.aside.join(SCRATCH)))
                };
                files.iter().map(place).collect()
            }
        };
        let own_folder = matches!(self.folder, RunFolder::Scratch(_)).then(|| setup.aside.join(SCRATCH));
        Ok(Process { before: jobs, own_folder, laid_out, ..Process::plain(job) })
    }

    fn succeeds(&self, code: i32) -> bool {
        self.success.contains(&code)
    }

    fn aside(&self, write: &Location, aside: &Path) -> PathBuf {
        match self.left.iter().find(|(file, _)| file == write) {
            Some((_, name)) => name.below(&aside.join(SCRATCH)),
            None => aside.join(write.below_root()),
        }
    }

    fn by_hand<'j>(&self, job: &'j Job) -> ByHand<'j> {
        let value = |(name, _): &(String, Vec<Word>)| Some((name.clone(), job.environment.get(name)?.as_str()));
        ByHand { variables: self.environment.iter().filter_map(value).collect(), ..ByHand::of(job) }
    }
}
