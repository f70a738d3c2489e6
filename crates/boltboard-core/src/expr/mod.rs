//! The small language of conditions: `fog and (lamp = led or not need:zlib) and depth >= 4`.
//!
//! Names are options, `need:NAME` is a need of the host, a bare switch or module name means "not off". `not` binds
//! tighter than `and`, `and` tighter than `or`. Reading gives a tree whose atoms carry their span; [`Expr`] prints
//! back in one canonical form, and reading that form gives the same tree again.

mod parse;
mod print;
mod token;
mod tree;

pub use crate::base::Op;
pub use parse::{ExprFault, FaultKind, parse};
pub use tree::{Expr, Literal, RawAtom, RawWhat};

/// Tells whether a text can name an option, need, part or section: letters, digits, `_`, `-`, with a letter among them and none of the
/// signs first.
/// The words of the language are taken.
pub fn is_name(text: &str) -> bool {
    text.len() <= 100
        && text.starts_with(|c: char| c.is_ascii_alphanumeric() || c == '_')
        && text.contains(|c: char| c.is_ascii_alphabetic() || c == '_')
        && text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-'))
        && !matches!(text, "and" | "or" | "not" | "need")
}

#[cfg(test)]
mod tests;
