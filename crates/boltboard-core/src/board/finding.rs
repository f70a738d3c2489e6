//! What can be doubted about definitions, and where a maintainer has accepted it.

use super::need::NeedId;
use super::option::OptionId;
use super::part::PartId;
use crate::base::{Glob, Place, Severity};

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
    /// Whether an option or value can be was too much work to decide.
    NotDecided,
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
    /// A macro that a part hands to its sources and that none of them names.
    DefineUnread,
    /// A library that options ask for and that no part is linked with.
    NeedUnlinked,
    /// An option that reaches no source and that nothing looks at.
    OptionUnused,
    /// A part that is installed, of a tree that does not say below which folder.
    NoPrefix,
    /// A pattern of what to leave out, or a folder to search, that matches nothing.
    PatternEmpty,
    /// Something was accepted that is not found.
    AcceptedNothing,
}

impl FindingKind {
    /// All kinds with their names and levels.
    pub const NAMED: [(&'static str, FindingKind, Severity); 22] = [
        ("no-way", FindingKind::NoWay, Severity::Error),
        ("contradiction", FindingKind::Contradiction, Severity::Error),
        ("never-on", FindingKind::NeverOn, Severity::Error),
        ("always-on", FindingKind::AlwaysOn, Severity::Warning),
        ("value-never", FindingKind::ValueNever, Severity::Error),
        ("not-decided", FindingKind::NotDecided, Severity::Warning),
        ("default-never", FindingKind::DefaultNever, Severity::Warning),
        ("depends-on-itself", FindingKind::DependsOnItself, Severity::Warning),
        ("loose-source", FindingKind::LooseSource, Severity::Warning),
        ("macro-unread", FindingKind::MacroUnread, Severity::Warning),
        ("macro-unknown", FindingKind::MacroUnknown, Severity::Warning),
        ("no-packages", FindingKind::NoPackages, Severity::Note),
        ("need-unused", FindingKind::NeedUnused, Severity::Warning),
        ("section-empty", FindingKind::SectionEmpty, Severity::Note),
        ("no-summary", FindingKind::NoSummary, Severity::Note),
        ("undeclared-read", FindingKind::UndeclaredRead, Severity::Note),
        ("define-unread", FindingKind::DefineUnread, Severity::Warning),
        ("need-unlinked", FindingKind::NeedUnlinked, Severity::Warning),
        ("option-unused", FindingKind::OptionUnused, Severity::Warning),
        ("no-prefix", FindingKind::NoPrefix, Severity::Error),
        ("pattern-empty", FindingKind::PatternEmpty, Severity::Warning),
        ("accepted-nothing", FindingKind::AcceptedNothing, Severity::Warning),
    ];

    /// Returns the name as written in definitions.
    pub fn name(self) -> &'static str {
        Self::NAMED[self as usize].0
    }

    /// Returns how bad it is.
    pub fn severity(self) -> Severity {
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
    }
}
