//! Choices as a person types them.

use super::{Board, DecidedBy, FindingKind, NeedId, OptionId, Provider, ProviderFault, Value, ValueFault};
use crate::base::near_matches;

/// How a need is named where an option could be: `need:zlib`.
pub const NEED_PREFIX: &str = "need:";

/// What a person asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Asked {
    /// A value of an option: `fog=on`.
    Value(OptionId, Value),
    /// Who is to meet a need: `need:zlib=bundled`.
    Provider(NeedId, Provider),
}

/// What is wrong with a choice given on the command line.
#[derive(Debug, thiserror::Error)]
pub enum TryFault {
    /// Not of the form `OPTION=VALUE`.
    #[error("`{0}` is not OPTION=VALUE")]
    Form(String),
    /// There is no such option.
    #[error("there is no option `{name}`")]
    Unknown {
        /// The name given.
        name: String,
        /// Names that come near.
        near: Vec<String>,
    },
    /// The option does not take the value.
    #[error("{option} {fault}")]
    Value {
        /// The option.
        option: String,
        /// What is wrong.
        fault: ValueFault,
    },
    /// Nobody chooses the option.
    #[error("nobody chooses {option}: its value follows from others")]
    Derived {
        /// The option.
        option: String,
    },
    /// The option is as the tree was built that is installed.
    #[error("{option} is as the tree was built that this kit is of; nobody chooses it here")]
    InKit {
        /// The option.
        option: String,
    },
    /// There is no such need.
    #[error("there is no need `{name}`")]
    UnknownNeed {
        /// The name given.
        name: String,
        /// Names that come near.
        near: Vec<String>,
    },
    /// There is no such finding.
    #[error("there is no finding `{name}`")]
    UnknownFinding {
        /// The name given.
        name: String,
        /// Names that come near.
        near: Vec<String>,
    },
    /// The need cannot be met so.
    #[error(transparent)]
    Provider(#[from] ProviderFault),
}

impl Board {
    /// Reads `OPTION=VALUE` or `need:NAME=PROVIDER` as a person gives it.
    ///
    /// # Errors
    /// It has another form, or the option, need or value does not exist.
    pub fn read_asked(&self, text: &str) -> Result<Asked, TryFault> {
        let (name, value) = text.split_once('=').ok_or_else(|| TryFault::Form(text.to_string()))?;
        let (name, value) = (name.trim(), value.trim());
        if let Some(need) = name.strip_prefix(NEED_PREFIX) {
            let need = self.find_need(need)?;
            return Ok(Asked::Provider(need, Provider::read(self, need, value)?));
        }
        let option = self.find_option(name)?;
        match self.options[option].decided_by {
            DecidedBy::People => {}
            DecidedBy::Others => return Err(TryFault::Derived { option: name.to_string() }),
            DecidedBy::Kit => return Err(TryFault::InKit { option: name.to_string() }),
        }
        let value = self.options[option].kind.read(value);
        value.map(|v| Asked::Value(option, v)).map_err(|fault| TryFault::Value { option: name.to_string(), fault })
    }

    /// Looks a need up as a person names it.
    ///
    /// # Errors
    /// There is none of that name; the names that come near are returned.
    pub fn find_need(&self, name: &str) -> Result<NeedId, TryFault> {
        self.need(name).ok_or_else(|| TryFault::UnknownNeed { name: name.to_string(), near: self.needs_near(name) })
    }

    /// Looks a finding of `lint` up as a person names it.
    ///
    /// # Errors
    /// There is none of that name; the names that come near are returned.
    pub fn find_finding(&self, name: &str) -> Result<FindingKind, TryFault> {
        FindingKind::of_name(name).ok_or_else(|| TryFault::UnknownFinding {
            name: name.to_string(),
            near: near_matches(name, FindingKind::NAMED.iter().map(|(known, _, _)| *known)),
        })
    }

    /// Looks an option up as a person names it.
    ///
    /// # Errors
    /// There is none of that name; the names that come near are returned.
    pub fn find_option(&self, name: &str) -> Result<OptionId, TryFault> {
        self.option(name).ok_or_else(|| TryFault::Unknown {
            name: name.to_string(),
            near: near_matches(name, self.option_names.iter()),
        })
    }
}
