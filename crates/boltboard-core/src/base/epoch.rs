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

    /// Returns the seconds since 1970.
    pub fn seconds(self) -> u64 {
        u64::from(self.0)
    }

    /// Returns the time as ISO 8601 spells it, in UTC.
    pub fn iso(self) -> String {
        let (days, second) = (self.0 / 86_400, self.0 % 86_400);
        let (year, month, day) = date_of(days);
        format!("{year}-{:02}-{day:02}T{:02}:{:02}:{:02}Z", month + 1, second / 3600, second / 60 % 60, second % 60)
    }

    /// Returns the time as `__TIMESTAMP__` spells it.
    pub fn timestamp(self) -> String {
        const DAYS: [&str; 7] = ["Thu", "Fri", "Sat", "Sun", "Mon", "Tue", "Wed"];
        const MONTHS: [&str; 12] = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];
        let (days, second) = (self.0 / 86_400, self.0 % 86_400);
        let (year, month, day) = date_of(days);
        let (hour, minute) = (second / 3600, second / 60 % 60);
        let (weekday, month) = (DAYS[days as usize % 7], MONTHS[month as usize]);
        format!("{weekday} {month} {day:>2} {hour:02}:{minute:02}:{:02} {year}", second % 60)
    }
}

/// The year, the month from 0 and the day from 1 of so many days after the beginning of 1970.
fn date_of(days: u32) -> (u32, u32, u32) {
    let leaps = |year: u32| year.is_multiple_of(4) && (!year.is_multiple_of(100) || year.is_multiple_of(400));
    let (mut year, mut left) = (1970, days);
    loop {
        let long = if leaps(year) { 366 } else { 365 };
        if left < long {
            break;
        }
        left -= long;
        year += 1;
    }
    let lengths = [31, if leaps(year) { 29 } else { 28 }, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
    let mut month = 0;
    for length in lengths {
        if left < length {
            break;
        }
        left -= length;
        month += 1;
    }
    (year, month, left + 1)
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
        for (text, want) in [
            ("0", "Thu Jan  1 00:00:00 1970"),
            ("1767225599", "Wed Dec 31 23:59:59 2025"),
            ("951782400", "Tue Feb 29 00:00:00 2000"),
            ("4294967295", "Sun Feb  7 06:28:15 2106"),
        ] {
            assert_eq!(Epoch::parse(text).map(Epoch::timestamp).as_deref(), Some(want), "{text}");
        }
        assert_eq!(["", "soon", "-1", "99999999999"].map(Epoch::parse), [None; 4]);
    }
}
