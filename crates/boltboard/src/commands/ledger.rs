//! `boltboard ledger`

use std::path::PathBuf;
use std::time::{SystemTime, UNIX_EPOCH};

use boltboard_core::base::files::write_whole;
use boltboard_core::work::{Course, Disk, Ledger, LedgerEntry, LedgerOutcome};
use clap::Args;

use crate::args::Global;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::preview::why;
use crate::render::text::{Role, age, bytes, columns_leaving_out, count, duration, next_line};
use crate::render::{Screen, course, json};
use crate::session::Session;

/// List earlier builds
#[derive(Debug, Args)]
pub struct LedgerArgs {
    /// Only the last N
    #[arg(long, value_name = "N", default_value_t = 20)]
    last: usize,
    /// Write when each step of the profile's last build ran: trace events (.json) or a picture (.svg)
    #[arg(long, value_name = "FILE")]
    timeline: Option<PathBuf>,
    /// Draw times and sizes of all builds, as a picture (.svg)
    #[arg(long, value_name = "FILE")]
    growth: Option<PathBuf>,
}

/// Columns that are left out where there is no room, in this order.
const LESS_USEFUL: [&str; 6] = ["same text", "work", "reused", "steps", "parts", "ran"];

/// How many slow steps are named.
const SLOWEST: usize = 3;

/// A quantity, or nothing where it was not measured.
fn some(quantity: u64, told: impl Fn(u64) -> String) -> String {
    if quantity == 0 { String::new() } else { told(quantity) }
}

/// How many steps ran, and how many of them on other machines.
fn ran(entry: &LedgerEntry) -> String {
    if entry.away == 0 { entry.ran.to_string() } else { format!("{}, {} elsewhere", entry.ran, entry.away) }
}

/// How many results were reused, and how many things of them came from others.
fn reused(entry: &LedgerEntry) -> String {
    match (entry.reused, entry.shared) {
        (0, _) => String::new(),
        (reused, 0) => reused.to_string(),
        (reused, shared) => format!("{reused}, {shared} from others"),
    }
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &LedgerArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let mut ledger = Ledger::read(&session.work.ledger())?;
    if ledger.damaged > 0 {
        let lines = if ledger.damaged == 1 {
            "1 line of the ledger is".into()
        } else {
            format!("{} lines of the ledger are", ledger.damaged)
        };
        screen.remark(&format!("{lines} damaged and left out."));
    }
    if let Some(file) = &args.timeline {
        let folders = session.work.folders(&session.board.tree.source_root, &session.profile);
        let course = Course::load(&folders.build).ok_or_else(|| {
            let diagnostic = Diagnostic::new(format!("the profile `{}` was not built here yet", session.profile));
            Stop::new(Exit::WrongUse, diagnostic.next("boltboard build", "build it"))
        })?;
        let text = match file.extension().and_then(|ending| ending.to_str()) {
            Some("json") => course::trace_events(&course),
            Some("svg") => course::course_picture(&course)?,
            _ => return Err(Stop::usage("the name of a timeline must end in .json or .svg")),
        };
        write_whole(file, text.as_bytes())?;
        let steps = count(course.spans.len(), "step", "steps");
        screen.done(&format!("Wrote when {steps} ran: {}\n", file.display()), global.json);
    }
    if let Some(file) = &args.growth {
        let of_profile = |entry: &&LedgerEntry| entry.profile == session.profile.to_string();
        let entries: Vec<LedgerEntry> = ledger.entries.iter().filter(of_profile).cloned().collect();
        let text = course::growth_picture(&entries)?;
        write_whole(file, text.as_bytes())?;
        let builds = count(entries.len(), "build", "builds");
        screen.done(&format!("Drew {builds}: {}\n", file.display()), global.json);
    }
    if args.timeline.is_some() || args.growth.is_some() {
        return Ok(Exit::Done);
    }
    let from = ledger.entries.len().saturating_sub(args.last);
    ledger.entries.drain(..from);
    if global.json {
        screen.json(&json::ledger(&ledger));
        return Ok(Exit::Done);
    }
    if ledger.entries.is_empty() {
        screen.out("Nothing was built here yet.\n");
        screen.out(&next_line("boltboard build", "build the profile in use"));
        return Ok(Exit::Done);
    }
    let number = |count: usize| u64::try_from(count).unwrap_or(u64::MAX);
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_secs());
    let head = ["when", "profile", "ended", "ran", "reused", "same text", "steps", "time", "work", "parts", "because"]
        .map(|t| (Role::Faint, t.to_string()));
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
            (Role::Value, ran(entry)),
            (Role::Value, reused(entry)),
            (Role::Value, some(number(entry.same_text), |n| n.to_string())),
            (Role::Faint, entry.steps.to_string()),
            (Role::Value, duration(entry.wall_ms)),
            (Role::Faint, some(entry.cpu_ms, duration)),
            (Role::Faint, bytes(entry.output_bytes)),
            (Role::Faint, entry.reasons.first().map(why).unwrap_or_default()),
        ]);
    }
    screen.out(&columns_leaving_out(rows, 0, screen.width, &LESS_USEFUL));
    let last = ledger.entries.iter().rev().find(|entry| entry.disk != Disk::default());
    if let Some(Disk { sources, build, store }) = last.map(|entry| entry.disk) {
        let (sources, build, store) = (bytes(sources), bytes(build), bytes(store));
        screen.out(&format!("On disk: sources {sources}, build {build}, store {store} beyond that.\n"));
    }
    let slowest = ledger.entries.iter().rev().find(|entry| !entry.slowest.is_empty());
    if let Some(entry) = slowest {
        let named: Vec<String> =
            entry.slowest.iter().take(SLOWEST).map(|(step, ms)| format!("{step} {}", duration(*ms))).collect();
        let most = some(entry.memory, |memory| format!(" The largest step held {}.", bytes(memory)));
        screen.out(&format!("Slowest, the last time: {}.{most}\n", named.join(", ")));
    }
    Ok(Exit::Done)
}
