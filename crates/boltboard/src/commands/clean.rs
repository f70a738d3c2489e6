//! `boltboard clean`

use boltboard_core::base::FileError;
use boltboard_core::store::WorkLock;
use clap::Args;

use super::build::folder_bytes;
use crate::args::Global;
use crate::exit::{Exit, Stop};
use crate::render::Screen;
use crate::render::text::bytes;
use crate::session::Session;

/// Remove what builds have made
#[derive(Debug, Args)]
pub struct CleanArgs {
    /// The builds of all profiles
    #[arg(long)]
    all: bool,
    /// Also the store, so that nothing can be taken from it
    #[arg(long)]
    store: bool,
}

/// Removes the build of the profile in use, or what else was asked. It is never needed for a right result.
pub fn run(global: &Global, screen: &Screen, args: &CleanArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    if !session.work.exists() {
        screen.out("There is nothing to remove.\n");
        return Ok(Exit::Done);
    }
    let _lock =
        WorkLock::take(&session.work, &mut |_| screen.remark("A build is at work here; waiting for it to end."))?;
    let mut folders = Vec::new();
    if args.all {
        folders.push(session.work.root().join("builds"));
    } else {
        folders.push(session.work.folders(&session.board.tree.source_root, &session.profile).build);
    }
    if args.store {
        folders.push(session.work.store());
    }
    let mut freed = 0;
    for folder in folders.iter().filter(|folder| folder.exists()) {
        freed += folder_bytes(folder);
        std::fs::remove_dir_all(folder).map_err(FileError::on("remove", folder))?;
    }
    screen.out(&format!("Removed {}. Profiles and the ledger are kept.\n", bytes(freed)));
    Ok(Exit::Done)
}
