//! The kinds of options: all that tells them apart, but for how a definition says one and what the solver makes of it.

use std::ops::RangeInclusive;

use super::output::MacroForm;
use super::value::{Linkage, Switch, Value, ValueFault, read_size, shown_size};
use crate::base::near_matches;

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

    /// Tells whether it is off or on, maybe in more than one way.
    pub fn is_on_off(&self) -> bool {
        self.on_word().is_some()
    }

    /// Returns what to choose for on, of a kind that is off or on.
    pub fn on_word(&self) -> Option<&'static str> {
        match self {
            Kind::Switch => Some("on"),
            Kind::Module => Some("loadable"),
            Kind::Pick(_) | Kind::Number(_) | Kind::Size(_) | Kind::Text | Kind::Path | Kind::Words(_) => None,
        }
    }

    /// Tells whether it is a number, of whatever unit.
    pub fn is_number(&self) -> bool {
        matches!(self, Kind::Number(_) | Kind::Size(_))
    }

    /// Tells whether one value can be more than another.
    pub fn is_ordered(&self) -> bool {
        self.is_number() || *self == Kind::Module
    }

    /// Tells whether a definition can list its values.
    pub fn has_list(&self) -> bool {
        matches!(self, Kind::Pick(_) | Kind::Words(_))
    }

    /// Tells whether any text is a value of it.
    pub fn is_free(&self) -> bool {
        matches!(self, Kind::Text | Kind::Path | Kind::Words(_))
    }

    /// Tells whether a default can be put together of other options' values.
    pub fn can_be_derived(&self) -> bool {
        matches!(self, Kind::Text | Kind::Path)
    }

    /// Returns the same kind without its range: a comparison may name a value beyond it (`depth < 100`).
    pub fn without_range(&self) -> Kind {
        match self {
            Kind::Number(_) => Kind::Number(i64::MIN..=i64::MAX),
            Kind::Size(_) => Kind::Size(0..=u64::MAX),
            other => other.clone(),
        }
    }

    /// Returns the value of this many units.
    pub fn of_number(&self, number: i128) -> Option<Value> {
        match self {
            Kind::Size(_) => u64::try_from(number).ok().map(Value::Size),
            _ => i64::try_from(number).ok().map(Value::Number),
        }
    }

    /// Says a number of its units.
    pub fn shown_number(&self, number: i128) -> String {
        self.of_number(number).map_or_else(|| number.to_string(), |value| value.to_string())
    }

    /// Returns what a value means, where its definition says so.
    pub fn summary_of(&self, value: &str) -> Option<&str> {
        match self {
            Kind::Pick(values) => values.iter().find(|known| known.name == value).map(|known| known.summary.as_str()),
            _ => None,
        }
    }

    /// Returns how the header shows a value where no definition says it; `zero` asks for 0 instead of nothing.
    pub fn usual_form(&self, zero: bool) -> MacroForm {
        match self {
            Kind::Switch | Kind::Module if zero => MacroForm::OneOrZero,
            Kind::Switch | Kind::Module => MacroForm::OneOrAbsent,
            Kind::Number(_) | Kind::Size(_) => MacroForm::Plain,
            Kind::Pick(_) | Kind::Text | Kind::Path | Kind::Words(_) => MacroForm::Quoted,
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
