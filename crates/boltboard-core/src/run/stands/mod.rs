//! What a step stood on while it ran: all that its result depends on. Commands are watched; plain compiles are known by what their compiler
//! lists and by the rules of their language, and watched where that is not enough.

mod command;
mod compile;
mod footing;
mod named;
mod searched;
mod seen;
mod traced;

use std::borrow::Cow;
use std::cell::LazyCell;
use std::collections::BTreeSet;
use std::path::Path;
use std::time::{Duration, SystemTime};

pub(super) use compile::take;
pub use footing::Watching;
pub(super) use searched::{Absences, chain, parent};
pub(super) use seen::Seeing;

use self::seen::of_version_control;
use super::execute::Executor;
use super::failure::Cause;
use crate::base::Digest;
use crate::judge::{Ahead, ReadFile};
use crate::launch::{Job, Outcome};
use crate::step::{Kind, Lists, Location, Look, Step};
use crate::store::{Note, Output};

/// How one run of a step went.
pub(super) struct Account {
    /// What it stood on, as far as that is known.
    pub stands: Stands,
    /// When it started.
    pub started: SystemTime,
    /// What it made.
    pub outputs: Vec<Output>,
    /// What it said.
    pub said: String,
    /// Its processor time.
    pub work: Duration,
}

/// What a step's result stands on.
#[derive(Debug, Default)]
pub(super) struct Stands {
    /// What it looked at.
    pub looks: BTreeSet<Look>,
    /// Where it looked in vain.
    pub absent: BTreeSet<Location>,
    /// Files that a compile read, with what they name.
    pub files: Vec<ReadFile>,
    /// Files that lay before others of their names, and were not read.
    pub passed: BTreeSet<Location>,
    /// Whether that can be known only by watching.
    pub closely: bool,
}

/// What is known of a run.
pub(super) enum Known {
    /// What it stands on, what it said, and what of it was not reckoned with.
    Wholly(Stands, String, Vec<String>),
    /// Nothing: a file changed meanwhile.
    Not,
    /// Nothing that watching would not tell better.
    OnlyWatched,
}

/// A step's process that ended well.
pub(super) struct Ended<'a> {
    /// What was started.
    pub job: &'a Job,
    /// How it ended, and what it was seen to do.
    pub outcome: &'a Outcome,
    /// Where it lists what it read.
    pub lists: &'a Lists,
    /// The folder aside.
    pub aside: &'a Path,
    /// When it started.
    pub started: SystemTime,
    /// Whether its last run was known only by watching.
    pub closely: bool,
}

impl Ended<'_> {
    fn said(&self) -> String {
        self.outcome.stdout_text() + &self.outcome.stderr_text()
    }
}

