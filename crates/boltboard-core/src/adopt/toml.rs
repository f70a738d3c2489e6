//! How keys, texts and lists are spelt in a drawn description.

use std::fmt::Write as _;

/// A list that is longer is folded, in letters.
const LINE: usize = 110;

/// A text in which nothing is filled in.
pub(super) fn literal(text: &str) -> String {
    text.replace("${", "$${")
}

pub(super) fn comment(out: &mut String, text: &str) {
    for line in text.lines() {
        let _ = writeln!(out, "# {line}");
    }
}

pub(super) fn key(out: &mut String, name: &str, value: &str) {
    let _ = writeln!(out, "{name} = {value}");
}

pub(super) fn texts(out: &mut String, name: &str, words: &[String]) {
    if !words.is_empty() {
        let words: Vec<String> = words.iter().map(|word| quoted(word)).collect();
        key(out, name, &folded(&words));
    }
}

pub(super) fn list(words: &[String]) -> String {
    format!("[{}]", words.iter().map(|word| quoted(word)).collect::<Vec<_>>().join(", "))
}

/// A list on one line, or on several where it is long.
pub(super) fn folded(items: &[String]) -> String {
    let line = format!("[{}]", items.join(", "));
    if line.chars().count() <= LINE {
        return line;
    }
    let mut lines = vec![String::new()];
    for item in items {
        let last = lines.last().map_or(0, |line| line.chars().count());
        if last > 0 && last + item.chars().count() > LINE - 8 {
            lines.push(String::new());
        }
        if let Some(line) = lines.last_mut() {
            let _ = write!(line, "{}{item},", if line.is_empty() { "" } else { " " });
        }
    }
    format!("[\n{}]", lines.iter().map(|line| format!("    {line}\n")).collect::<String>())
}

/// A text as TOML spells it.
pub(super) fn quoted(text: &str) -> String {
    toml_edit::Value::from(text).to_string()
}
