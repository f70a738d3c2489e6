//! Answers about results that are shared.

use std::collections::BTreeMap;
use std::time::{SystemTime, UNIX_EPOCH};

use boltboard_core::base::web::Address;
use boltboard_core::shared::{Amount, OthersCounts, OthersReport, Pruned, Stock};
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

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct AmountAnswer {
    files: usize,
    bytes: u64,
}

impl From<Amount> for AmountAnswer {
    fn from(amount: Amount) -> AmountAnswer {
        AmountAnswer { files: amount.files, bytes: amount.bytes }
    }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct StockAnswer {
    format: u32,
    address: String,
    #[serde(flatten)]
    all: AmountAnswer,
    kinds: BTreeMap<&'static str, AmountAnswer>,
    first_given_s: Option<u64>,
    last_given_s: Option<u64>,
}

/// Answers `store size`.
pub fn stocked(stock: &Stock) -> StockAnswer {
    let seconds = |time: SystemTime| time.duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
    let given = stock.given();
    StockAnswer {
        format: FORMAT,
        address: stock.address().to_string(),
        all: stock.amount().into(),
        kinds: stock.kinds().into_iter().map(|(kind, amount)| (kind.word(), amount.into())).collect(),
        first_given_s: given.map(|(first, _)| seconds(first)),
        last_given_s: given.map(|(_, last)| seconds(last)),
    }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct PrunedAnswer {
    format: u32,
    address: String,
    removed: AmountAnswer,
    needed: AmountAnswer,
    left: AmountAnswer,
    ageless: usize,
    changed: usize,
    why: Option<String>,
}

/// Answers `store prune`.
pub fn pruned(address: &Address, pruned: &Pruned) -> PrunedAnswer {
    let Pruned { removed, needed, left, ageless, changed, why } = pruned;
    PrunedAnswer {
        format: FORMAT,
        address: address.to_string(),
        removed: (*removed).into(),
        needed: (*needed).into(),
        left: (*left).into(),
        ageless: *ageless,
        changed: *changed,
        why: why.clone(),
    }
}
