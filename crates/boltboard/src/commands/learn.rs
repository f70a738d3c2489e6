//! `boltboard completions` and `boltboard man`

use std::path::PathBuf;

use boltboard_core::base::files::{make_folder, write_whole};
use clap::{Args, CommandFactory, ValueEnum};
use clap_complete::env::{EnvCompleter, Fish, Zsh};

use crate::args::Cli;
use crate::fault::{Exit, Stop};
use crate::render::Screen;
use crate::render::pages;

/// The variable by which a shell asks for completions.
pub const ASKED: &str = "BOLTBOARD_COMPLETE";

/// What bash runs. The words that it offers are parted at `=` and `:` as well, so they are put together from the line itself.
const BASH: &str = include_str!("complete.bash");

/// Print completions for a shell
#[derive(Debug, Args)]
pub struct CompletionsArgs {
    /// The shell
    #[arg(value_enum)]
    shell: Shell,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Shell {
    Bash,
    Zsh,
    Fish,
}

/// Print a manual page
#[derive(Debug, Args)]
pub struct ManArgs {
    /// The command it is about, as `profile new` [default: boltboard itself]
    #[arg(value_name = "COMMAND")]
    command: Vec<String>,
    /// Write the pages of all commands into DIR
    #[arg(long, value_name = "DIR", conflicts_with = "command")]
    all: Option<PathBuf>,
}

/// Prints completions.
pub fn completions(screen: &Screen, args: &CompletionsArgs) -> Result<Exit, Stop> {
    let shell: &dyn EnvCompleter = match args.shell {
        Shell::Bash => {
            screen.out(BASH);
            return Ok(Exit::Done);
        }
        Shell::Zsh => &Zsh,
        Shell::Fish => &Fish,
    };
    let mut text = Vec::new();
    let written = shell.write_registration(ASKED, "boltboard", "boltboard", "boltboard", &mut text);
    written.map_err(|e| Stop::usage(format!("cannot write completions: {e}")))?;
    screen.out(&String::from_utf8_lossy(&text));
    Ok(Exit::Done)
}

/// Prints manual pages.
pub fn man(screen: &Screen, args: &ManArgs) -> Result<Exit, Stop> {
    let cli = pages::named(Cli::command());
    if let Some(folder) = &args.all {
        make_folder(folder)?;
        let all = pages::all(&cli);
        for (name, text) in &all {
            write_whole(&folder.join(format!("{name}.1")), text)?;
        }
        screen.out(&format!("Wrote {} manual pages into {}.\n", all.len(), folder.display()));
        return Ok(Exit::Done);
    }
    let mut command = &cli;
    for word in &args.command {
        command = command.find_subcommand(word).ok_or_else(|| Stop::usage(format!("there is no command `{word}`")))?;
    }
    screen.out(&String::from_utf8_lossy(&pages::page(command)));
    Ok(Exit::Done)
}
