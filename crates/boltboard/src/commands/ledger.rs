//! `boltboard ledger`

use std::time::{SystemTime, UNIX_EPOCH};

use boltboard_core::store::{Ledger, LedgerOutcome};
use clap::Args;

use crate::args::Global;
use crate::exit::{Exit, Stop};
use crate::render::text::{Role, age, bytes, columns, duration};
use crate::render::{Screen, json};
use crate::session::Session;

/// List earlier builds
#[derive(Debug, Args)]
pub struct LedgerArgs {
    /// Only the last N
    #[arg(long, value_name = "N", default_value_t = 20)]
    last: usize,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &LedgerArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let mut ledger = Ledger::read(&session.work.ledger())?;
    let from = ledger.entries.len().saturating_sub(args.last);
    ledger.entries.drain(..from);
    if global.json {
        screen.json(&json::ledger(&ledger));
        return Ok(Exit::Done);
    }
    if ledger.entries.is_empty() {
        screen.out("Nothing was built here yet: boltboard build\n");
        return Ok(Exit::Done);
    }
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_secs());
    let head =
        ["when", "profile", "ended", "run", "stored", "of", "time", "parts"].map(|t| (Role::Faint, t.to_string()));
    let mut rows = vec![head.to_vec()];
    for entry in &ledger.entries {
        let (role, word) = match entry.outcome {
            LedgerOutcome::Done => (Role::Good, "done"),
            LedgerOutcome::Failed => (Role::Bad, "failed"),
            LedgerOutcome::Interrupted => (Role::Warn, "interrupted"),
        };
        rows.push(vec![
            (Role::Faint, age(now.saturating_sub(entry.started_s))),
            (Role::Name, entry.profile.clone()),
            (role, word.to_string()),
            (Role::Value, entry.ran.to_string()),
            (Role::Value, entry.from_store.to_string()),
            (Role::Faint, entry.steps.to_string()),
            (Role::Value, duration(entry.wall_ms)),
            (Role::Faint, bytes(entry.output_bytes)),
        ]);
    }
    screen.out(&columns(&rows, 0, screen.width));
    Ok(Exit::Done)
}
