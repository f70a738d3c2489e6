//! `boltboard profile new --start`

use std::time::{SystemTime, UNIX_EPOCH};

use boltboard_core::board::Board;
use boltboard_core::profile::{ProfileFile, ProfileName};
use boltboard_core::resolve::{Started, StartingPoint, start};

use crate::fault::Stop;
use crate::render::text::count;
use crate::session::Session;

/// How many options that are otherwise than wanted are named.
const NAMED: usize = 8;

/// Reads a starting point as typed.
pub(super) fn read(text: &str) -> Result<StartingPoint, String> {
    Ok(match text {
        "smallest" => StartingPoint::Smallest,
        "everything" => StartingPoint::Everything,
        "all-loadable" => StartingPoint::AllLoadable,
        "this-host" => StartingPoint::ThisHost,
        "random" => {
            // The seed is told, so that the same profile can be had again.
            let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
            StartingPoint::Random(now.as_nanos() as u64 % 1_000_000)
        }
        _ => {
            let seed = text.strip_prefix("random:").and_then(|seed| seed.parse().ok());
            let known = "smallest, everything, all-loadable, this-host, random, or random:SEED with a number";
            StartingPoint::Random(seed.ok_or_else(|| format!("it is one of {known}"))?)
        }
    })
}

/// Puts the choices of a starting point into a new profile.
pub(super) fn begin(
    session: &Session,
    name: &ProfileName,
    file: &mut ProfileFile,
    from: &StartingPoint,
) -> Result<(StartingPoint, Started), Stop> {
    let below = session.choices_as(name, &file.text())?;
    let facts = session.facts(&below)?;
    // Where what it is based on does not hold, that is told as ever.
    let resolved = session.resolve_these(below, facts)?;
    let started = start(&session.board, &session.logic, from, &resolved.choices, &resolved.facts);
    let started = started.unwrap_or(Started { chosen: Vec::new(), let_go: Vec::new() });
    for (option, value) in &started.chosen {
        file.set(&session.board.options[*option].name, value, None);
    }
    session.resolve_these(session.choices_as(name, &file.text())?, resolved.facts)?;
    Ok((from.clone(), started))
}

/// Says what it came to.
pub(super) fn told(board: &Board, (from, started): &(StartingPoint, Started)) -> String {
    let seed = if let StartingPoint::Random(seed) = from { format!(", from random:{seed}") } else { String::new() };
    let mut text =
        format!("  {} together{seed}.\n", count(started.chosen.len(), "choice that holds", "choices that hold"));
    if !started.let_go.is_empty() {
        let names: Vec<&str> =
            started.let_go.iter().take(NAMED).map(|option| board.options[*option].name.as_str()).collect();
        let more = started.let_go.len() - names.len();
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        text += &format!("  Not so beside the others, or not on this host: {}{more}\n", names.join(", "));
    }
    text
}
