//! Options: what there is to decide, and what each value asks for.

use std::ops::RangeInclusive;

use super::interp::Interp;
use super::output::MacroDef;
use super::value::{Linkage, Switch, Value, ValueFault, read_size, shown_size};
use super::{Atom, Condition, SectionId};
use crate::base::{Id, Place, near_matches};
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
}

/// What values an option takes.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Kind {
    /// off, on
    Switch,
    /// off, loadable, builtin
    Module,
    /// One of a list; never empty.
    Pick(Vec<PickValue>),
    /// A whole number in a range.
    Number(RangeInclusive<i64>),
    /// A size in bytes, in a range.
    Size(RangeInclusive<u64>),
    /// Any text on one line.
    Text,
    /// A path of the host.
    Path,
    /// A list of words; an empty list of allowed ones allows all.
    Words(Vec<String>),
}

/// One value of a pick.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct PickValue {
    /// The value.
    pub name: String,
    /// One line about it; may be empty.
    pub summary: String,
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

impl Kind {
    /// All kinds' names, as written in definitions.
    pub const NAMES: [&'static str; 8] = ["switch", "module", "pick", "number", "size", "text", "path", "words"];

    /// Returns the kind's name.
    pub fn name(&self) -> &'static str {
        match self {
            Kind::Switch => "switch",
            Kind::Module => "module",
            Kind::Pick(_) => "pick",
            Kind::Number(_) => "number",
            Kind::Size(_) => "size",
            Kind::Text => "text",
            Kind::Path => "path",
            Kind::Words(_) => "words",
        }
    }

    /// Returns the value of an option that has no default of its own.
    pub fn own_default(&self) -> Value {
        match self {
            Kind::Switch => Value::Switch(Switch::Off),
            Kind::Module => Value::Module(Linkage::Off),
            Kind::Pick(values) => Value::Pick(values.first().map_or(String::new(), |v| v.name.clone())),
            Kind::Number(range) => Value::Number(0.clamp(*range.start(), *range.end())),
            Kind::Size(range) => Value::Size(*range.start()),
            Kind::Text => Value::Text(String::new()),
            Kind::Path => Value::Path(String::new()),
            Kind::Words(_) => Value::Words(Vec::new()),
        }
    }

    /// Says in words what values there are.
    pub fn expected(&self) -> String {
        let listed = |names: &[&str]| match names {
            [] => String::new(),
            [one] => format!("`{one}`"),
            [init @ .., last] => {
                let init: Vec<_> = init.iter().map(|n| format!("`{n}`")).collect();
                format!("{} or `{last}`", init.join(", "))
            }
        };
        match self {
            Kind::Switch => listed(&["off", "on"]),
            Kind::Module => listed(&["off", "loadable", "builtin"]),
            Kind::Pick(values) => listed(&values.iter().map(|v| v.name.as_str()).collect::<Vec<_>>()),
            Kind::Number(range) if *range == (i64::MIN..=i64::MAX) => "a whole number".into(),
            Kind::Number(range) => format!("a whole number from {} to {}", range.start(), range.end()),
            Kind::Size(range) if *range == (0..=u64::MAX) => "a size such as `64KiB`".into(),
            Kind::Size(range) => {
                format!("a size from {} to {}", shown_size(*range.start()), shown_size(*range.end()))
            }
            Kind::Text => "one line of text".into(),
            Kind::Path => "a path".into(),
            Kind::Words(allowed) if allowed.is_empty() => "words separated by spaces".into(),
            Kind::Words(allowed) => {
                format!("some of {}", listed(&allowed.iter().map(String::as_str).collect::<Vec<_>>()))
            }
        }
    }

