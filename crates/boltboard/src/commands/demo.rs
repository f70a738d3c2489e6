//! `boltboard demo`

use std::path::PathBuf;

use clap::Args;

use crate::exit::{Exit, Stop};
use crate::render::Screen;

/// See the whole way on a made-up tree
#[derive(Debug, Args)]
pub struct DemoArgs {
    /// Work in DIR and leave everything there [default: a temporary folder]
    #[arg(long = "in", value_name = "DIR")]
    folder: Option<PathBuf>,
}

/// Runs the command.
pub fn run(_screen: &Screen, _args: &DemoArgs) -> Result<Exit, Stop> {
    Err(Stop::usage("not there yet"))
}
