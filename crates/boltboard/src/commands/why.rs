//! `boltboard why`

use boltboard_core::board::{Kind, OptionId};
use boltboard_core::reason::{Blocker, Cause, Explainer, Reason};
use boltboard_core::resolve::resolve;
use clap::Args;

use crate::args::Global;
use crate::exit::{Exit, Stop};
use crate::render::clash::standing_against;
use crate::render::text::{Role, paint};
use crate::render::why::{Rules, Teller};
use crate::render::{Screen, json};
use crate::session::Session;
use boltboard_core::session::Resolved;

/// Tell why an option has its value
#[derive(Debug, Args)]
pub struct WhyArgs {
    /// The option; with a value, tell what stands against that value
    #[arg(value_name = "OPTION[=VALUE]")]
    option: String,
    /// Write out long requirements too
    #[arg(long)]
    rules: bool,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &WhyArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let (name, value) = match args.option.split_once('=') {
        Some((name, value)) => (name.trim(), Some(value.trim())),
        None => (args.option.as_str(), None),
    };
    let option = session.board.find_option(name)?;
    let resolved = session.resolve()?;
    let rules = if args.rules { Rules::Whole } else { Rules::Short };
    if let Some(text) = value {
        return not(&session, screen, &resolved, option, text, rules);
    }
    let explainer = session.explainer(&resolved);
    let reason = explainer.why(option);
    if global.json {
        screen.json(&json::why(&session.board, &resolved.choices, &reason));
        return Ok(Exit::Done);
    }
    let (board, choices, facts) = (&session.board, &resolved.choices, &resolved.facts);
    let mut teller = Teller { board, choices, facts, rules, text: String::new() };
    teller.reason(&reason, 0);
    if reason.value.is_off() {
        switch_on(&session, &mut teller, &explainer, option, &reason);
    }
    if let (boltboard_core::resolve::Effect::NoEffect, Some(when)) =
        (resolved.resolution.get(option).effect, &session.board.options[option].applies_while)
    {
        teller.text.push_str(&format!(
            "It has no effect now: it applies only while {} holds.\n",
            session.board.print(&when.expr)
        ));
    }
    screen.out(&teller.text);
    Ok(Exit::Done)
}

/// Tells what stands against a value that the option does not have.
fn not(
    session: &Session,
    screen: &Screen,
    resolved: &Resolved,
    option: OptionId,
    text: &str,
    rules: Rules,
) -> Result<Exit, Stop> {
    let board = &session.board;
    let name = &board.options[option].name;
    let asked = session.board.read_asked(&format!("{name}={text}"))?;
    let boltboard_core::board::Asked::Value(_, value) = asked else { return Err(Stop::usage("a value is wanted")) };
    let choices = resolved.choices.clone().with(board, option, value.clone());
    let clashes = resolve(board, &session.logic, &choices, &resolved.facts).err().unwrap_or_default();
    if session.global.json {
        screen.json(&json::why_not(board, &choices, option, &value, &clashes));
        return Ok(Exit::Done);
    }
    let mut told = String::new();
    if resolved.resolution.value(option) == &value {
        told.push_str(&format!("Nothing stands against it: {name} is {value}.\n"));
    } else if clashes.is_empty() {
        told.push_str(&format!("Nothing stands against {name}={value}; it is another value only because:\n"));
        let facts = &resolved.facts;
        let mut teller = Teller { board, choices: &resolved.choices, facts, rules, text: String::new() };
        teller.reason(&session.explainer(resolved).why(option), 1);
        told.push_str(&teller.text);
        told.push_str(&format!("{} boltboard set {name}={value}\n", paint(Role::Good, "To have it:")));
    } else {
        told.push_str(&format!("Against {} stands:\n", paint(Role::Title, &format!("{name}={value}"))));
        for clash in &clashes {
            standing_against(board, &choices, option, clash)
                .iter()
                .for_each(|line| told.push_str(&format!("  {line}\n")));
        }
        told.push_str(&format!("{} boltboard ways {name}={value}\n", paint(Role::Good, "What would lead there:")));
    }
    screen.out(&told);
    Ok(Exit::Done)
}

/// Tells what it would take to switch an option on.
fn switch_on(session: &Session, teller: &mut Teller<'_>, explainer: &Explainer<'_>, option: OptionId, told: &Reason) {
    let definition = &session.board.options[option];
    let held_by = match &told.cause {
        Cause::Blocked { rule, .. } => Some(*rule),
        Cause::Chosen(_) | Cause::PulledIn { .. } | Cause::Default { .. } | Cause::Told => None,
    };
    let unmet = explainer.unmet(option);
    let more: Vec<_> = unmet.iter().filter(|u| Some(u.rule) != held_by).cloned().collect();
    if !more.is_empty() {
        teller.text.push_str("To be on it takes what does not hold now:\n");
        teller.unmet(&more);
    }
    let lacking: Vec<String> = unmet
        .iter()
        .flat_map(|u| &u.blockers)
        .filter_map(|blocker| match blocker {
            Blocker::Lacking(need) => Some(session.board.needs[*need].name.clone()),
            Blocker::Option(_) | Blocker::Present(_) => None,
        })
        .collect();
    if let Some(command) = session.install_command(explainer.facts, &lacking) {
        teller.text.push_str(&format!("{} {command}\n", paint(Role::Good, "First install what is missing:")));
    }
    let on = if matches!(definition.kind, Kind::Module) { "loadable" } else { "on" };
    teller.text.push_str(&format!(
        "{} boltboard set {}={on}\n",
        paint(Role::Good, "To switch it on:"),
        definition.name
    ));
}
