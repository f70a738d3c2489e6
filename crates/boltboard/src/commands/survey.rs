//! `boltboard survey`

use boltboard_core::base::near_matches;
use boltboard_core::survey::FactState;
use clap::Args;

use crate::args::Global;
use crate::exit::{Diagnostic, Exit, Stop};
use crate::render::{Screen, json, survey};
use crate::session::{Session, distribution};

/// Look for everything that the tree needs of this host
#[derive(Debug, Args)]
pub struct SurveyArgs {
    /// Tell all that was tried for this need
    #[arg(value_name = "NEED")]
    need: Option<String>,
}

/// Runs the command. It ends with 4 when something that nothing can be built without is missing.
pub fn run(global: &Global, screen: &Screen, args: &SurveyArgs) -> Result<Exit, Stop> {
    let session = Session::open(global)?;
    let board = &session.board;
    let choices = session.choices_of(&session.profile)?;
    let facts = session.facts(&choices)?;
    let distribution = distribution();
    let wanted = match &args.need {
        None => None,
        Some(name) => Some(board.need(name).ok_or_else(|| {
            let near = near_matches(name, board.needs.iter().map(|(_, need)| need.name.as_str()));
            Stop::new(Exit::WrongUse, Diagnostic::new(format!("there is no need `{name}`")).near(&near))
        })?),
    };
    let asked = facts.iter().filter(|fact| wanted.is_none_or(|need| fact.need == need));
    if global.json {
        screen.json(&json::survey(board, asked, &distribution));
    } else if wanted.is_some() {
        asked.for_each(|fact| screen.out(&survey::evidence(board, fact, &distribution)));
    } else {
        let resolved = session.resolve_choices(choices, facts.clone()).ok();
        let resolution = resolved.as_ref().map(|r| &r.resolution);
        screen.out(&survey::list(board, &facts, resolution, &distribution, screen.width));
    }
    let required = |need| board.needs[need].importance == boltboard_core::board::Importance::Required;
    let lacks = facts.iter().any(|f| matches!(f.state, FactState::Missing(_)) && required(f.need));
    Ok(if lacks { Exit::HostLacks } else { Exit::Done })
}
