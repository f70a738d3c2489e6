//! Names as C has them, of macros and of environment variables alike.

/// Tells whether a text is a name in C: letters, digits and `_`, with no digit first.
pub fn is_c_name(text: &str) -> bool {
    text.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
        && text.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
}
