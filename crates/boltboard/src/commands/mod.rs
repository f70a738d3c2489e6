//! One file a command.

pub mod add_on;
pub mod adopt;
mod ask;
pub mod back;
pub mod board;
pub mod build;
pub mod carry;
pub mod clean;
pub mod compare;
pub mod demo;
pub mod env;
pub mod export;
pub mod fetch;
pub mod init;
pub mod inspect;
pub mod install;
pub mod installed;
pub mod learn;
pub mod ledger;
pub mod lint;
pub mod options;
pub mod overview;
pub mod package;
pub mod parts;
pub mod patch;
pub mod preview;
pub mod profile;
mod recipe;
pub mod ways;
pub mod set;
pub mod show;
pub mod store;
pub mod survey;
pub mod tailor;
pub mod test;
pub mod trial;
pub mod uninstall;
pub mod why;
pub mod workers;

use crate::args::{Cli, Command};
use crate::fault::{Exit, Stop};
use crate::render::Screen;

/// Runs the command that was typed.
pub fn run(cli: &Cli, screen: &Screen) -> Result<Exit, Stop> {
    let global = &cli.global;
    match &cli.command {
        None => overview::run(global, screen, &overview::OverviewArgs {}),
        Some(Command::Overview(args)) => overview::run(global, screen, args),
        Some(Command::Options(args)) => options::run(global, screen, args),
        Some(Command::Board(args)) => board::run(global, screen, args),
        Some(Command::Show(args)) => show::run(global, screen, args),
        Some(Command::Why(args)) => why::run(global, screen, args),
        Some(Command::Ways(args)) => ways::run(global, screen, args),
        Some(Command::Set(args)) => set::set(global, screen, args),
        Some(Command::Unset(args)) => set::unset(global, screen, args),
        Some(Command::Profile(args)) => profile::run(global, screen, args),
        Some(Command::Patch(args)) => patch::run(global, screen, args),
        Some(Command::Tailor(args)) => tailor::run(global, screen, args),
        Some(Command::Survey(args)) => survey::run(global, screen, args),
        Some(Command::Compare(args)) => compare::run(global, screen, args),
        Some(Command::Inspect(args)) => inspect::run(global, screen, args),
        Some(Command::Carry(args)) => carry::run(global, screen, args),
        Some(Command::Trial(args)) => trial::run(global, screen, args),
        Some(Command::Preview(args)) => preview::run(global, screen, args),
        Some(Command::Build(args)) => build::run(global, screen, args),
        Some(Command::Test(args)) => test::run(global, screen, args),
        Some(Command::Clean(args)) => clean::run(global, screen, args),
        Some(Command::Ledger(args)) => ledger::run(global, screen, args),
        Some(Command::Install(args)) => install::run(global, screen, args),
        Some(Command::Back(args)) => back::run(global, screen, args),
        Some(Command::Env(args)) => env::run(global, screen, args),
        Some(Command::Fetch(args)) => fetch::run(global, screen, args),
        Some(Command::Store(args)) => store::run(global, screen, args),
        Some(Command::Workers(args)) => workers::run(global, screen, args),
        Some(Command::Package(args)) => package::run(global, screen, args),
        Some(Command::Uninstall(args)) => uninstall::run(global, screen, args),
        Some(Command::Lint(args)) => lint::run(global, screen, args),
        Some(Command::AddOn(args)) => add_on::run(global, screen, args),
        Some(Command::Adopt(args)) => adopt::run(global, screen, args),
        Some(Command::Init(args)) => init::run(global, screen, args),
        Some(Command::Export(args)) => export::run(global, screen, args),
        Some(Command::Demo(args)) => demo::run(screen, args),
        Some(Command::Completions(args)) => learn::completions(screen, args),
        Some(Command::Man(args)) => learn::man(screen, args),
    }
}
