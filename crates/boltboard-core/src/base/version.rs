//! Versions and ranges of them, compared as the trade does.
//!
//! A version is cut into runs of digits and runs of letters; separators do not count, and neither do zeros at the end of a
//! row of numbers (`1.2 = 1.2.0`). Digits compare as numbers, letters as text. Where two versions differ first,
//! a word before release is oldest (`alpha`, `beta`, `pre`, `rc`, `dev`; `a` and `b` before a number; anything after `~`), then
//! comes the version that ends there, then one with another word (`1.1.1k`, `9.3p2`), then one with a further number:
//! `1.0-rc1 < 1.0 < 1.0k < 1.0.1`.

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::op::Op;

/// A version as its owner wrote it.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
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
        let mut runs: Vec<Run<'_>> = Vec::new();
        let mut start = 0;
        let mut class = Class::Other;
        for (at, c) in text.char_indices().chain([(text.len(), '.')]) {
            let now = Class::of(c);
            if now == class && at != text.len() {
                continue;
            }
            let run = &text[start..at];
            match class {
                Class::Digit => runs.push(Run::Number(run.trim_start_matches('0'))),
                Class::Letter => {
                    drop_zeros(&mut runs);
                    let numbered = now == Class::Digit;
                    runs.push(if is_before_release(run, numbered) { Run::Early(run) } else { Run::Word(run) });
                }
                Class::Other if run.contains('~') => {
                    drop_zeros(&mut runs);
                    runs.push(Run::Early(""));
                }
                Class::Other => {}
            }
            start = at;
            class = now;
        }
        drop_zeros(&mut runs);
        runs.push(Run::End);
        runs
    }
}

fn drop_zeros(runs: &mut Vec<Run<'_>>) {
    while runs.last() == Some(&Run::Number("")) {
        runs.pop();
    }
}

fn is_before_release(word: &str, numbered: bool) -> bool {
    match word.to_ascii_lowercase().as_str() {
        "alpha" | "beta" | "pre" | "rc" | "dev" => true,
        "a" | "b" => numbered,
        _ => false,
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

/// A piece of a version, in the order of age where two versions differ.
#[derive(PartialEq)]
enum Run<'a> {
    /// A word before release.
    Early(&'a str),
    /// Nothing more comes.
    End,
    /// Another word.
    Word(&'a str),
    /// Digits without leading zeros.
    Number(&'a str),
}

impl Run<'_> {
    fn age(&self) -> u8 {
        match self {
            Run::Early(_) => 0,
            Run::End => 1,
            Run::Word(_) => 2,
            Run::Number(_) => 3,
        }
    }

    fn order(&self, other: &Run<'_>) -> Ordering {
        match (self, other) {
            (Run::Number(a), Run::Number(b)) => a.len().cmp(&b.len()).then_with(|| a.cmp(b)),
            (Run::Word(a), Run::Word(b)) | (Run::Early(a), Run::Early(b)) => a.cmp(b),
            _ => self.age().cmp(&other.age()),
        }
    }
}

impl Ord for Version {
    fn cmp(&self, other: &Self) -> Ordering {
        let (left, right) = (self.runs(), other.runs());
        let orders = left.iter().zip(&right).map(|(a, b)| a.order(b));
        orders.into_iter().find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
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

impl Serialize for VersionRange {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for VersionRange {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
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
        let oldest_first = [
            "0.9",
            "1.0~git5",
            "1.0-alpha",
            "1.0-beta",
            "1.0dev",
            "1.0-pre2",
            "1.0-rc1",
            "1.0-rc2",
            "1.0",
            "1.0k",
            "1.0w",
            "1.0.1",
            "1.1a1",
            "1.1",
            "1.1a",
            "1.1b",
            "1.1.1",
            "1.1.1k",
            "1.2",
            "1.2p1",
            "1.2p2",
            "1.9",
            "1.10",
            "2.9.9",
            "10",
            "2024.1",
        ];
        for (at, older) in oldest_first.iter().enumerate() {
            for newer in &oldest_first[at + 1..] {
                assert!(Version::new(older) < Version::new(newer), "{older} < {newer}");
                assert!(Version::new(newer) > Version::new(older), "{newer} > {older}");
            }
        }
        for (one, same) in
            [("1.02", "1.2"), ("1.2", "1.2.0"), ("1", "1.0.0"), ("1.2-rc1", "1.2.0rc1"), ("v", "v"), ("", "0")]
        {
            assert_eq!(Version::new(one), Version::new(same), "{one} = {same}");
        }
    }

    #[test]
    fn a_version_can_be_wanted_exactly() {
        let range: VersionRange = "= 5.10".parse().unwrap();
        for (version, want) in
            [("5.10", true), ("5.10.0", true), ("5.10.1", false), ("5.1", false), ("5.10-rc1", false)]
        {
            assert_eq!(range.holds(&Version::new(version)), want, "{version}");
        }
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
