//! Answers of `set`, `unset` and `ways --apply`.

use boltboard_core::resolve::Effect;
use serde::Serialize;

use super::FORMAT;
use crate::commands::set::Recorded;
use crate::render::moved::{Moved, Moves};
use crate::session::Session;

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct MovesAnswer {
    format: u32,
    profile: String,
    saved: bool,
    recorded: Vec<String>,
    removed: Vec<String>,
    values: Vec<MovedAnswer>,
    gained_effect: Vec<String>,
    lost_effect: Vec<String>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct MovedAnswer {
    option: String,
    before: Option<String>,
    after: String,
    origin: String,
    applies: bool,
}

/// Answers with what was recorded, if it was, and which values changed.
pub fn moves(session: &Session, moves: &Moves, recorded: Option<&Recorded>) -> MovesAnswer {
    let name = |option| session.board.options[option].name.clone();
    let moved = |moved: &Moved| MovedAnswer {
        option: name(moved.option),
        before: moved.before.as_ref().map(ToString::to_string),
        after: moved.after.to_string(),
        origin: moved.origin.clone(),
        applies: moved.effect == Effect::Applies,
    };
    MovesAnswer {
        format: FORMAT,
        profile: session.profile.to_string(),
        saved: recorded.is_some(),
        recorded: recorded.map_or(Vec::new(), |recorded| recorded.chosen.clone()),
        removed: recorded.map_or(Vec::new(), |recorded| recorded.undone.clone()),
        values: moves.values.iter().map(moved).collect(),
        gained_effect: moves.applies.iter().map(|id| name(*id)).collect(),
        lost_effect: moves.no_effect.iter().map(|id| name(*id)).collect(),
    }
}
