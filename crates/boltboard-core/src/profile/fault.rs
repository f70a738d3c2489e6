//! What can be wrong with profiles.

use crate::base::{Place, SourceFiles};
use crate::board::{NEED_PREFIX, ProviderFault, ValueFault};

/// How many profiles may be based on each other in a row.
pub(super) const MOST_LEVELS: usize = 50;

/// A profile cannot be used: all that is wrong with it.
#[derive(Debug, thiserror::Error)]
#[error("the profile is wrong")]
pub struct WrongProfile {
    /// What is wrong.
    pub problems: Vec<ProfileProblem>,
    /// The profile's files, for showing the places.
    pub files: SourceFiles,
}

/// What is wrong with a profile, with its place.
#[derive(Debug)]
pub struct ProfileProblem {
    /// What is wrong.
    pub fault: ProfileFault,
    /// Where, in the profile files.
    pub place: Option<Place>,
    /// Names or values that may have been meant.
    pub near: Vec<String>,
}

impl ProfileFault {
    /// Returns the entry that it is about, as a person names it, where it is about a single one.
    pub fn about(&self) -> Option<String> {
        match self {
            ProfileFault::UnknownOption(name)
            | ProfileFault::Derived(name)
            | ProfileFault::InKit(name)
            | ProfileFault::LooseReason(name)
            | ProfileFault::Value { option: name, .. }
            | ProfileFault::WrongType { key: name, .. } => Some(name.clone()),
            ProfileFault::UnknownNeed(name) => Some(format!("{NEED_PREFIX}{name}")),
            ProfileFault::Provider(ProviderFault::Unknown { need, .. }) => Some(format!("{NEED_PREFIX}{need}")),
            ProfileFault::Unknown(_)
            | ProfileFault::Unreadable { .. }
            | ProfileFault::Toml(_)
            | ProfileFault::UnknownKey(_)
            | ProfileFault::OtherTree { .. }
            | ProfileFault::Newer { .. }
            | ProfileFault::Older { .. }
            | ProfileFault::Ring(_)
            | ProfileFault::TooDeep(_) => None,
        }
    }
}

/// What can be wrong with a profile.
#[derive(Debug, thiserror::Error)]
pub enum ProfileFault {
    /// There is no such profile.
    #[error("there is no profile `{0}`")]
    Unknown(String),
    /// It cannot be read.
    #[error("cannot read {file}: {reason}")]
    Unreadable {
        /// The file.
        file: String,
        /// What the system says.
        reason: String,
    },
    /// It is not TOML.
    #[error("not TOML: {0}")]
    Toml(String),
    /// A key that means nothing.
    #[error("a profile has no key `{0}`")]
    UnknownKey(String),
    /// A key with the wrong type of value.
    #[error("`{key}` must be {expected}")]
    WrongType {
        /// The key.
        key: String,
        /// What is right.
        expected: &'static str,
    },
    /// It belongs to another tree.
    #[error("this profile is for the tree `{found}`, not for `{tree}`")]
    OtherTree {
        /// What it says.
        found: String,
        /// The tree at hand.
        tree: String,
    },
    /// It was written for a later version of the tree.
    #[error("this profile was written for version {found}, the tree is version {tree}")]
    Newer {
        /// What it says.
        found: String,
        /// The tree at hand.
        tree: String,
    },
    /// It was written for an earlier version of the tree, and does not fit this one.
    #[error("the profile {profile} was written for version {found}, the tree is version {tree}")]
    Older {
        /// The profile.
        profile: String,
        /// What it says.
        found: String,
        /// The tree at hand.
        tree: String,
    },
    /// It chooses an option that does not exist.
    #[error("there is no option `{0}`")]
    UnknownOption(String),
    /// It chooses an option that nobody chooses.
    #[error("nobody chooses {0}: its value follows from others")]
    Derived(String),
    /// It chooses an option that is as the tree was built that is installed.
    #[error("{0} is as the tree was built that this kit is of; nobody chooses it here")]
    InKit(String),
    /// It gives an option a value that it does not take.
    #[error("{option} {fault}")]
    Value {
        /// The option.
        option: String,
        /// What is wrong.
        fault: ValueFault,
    },
    /// It names a need that does not exist.
    #[error("there is no need `{0}`")]
    UnknownNeed(String),
    /// It wants a need to be met by something that cannot.
    #[error(transparent)]
    Provider(ProviderFault),
    /// It lies on itself.
    #[error("profile `{0}` is a layer of itself")]
    Ring(String),
    /// Its layers have layers, and so on, beyond what is read.
    #[error("profile `{0}` is based on profiles that are based on others, more than {MOST_LEVELS} levels deep")]
    TooDeep(String),
    /// A reason for a choice that is not made.
    #[error("there is a reason for `{0}`, which is not chosen here")]
    LooseReason(String),
}
