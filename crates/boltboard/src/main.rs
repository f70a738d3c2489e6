//! The command line of Bolt Board: parse, call, render. Nothing is decided here.

mod args;
mod commands;
mod exit;
mod render;
mod session;

use std::os::fd::AsFd;

use clap::Parser;

/// Reading a large board is mostly asking for memory.
#[global_allocator]
static MEMORY: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// The word that starts this program as the guard of another one's steps.
const GUARD: &str = "guard-steps";
/// The word that starts this program as the gate of a command that is watched.
const GATE: &str = "watch-step";

fn main() -> std::process::ExitCode {
    if std::env::args_os().nth(1).is_some_and(|word| word == GUARD) {
        if let Ok(list) = std::io::stdout().as_fd().try_clone_to_owned() {
            boltboard_core::launch::serve_guard(std::io::stdin().lock(), std::fs::File::from(list));
        }
        return std::process::ExitCode::SUCCESS;
    }
    if std::env::args_os().nth(1).is_some_and(|word| word == GATE) {
        // It comes back only when there is no such program, which the one who watches finds out.
        boltboard_core::watch::serve_gate(std::env::args_os().skip(2));
        return std::process::ExitCode::FAILURE;
    }
    let cli = match args::Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => {
            // Help and version are asked for; everything else is wrong use.
            let wrong = error.use_stderr();
            let printed = error.print();
            return if wrong || printed.is_err() { exit::Exit::WrongUse.into() } else { exit::Exit::Done.into() };
        }
    };
    let screen = render::Screen::new();
    match commands::run(&cli, &screen) {
        Ok(exit) => exit.into(),
        Err(stop) => {
            screen.diagnostics(&stop.diagnostics);
            stop.exit.into()
        }
    }
}
