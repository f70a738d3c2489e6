//! Choices as a person types them.

use super::{Board, OptionId, Value, ValueFault};
use crate::base::near_matches;

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
    #[error("{option}: {fault}")]
    Value {
        /// The option.
        option: String,
        /// What is wrong.
        fault: ValueFault,
    },
}

impl Board {
    /// Reads `OPTION=VALUE` as a person gives it.
    ///
    /// # Errors
    /// It has another form, or the option or value does not exist.
    pub fn read_choice(&self, text: &str) -> Result<(OptionId, Value), TryFault> {
        let (name, value) = text.split_once('=').ok_or_else(|| TryFault::Form(text.to_string()))?;
        let option = self.find_option(name.trim())?;
        let value = self.options[option].kind.read(value.trim());
        value.map(|v| (option, v)).map_err(|fault| TryFault::Value { option: name.trim().to_string(), fault })
    }

    /// Looks an option up as a person names it.
    ///
    /// # Errors
    /// There is none of that name; the names that come near are returned.
    pub fn find_option(&self, name: &str) -> Result<OptionId, TryFault> {
        self.option(name).ok_or_else(|| TryFault::Unknown {
            name: name.to_string(),
            near: near_matches(name, self.option_names.keys().map(String::as_str)),
        })
    }
}
