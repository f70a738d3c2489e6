//! Answers about results that are shared.

use boltboard_core::shared::{OthersCounts, OthersReport};
use serde::Serialize;

use super::FORMAT;

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct SharedAnswer {
    format: u32,
    address: String,
    found: usize,
    taken: usize,
    taken_bytes: u64,
    given: usize,
    private: usize,
    left: usize,
    spoilt: usize,
    off: Option<String>,
    takes_nothing: Option<String>,
}

/// Answers `store push` and `store check`.
pub fn shared(report: &OthersReport) -> SharedAnswer {
    let OthersCounts { given, private, spoilt } = report.counts;
    SharedAnswer {
        format: FORMAT,
        address: report.address.to_string(),
        found: report.found,
        taken: report.taken,
        taken_bytes: report.taken_bytes,
        given,
        private,
        left: report.left,
        spoilt,
        off: report.off.clone(),
        takes_nothing: report.takes_nothing.clone(),
    }
}
