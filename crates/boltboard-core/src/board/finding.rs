//! What can be doubted about definitions, and where a maintainer has accepted it.

use super::need::NeedId;
use super::option::OptionId;
use super::part::PartId;
use crate::base::{Glob, Place};

/// What can be doubted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
pub enum FindingKind {
    /// No values at all meet the requirements.
    NoWay,
    /// An option's own requirements exclude each other.
    Contradiction,
    /// An option can never be on.
    NeverOn,
    /// An option can never be off.
    AlwaysOn,
    /// A pick's value can never be taken.
    ValueNever,
    /// A default can never count, or never be had while it counts.
    DefaultNever,
    /// What a default looks at depends on the option itself.
    DependsOnItself,
    /// A source that no part takes.
    LooseSource,
    /// A macro of the board that no source names.
    MacroUnread,
    /// A macro like the board's that sources test and nothing defines.
    MacroUnknown,
    /// A need for which no package is known.
    NoPackages,
    /// A need that nothing asks for.
    NeedUnused,
    /// A section without options.
    SectionEmpty,
    /// Something without a summary.
    NoSummary,
    /// A generator was seen to read what it does not declare.
    UndeclaredRead,
    /// Something was accepted that is not found.
    AcceptedInVain,
}

/// How grave a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum FindingLevel {
    /// It cannot be meant so.
    Wrong,
    /// It is hardly meant so.
    Doubtful,
    /// It could be better for the people who read it.
    Untidy,
}

impl FindingLevel {
    /// All levels with their names, the gravest first.
    pub const NAMED: [(&'static str, FindingLevel); 3] =
        [("wrong", FindingLevel::Wrong), ("doubtful", FindingLevel::Doubtful), ("untidy", FindingLevel::Untidy)];

    /// Returns the name.
    pub fn name(self) -> &'static str {
        Self::NAMED[self as usize].0
    }
}

impl FindingKind {
    /// All kinds with their names and levels.
    pub const NAMED: [(&'static str, FindingKind, FindingLevel); 16] = [
        ("no-way", FindingKind::NoWay, FindingLevel::Wrong),
        ("contradiction", FindingKind::Contradiction, FindingLevel::Wrong),
        ("never-on", FindingKind::NeverOn, FindingLevel::Wrong),
        ("always-on", FindingKind::AlwaysOn, FindingLevel::Doubtful),
        ("value-never", FindingKind::ValueNever, FindingLevel::Wrong),
        ("default-never", FindingKind::DefaultNever, FindingLevel::Doubtful),
        ("depends-on-itself", FindingKind::DependsOnItself, FindingLevel::Doubtful),
        ("loose-source", FindingKind::LooseSource, FindingLevel::Doubtful),
        ("macro-unread", FindingKind::MacroUnread, FindingLevel::Doubtful),
        ("macro-unknown", FindingKind::MacroUnknown, FindingLevel::Doubtful),
        ("no-packages", FindingKind::NoPackages, FindingLevel::Untidy),
        ("need-unused", FindingKind::NeedUnused, FindingLevel::Doubtful),
        ("section-empty", FindingKind::SectionEmpty, FindingLevel::Untidy),
        ("no-summary", FindingKind::NoSummary, FindingLevel::Untidy),
        ("undeclared-read", FindingKind::UndeclaredRead, FindingLevel::Untidy),
        ("accepted-in-vain", FindingKind::AcceptedInVain, FindingLevel::Doubtful),
    ];

    /// Returns the name as written in definitions.
    pub fn name(self) -> &'static str {
        Self::NAMED[self as usize].0
    }

    /// Returns how grave it is.
    pub fn level(self) -> FindingLevel {
        Self::NAMED[self as usize].2
    }

    /// Returns the kind of a name.
    pub fn of_name(name: &str) -> Option<FindingKind> {
        Self::NAMED.iter().find(|(known, _, _)| *known == name).map(|(_, kind, _)| *kind)
    }
}

/// What a maintainer knows and accepts.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct Acceptance {
    /// What is accepted.
    pub kind: FindingKind,
    /// Of what.
    pub of: AcceptedOf,
    /// Why.
    pub reason: String,
    /// Where that is written.
    pub place: Place,
}

/// What an acceptance is about.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub enum AcceptedOf {
    /// An option.
    Option(OptionId),
    /// A need.
    Need(NeedId),
    /// A part.
    Part(PartId),
    /// Files that match one of these.
    Files(Vec<Glob>),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_is_in_the_order_of_the_kinds() {
        for (index, (name, kind, _)) in FindingKind::NAMED.iter().enumerate() {
            assert_eq!(*kind as usize, index, "{name}");
            assert_eq!(FindingKind::of_name(name), Some(*kind));
        }
        for (name, level) in FindingLevel::NAMED {
            assert_eq!(level.name(), name);
        }
    }
}
