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

/// Splits a text as a shell does: words with blanks between them, quotes around some, a backslash before what stands for itself.
pub fn shell_words(text: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut word: Option<String> = None;
    let mut quote = None;
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        match (quote, c) {
            (Some(open), c) if c == open => quote = None,
            (None, '"' | '\'') => {
                quote = Some(c);
                word.get_or_insert_default();
            }
            (None | Some('"'), '\\') => word.get_or_insert_default().extend(chars.next()),
            (None, c) if c.is_whitespace() => words.extend(word.take()),
            (_, c) => word.get_or_insert_default().push(c),
        }
    }
    words.extend(word);
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_what_a_shell_would_see() {
        for (text, words) in [
            ("a  b\n", vec!["a", "b"]),
            ("-DX='a b' \"c\\\"d\"", vec!["-DX=a b", "c\"d"]),
            ("a\\ b ''", vec!["a b", ""]),
            ("'a\\b'", vec!["a\\b"]),
            ("'-I/a b' -I/a\\ b", vec!["-I/a b", "-I/a b"]),
            ("", vec![]),
        ] {
            assert_eq!(shell_words(text), words);
        }
        let words = ["two words", "don't", "$x", "plain"];
        let text = words.map(shell_word).join(" ");
        assert_eq!(shell_words(&text), words);
    }

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
