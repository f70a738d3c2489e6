//! `boltboard why`

use boltboard_core::base::shell_word;
use boltboard_core::board::{DecidedBy, NeedId, OptionId};
use boltboard_core::reason::{Blocker, Cause, Explainer, Reason};
use boltboard_core::resolve::resolve;
use boltboard_core::slate::Item;
use clap::Args;

use crate::args::Global;
use crate::complete;
use crate::fault::{Diagnostic, Exit, Next, Stop, needed};
use crate::render::clash::standing_against;
use crate::render::text::{Role, next_line, next_lines, paint};
use crate::render::why::{Rules, Teller};
use crate::render::{Screen, json};
use crate::session::Session;
use boltboard_core::session::Resolved;

/// Explain why an option has its value
#[derive(Debug, Args)]
pub struct WhyArgs {
    /// The option; with a value, what stands against that value
    #[arg(value_name = "OPTION[=VALUE]", add = complete::values())]
    option: String,
    /// Write long requirements in full
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
    let option = session.find_option(name)?;
    let resolved = session.resolve()?;
    let rules = if args.rules { Rules::Whole } else { Rules::Short };
    if let Some(text) = value {
        return not(&session, screen, &resolved, option, text, rules);
    }
    if global.json {
        let reason = session.explainer(&resolved).why(option);
        screen.json(&json::why(&session.board, &resolved.choices, &reason));
    } else {
        screen.out(&told(&session, &resolved, option, rules));
    }
    Ok(Exit::Done)
}

/// Tells why an option has its value, and how to go on.
pub fn told(session: &Session, resolved: &Resolved, option: OptionId, rules: Rules) -> String {
    tell(session, resolved, option, rules).text
}

/// The same by lines, with what each is about.
pub fn told_about(
    session: &Session,
    resolved: &Resolved,
    option: OptionId,
    rules: Rules,
) -> Vec<(String, Option<Item>)> {
    tell(session, resolved, option, rules).lines()
}

fn tell<'a>(session: &'a Session, resolved: &'a Resolved, option: OptionId, rules: Rules) -> Teller<'a> {
    let explainer = session.explainer(resolved);
    let reason = explainer.why(option);
    let (board, choices, facts) = (&session.board, &resolved.choices, &resolved.facts);
    let mut teller = Teller::new(board, choices, facts, rules);
    teller.reason(&reason, 0);
    let next =
        if reason.value.is_off() { switch_on(session, &mut teller, &explainer, option, &reason) } else { Vec::new() };
    if let (boltboard_core::resolve::Effect::NoEffect, Some(when)) =
        (resolved.resolution.get(option).effect, &session.board.options[option].applies_while)
    {
        teller.text.push_str(&format!(
            "It has no effect now: it applies only while {} holds.\n",
            session.board.print(&when.expr)
        ));
    }
    teller.text.push_str(&next_lines(&next, 0));
    teller
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
    let asked = session.read_asked(&format!("{name}={text}"))?;
    let boltboard_core::board::Asked::Value(_, value) = asked else {
        return Err(Stop::usage(format!("`why {name}=VALUE` is about a value of an option")));
    };
    let choices = resolved.choices.clone().with(board, option, value.clone());
    let clashes = resolve(board, &session.logic, &choices, &resolved.facts).err().unwrap_or_default();
    if session.global.json {
        screen.json(&json::why_not(board, &choices, option, &value, &clashes));
        return Ok(Exit::Done);
    }
    let asked = shell_word(&format!("{name}={value}"));
    let mut told = String::new();
    if resolved.resolution.value(option) == &value {
        told.push_str(&format!("{name} is {value} already.\n"));
    } else if clashes.is_empty() {
        told.push_str(&format!("{name}={value} is possible. It has another value because:\n"));
        let facts = &resolved.facts;
        let mut teller = Teller::new(board, &resolved.choices, facts, rules);
        teller.reason(&session.explainer(resolved).why(option), 1);
        told.push_str(&teller.text);
        told.push_str(&next_line(format!("boltboard set {asked}"), "choose it"));
    } else {
        told.push_str(&format!("{} cannot hold now:\n", paint(Role::Title, &format!("{name}={value}"))));
        for clash in &clashes {
            standing_against(board, &choices, option, clash)
                .iter()
                .for_each(|line| told.push_str(&format!("  {line}\n")));
        }
        let lacking: Vec<NeedId> = clashes.iter().flat_map(|clash| clash.lacking.iter().copied()).collect();
        let ways =
            Diagnostic::default().next(format!("boltboard ways {asked}"), "the smallest changes that lead there");
        let helped = needed(ways, session, &resolved.choices, &resolved.facts, &lacking);
        told.push_str(&next_lines(&helped.next, 0));
    }
    screen.out(&told);
    Ok(Exit::Done)
}

/// Tells what an option that is off would need, and the command that switches it on or finds the way there.
fn switch_on(
    session: &Session,
    teller: &mut Teller<'_>,
    explainer: &Explainer<'_>,
    option: OptionId,
    told: &Reason,
) -> Vec<Next> {
    let definition = &session.board.options[option];
    let name = &definition.name;
    let held_by = match &told.cause {
        Cause::Blocked { rule, .. } => Some(*rule),
        Cause::Chosen(_) | Cause::PulledIn { .. } | Cause::Default { .. } | Cause::Told | Cause::Further => None,
    };
    let unmet = explainer.unmet(option);
    let more: Vec<_> = unmet.iter().filter(|u| Some(u.rule) != held_by).cloned().collect();
    if !more.is_empty() {
        let also = if held_by.is_some() { "It also requires" } else { "It requires" };
        teller.text.push_str(&format!("{also} what does not hold now:\n"));
        teller.unmet(&more);
    }
    let blockers = unmet.iter().flat_map(|u| &u.blockers);
    let lacking = blockers.filter_map(|blocker| match blocker {
        Blocker::Lacking(need) => Some(*need),
        Blocker::Option(_) | Blocker::Present(_) => None,
    });
    let lacking: Vec<NeedId> = lacking.collect();
    let word = definition.kind.on_word().unwrap_or("on");
    let (facts, choices) = (explainer.facts, explainer.choices);
    let on = definition.kind.read(word).ok().map(|on| choices.clone().with(&session.board, option, on));
    let alone = on.is_some_and(|on| resolve(&session.board, &session.logic, &on, facts).is_ok());
    let diagnostic = if definition.decided_by != DecidedBy::People {
        // What has its value is chosen, not it.
        Diagnostic::default().next(format!("boltboard show {name}"), "what requires it")
    } else if alone {
        Diagnostic::default().next(format!("boltboard set {name}={word}"), "switch it on")
    } else {
        Diagnostic::default().next(format!("boltboard ways {name}={word}"), "the smallest changes that lead there")
    };
    needed(diagnostic, session, choices, facts, &lacking).next
}
