//! `boltboard fetch`

use std::cell::RefCell;
use std::path::PathBuf;

use boltboard_core::base::near_matches;
use boltboard_core::board::{FetchDef, FetchId};
use boltboard_core::fetch::{FetchFault, FetchFrom, FetchProgress, GotFrom};
use boltboard_core::session::FetchStanding;
use clap::Args;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

use crate::args::Global;
use crate::complete;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::Screen;
use crate::render::fetch::{FetchAnswer, got, listed};
use crate::render::text::{bytes, next_line};
use crate::session::Session;

/// Get what the tree uses and does not carry
#[derive(Debug, Args)]
pub struct FetchArgs {
    /// Get only these [default: all that the values want]
    #[arg(value_name = "NAME", add = complete::fetches())]
    names: Vec<String>,
    /// Get also what the values do not want
    #[arg(long, conflicts_with = "names")]
    all: bool,
    /// Only show what there is, and what would be got
    #[arg(long)]
    preview: bool,
    /// Take files from DIR where it has them
    #[arg(long = "from", value_name = "DIR", value_hint = clap::ValueHint::DirPath)]
    from: Vec<PathBuf>,
    /// Ask for files below URL first
    #[arg(long = "mirror", value_name = "URL")]
    mirrors: Vec<String>,
    /// Ask no address
    #[arg(long)]
    offline: bool,
    /// Put copies of the files into DIR, for a machine without a network
    #[arg(long, value_name = "DIR", value_hint = clap::ValueHint::DirPath, conflicts_with = "preview")]
    copy_to: Option<PathBuf>,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &FetchArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let named = args.names.iter().map(|name| find(&session, name)).collect::<Result<Vec<FetchId>, Stop>>()?;
    let resolved = session.resolve()?;
    let standings = session.fetch_standings(&resolved);
    let is_meant = |one: &&FetchStanding| {
        if named.is_empty() { args.all || one.is_wanted } else { named.contains(&one.fetch) }
    };
    let meant: Vec<FetchStanding> = standings.iter().filter(is_meant).copied().collect();
    if args.preview {
        if global.json {
            screen.json(&FetchAnswer::of(&session.board, &standings, &[]));
        } else {
            screen.out(&listed(&session, &resolved, &standings, &meant, screen.width));
        }
        return Ok(Exit::Done);
    }
    session.prepare_work()?;
    let here = |folder: &PathBuf| session.around.folder.join(folder);
    let sources = FetchFrom {
        folders: args.from.iter().map(here).collect(),
        mirrors: args.mirrors.clone(),
        offline: args.offline,
    };
    let fetched = session.fetched();
    let mut origins: Vec<(FetchId, GotFrom)> = Vec::new();
    let mut faults = Vec::new();
    for one in meant.iter().filter(|one| args.copy_to.is_some() || !one.state.is_there()) {
        let def = &session.board.fetches[one.fetch];
        match fetched.get(def, &sources, &mut watch(screen, def)) {
            Ok(origin) => {
                if let Some(folder) = &args.copy_to {
                    let place = fetched.copy_to(def, &here(folder))?;
                    screen.remark(&format!("Copied to {}", place.display()));
                }
                origins.push((one.fetch, origin));
            }
            Err(FetchFault::File(error)) => return Err(error.into()),
            // The others may be had all the same.
            Err(fault) => faults.push(diagnostic(def, &fault)),
        }
    }
    if global.json && faults.is_empty() {
        let now = session.fetch_standings(&resolved);
        screen.json(&FetchAnswer::of(&session.board, &now, &origins));
    } else if !global.json {
        screen.out(&got(&session.board, &meant, &origins));
    }
    if !faults.is_empty() {
        return Err(Stop::of_all(crate::fault::FaultKind::Host, Exit::HostLacks, faults));
    }
    if !global.json && !session.board.fetches.is_empty() {
        screen.out(&next_line("boltboard build", "build with it"));
    }
    Ok(Exit::Done)
}

fn find(session: &Session, name: &str) -> Result<FetchId, Stop> {
    let board = &session.board;
    let found = board.fetches.iter().find(|(_, fetch)| fetch.name == name).map(|(id, _)| id);
    found.ok_or_else(|| {
        let near = near_matches(name, board.fetches.iter().map(|(_, fetch)| fetch.name.as_str()));
        let diagnostic = Diagnostic::new(format!("nothing that is fetched is named `{name}`")).near(&near);
        Stop::new(Exit::WrongUse, diagnostic.next("boltboard fetch --preview", "all that is fetched"))
    })
}

/// Shows how far it is: a line that moves on a terminal, else one line.
fn watch<'a>(screen: &'a Screen, def: &'a FetchDef) -> impl FnMut(FetchProgress) + 'a {
    let bar: RefCell<Option<ProgressBar>> = RefCell::new(None);
    move |progress| {
        let mut bar = bar.borrow_mut();
        let begin = || {
            if !screen.live {
                screen.remark(&format!("Fetching {} ({}) …", def.name, bytes(def.size)));
            }
            let target =
                if screen.live { ProgressDrawTarget::stderr_with_hz(10) } else { ProgressDrawTarget::hidden() };
            let bar = ProgressBar::with_draw_target(Some(def.size), target);
            let style =
                ProgressStyle::with_template("{msg}  {bar:24.green/dim}  {bytes} of {total_bytes}, {bytes_per_sec}");
            bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
            bar.set_message(def.name.clone());
            bar
        };
        let bar = bar.get_or_insert_with(begin);
        match progress {
            FetchProgress::Bytes(there) => bar.set_position(there),
            FetchProgress::Unpacking => bar.set_message(format!("{}: unpacking", def.name)),
        }
    }
}

fn diagnostic(def: &FetchDef, fault: &FetchFault) -> Diagnostic {
    let told = Diagnostic::new(fault.to_string());
    match fault {
        FetchFault::Nowhere { attempts, .. } => {
            let told = attempts.iter().fold(told, |told, one| told.note(format!("{}: {}", one.from, one.fault)));
            let told = if attempts.is_empty() { told.note("nobody was asked") } else { told };
            let file = format!("{} ({})", def.file_name(), bytes(def.size));
            told.help(format!("if you have {file} in a folder, name that folder with --from"))
                .next("boltboard fetch --preview", "what there is to fetch, and what for")
        }
        FetchFault::Unpack { .. } => told.help("its digest is right, so the tree's definition names a wrong archive"),
        FetchFault::File(_) => told,
    }
}
