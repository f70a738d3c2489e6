//! What earlier versions of a tree had: old names of options, values that meant something else, options that were split or are gone.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::OptionId;

/// Stands for every value of an old option in [`Split::into`].
pub const ANY_VALUE: &str = "*";
/// Stands for the old value in what an old option became.
pub const OLD_VALUE: &str = "${value}";

/// What earlier versions had.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct History {
    /// Of options that there are.
    pub options: BTreeMap<OptionId, OptionPast>,
    /// Options that became several others, by their old names.
    pub split: BTreeMap<String, Split>,
    /// Options that are gone, by their old names.
    pub gone: BTreeMap<String, Gone>,
}

/// What an option was before.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct OptionPast {
    /// The first version that has it, under any name.
    pub since: Option<String>,
    /// Names that it had.
    pub was: Vec<String>,
    /// How its values changed.
    pub changed: Option<ChangedValues>,
}

/// What shows that a machine uses an option.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Signs {
    /// Patterns of devices that it serves, over the aliases by which the kernel names them.
    pub serves: Vec<String>,
    /// Programs, shared objects and modules that run, by name; files, by their absolute paths.
    pub shown_by: Vec<String>,
}

/// How the values of an option changed in a version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChangedValues {
    /// The version from which on the new values hold.
    pub version: String,
    /// What old values are called now.
    pub values: BTreeMap<String, String>,
    /// What old numbers are multiplied by.
    pub times: i64,
    /// What they are divided by then; rounded up.
    pub per: i64,
}

/// An option that became several others.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Split {
    /// The first version without it.
    pub since: Option<String>,
    /// A word to people.
    pub note: String,
    /// Choices that mean the same, as `OPTION=VALUE`, for each old value or [`ANY_VALUE`].
    pub into: BTreeMap<String, Vec<String>>,
}

/// An option that is gone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Gone {
    /// The first version without it.
    pub since: Option<String>,
    /// What to use instead, or why nothing is needed.
    pub note: String,
}

impl Split {
    /// Returns what a choice of the old option is now, as `OPTION=VALUE`; `None` when nothing is said about this value.
    pub fn choices(&self, value: &str) -> Option<Vec<String>> {
        let into = self.into.get(value).or_else(|| self.into.get(ANY_VALUE))?;
        Some(into.iter().map(|choice| choice.replace(OLD_VALUE, value)).collect())
    }
}

impl ChangedValues {
    /// Returns what an old value is called now; `None` where it is the same as before.
    pub fn now(&self, value: &str) -> Option<String> {
        if let Some(now) = self.values.get(value) {
            return Some(now.clone());
        }
        if self.times == self.per {
            return None;
        }
        let number: i64 = value.parse().ok()?;
        let times = number.checked_mul(self.times)?;
        // Rounded up, so that a bound is never less than it was.
        let rest = i64::from(times % self.per > 0);
        Some((times / self.per + rest).to_string())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn old_values_become_what_means_the_same() {
        let values = [("high".to_string(), "60".to_string())].into();
        let changed = ChangedValues { version: "3".into(), values, times: 1, per: 60 };
        let now = |value| changed.now(value);
        assert_eq!(now("high").as_deref(), Some("60"));
        assert_eq!(
            (now("120").as_deref(), now("90").as_deref(), now("0").as_deref()),
            (Some("2"), Some("2"), Some("0"))
        );
        assert_eq!(now("-90").as_deref(), Some("-1"));
        assert_eq!((now("low"), now("9223372036854775807").is_some()), (None, true));
        let plain = ChangedValues { times: 1, per: 1, ..changed.clone() };
        assert_eq!(plain.now("120"), None);
        let large = ChangedValues { times: 1000, per: 1, ..changed };
        assert_eq!(large.now("9223372036854775807"), None, "no overflow");
    }

    #[test]
    fn a_split_knows_each_value_or_any() {
        let into = [("on", vec!["a=on", "b=on"]), ("*", vec!["c=${value}"])];
        let into = into.map(|(k, v)| (k.to_string(), v.into_iter().map(str::to_string).collect())).into();
        let split = Split { since: None, note: String::new(), into };
        assert_eq!(split.choices("on").expect("known"), ["a=on", "b=on"]);
        assert_eq!(split.choices("7").expect("any"), ["c=7"]);
        let split = Split { into: BTreeMap::new(), ..split };
        assert_eq!(split.choices("on"), None);
    }
}