impl Executor<'_> {
    /// Tells what a run that ended well stands on.
    ///
    /// # Errors
    /// It read, wrote or left out what it must not.
    pub(super) fn stands(&self, step: &Step, ended: &Ended<'_>) -> Result<Known, Cause> {
        match &step.kind {
            Kind::Compile(compile) => self.compile_stands(step, compile, ended),
            Kind::Archive(_) | Kind::Link(_) | Kind::Generate(_) => self.command_stands(step, ended),
            Kind::Write(_) | Kind::Copy(_) | Kind::Symlink(_) | Kind::Check(_) => Ok(Known::Not),
        }
    }

    /// Puts together what a step saw. `None` when a file of a person changed while it ran.
    pub(super) fn observed(&self, step: &Step, account: Account) -> Option<Note> {
        let Account { stands, started, outputs, said, work } = account;
        let mut inputs = Vec::with_capacity(stands.looks.len());
        let folders = &self.judge.plan.folders;
        let linked = LazyCell::new(|| {
            let places = outputs.iter().filter_map(|output| output.location.parse().ok());
            let bytes = places.map(|at: Location| std::fs::read(at.path(folders)).unwrap_or_default());
            bytes.collect::<Vec<_>>()
        });
        // What was linked may hold copies of a library's data.
        let may_copy = |at: &Location| {
            let data = self.judge.data_of(at, self.judge.status.digest(&at.path(folders)).unwrap_or_default());
            linked.iter().any(|linked| data.may_be_copied_into(linked))
        };
        for look in &stands.looks {
            let look = match look {
                Look::Interface(at) if may_copy(at) => Cow::Owned(Look::Data(at.clone())),
                _ => Cow::Borrowed(look),
            };
            inputs.push((look.kept(), self.seen_as(&look, started)?));
        }
        let mut macros = Vec::new();
        if step.is_preprocessed() {
            let forms = self.judge.forms(inputs.iter().map(|(look, _)| look.as_str()));
            macros = self.judge.macros_in(step, &stands.files, &forms);
        }
        for file in &stands.files {
            if matches!(file.at, Location::Tree(_)) && step.source().is_some_and(|source| *source != file.at) {
                self.keep(&file.at, &file.content);
            }
            if step.source() == Some(&file.at) {
                // Headers are read again and again, a source hardly ever.
                self.judge.tokens.forget(&file.content);
            }
        }
        let work_ms = u64::try_from(work.as_millis()).unwrap_or(u64::MAX);
        let absent = stands.absent.iter().map(Location::kept).collect();
        let note = self.note(step, inputs, absent, macros, outputs, said, work_ms);
        Some(Note { closely: stands.closely, ..note })
    }

    /// What stood for a look since the step started; `None` when it has changed since, or is gone.
    fn seen_as(&self, look: &Look, started: SystemTime) -> Option<Digest> {
        let content = |at: &Location| {
            let path = at.path(&self.judge.plan.folders);
            match at {
                // The command may have written it itself, and it says the same.
                Location::Tree(at) if of_version_control(at) => self.judge.status.digest(&path),
                Location::Tree(_) | Location::System(_) => self.judge.status.digest_since(&path, started),
                Location::Made(_) | Location::Object(_) | Location::Output(_) => self.judge.status.digest(&path),
            }
        };
        match look {
            Look::Content(at) => content(at),
            Look::Interface(at) | Look::Data(at) => content(at).map(|content| self.judge.of_library(look, at, content)),
            Look::Unseen => Some(Digest::default()),
            Look::Names(_)
            | Look::Mode(_)
            | Look::Status(_)
            | Look::Leads(_)
            | Look::Form(_)
            | Look::Footing(_)
            | Look::SearchPath => self.judge.look_now(look, &Ahead::default()).ok()?,
        }
    }

    /// Reads what commands of this build were seen to do.
    pub(super) fn seeing(&self) -> Seeing<'_> {
        let folders = &self.judge.plan.folders;
        let work = self.store.root().parent().map(Path::to_path_buf);
        Seeing::new(folders, [Some(folders.aside()), work].into_iter().flatten().collect())
    }

    /// Checks that what a step read of this build was made before it.
    fn waits_for(&self, step: &Step, at: &Location) -> Result<(), Cause> {
        let plan = self.judge.plan;
        self.is_made(at)?;
        let Some(maker) = plan.maker(at).filter(|_| !step.reads.contains(at)) else { return Ok(()) };
        let own = plan.steps[maker].writes.first() == step.writes.first();
        if own || plan.comes_before(maker, step) {
            return Ok(());
        }
        Err(Cause::Undeclared { file: at.to_string(), maker: plan.owner(&plan.steps[maker]).to_string() })
    }

    /// Checks that a generated file which a step read is there when the step runs.
    fn declared(&self, step: &Step, input: &Location) -> Result<(), Cause> {
        let plan = self.judge.plan;
        if !matches!(input, Location::Made(_)) || step.reads.contains(input) {
            return Ok(());
        }
        match plan.maker(input) {
            Some(maker) if step.after.contains(&maker) => Ok(()),
            Some(maker) => {
                Err(Cause::Undeclared { file: input.to_string(), maker: plan.owner(&plan.steps[maker]).to_string() })
            }
            None => self.is_made(input),
        }
    }

    /// Checks that a file of the build that a step came upon is made by one.
    fn is_made(&self, at: &Location) -> Result<(), Cause> {
        // Every plan has all steps that make such files.
        let stray = matches!(at, Location::Made(_)) && self.judge.plan.maker(at).is_none();
        if stray { Err(Cause::Stray(at.to_string())) } else { Ok(()) }
    }
}
