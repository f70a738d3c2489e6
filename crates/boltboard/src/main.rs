//! The command line of Bolt Board: parse, call, render. Nothing is decided here.

mod args;
mod board;
mod commands;
mod complete;
mod ending;
mod fault;
mod helper;
mod render;
mod session;

use clap::{CommandFactory, Parser};

/// Reading a large board is mostly asking for memory.
#[global_allocator]
static MEMORY: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// The word that starts this program as a worker: it takes steps of a build on another machine.
const SERVE: &str = "serve-steps";
/// The word that has it hold an allocation of a workload manager.
const HOLD: &str = "hold-machines";

fn main() -> std::process::ExitCode {
    if let Some(ended) = as_helper() {
        return ended;
    }
    clap_complete::CompleteEnv::with_factory(args::Cli::command).var(commands::learn::ASKED).complete();
    trace_if_asked();
    let screen = render::Screen::new();
    let cli = match args::Cli::try_parse() {
        Ok(cli) => cli,
        // Help and version are asked for; everything else is wrong use.
        Err(error) if !error.use_stderr() => {
            return if error.print().is_err() { fault::Exit::Machine.into() } else { fault::Exit::Done.into() };
        }
        Err(error) => {
            let words: Vec<String> = std::env::args_os().map(|word| word.to_string_lossy().into_owned()).collect();
            let json = words.iter().any(|word| word == "--json");
            return screen.stop(&fault::mistyped(&error, &words), json).into();
        }
    };
    match commands::run(&cli, &screen) {
        Ok(exit) => exit.into(),
        Err(stop) => screen.stop(&stop, cli.global.json).into(),
    }
}

/// Is what another process of this program started it as, if that is so.
fn as_helper() -> Option<std::process::ExitCode> {
    let mut words = std::env::args_os().skip(1);
    match words.next()?.to_str()? {
        SERVE => {
            Some(commands::workers::serve(words.next().map(Into::into), std::io::stdin(), std::io::stdout().lock()))
        }
        HOLD => Some(commands::workers::hold(std::io::stdin(), std::io::stdout().lock())),
        first => helper::serve(first, words, std::io::stdin(), std::io::stdout()),
    }
}

/// Has what is decided on the way written to standard error, where a person asks for it: `debug` tells of verdicts and processes, `trace`
/// also of every question and word.
fn trace_if_asked() {
    let asked = std::env::var(boltboard_core::session::TRACE_VARIABLE).ok();
    if let Some(level) = asked.and_then(|text| text.parse::<tracing_subscriber::filter::LevelFilter>().ok()) {
        tracing_subscriber::fmt().with_max_level(level).with_writer(std::io::stderr).with_ansi(false).init();
    }
}
