//! `boltboard show`

use std::collections::BTreeSet;

use boltboard_core::board::OptionId;
use clap::Args;

use crate::args::Global;
use crate::complete;
use crate::fault::{Exit, Stop};
use crate::render::{Screen, json, options};
use crate::session::Session;

/// Show all about one option
#[derive(Debug, Args)]
pub struct ShowArgs {
    /// The option
    #[arg(value_name = "OPTION", add = complete::options())]
    option: String,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &ShowArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let option = session.find_option(&args.option)?;
    let resolved = session.resolve()?;
    let users = users(&session, option);
    if global.json {
        screen.json(&json::show(&session, &resolved, option, &users));
    } else {
        let text =
            options::details(&session.board, &resolved.choices, &resolved.resolution, option, &users, screen.width);
        screen.out(&text);
    }
    Ok(Exit::Done)
}

/// Returns the options whose requirements look at this one, in the order of options.
pub fn users(session: &Session, option: OptionId) -> Vec<String> {
    let board = &session.board;
    let asking: BTreeSet<OptionId> =
        session.logic.rules_about(option).into_iter().map(|rule| board.rules[rule].option).collect();
    asking.into_iter().filter(|other| *other != option).map(|other| board.options[other].name.clone()).collect()
}
