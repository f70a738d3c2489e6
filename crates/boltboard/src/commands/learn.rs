//! `boltboard completions` and `boltboard man`

use clap::{Args, CommandFactory};

use crate::args::Cli;
use crate::exit::{Exit, Stop};
use crate::render::Screen;

/// Print completions for a shell
#[derive(Debug, Args)]
pub struct CompletionsArgs {
    /// The shell
    #[arg(value_enum)]
    shell: clap_complete::Shell,
}

/// Print the manual page
#[derive(Debug, Args)]
pub struct ManArgs {}

/// Prints completions.
pub fn completions(screen: &Screen, args: &CompletionsArgs) -> Result<Exit, Stop> {
    let mut text = Vec::new();
    clap_complete::generate(args.shell, &mut Cli::command(), "boltboard", &mut text);
    screen.out(&String::from_utf8_lossy(&text));
    Ok(Exit::Done)
}

/// Prints the manual page.
pub fn man(screen: &Screen, _args: &ManArgs) -> Result<Exit, Stop> {
    let mut text = Vec::new();
    clap_mangen::Man::new(Cli::command()).render(&mut text).map_err(|e| Stop::usage(e.to_string()))?;
    screen.out(&String::from_utf8_lossy(&text));
    Ok(Exit::Done)
}