    /// Returns the values that can be listed, for completion and near matches.
    pub fn listed(&self) -> Vec<&str> {
        match self {
            Kind::Switch => vec!["off", "on"],
            Kind::Module => vec!["off", "loadable", "builtin"],
            Kind::Pick(values) => values.iter().map(|v| v.name.as_str()).collect(),
            Kind::Words(allowed) => allowed.iter().map(String::as_str).collect(),
            Kind::Number(_) | Kind::Size(_) | Kind::Text | Kind::Path => vec![],
        }
    }

    /// Reads a value as a person writes it.
    ///
    /// # Errors
    /// The text is no value of this kind; says what is expected and what comes near.
    pub fn read(&self, text: &str) -> Result<Value, ValueFault> {
        let fault = |near_to: &str| ValueFault {
            found: text.escape_debug().to_string(),
            expected: self.expected(),
            near: near_matches(near_to, self.listed()),
        };
        if text.chars().any(char::is_control) || text.len() > 16 * 1024 {
            return Err(fault(text));
        }
        let value = match self {
            Kind::Switch => match text {
                "off" => Some(Value::Switch(Switch::Off)),
                "on" => Some(Value::Switch(Switch::On)),
                _ => None,
            },
            Kind::Module => match text {
                "off" => Some(Value::Module(Linkage::Off)),
                "loadable" => Some(Value::Module(Linkage::Loadable)),
                "builtin" => Some(Value::Module(Linkage::Builtin)),
                _ => None,
            },
            Kind::Pick(values) => values.iter().find(|v| v.name == text).map(|v| Value::Pick(v.name.clone())),
            Kind::Number(range) => read_number(text).filter(|n| range.contains(n)).map(Value::Number),
            Kind::Size(range) => read_size(text).filter(|n| range.contains(n)).map(Value::Size),
            Kind::Text => Some(Value::Text(text.to_string())),
            Kind::Path => Some(Value::Path(text.to_string())),
            Kind::Words(allowed) => {
                let words: Vec<String> = text.split_whitespace().map(str::to_string).collect();
                if let Some(wrong) = words.iter().find(|w| !allowed.is_empty() && !allowed.contains(w)) {
                    return Err(fault(wrong));
                }
                Some(Value::Words(words))
            }
        };
        value.ok_or_else(|| fault(text))
    }
}

fn read_number(text: &str) -> Option<i64> {
    match text.strip_prefix("0x") {
        Some(hex) => i64::from_str_radix(hex, 16).ok(),
        None => text.parse().ok(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_kind_reads_its_own_values_and_no_others() {
        let pick = Kind::Pick(vec![
            PickValue { name: "led".into(), summary: String::new() },
            PickValue { name: "arc".into(), summary: String::new() },
        ]);
        let allowed = Kind::Words(vec!["north".into(), "south".into()]);
        for (kind, text, want) in [
            (&Kind::Switch, "on", Some("on")),
            (&Kind::Switch, "builtin", None),
            (&Kind::Switch, "ON", None),
            (&Kind::Module, "loadable", Some("loadable")),
            (&pick, "arc", Some("arc")),
            (&pick, "gas", None),
            (&Kind::Number(1..=8), "8", Some("8")),
            (&Kind::Number(1..=8), "0x08", Some("8")),
            (&Kind::Number(1..=8), "9", None),
            (&Kind::Number(i64::MIN..=i64::MAX), "four", None),
            (&Kind::Size(1024..=4096), "2KiB", Some("2KiB")),
            (&Kind::Size(1024..=4096), "1B", None),
            (&Kind::Text, "two words", Some("two words")),
            (&Kind::Text, "two\nlines", None),
            (&allowed, " south  north ", Some("south north")),
            (&allowed, "south nroth", None),
        ] {
            assert_eq!(kind.read(text).ok().map(|v| v.to_string()).as_deref(), want, "{} {text:?}", kind.name());
        }
        assert_eq!(allowed.read("nroth").expect_err("misspelt").near, ["north"]);
        assert_eq!(pick.read("ark").expect_err("misspelt").expected, "`led` or `arc`");
    }
}
