//! Words as a shell takes them.

/// Writes a word so that a shell takes it as it is; plain ones stay as they are.
pub fn shell_word(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_./=+,:@%".contains(c);
    if !word.is_empty() && word.chars().all(plain) {
        word.to_string()
    } else {
        format!("'{}'", word.replace('\'', "'\\''"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_a_shell_would_change_is_quoted() {
        for plain in ["-DX=1", "/usr/include", "a,b", "50%"] {
            assert_eq!(shell_word(plain), plain);
        }
        for (word, want) in [("", "''"), ("two words", "'two words'"), ("don't", "'don'\\''t'"), ("$x", "'$x'")] {
            assert_eq!(shell_word(word), want);
        }
    }
}
