//! `boltboard overview`, also without a command

use boltboard_core::definitions::Listing;
use boltboard_core::survey::{FactState, Language};
use boltboard_core::work::Ledger;
use clap::Args;

use crate::args::Global;
use crate::fault::{Exit, Stop};
use crate::render::overview::{Overview, text};
use crate::render::{Screen, json};
use crate::session::Session;

/// Show what the tree is, what it makes and what it needs
#[derive(Debug, Args)]
pub struct OverviewArgs {}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, _args: &OverviewArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let resolved = session.resolve()?;
    let board = &session.board;
    let listing = Listing::with_grafts(&board.tree.source_root, &board.tree.grafts);
    let is_source = |file: &&boltboard_core::base::RelPath| Language::of(file).is_some() || file.extension() == "h";
    let sources: Vec<_> = listing.files().iter().filter(is_source).collect();
    let size =
        |file: &&boltboard_core::base::RelPath| std::fs::metadata(board.tree.source(file)).map_or(0, |s| s.len());
    let absent = session.fetch_standings(&resolved).into_iter().filter(|one| one.is_wanted && !one.state.is_there());
    let to_fetch: Vec<u64> = absent.map(|one| board.fetches[one.fetch].size).collect();
    let missing = resolved.facts.iter().filter(|fact| matches!(fact.state, FactState::Missing(_)));
    let overview = Overview {
        source_bytes: sources.iter().map(size).sum(),
        sources: sources.len(),
        missing: missing.map(|fact| board.needs[fact.need].name.clone()).collect(),
        made: board.parts.ids().map(|part| resolved.makes(board, part)).collect(),
        profile: session.profile.to_string(),
        choices: resolved.choices.own().count(),
        changes: resolved.choices.changes.iter().map(|change| change.name.clone()).collect(),
        add_ons: board.add_ons.iter().map(|add_on| format!("{} {}", add_on.name, add_on.version)).collect(),
        to_fetch: (to_fetch.len(), to_fetch.iter().sum()),
        profiles: session.shelf.list()?.keys().map(ToString::to_string).collect(),
        last: Ledger::read(&session.work.ledger())?.entries.pop(),
    };
    if global.json {
        screen.json(&json::overview(board, &overview));
    } else {
        screen.out(&text(board, &overview, screen.width));
    }
    Ok(Exit::Done)
}
