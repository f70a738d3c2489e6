//! Options: what there is to decide, and what each value asks for.

use super::interp::Interp;
use super::option_kind::Kind;
use super::output::MacroDef;
use super::value::Value;
use super::{Atom, Condition, SectionId};
use crate::base::{Id, Place};
use crate::expr::Expr;

/// The id of an [`OptionDef`].
pub type OptionId = Id<OptionDef>;
/// The id of a [`Rule`].
pub type RuleId = Id<Rule>;

/// One thing to decide.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct OptionDef {
    /// Its name.
    pub name: String,
    /// What values it takes.
    pub kind: Kind,
    /// One line about it.
    pub summary: String,
    /// More about it; may be empty.
    pub help: String,
    /// The section that it lies in.
    pub section: SectionId,
    /// Who it is for.
    pub level: Level,
    /// Who decides about it.
    pub decided_by: DecidedBy,
    /// Its defaults; the first whose condition holds counts. The last one has no condition.
    pub defaults: Vec<DefaultRule>,
    /// For kinds other than switch and module: the option matters only while this holds.
    pub applies_while: Option<Condition>,
    /// The rules that start at this option, in the order written.
    pub rules: Vec<RuleId>,
    /// The macros that carry its value into C code.
    pub macros: Vec<MacroDef>,
    /// Where its name is written.
    pub place: Place,
}

/// Who decides about an option.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum DecidedBy {
    /// People may choose it.
    People,
    /// Nobody chooses it: its value follows from its defaults, and from what requires it.
    Others,
    /// Nobody chooses it any more: it is as the tree was built that is installed.
    Kit,
}

/// Who an option is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
pub enum Level {
    /// Everybody who builds the tree.
    Everyday,
    /// Those who adjust it to their machine.
    Tuning,
    /// Those who work on it.
    Expert,
}

impl Level {
    /// All levels with their names, from the widest.
    pub const ALL: [(&'static str, Level); 3] =
        [("everyday", Level::Everyday), ("tuning", Level::Tuning), ("expert", Level::Expert)];

    /// Returns the name as written.
    pub fn name(self) -> &'static str {
        match self {
            Level::Everyday => "everyday",
            Level::Tuning => "tuning",
            Level::Expert => "expert",
        }
    }
}

/// A default that counts when its condition holds.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct DefaultRule {
    /// Its condition; none holds always.
    pub when: Option<Condition>,
    /// The value.
    pub value: DefaultValue,
    /// Where it is written; `None` for the kind's own default.
    pub place: Option<Place>,
}

/// A default's value.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub enum DefaultValue {
    /// As written.
    Fixed(Value),
    /// Made from other options' values (texts and paths only).
    Derived(Interp),
}

/// What an option asks for when it is on (switch, module) or takes one value (pick).
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct Rule {
    /// The option that asks.
    pub option: OptionId,
    /// The pick's value that asks; `None` for "not off".
    pub value: Option<String>,
    /// What must hold then.
    pub must: Expr<Atom>,
    /// How it was written.
    pub kind: RuleKind,
    /// Where it is written.
    pub place: Place,
}

/// How a rule was written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum RuleKind {
    /// Under `requires`.
    Requires,
    /// Under `conflicts`; the rule's condition is its opposite.
    Conflicts,
    /// Under `needs`.
    Needs,
}
