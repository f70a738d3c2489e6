//! `boltboard clean`

use std::time::SystemTime;

use boltboard_core::base::FileError;
use boltboard_core::board::read_size;
use boltboard_core::store::StoreLimits;

use boltboard_core::work::folder_bytes;
use clap::Args;

use crate::args::Global;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::Screen;
use crate::render::text::{bytes, count};
use crate::session::Session;

/// Remove what builds have made
#[derive(Debug, Args)]
pub struct CleanArgs {
    /// Remove the builds of all profiles
    #[arg(long)]
    all: bool,
    /// Remove the store as well, so that nothing can be reused
    #[arg(long)]
    store: bool,
    /// Keep the builds; keep the store below SIZE (as 500MiB or 20GiB) from now on
    #[arg(long, value_name = "SIZE", conflicts_with_all = ["all", "store"])]
    store_limit: Option<String>,
    /// Keep the builds; drop from the store what was not used for DAYS, from now on
    #[arg(long, value_name = "DAYS", conflicts_with_all = ["all", "store"])]
    store_days: Option<u64>,
}

/// Reads a size as people write it.
fn size(text: &str) -> Result<u64, Stop> {
    read_size(text).ok_or_else(|| {
        let diagnostic = Diagnostic::new(format!("`{text}` is not a size"));
        Stop::new(Exit::WrongUse, diagnostic.help("a whole number with B, KiB, MiB or GiB, such as 20GiB"))
    })
}

/// Removes the build of the profile in use, or what else was asked. It is never needed for a right result.
pub fn run(global: &Global, screen: &Screen, args: &CleanArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    if !session.work.exists() {
        screen.done("There is nothing to remove.\n", global.json);
        return Ok(Exit::Done);
    }
    let _lock = session.lock()?;
    if args.store_limit.is_some() || args.store_days.is_some() {
        let place = session.work.store_limits();
        let mut limits = StoreLimits::load(&place);
        if let Some(text) = &args.store_limit {
            limits.bytes = size(text)?;
        }
        limits.days = args.store_days.unwrap_or(limits.days);
        limits.save(&place)?;
        let trimmed = session.store().trim(limits, SystemTime::now())?;
        let (freed, left) = (bytes(trimmed.freed), bytes(trimmed.left));
        let dropped = count(trimmed.results, "result", "results");
        let text = format!("Dropped {dropped} and freed {freed}; the store holds {left} beyond the builds.\n");
        screen.done(&text, global.json);
        return Ok(Exit::Done);
    }
    let mut folders = Vec::new();
    if args.all {
        folders.push(session.work.root().join("builds"));
    } else {
        folders.push(session.work.folders(&session.board.tree.source_root, &session.profile).build);
    }
    folders.push(session.work.tried());
    if args.store {
        folders.push(session.work.store());
    }
    let mut freed = 0;
    for folder in folders.iter().filter(|folder| folder.exists()) {
        freed += folder_bytes(folder);
        std::fs::remove_dir_all(folder).map_err(FileError::on("remove", folder))?;
    }
    screen.done(&format!("Removed {}. Profiles and the ledger are kept.\n", bytes(freed)), global.json);
    Ok(Exit::Done)
}
