//! `boltboard why`

use clap::Args;

use crate::args::Global;
use crate::exit::{Exit, Stop};
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
    let session = Session::open(global)?;
    let option = session.board.find_option(&args.option)?;
    let resolved = session.resolve()?;
    let explainer = session.explainer(&resolved);
    let reason = explainer.why(option);
    if global.json {
        screen.json(&json::why(&session.board, &resolved.choices, &reason));
        return Ok(Exit::Done);
    }
    let mut teller = Teller { board: &session.board, choices: &resolved.choices, text: String::new() };
    teller.reason(&reason, 0);
    let definition = &session.board.options[option];
    if reason.value.is_off() {
        let unmet = explainer.unmet(option);
        let held = matches!(reason.cause, boltboard_core::reason::Cause::Held { .. });
        if !unmet.is_empty() && !held {
            teller.text.push_str("To be on it would also take what does not hold now:\n");
            teller.unmet(&unmet);
        }
        let on = if matches!(definition.kind, boltboard_core::board::Kind::Module) { "loadable" } else { "on" };
        teller.text.push_str(&format!(
            "{} boltboard set {}={on}\n",
            paint(Role::Good, "To switch it on:"),
            definition.name
        ));
    }
    if let (boltboard_core::resolve::Effect::Idle, Some(when)) =
        (resolved.resolution.get(option).effect, &definition.in_force)
    {
        teller.text.push_str(&format!(
            "It has no effect now: it counts only while {} holds.\n",
            session.board.print(&when.expr)
        ));
    }
    screen.out(&teller.text);
    Ok(Exit::Done)
}
