//! Values of macros, and how options have them.

use toml_edit::Value;

use crate::adopt::toml::literal;

/// What the value of a macro is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Literal {
    Number,
    Text,
    Code,
}

impl Literal {
    pub fn word(self) -> &'static str {
        if self == Literal::Number { "number" } else { "text" }
    }

    /// The form of its macro, where it is not the usual one.
    pub fn form(self) -> Option<&'static str> {
        (self == Literal::Code).then_some("plain")
    }

    /// How a value is written into the description.
    pub fn value(self, text: &str) -> Value {
        match (self, literal_of(text)) {
            (Literal::Number, (_, number)) => number.parse::<i64>().map_or_else(|_| number.into(), Value::from),
            (Literal::Text, (_, inner)) => literal(&inner).into(),
            (Literal::Code, _) => literal(text).into(),
        }
    }
}

/// Tells what a macro's value is, and how an option has it.
pub(super) fn literal_of(text: &str) -> (Literal, String) {
    let is_number = text.parse::<i64>().is_ok_and(|number| number.to_string() == text);
    let inner = text.strip_prefix('"').and_then(|rest| rest.strip_suffix('"'));
    match inner {
        _ if is_number => (Literal::Number, text.to_string()),
        Some(inner) if !inner.contains(['"', '\\']) => (Literal::Text, inner.to_string()),
        _ => (Literal::Code, text.to_string()),
    }
}
