//! `boltboard uninstall`

use boltboard_core::install::{After, Lock, Running, manifest_path, uninstall};
use clap::Args;

use super::installed::{
    Ended, act_all, actions_after, believed, exit_of_actions, finish_begun, in_place, of, prefix_of,
};
use crate::args::Global;
use crate::fault::{Exit, Stop};
use crate::render::{Screen, deliver, json};
use crate::session::Session;

/// Remove what was installed
#[derive(Debug, Args)]
pub struct UninstallArgs {
    /// Leave out what the tree has done after a removal
    #[arg(long)]
    no_actions: bool,
    /// Only show what would be removed
    #[arg(long)]
    preview: bool,
}

/// Removes exactly what was installed below the prefix.
pub fn run(global: &Global, screen: &Screen, args: &UninstallArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let resolved = session.resolve()?;
    if args.preview {
        let manifest = in_place(&session, &resolved)?;
        if global.json {
            screen.json(&json::uninstall(&manifest));
        } else {
            screen.out(&manifest.files.iter().map(|file| format!("{}\n", file.path.display())).collect::<String>());
        }
        return Ok(Exit::Done);
    }
    if finish_begun(&session, screen, &resolved)? == Ended::Removed {
        return Ok(Exit::Done);
    }
    let path = manifest_path(&session.board, &prefix_of(&session, &resolved)?);
    // Where nothing is installed, what a killed command left goes with the lock.
    let lock = Lock::of_installed(&path)?;
    let manifest = in_place(&session, &resolved)?;
    let written_here = session.work.wrote_record(&manifest.seal());
    let installable = believed(&session, &resolved, written_here)?;
    let removal =
        uninstall(&manifest, &path, of(&installable), &Running::here(), &mut |seal| session.work.note_record(&seal))?;
    drop(lock);
    let acted = if args.no_actions || session.board.actions.is_empty() {
        vec![]
    } else {
        let planned = session.plan_to_build(&resolved)?;
        let actions = actions_after(&session, &resolved, &planned, After::Removing);
        act_all(&session, &session.plan_input(&resolved, &planned), &actions)?
    };
    if global.json {
        screen.json(&json::removed(&manifest, &removal, &acted));
    } else {
        screen.out(&deliver::acted(&acted));
        screen.out(&deliver::removed(&removal));
    }
    Ok(exit_of_actions(&acted))
}
