//! `boltboard preview`

use clap::Args;

use super::build::jobs;
use crate::args::Global;
use crate::exit::{Exit, Stop};
use crate::render::{Screen, json, preview as render};
use crate::session::Session;
use crate::standing::standing;

/// Tell what a build would do, and why
#[derive(Debug, Args)]
pub struct PreviewArgs {
    /// List every step
    #[arg(long)]
    verbose: bool,
    /// Reckon with this many jobs
    #[arg(long, short, value_name = "N")]
    jobs: Option<usize>,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &PreviewArgs) -> Result<Exit, Stop> {
    if !global.json
        && let Some((sealed, _)) = standing(global)?
    {
        screen.out(&render::nothing_to_do(sealed.steps));
        return Ok(Exit::Done);
    }
    let session = Session::open(global, screen)?;
    let resolved = session.resolve()?;
    let planned = session.plan(&resolved)?;
    let preview = session.preview(&planned)?;
    let jobs = jobs(args.jobs).count;
    if global.json {
        screen.json(&json::preview(&session, &planned.plan, &preview, jobs));
    } else {
        screen.out(&render::preview(session.board, &planned.plan, &preview, jobs, args.verbose));
    }
    Ok(Exit::Done)
}
