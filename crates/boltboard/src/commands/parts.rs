//! Parts as a person names them.

use boltboard_core::base::near_matches;
use boltboard_core::board::PartId;
use boltboard_core::session::Resolved;

use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::names;
use crate::session::Session;

/// Looks parts up that are made under these values.
pub fn made_parts(session: &Session, resolved: &Resolved, names: &[String]) -> Result<Vec<PartId>, Stop> {
    let board = &session.board;
    let find = |name: &String| -> Result<PartId, Stop> {
        let Some(part) = board.part(name) else {
            let near = near_matches(name, board.parts.iter().map(|(_, part)| part.name.as_str()));
            let diagnostic = Diagnostic::new(format!("there is no part `{name}`")).near(&near);
            let diagnostic = names::lead_on(diagnostic, session, name);
            return Err(Stop::new(Exit::WrongUse, diagnostic.next("boltboard overview", "all parts")));
        };
        match board.parts[part].gate() {
            Some(gate) if !resolved.resolution.holds(&resolved.facts, &gate) => {
                let message = format!("part {name} is not made: it is made only while {}", board.print(&gate));
                let mut diagnostic = Diagnostic::new(message);
                for option in names::options_of(&gate) {
                    let option = &board.options[option].name;
                    diagnostic =
                        diagnostic.next(format!("boltboard why {option}"), "what it is now, and what changes that");
                }
                Err(Stop::new(Exit::No, diagnostic))
            }
            Some(_) | None => Ok(part),
        }
    };
    names.iter().map(find).collect()
}
