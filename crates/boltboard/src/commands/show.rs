//! `boltboard show`

use boltboard_core::board::{Atom, Board, OptionId};
use clap::Args;

use crate::args::Global;
use crate::exit::{Exit, Stop};
use crate::render::{Screen, json, options};
use crate::session::Session;

/// Tell all about one option
#[derive(Debug, Args)]
pub struct ShowArgs {
    /// The option
    #[arg(value_name = "OPTION")]
    option: String,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &ShowArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let option = session.board.find_option(&args.option)?;
    let resolved = session.resolve()?;
    let users = users(&session.board, option);
    if global.json {
        screen.json(&json::show(&session, &resolved, option, &users));
    } else {
        let text =
            options::details(&session.board, &resolved.choices, &resolved.resolution, option, &users, screen.width);
        screen.out(&text);
    }
    Ok(Exit::Done)
}

/// Returns the options whose requirements look at this one.
fn users(board: &Board, option: OptionId) -> Vec<String> {
    let mut names = Vec::new();
    for (_, rule) in board.rules.iter() {
        let mut looks = false;
        rule.must.for_each_atom(&mut |atom| {
            looks |= matches!(atom, Atom::On(id) | Atom::Compare(id, _, _) if *id == option);
        });
        let name = &board.options[rule.option].name;
        if looks && !names.contains(name) {
            names.push(name.clone());
        }
    }
    names
}
