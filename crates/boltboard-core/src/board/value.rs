//! Values of options, as people write them and as the program compares them.

use std::cmp::Ordering;
use std::fmt;

use crate::expr::{Literal, Op};

/// The value of a switch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
pub enum Switch {
    /// Not in.
    Off,
    /// In.
    On,
}

/// The value of a module. The order is the order of "how much": a built-in module is more than a loadable one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
pub enum Linkage {
    /// Not made.
    Off,
    /// A file of its own that is loaded when the program runs.
    Loadable,
    /// Part of the program.
    Builtin,
}

/// A value of an option. Its variant is that of the option's kind.
#[derive(Debug, Clone, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize)]
pub enum Value {
    /// Of a switch.
    Switch(Switch),
    /// Of a module.
    Module(Linkage),
    /// Of a pick: one of its values.
    Pick(String),
    /// Of a number.
    Number(i64),
    /// Of a size, in bytes.
    Size(u64),
    /// Of a text; no control characters.
    Text(String),
    /// Of a path; no control characters.
    Path(String),
    /// Of a list of words; no word is empty or holds a blank.
    Words(Vec<String>),
}

/// A text that is no value of an option.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("does not accept `{found}`; it accepts {expected}")]
pub struct ValueFault {
    /// The text.
    pub found: String,
    /// What would be right, in words.
    pub expected: String,
    /// Values that the person may have meant.
    pub near: Vec<String>,
}

impl Value {
    /// Tells whether the value is a switch's or module's `off`.
    pub fn is_off(&self) -> bool {
        matches!(self, Value::Switch(Switch::Off) | Value::Module(Linkage::Off))
    }

    /// Tells whether the value compares so with another one of the same kind. Words are compared with `=` and `!=`
    /// only: a list "equals" a single word when it holds that word.
    pub fn compares(&self, op: Op, other: &Value) -> bool {
        let order = match (self, other) {
            (Value::Switch(a), Value::Switch(b)) => a.cmp(b),
            (Value::Module(a), Value::Module(b)) => a.cmp(b),
            (Value::Number(a), Value::Number(b)) => a.cmp(b),
            (Value::Size(a), Value::Size(b)) => a.cmp(b),
            (Value::Words(list), Value::Words(wanted)) => {
                let holds = wanted.iter().all(|word| list.contains(word));
                if holds { Ordering::Equal } else { Ordering::Less }
            }
            (a, b) => {
                if a == b {
                    Ordering::Equal
                } else {
                    Ordering::Less
                }
            }
        };
        op.accepts(order)
    }

    /// Returns the value as it stands in a condition or on the command line.
    pub fn literal(&self) -> Literal {
        match self {
            Value::Switch(_) | Value::Module(_) | Value::Number(_) | Value::Size(_) => Literal::Bare(self.to_string()),
            Value::Pick(word) if crate::expr::is_name(word) => Literal::Bare(word.clone()),
            Value::Pick(_) | Value::Text(_) | Value::Path(_) | Value::Words(_) => Literal::Quoted(self.to_string()),
        }
    }
}

impl fmt::Display for Switch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Switch::Off => "off",
            Switch::On => "on",
        })
    }
}

impl fmt::Display for Linkage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Linkage::Off => "off",
            Linkage::Loadable => "loadable",
            Linkage::Builtin => "builtin",
        })
    }
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::Switch(switch) => switch.fmt(f),
            Value::Module(linkage) => linkage.fmt(f),
            Value::Pick(text) | Value::Text(text) | Value::Path(text) => f.write_str(text),
            Value::Number(number) => number.fmt(f),
            Value::Size(bytes) => f.write_str(&shown_size(*bytes)),
            Value::Words(words) => f.write_str(&words.join(" ")),
        }
    }
}

const UNITS: [(&str, u64); 8] = [
    ("TiB", 1 << 40),
    ("GiB", 1 << 30),
    ("MiB", 1 << 20),
    ("KiB", 1 << 10),
    ("GB", 1_000_000_000),
    ("MB", 1_000_000),
    ("kB", 1_000),
    ("B", 1),
];

/// Reads a size such as `64KiB`, `2 MB` or `4096` (bytes).
pub fn read_size(text: &str) -> Option<u64> {
    let text = text.trim();
    let digits = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    let number: u64 = text[..digits].parse().ok()?;
    let unit = text[digits..].trim();
    let factor = if unit.is_empty() { 1 } else { UNITS.iter().find(|(name, _)| *name == unit)?.1 };
    number.checked_mul(factor)
}

/// Writes a size with the largest binary unit that leaves a whole number.
pub fn shown_size(bytes: u64) -> String {
    let binary = UNITS[..4].iter().find(|(_, factor)| bytes >= *factor && bytes.is_multiple_of(*factor));
    match binary {
        Some((unit, factor)) => format!("{}{unit}", bytes / factor),
        None => format!("{bytes}B"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_read_and_written_back() {
        for (text, bytes, shown) in [
            ("4096", Some(4096), "4KiB"),
            ("64KiB", Some(65536), "64KiB"),
            ("1000", Some(1000), "1000B"),
            ("2 MB", Some(2_000_000), "2000000B"),
            ("0", Some(0), "0B"),
            ("12 parsecs", None, ""),
            ("-4", None, ""),
            ("99999999999999999999", None, ""),
            ("99999999TiB", None, ""),
        ] {
            assert_eq!(read_size(text), bytes, "{text}");
            if let Some(bytes) = bytes {
                assert_eq!(shown_size(bytes), shown);
                assert_eq!(read_size(shown), Some(bytes), "the shown form reads back");
            }
        }
    }
}
