//! What is said about steps: verdicts, reasons, and what earlier steps will make.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use crate::base::Digest;
use crate::board::{Board, OptionId};
use crate::plan::Plan;
use crate::step::{Location, Look, Step, StepId};
use crate::store::Note;
use crate::work::Why;

/// What is to be done about a step.
#[derive(Debug, Clone, PartialEq)]
pub enum Verdict {
    /// Nothing.
    Current,
    /// Its results are kept and only put in place.
    FromStore(Box<Note>),
    /// It runs.
    Run,
    /// It runs if an earlier step's result comes out changed.
    Follows,
}

impl Verdict {
    /// Returns its name in traces.
    pub(super) fn name(&self) -> &'static str {
        match self {
            Verdict::Current => "current",
            Verdict::FromStore(_) => "reused",
            Verdict::Run => "runs",
            Verdict::Follows => "follows",
        }
    }
}

/// A verdict with its reasons; none when the step is current.
#[derive(Debug, Clone, PartialEq)]
pub struct Judged {
    /// What is to be done.
    pub verdict: Verdict,
    /// Why it is not current.
    pub reasons: Vec<Reason>,
}

/// Why a step's last result does not stand.
#[derive(Debug, Clone, PartialEq)]
pub enum Reason {
    /// It never ran in this build.
    New,
    /// A macro that its files name stands for something else.
    Macro {
        /// The macro.
        name: String,
        /// The option that it carries; none for a flag of the part.
        option: Option<OptionId>,
        /// What it stood for.
        before: Option<String>,
        /// What it stands for.
        now: Option<String>,
        /// A file that names it.
        named_in: Option<Location>,
    },
    /// A file that it read has another content.
    Edited(Location),
    /// A file that it read is gone.
    Gone(Location),
    /// Something else that it looked at is not as it was.
    Looks(Look),
    /// What it looks at cannot be seen, so that nobody knows whether it is the same.
    Unseen,
    /// Something now lies where it was looked for first.
    Appeared(Location),
    /// It reads a file that it did not read before.
    Added(Location),
    /// It no longer reads a file.
    Dropped(Location),
    /// Its command has other words.
    Command {
        /// Words that are new.
        added: Vec<String>,
        /// Words that are gone.
        removed: Vec<String>,
    },
    /// The text that it writes follows other values.
    Text,
    /// Its tool is another one.
    Tool(String),
    /// Which programs stand behind its tool was never seen with this search path.
    ToolUnseen(String),
    /// A result is not there.
    OutputMissing(Location),
    /// A result was changed by someone else.
    OutputEdited(Location),
    /// The last run did not count: an input changed while it ran.
    Unsettled,
    /// An earlier step that it reads from runs.
    Follows(StepId),
}

impl Reason {
    /// Returns it as it is kept and handed to others.
    pub fn why(&self, board: &Board, plan: &Plan) -> Why {
        let file = |at: &Location| at.to_string();
        match self {
            Reason::New => Why::New,
            Reason::Macro { name, option, before, now, named_in } => Why::Option {
                option: option.map(|id| board.options[id].name.clone()),
                r#macro: name.clone(),
                before: before.clone(),
                now: now.clone(),
                named_in: named_in.as_ref().map(file),
            },
            Reason::Edited(at) => Why::Edited { file: file(at) },
            Reason::Gone(at) => Why::Gone { file: file(at) },
            Reason::Looks(look) => Why::Looks { at: look.to_string() },
            Reason::Unseen => Why::Unseen,
            Reason::Added(at) => Why::Added { file: file(at) },
            Reason::Dropped(at) => Why::Dropped { file: file(at) },
            Reason::Appeared(at) => Why::Appeared { file: file(at) },
            Reason::Command { added, removed } => Why::Command { added: added.clone(), removed: removed.clone() },
            Reason::Text => Why::Text,
            Reason::Tool(tool) => Why::Tool { tool: tool.clone() },
            Reason::ToolUnseen(tool) => Why::ToolUnseen { tool: tool.clone() },
            Reason::OutputMissing(at) => Why::OutputMissing { file: file(at) },
            Reason::OutputEdited(at) => Why::OutputEdited { file: file(at) },
            Reason::Unsettled => Why::Unsettled,
            Reason::Follows(step) => Why::Follows { step: plan.steps[*step].name.clone() },
        }
    }
}

/// An earlier result of a compile whose text after preprocessing may be the same.
#[derive(Debug, Clone)]
pub struct Alike {
    /// What that compile saw and made.
    pub note: Note,
    /// What has changed since.
    pub changes: TextChanges,
    /// Whether its result lies in place; else it is kept in the store.
    pub in_place: bool,
}

/// Changes that a compile can see only through its text after preprocessing.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct TextChanges {
    /// Macros, with what they stood for before.
    pub macros: BTreeMap<String, Option<String>>,
    /// Headers with another content.
    pub files: BTreeSet<Location>,
}

impl TextChanges {
    /// Returns the changes when there are no others.
    pub fn of(step: &Step, reasons: &[Reason]) -> Option<TextChanges> {
        let mut changes = TextChanges::default();
        for reason in reasons {
            match reason {
                Reason::Macro { name, before, .. } => {
                    changes.macros.insert(name.clone(), before.clone());
                }
                Reason::Edited(location @ (Location::Tree(_) | Location::Made(_)))
                    if step.source().is_some_and(|source| source != location) =>
                {
                    changes.files.insert(location.clone());
                }
                _ => return None,
            }
        }
        Some(changes)
    }
}

/// Contents that files will have once earlier steps are done.
#[derive(Debug, Clone, Default)]
pub struct Ahead {
    files: BTreeMap<Location, Coming>,
    names: HashSet<String>,
}

#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Coming {
    Known(Digest),
    Open(StepId),
}

impl Ahead {
    /// Tells whether a file, by its kept name, will be written.
    pub(super) fn touches(&self, name: &str) -> bool {
        !self.names.is_empty() && self.names.contains(name)
    }

    /// What will come of a file.
    pub(super) fn coming(&self, location: &Location) -> Option<&Coming> {
        self.files.get(location)
    }

    fn insert(&mut self, location: Location, coming: Coming) {
        self.names.insert(location.kept());
        self.files.insert(location, coming);
    }

    /// Says what a step will make.
    pub fn add(&mut self, id: StepId, step: &Step, judged: &Judged) {
        match &judged.verdict {
            Verdict::Current => {}
            Verdict::FromStore(note) => {
                for output in &note.outputs {
                    if let Ok(location) = output.location.parse() {
                        self.insert(location, Coming::Known(output.digest));
                    }
                }
            }
            Verdict::Run | Verdict::Follows => {
                for location in &step.writes {
                    let coming =
                        step.text().map_or(Coming::Open(id), |text| Coming::Known(Digest::of(text.as_bytes())));
                    self.insert(location.clone(), coming);
                }
            }
        }
    }
}
