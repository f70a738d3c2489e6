//! Profiles that were put together anew.

use boltboard_core::board::Board;
use boltboard_core::profile::{Join, Merged, ProfileName, Said};
use serde::Serialize;

use super::FORMAT;

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ReshapedAnswer {
    format: u32,
    written: Vec<String>,
    shared: Vec<String>,
    values_compared: Option<usize>,
}

/// What `profile flatten` and `profile factor` wrote.
pub fn reshaped(written: &[String], shared: &[String], compared: Option<usize>) -> ReshapedAnswer {
    ReshapedAnswer { format: FORMAT, written: written.to_vec(), shared: shared.to_vec(), values_compared: compared }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct MergedAnswer {
    format: u32,
    profile: String,
    written: bool,
    joined: Vec<JoinedAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct JoinedAnswer {
    option: String,
    base: Option<SaidAnswer>,
    left: Option<SaidAnswer>,
    right: Option<SaidAnswer>,
    outcome: &'static str,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct SaidAnswer {
    value: String,
    reason: Option<String>,
}

/// What came of a merge.
pub fn merged(board: &Board, merged: &Merged, to: &ProfileName) -> MergedAnswer {
    let said = |said: &Option<Said>| {
        said.as_ref().map(|said| SaidAnswer { value: said.text.clone(), reason: said.reason.clone() })
    };
    let joined = merged.joined.iter().map(|joined| JoinedAnswer {
        option: joined.subject.name(board),
        base: said(&joined.said[0]),
        left: said(&joined.said[1]),
        right: said(&joined.said[2]),
        outcome: match joined.join {
            Join::Left => "left",
            Join::Right => "right",
            Join::Alike => "alike",
            Join::Settled => "settled",
            Join::Clash => "clash",
        },
    });
    let written = merged.draft.is_some();
    MergedAnswer { format: FORMAT, profile: to.to_string(), written, joined: joined.collect() }
}
