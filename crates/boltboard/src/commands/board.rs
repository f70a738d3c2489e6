//! `boltboard board`

use clap::Args;

use crate::args::Global;
use crate::board;
use crate::complete;
use crate::fault::{Exit, Stop};
use crate::render::Screen;

/// Choose on the screen, and see what each choice would bring
#[derive(Debug, Args)]
#[command(after_help = "Nothing is kept before you say so. `?` on the board lists all keys.")]
pub struct BoardArgs {
    /// An option to open at, or words and filters as of `options`
    #[arg(value_name = "OPTION|WORD|FILTER", add = complete::filters())]
    at: Vec<String>,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &BoardArgs) -> Result<Exit, Stop> {
    board::run(global, screen, &args.at)
}
