//! What can stand against a session's answer.

use super::compiler::CompilerGap;
use crate::base::FileError;
use crate::board::{FetchId, TryFault};
use crate::definitions::{Problem, Reading, TreeFault};
use crate::patch::PatchFault;
use crate::plan::PlanProblem;
use crate::profile::{Choices, OnlyWith, Unfit, WrongProfile};
use crate::resolve::Clash;
use crate::run::BuildFault;
use crate::shared::AddressFault;
use crate::survey::{Facts, RecordFault};
use crate::work::{LockFault, WorkFault};
use crate::workers::CrewFault;

/// Why a session has no answer. Places in it are those of the session's board, or of the files that come with it.
#[derive(Debug, thiserror::Error)]
pub enum SessionFault {
    /// What a person says about shared results cannot be used.
    #[error(transparent)]
    Sharing(#[from] AddressFault),
    /// What a person says about other machines cannot be used.
    #[error(transparent)]
    Crew(#[from] CrewFault),
    /// There is no tree here.
    #[error(transparent)]
    Tree(#[from] TreeFault),
    /// The work folder cannot be used.
    #[error(transparent)]
    Work(#[from] WorkFault),
    /// A file cannot be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// The lock cannot be used.
    #[error(transparent)]
    Lock(#[from] LockFault),
    /// Facts of a host that were kept cannot be used.
    #[error(transparent)]
    Record(#[from] RecordFault),
    /// A choice for these answers only is none.
    #[error(transparent)]
    Try(#[from] TryFault),
    /// A build cannot go on.
    #[error(transparent)]
    Build(#[from] BuildFault),
    /// The definitions are wrong.
    #[error("the definitions are wrong")]
    Definitions(Box<Reading>),
    /// The definitions do not fit the files of the tree.
    #[error("the definitions do not fit the files of the tree")]
    Sources(Vec<Problem>),
    /// A profile is wrong.
    #[error(transparent)]
    Profile(#[from] WrongProfile),
    /// Layers of the profile are for other hosts than this one.
    #[error("the profile is for another host")]
    Unfit {
        /// Each such layer with what does not fit.
        unfit: Vec<(OnlyWith, Unfit)>,
        /// The choices.
        choices: Box<Choices>,
    },
    /// Choices clash, with each other or with what the host has.
    #[error("choices clash")]
    Clash {
        /// The clashes.
        clashes: Vec<Clash>,
        /// The choices.
        choices: Box<Choices>,
        /// The facts.
        facts: Box<Facts>,
    },
    /// There is no plan.
    #[error("what was chosen cannot be built")]
    Plan {
        /// What stands against it.
        problems: Vec<PlanProblem>,
        /// The choices.
        choices: Box<Choices>,
        /// The facts.
        facts: Box<Facts>,
    },
    /// Something that the values want was not fetched.
    #[error("what the build wants was not fetched")]
    NotFetched(Vec<FetchId>),
    /// The compiler that the choices name cannot be used.
    #[error("{}", .gap.fault)]
    Compiler {
        /// The compiler.
        gap: Box<CompilerGap>,
        /// The choices.
        choices: Box<Choices>,
    },
    /// A change to the sources that the profile carries cannot be read.
    #[error("the change {name} that the profile carries cannot be read: {reason}")]
    Change {
        /// The change.
        name: String,
        /// What the system says.
        reason: String,
    },
    /// A patch that the profile carries does not fit.
    #[error(transparent)]
    Patch(#[from] PatchFault),
    /// Version control does not give another version of the tree.
    #[error("the definitions of the revision {revision} cannot be had: {reason}")]
    Revision {
        /// The revision.
        revision: String,
        /// What stands against it.
        reason: String,
    },
    /// A text is no name of a profile.
    #[error("`{0}` cannot be a profile's name")]
    ProfileName(String),
    /// There are builds, but the file that says which profile is in use is gone.
    #[error("the file that names the profile in use is gone from the work folder")]
    NoProfileInUse {
        /// Profiles that were built there.
        built: Vec<String>,
    },
    /// The time that everything is to be built as if at is none.
    #[error("{variable} is `{text}`; set it to a number of seconds since 1970, or to nothing")]
    Epoch {
        /// The variable that says it.
        variable: &'static str,
        /// What it says.
        text: String,
    },
    /// A build of what is only supposed would fail in the middle.
    #[error("{}", .0.join(", "))]
    Supposed(Vec<&'static str>),
}
