//! `boltboard env`

use std::path::PathBuf;

use boltboard_core::base::files::write_whole;
use boltboard_core::install::search_paths;
use clap::{Args, ValueEnum};

use super::installed::{in_place, prefix_of};
use crate::args::Global;
use crate::fault::{Exit, Stop};
use crate::render::Screen;
use crate::render::env::{EnvTold, script};
use crate::session::Session;

/// Print what a shell needs so that it finds what is installed
#[derive(Debug, Args)]
pub struct EnvArgs {
    /// For this shell [default: as SHELL says]
    #[arg(long, value_enum)]
    shell: Option<Shell>,
    /// Print what takes it back
    #[arg(long)]
    undo: bool,
    /// Write it to FILE instead
    #[arg(long, value_name = "FILE", value_hint = clap::ValueHint::FilePath)]
    write: Option<PathBuf>,
}

/// Who reads it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Shell {
    /// sh, bash, dash, ksh, zsh
    Posix,
    /// fish
    Fish,
    /// csh, tcsh
    Csh,
    /// A module file, as clusters' environment modules read it
    Module,
}

impl Shell {
    /// The person's own, by the name of its program.
    fn of_person() -> Shell {
        let shell = std::env::var("SHELL").unwrap_or_default();
        match shell.rsplit('/').next() {
            Some("fish") => Shell::Fish,
            Some("csh" | "tcsh") => Shell::Csh,
            _ => Shell::Posix,
        }
    }
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &EnvArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let resolved = session.resolve()?;
    let prefix = prefix_of(&session, &resolved)?;
    let manifest = in_place(&session, &resolved)?;
    let shell = args.shell.unwrap_or_else(Shell::of_person);
    let paths = search_paths(&manifest);
    let text = script(&manifest, &paths, shell, args.undo);
    if let Some(file) = &args.write {
        write_whole(&session.around.folder.join(file), text.as_bytes())?;
        screen.done(&format!("Wrote {}.\n", file.display()), global.json);
    } else if global.json {
        screen.json(&EnvTold::of(&manifest, &prefix, &paths));
    } else {
        screen.out(&text);
    }
    Ok(Exit::Done)
}
