//! One scale for how bad something is.

/// How bad something is, the worst first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// It is wrong, or stops what a person wants.
    Error,
    /// It is hardly meant so, or keeps something away.
    Warning,
    /// It could be better.
    Note,
}

impl Severity {
    /// All of the scale with their names, the worst first.
    pub const NAMED: [(&'static str, Severity); 3] =
        [("error", Severity::Error), ("warning", Severity::Warning), ("note", Severity::Note)];

    /// Returns its name.
    pub fn name(self) -> &'static str {
        Severity::NAMED.iter().find(|(_, severity)| *severity == self).map_or("", |(name, _)| name)
    }
}
