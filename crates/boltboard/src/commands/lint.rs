//! `boltboard lint`

use boltboard_core::base::Severity;
use boltboard_core::board::FindingKind;
use boltboard_core::definitions::{Listing, check_sources};
use boltboard_core::journal::Journal;
use boltboard_core::lint::lint;
use clap::{Args, ValueEnum};

use crate::args::Global;
use crate::fault::{Exit, Stop};
use crate::render::lint::Telling;
use crate::render::{Screen, json, lint as render};
use crate::session::Session;

/// Check the tree's definitions for mistakes
#[derive(Debug, Args)]
#[command(after_help = findings())]
pub struct LintArgs {
    /// Only findings that are at least this bad
    #[arg(long, value_enum, default_value = "note")]
    severity: SeverityArg,
    /// Only findings of this kind
    #[arg(long, value_name = "FINDING")]
    only: Option<String>,
    /// Each finding by itself, however many there are of a kind
    #[arg(long)]
    each: bool,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum SeverityArg {
    /// What is wrong
    Error,
    /// And what is hardly meant so
    Warning,
    /// And what could be better
    Note,
}

/// The kinds of findings, as a line of help.
fn findings() -> String {
    let names: Vec<&str> = FindingKind::NAMED.iter().map(|(name, _, _)| *name).collect();
    format!("Findings: {}", names.join(", "))
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &LintArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let most = match args.severity {
        SeverityArg::Error => Severity::Error,
        SeverityArg::Warning => Severity::Warning,
        SeverityArg::Note => Severity::Note,
    };
    let only = args.only.as_ref().map(|name| session.board.find_finding(name)).transpose()?;
    let listing = Listing::with_grafts(&session.board.tree.source_root, &session.board.tree.grafts);
    let problems = check_sources(&session.board, &listing);
    if !problems.is_empty() {
        return Err(Stop::problems(&problems, &session.board));
    }
    let folders = session.work.folders(&session.board.tree.source_root, &session.profile);
    let built = Journal::open(&folders.build)?;
    let mut found = lint(&session.board, &session.logic, &listing, &built);
    found.findings.retain(|finding| finding.kind.severity() <= most && only.is_none_or(|kind| kind == finding.kind));
    if global.json {
        screen.json(&json::lint(&session.board, &found));
    } else {
        let telling = if args.each { Telling::Each } else { Telling::Grouped };
        screen.out(&render::findings(&session.board, &found, telling, screen.width));
    }
    // A note is no reason for a check to fail.
    let bad = found.findings.iter().any(|finding| finding.kind.severity() <= Severity::Warning);
    Ok(if bad { Exit::No } else { Exit::Done })
}
