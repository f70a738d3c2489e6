//! `boltboard ways`

use boltboard_core::board::{Asked, NEED_PREFIX, OptionId, Value};
use boltboard_core::judge::{Verdict, Work};
use boltboard_core::profile::{ProfileFile, ProfileSource};
use boltboard_core::reason::{Reach, Start, Way};
use boltboard_core::remedy;
use boltboard_core::survey::{FactState, Missing};
use clap::Args;

use super::set;
use crate::args::Global;
use crate::exit::{Diagnostic, Exit, Stop};
use crate::render::clash::never_diagnostics;
use crate::render::ways::{Price, Told};
use crate::render::{Screen, json, ways as render};
use crate::session::Session;
use boltboard_core::session::Resolved;

/// Tell what leads to a value: the smallest changes, and what each costs
#[derive(Debug, Args)]
pub struct WaysArgs {
    /// The value to have; a bare name asks for on (or loadable)
    #[arg(value_name = "OPTION[=VALUE]")]
    wanted: String,
    /// Take the way with this number
    #[arg(long, value_name = "N")]
    apply: Option<usize>,
    /// List every value that moves
    #[arg(long)]
    verbose: bool,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &WaysArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let (option, value) = wanted(&session, &args.wanted)?;
    let choices = session.choices_of(&session.profile)?;
    let facts = session.facts(&choices)?;
    let board = &session.board;
    let obtainable = remedy::obtainable(board, &facts);
    let start = Start { board, logic: &session.logic, choices: &choices, facts: &facts, obtainable: &obtainable };
    let reach = start.reach(option, &value);
    let ways = match reach {
        Reach::Already => {
            if global.json {
                screen.json(&json::ways_already(board, option, &value));
            } else {
                let name = &board.options[option].name;
                screen.out(&format!("{name} is {value} already. Where that comes from: boltboard why {name}\n"));
            }
            return Ok(Exit::Done);
        }
        Reach::Never(clashes) => {
            if global.json {
                screen.json(&json::ways_never(board, option, &value));
                return Ok(Exit::No);
            }
            let diagnostics = never_diagnostics(board, &choices, option, &value, &clashes);
            return Err(Stop { diagnostics, exit: Exit::No });
        }
        Reach::Ways(ways) => ways,
    };
    if let Some(number) = args.apply {
        return apply(session, screen, &ways, number);
    }
    let told: Vec<Told<'_>> = ways
        .iter()
        .map(|way| {
            let names: Vec<String> = way.needs.iter().map(|need| board.needs[*need].name.clone()).collect();
            let off = |name: &&String| {
                let fact = board.need(name).and_then(|need| facts.get(need));
                fact.is_some_and(|fact| matches!(fact.state, FactState::Missing(Missing::SwitchedOff { .. })))
            };
            let (switched_off, lacking): (Vec<&String>, Vec<&String>) = names.iter().partition(off);
            let lacking: Vec<String> = lacking.into_iter().cloned().collect();
            Told {
                way,
                price: price(&session, &facts, way),
                install: session.install_command(&facts, &lacking),
                lacking,
                allow: switched_off.into_iter().map(|name| format!("{NEED_PREFIX}{name}")).collect(),
            }
        })
        .collect();
    if global.json {
        screen.json(&json::ways(board, option, &value, &told));
    } else {
        screen.out(&render::ways(board, &choices, (option, &value), &told, screen.width, args.verbose));
    }
    Ok(Exit::Done)
}

fn wanted(session: &Session, text: &str) -> Result<(OptionId, Value), Stop> {
    if !text.contains('=') {
        let option = session.board.find_option(text)?;
        let most = ["on", "loadable"].iter().find_map(|word| session.board.options[option].kind.read(word).ok());
        return match most {
            Some(value) if matches!(value, Value::Switch(_) | Value::Module(_)) => Ok((option, value)),
            Some(_) | None => {
                let expected = session.board.options[option].kind.expected();
                let diagnostic = Diagnostic::new(format!("{text} wants a value: {expected}"));
                Err(Stop::new(Exit::WrongUse, diagnostic.help(format!("for example: boltboard ways {text}=VALUE"))))
            }
        };
    }
    match session.board.read_asked(text)? {
        Asked::Value(option, value) => Ok((option, value)),
        Asked::Provider(need, _) => {
            let name = &session.board.needs[need].name;
            let diagnostic = Diagnostic::new("ways asks for a value of an option");
            Err(Stop::new(Exit::WrongUse, diagnostic.help(format!("for a need there is: boltboard survey {name}"))))
        }
    }
}

/// How many steps a way would run, where something was built before and nothing has to be installed first.
fn price(session: &Session, facts: &boltboard_core::survey::Facts, way: &Way) -> Option<Price> {
    let build = session.work.folders(&session.board.tree.source_root, &session.profile).build;
    if !way.needs.is_empty() || !build.is_dir() {
        return None;
    }
    let resolved = Resolved { choices: way.choices.clone(), facts: facts.clone(), resolution: way.resolution.clone() };
    let planned = session.plan(&resolved).ok()?;
    let ahead = session.preview(&planned, None).ok()?;
    let runs = ahead.steps.iter().filter(|step| matches!(step.verdict, Verdict::Run | Verdict::Follows)).count();
    let work_ms = match ahead.work() {
        Work::Known(ms) | Work::About(ms) => Some(ms),
        Work::Unknown => None,
    };
    Some(Price { steps: runs, from_store: ahead.steps.len() - runs, work_ms })
}

/// Takes one way: choices that go are taken out, or chosen otherwise where a layer below has them.
fn apply(session: Session, screen: &Screen, ways: &[Way], number: usize) -> Result<Exit, Stop> {
    let Some(way) = number.checked_sub(1).and_then(|at| ways.get(at)) else {
        let diagnostic = Diagnostic::new(format!("there is no way {number}"));
        return Err(Stop::new(Exit::WrongUse, diagnostic.help(format!("take one of 1 to {}", ways.len()))));
    };
    if !way.needs.is_empty() {
        let names: Vec<&str> = way.needs.iter().map(|need| session.board.needs[*need].name.as_str()).collect();
        let diagnostic = Diagnostic::new(format!("way {number} needs {} first", names.join(", ")));
        let help = format!("see how to bring it here: boltboard survey {}", names[0]);
        return Err(Stop::new(Exit::HostLacks, diagnostic.help(help)));
    }
    let way = way.clone();
    set::change(session, screen, &[], &|session, file: &mut ProfileFile| {
        for (option, value) in &way.choose {
            file.set(&session.board.options[*option].name, value, None);
        }
        for (choice, becomes) in &way.give_up {
            let name = &session.board.options[choice.option].name;
            file.unset(name);
            let left = session.shelf.read_as(&session.profile, Some(&file.text()), &session.board);
            let still = left.is_ok_and(|left| left.get(choice.option).is_some());
            if still || session.source_of(&session.profile)? != Some(ProfileSource::Own) {
                file.set(name, becomes, None);
            }
        }
        Ok(())
    })
}
