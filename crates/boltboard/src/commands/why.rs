//! `boltboard why`

use boltboard_core::board::{Kind, OptionId};
use boltboard_core::reason::{Blocker, Cause, Explainer, Reason};
use clap::Args;

use crate::args::Global;
use crate::exit::{Exit, Stop};
use crate::host::install_command;
use crate::render::text::{Role, paint};
use crate::render::why::Teller;
use crate::render::{Screen, json};
use crate::session::Session;

/// Tell why an option has its value
#[derive(Debug, Args)]
pub struct WhyArgs {
    /// The option
    #[arg(value_name = "OPTION")]
    option: String,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &WhyArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let option = session.board.find_option(&args.option)?;
    let resolved = session.resolve()?;
    let explainer = session.explainer(&resolved);
    let reason = explainer.why(option);
    if global.json {
        screen.json(&json::why(&session.board, &resolved.choices, &reason));
        return Ok(Exit::Done);
    }
    let (board, choices, facts) = (&session.board, &resolved.choices, &resolved.facts);
    let mut teller = Teller { board, choices, facts, text: String::new() };
    teller.reason(&reason, 0);
    if reason.value.is_off() {
        switch_on(&session, &mut teller, &explainer, option, &reason);
    }
    if let (boltboard_core::resolve::Effect::Idle, Some(when)) =
        (resolved.resolution.get(option).effect, &session.board.options[option].in_force)
    {
        teller.text.push_str(&format!(
            "It has no effect now: it counts only while {} holds.\n",
            session.board.print(&when.expr)
        ));
    }
    screen.out(&teller.text);
    Ok(Exit::Done)
}

/// Tells what it would take to switch an option on.
fn switch_on(session: &Session, teller: &mut Teller<'_>, explainer: &Explainer<'_>, option: OptionId, told: &Reason) {
    let definition = &session.board.options[option];
    let held_by = match &told.cause {
        Cause::Held { rule, .. } => Some(*rule),
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
    if let Some(command) = install_command(&session.board, explainer.facts, &lacking) {
        teller.text.push_str(&format!("{} {command}\n", paint(Role::Good, "First install what is missing:")));
    }
    let on = if matches!(definition.kind, Kind::Module) { "loadable" } else { "on" };
    teller.text.push_str(&format!(
        "{} boltboard set {}={on}\n",
        paint(Role::Good, "To switch it on:"),
        definition.name
    ));
}
