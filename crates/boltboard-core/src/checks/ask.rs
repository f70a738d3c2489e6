//! What a compiler is asked. A check of the definitions is made of these few forms, so that a new one is new words there and
//! nothing else.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::base::{Op, VersionRange};

/// One thing that a compiler is asked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ask {
    /// What is asked, for people: "the type struct tm".
    pub title: String,
    /// What it is asked in.
    pub within: AskedIn,
    /// How it is asked.
    pub probe: Probe,
    /// What it means when the compiler refuses.
    pub no: No,
}

/// What stands before a question.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum AskedIn {
    /// The need's headers, macros and flags.
    Need,
    /// Nothing: it is a question to the compiler itself.
    Nothing,
    /// This header, and nothing else.
    Own(String),
}

/// How a compiler is asked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Probe {
    /// Lines must compile, beside those of other questions. [`Probe::NAME`] in them becomes a name that nothing else has.
    Lines(String),
    /// Free code must compile. It can spoil what follows it, and stands alone.
    Code(String),
    /// A constant of the language lies in a range.
    Holds {
        /// The constant.
        expression: String,
        /// Where it must lie.
        range: ValueRange,
    },
    /// A constant that holds three numbers of a version, the last two in eight bits each, lies in a range.
    PackedVersion {
        /// The constant.
        expression: String,
        /// The versions that fit.
        range: VersionRange,
    },
    /// A function can be linked.
    Function(String),
    /// The compiler takes a flag.
    Flag(String),
    /// The linker takes a flag.
    LinkFlag(String),
}

impl Probe {
    /// What stands in lines for a name of their own.
    pub const NAME: &str = "@";

    /// Lines that hold when a statement compiles, as `(void) sizeof(x)`.
    pub fn statement(inner: &str) -> Probe {
        Probe::Lines(format!("static void {}(void) {{ {inner}; }}\n", Probe::NAME))
    }

    /// Lines that hold when a condition of the preprocessor does. `words` are the error that people read otherwise.
    pub fn condition(condition: &str, words: &str) -> Probe {
        Probe::Lines(format!("#if !({condition})\n#error {words}\n#endif\n"))
    }

    /// Reads a number as the version that it holds.
    pub fn unpack_version(number: i64) -> String {
        format!("{}.{}.{}", number >> 16, (number >> 8) & 0xff, number & 0xff)
    }
}

/// What a compiler's "no" means for a need.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum No {
    /// The need is not there, or is there and lacks this, which the sentence says: "it has no type x".
    Lacks(String),
    /// It does not do, which the sentence says.
    Unfit(String),
    /// It is not there, and the compiler's words say why.
    Absent,
}

/// A condition on a whole number: `>= 0x1270, < 0x2000`; every part must hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ValueRange {
    bounds: Vec<(Op, i64)>,
    text: String,
}

/// A text is not a value range.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a range of whole numbers; write for example \">= 8\" or \">= 0x1270, < 0x2000\"")]
pub struct ValueRangeFault(String);

impl FromStr for ValueRange {
    type Err = ValueRangeFault;
    fn from_str(text: &str) -> Result<Self, ValueRangeFault> {
        let fault = || ValueRangeFault(text.to_string());
        let mut bounds = Vec::new();
        for part in text.split(',').map(str::trim) {
            let op = Op::ALL.into_iter().find(|op| part.starts_with(op.sign())).ok_or_else(fault)?;
            let number = part[op.sign().len()..].trim();
            let value = match number.strip_prefix("0x") {
                Some(hex) => i64::from_str_radix(hex, 16),
                None => number.parse(),
            };
            bounds.push((op, value.map_err(|_| fault())?));
        }
        Ok(ValueRange { bounds, text: text.trim().to_string() })
    }
}

impl ValueRange {
    /// Writes the condition in C, for an expression.
    pub fn as_condition(&self, expression: &str) -> String {
        let each = self.bounds.iter().map(|(op, limit)| {
            let sign = if *op == Op::Equal { "==" } else { op.sign() };
            format!("(long long) ({expression}) {sign} {limit}LL")
        });
        each.collect::<Vec<_>>().join(" && ")
    }

    /// Tells whether a number lies in the range.
    pub fn holds(&self, number: i64) -> bool {
        self.bounds.iter().all(|(op, limit)| op.accepts(number.cmp(limit)))
    }
}

impl fmt::Display for ValueRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_of_numbers_hold_on_both_sides() {
        let range: ValueRange = ">= 0x10, < 32, != 20".parse().unwrap();
        for (number, want) in [(15, false), (16, true), (20, false), (31, true), (32, false)] {
            assert_eq!(range.holds(number), want, "{number}");
        }
        for wrong in ["", "8", ">= x", ">= 1,", "= 0xg"] {
            assert!(wrong.parse::<ValueRange>().is_err(), "{wrong:?}");
        }
    }

    #[test]
    fn a_packed_number_is_a_version() {
        for (number, want) in [(0x06_01_80, "6.1.128"), (0x02_06_20, "2.6.32"), (0, "0.0.0")] {
            assert_eq!(Probe::unpack_version(number), want);
        }
    }
}
