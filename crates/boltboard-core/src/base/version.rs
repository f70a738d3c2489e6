//! Versions and ranges of them, compared as the trade does.
//!
//! Order: a version is cut into runs of digits and runs of letters; separators do not count. Digits compare as
//! numbers, letters as text, and digits come after letters. Where one version ends, the other is newer, unless it goes
//! on with a pre-release word (`a`, `alpha`, `b`, `beta`, `pre`, `rc`, `dev`): then it is older (`1.0-rc1 < 1.0 < 1.0.1`).

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

use super::op::Op;

/// A version as its owner wrote it.
#[derive(Debug, Clone)]
pub struct Version {
    text: String,
}

impl Version {
    /// Takes a text as a version; every text is one.
    pub fn new(text: &str) -> Version {
        Version { text: text.trim().to_string() }
    }

    /// Returns the version as written.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    fn runs(&self) -> Vec<Run<'_>> {
        let text = self.text.as_str();
        let mut runs = Vec::new();
        let mut start = 0;
        let mut class = Class::Other;
        for (at, c) in text.char_indices().chain([(text.len(), '.')]) {
            let now = Class::of(c);
            if now != class || at == text.len() {
                match class {
                    Class::Digit => runs.push(Run::Number(text[start..at].trim_start_matches('0'))),
                    Class::Letter => runs.push(Run::Word(&text[start..at])),
                    Class::Other => {}
                }
                start = at;
                class = now;
            }
        }
        runs
    }
}

#[derive(PartialEq, Clone, Copy)]
enum Class {
    Digit,
    Letter,
    Other,
}

impl Class {
    fn of(c: char) -> Class {
        if c.is_ascii_digit() {
            Class::Digit
        } else if c.is_alphabetic() {
            Class::Letter
        } else {
            Class::Other
        }
    }
}

/// A run of a version: digits without leading zeros, or letters.
#[derive(PartialEq)]
enum Run<'a> {
    Word(&'a str),
    Number(&'a str),
}

impl Run<'_> {
    fn is_before_release(&self) -> bool {
        match self {
            Run::Word(word) => {
                matches!(word.to_ascii_lowercase().as_str(), "a" | "alpha" | "b" | "beta" | "pre" | "rc" | "dev")
            }
            Run::Number(_) => false,
        }
    }

    fn order(&self, other: &Run<'_>) -> Ordering {
        match (self, other) {
            (Run::Number(a), Run::Number(b)) => a.len().cmp(&b.len()).then_with(|| a.cmp(b)),
            (Run::Word(a), Run::Word(b)) => a.cmp(b),
            (Run::Number(_), Run::Word(_)) => Ordering::Greater,
            (Run::Word(_), Run::Number(_)) => Ordering::Less,
        }
    }
}

impl Ord for Version {
    fn cmp(&self, other: &Self) -> Ordering {
        let (left, right) = (self.runs(), other.runs());
        for pair in left.iter().zip(&right) {
            let order = pair.0.order(pair.1);
            if order != Ordering::Equal {
                return order;
            }
        }
        let shared = left.len().min(right.len());
        match (left.get(shared), right.get(shared)) {
            (Some(more), _) if more.is_before_release() => Ordering::Less,
            (Some(_), _) => Ordering::Greater,
            (None, Some(more)) if more.is_before_release() => Ordering::Greater,
            (None, Some(_)) => Ordering::Less,
            (None, None) => Ordering::Equal,
        }
    }
}
impl PartialOrd for Version {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}
impl PartialEq for Version {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}
impl Eq for Version {}
impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

/// A condition on a version: `>= 1.60, < 1.68`; every part must hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VersionRange {
    bounds: Vec<(Op, Version)>,
}

/// A text is not a version range.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a version range; write for example \">= 1.60, < 1.68\"")]
pub struct RangeFault(String);

impl FromStr for VersionRange {
    type Err = RangeFault;
    fn from_str(text: &str) -> Result<Self, RangeFault> {
        let fault = || RangeFault(text.to_string());
        let mut bounds = Vec::new();
        for part in text.split(',').map(str::trim) {
            let bound = Op::ALL.into_iter().find(|op| part.starts_with(op.sign())).ok_or_else(fault)?;
            let version = part[bound.sign().len()..].trim();
            if !version.starts_with(|c: char| c.is_ascii_alphanumeric()) {
                return Err(fault());
            }
            bounds.push((bound, Version::new(version)));
        }
        Ok(VersionRange { bounds })
    }
}

impl VersionRange {
    /// Tells whether a version lies in the range.
    pub fn holds(&self, version: &Version) -> bool {
        self.bounds.iter().all(|(bound, limit)| bound.accepts(version.cmp(limit)))
    }
}

impl fmt::Display for VersionRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, (bound, version)) in self.bounds.iter().enumerate() {
            write!(f, "{}{} {version}", if index == 0 { "" } else { ", " }, bound.sign())?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn orders_versions_as_the_trade_does() {
        for (older, newer) in [
            ("1.9", "1.10"),
            ("1.0-rc1", "1.0"),
            ("1.0-rc1", "1.0-rc2"),
            ("1.0alpha", "1.0beta"),
            ("1.0", "1.0.1"),
            ("1.0", "1.0a1x"),
            ("2.9.9", "10"),
            ("1.1.1k", "1.1.1w"),
        ] {
            if newer == "1.0a1x" {
                assert!(Version::new(newer) < Version::new(older), "a pre-release is older");
            } else {
                assert!(Version::new(older) < Version::new(newer), "{older} < {newer}");
            }
        }
        assert_eq!(Version::new("1.02"), Version::new("1.2"));
    }

    #[test]
    fn ranges_hold_on_both_sides() {
        let range: VersionRange = ">= 1.60, < 1.68, != 1.65".parse().unwrap();
        for (version, want) in [("1.59", false), ("1.60", true), ("1.65", false), ("1.67.9", true), ("1.68", false)] {
            assert_eq!(range.holds(&Version::new(version)), want, "{version}");
        }
        assert_eq!(range.to_string(), ">= 1.60, < 1.68, != 1.65");
        for wrong in ["", "1.2", ">= ", ">=1,,", "~ 3"] {
            assert!(wrong.parse::<VersionRange>().is_err(), "{wrong:?}");
        }
    }
}
