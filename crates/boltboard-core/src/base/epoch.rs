//! The point in time that programs are built as if at.

use std::fmt;

/// Seconds since 1970 that stand for the time of a build, whenever it runs: what `SOURCE_DATE_EPOCH` says.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Epoch(u32);

impl Epoch {
    /// Reads the text of `SOURCE_DATE_EPOCH`; `None` when it is no number of seconds before the year 2106.
    pub fn parse(text: &str) -> Option<Epoch> {
        text.trim().parse().ok().map(Epoch)
    }

    /// Tells whether it is 1970, when nobody asked for another time.
    pub fn is_start(self) -> bool {
        self.0 == 0
    }

    /// Returns the time as `__TIMESTAMP__` spells it.
    pub fn timestamp(self) -> String {
        let time = chrono::DateTime::from_timestamp(i64::from(self.0), 0).unwrap_or_default();
        time.format("%a %b %e %H:%M:%S %Y").to_string()
    }
}

impl fmt::Display for Epoch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_spelt_as_compilers_do() {
        for (text, want) in [("0", "Thu Jan  1 00:00:00 1970"), ("1767225599", "Wed Dec 31 23:59:59 2025")] {
            assert_eq!(Epoch::parse(text).map(Epoch::timestamp).as_deref(), Some(want), "{text}");
        }
        assert_eq!(["", "soon", "-1", "99999999999"].map(Epoch::parse), [None; 4]);
    }
}
