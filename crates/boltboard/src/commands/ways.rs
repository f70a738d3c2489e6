//! `boltboard ways`

use boltboard_core::board::{Asked, NEED_PREFIX, OptionId, Value};
use boltboard_core::profile::{ProfileFile, ProfileSource};
use boltboard_core::reason::{Reach, Start, Way};
use boltboard_core::remedy;
use boltboard_core::slate::Price;
use boltboard_core::survey::{FactState, Missing};
use clap::Args;

use super::set;
use crate::args::Global;
use crate::complete;
use crate::fault::{Diagnostic, Exit, FaultKind, Stop};
use crate::render::clash::never_diagnostics;
use crate::render::text::next_line;
use crate::render::ways::Told;
use crate::render::{Screen, json, ways as render};
use crate::session::Session;
use boltboard_core::session::Resolved;

/// Find the smallest changes that lead to a value, and what each costs
#[derive(Debug, Args)]
pub struct WaysArgs {
    /// The value; a bare name means on (or loadable)
    #[arg(value_name = "OPTION[=VALUE]", add = complete::values())]
    wanted: String,
    /// Make the changes of this way
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
                screen.out(&format!("{name} is {value} already.\n"));
                screen.out(&next_line(format!("boltboard why {name}"), "where that comes from"));
            }
            return Ok(Exit::Done);
        }
        Reach::Never(clashes) => {
            if global.json {
                screen.json(&json::ways_never(board, option, &value));
                return Ok(Exit::No);
            }
            let diagnostics = never_diagnostics(board, &choices, option, &value, &clashes);
            return Err(Stop::of_all(FaultKind::Clash, Exit::No, diagnostics));
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
                cost: cost(&session, &facts, way),
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
        let option = session.find_option(text)?;
        let most = ["on", "loadable"].iter().find_map(|word| session.board.options[option].kind.read(word).ok());
        return match most {
            Some(value) if matches!(value, Value::Switch(_) | Value::Module(_)) => Ok((option, value)),
            Some(_) | None => {
                let expected = session.board.options[option].kind.expected();
                let diagnostic = Diagnostic::new(format!("`ways {text}` needs a value: {expected}"));
                Err(Stop::new(Exit::WrongUse, diagnostic.next(format!("boltboard show {text}"), "what it accepts")))
            }
        };
    }
    match session.read_asked(text)? {
        Asked::Value(option, value) => Ok((option, value)),
        Asked::Provider(need, _) => {
            let name = &session.board.needs[need].name;
            let diagnostic = Diagnostic::new(format!("`ways` is about options, and {name} is a need"));
            Err(Stop::new(Exit::WrongUse, diagnostic.next(format!("boltboard survey {name}"), "the ways to meet it")))
        }
    }
}

/// How many steps a way would run, where something was built before and nothing has to be installed first.
fn cost(session: &Session, facts: &boltboard_core::survey::Facts, way: &Way) -> Option<Price> {
    let build = session.work.folders(&session.board.tree.source_root, &session.profile).build;
    if !way.needs.is_empty() || !build.is_dir() {
        return None;
    }
    let resolved = Resolved { choices: way.choices.clone(), facts: facts.clone(), resolution: way.resolution.clone() };
    Price::of(session, &session.profile, &resolved)
}

/// Takes one way: choices that go are taken out, or chosen otherwise where a layer below has them.
fn apply(session: Session, screen: &Screen, ways: &[Way], number: usize) -> Result<Exit, Stop> {
    let Some(way) = number.checked_sub(1).and_then(|at| ways.get(at)) else {
        let diagnostic = Diagnostic::new(format!("there is no way {number}"));
        return Err(Stop::new(Exit::WrongUse, diagnostic.help(format!("choose one of 1 to {}", ways.len()))));
    };
    if !way.needs.is_empty() {
        let names: Vec<&str> = way.needs.iter().map(|need| session.board.needs[*need].name.as_str()).collect();
        let diagnostic = Diagnostic::new(format!("way {number} needs {} first", names.join(", ")));
        let diagnostic = names.iter().fold(diagnostic, |diagnostic, name| {
            diagnostic.next(format!("boltboard survey {name}"), "the ways to meet it")
        });
        return Err(Stop::new(Exit::HostLacks, diagnostic));
    }
    let way = way.clone();
    let name = |option: OptionId| session.board.options[option].name.clone();
    let recorded = set::Recorded {
        chosen: way.choose.iter().map(|(option, value)| format!("{}={value}", name(*option))).collect(),
        undone: way.give_up.iter().map(|(choice, _)| name(choice.option)).collect(),
    };
    set::change(session, screen, &recorded, &|session, file: &mut ProfileFile| {
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
