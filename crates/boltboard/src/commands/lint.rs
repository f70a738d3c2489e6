//! `boltboard lint`

use boltboard_core::board::FindingLevel;
use boltboard_core::definitions::{Listing, check_sources};
use boltboard_core::journal::Journal;
use boltboard_core::lint::lint;
use clap::{Args, ValueEnum};

use crate::args::Global;
use crate::exit::{Exit, Stop};
use crate::render::{Screen, json, lint as render};
use crate::session::Session;

/// Look for what can be doubted about the tree's definitions
#[derive(Debug, Args)]
pub struct LintArgs {
    /// Only findings of this level and graver ones
    #[arg(long, value_enum, default_value = "untidy")]
    level: LevelArg,
    /// Only findings of this kind
    #[arg(long, value_name = "FINDING")]
    only: Option<String>,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum LevelArg {
    /// What cannot be meant so
    Wrong,
    /// And what is hardly meant so
    Doubtful,
    /// And what could be better for those who read it
    Untidy,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &LintArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let most = match args.level {
        LevelArg::Wrong => FindingLevel::Wrong,
        LevelArg::Doubtful => FindingLevel::Doubtful,
        LevelArg::Untidy => FindingLevel::Untidy,
    };
    let only = args.only.as_ref().map(|name| session.board.find_finding(name)).transpose()?;
    let listing = Listing::of(&session.board.tree.source_root);
    let problems = check_sources(&session.board, &listing);
    if !problems.is_empty() {
        return Err(Stop::problems(&problems, &session.board));
    }
    let folders = session.work.folders(&session.board.tree.source_root, &session.profile);
    let built = Journal::open(&folders.build)?;
    let mut found = lint(&session.board, &session.logic, &listing, &built);
    found.findings.retain(|finding| finding.kind.level() <= most && only.is_none_or(|kind| kind == finding.kind));
    if global.json {
        screen.json(&json::lint(&session.board, &found));
    } else {
        screen.out(&render::findings(&session.board, &found, screen.width));
    }
    // What is only untidy is no reason for a check to fail.
    let grave = found.findings.iter().any(|finding| finding.kind.level() <= FindingLevel::Doubtful);
    Ok(if grave { Exit::No } else { Exit::Done })
}
