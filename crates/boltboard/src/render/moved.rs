//! What a change recorded, and which values it changed.

use boltboard_core::board::{OptionId, Value};
use boltboard_core::resolve::{Effect, Origin};
use boltboard_core::session::Resolved;

use super::options::origin_word;
use super::text::{Cell, Role, columns, next_line, paint};
use crate::commands::set::Recorded;
use crate::session::Session;

/// An option whose value has changed.
pub struct Moved {
    /// The option.
    pub option: OptionId,
    /// Its value before; none where nothing could be resolved.
    pub before: Option<Value>,
    /// Its value now.
    pub after: Value,
    /// Where that comes from, in a word or two.
    pub origin: String,
    /// Whether a person chose it.
    pub chosen: bool,
    /// Whether it has an effect now.
    pub effect: Effect,
}

/// Which values changed, and which gained or lost their effect.
#[derive(Default)]
pub struct Moves {
    /// Options whose value has changed.
    pub values: Vec<Moved>,
    /// Options of the same value that have an effect now.
    pub applies: Vec<OptionId>,
    /// Options of the same value that have none now.
    pub no_effect: Vec<OptionId>,
}

impl Moves {
    /// Finds what is not as before.
    pub fn between(session: &Session, before: Option<&Resolved>, after: &Resolved) -> Moves {
        let mut moves = Moves::default();
        for (option, now) in after.resolution.iter() {
            let was = before.map(|before| before.resolution.get(option));
            let chosen = matches!(now.origin, Origin::Chosen);
            match was {
                Some(was) if was.value == now.value && was.effect == now.effect => continue,
                Some(was) if was.value == now.value => {
                    let list = if now.effect == Effect::Applies { &mut moves.applies } else { &mut moves.no_effect };
                    list.push(option);
                    continue;
                }
                None if !chosen => continue,
                Some(_) | None => {}
            }
            moves.values.push(Moved {
                option,
                before: was.map(|was| was.value.clone()),
                after: now.value.clone(),
                origin: origin_word(&session.board, &after.choices, option, now),
                chosen,
                effect: now.effect,
            });
        }
        moves
    }
}

/// Says what was recorded where.
pub fn recorded(session: &Session, recorded: &Recorded) -> String {
    let mut text = String::new();
    for (verb, list) in [("Recorded in", &recorded.chosen), ("Removed from", &recorded.undone)] {
        if !list.is_empty() {
            let head = paint(Role::Good, &format!("{verb} the profile {}:", session.profile));
            text.push_str(&format!("{head} {}\n", list.join(", ")));
        }
    }
    text
}

/// Tells what was recorded, and each value that changed with it.
pub fn text(session: &Session, moves: &Moves, done: Option<&Recorded>, width: usize) -> String {
    let name = |option: &OptionId| session.board.option_names.get(*option);
    let mut text = done.map_or(String::new(), |done| recorded(session, done));
    let row = |moved: &Moved| -> Vec<Cell> {
        vec![
            (Role::Name, name(&moved.option).to_string()),
            (Role::Faint, moved.before.as_ref().map_or(String::new(), ToString::to_string)),
            (Role::Faint, "→".to_string()),
            (Role::Value, moved.after.to_string()),
            (if moved.origin == "chosen" { Role::Good } else { Role::Faint }, moved.origin.clone()),
        ]
    };
    let rows: Vec<Vec<Cell>> = moves.values.iter().map(row).collect();
    if rows.is_empty() {
        text.push_str(if done.is_some() { "No value changed.\n" } else { "No value would change.\n" });
    } else {
        text.push_str(&columns(&rows, 2, width));
    }
    for (options, words) in [(&moves.applies, "has an effect now:"), (&moves.no_effect, "has no effect now:")] {
        if !options.is_empty() {
            let names: Vec<&str> = options.iter().map(name).collect();
            text.push_str(&paint(Role::Faint, &format!("  {words} {}\n", names.join(", "))));
        }
    }
    for moved in moves.values.iter().filter(|moved| moved.chosen && moved.effect == Effect::NoEffect) {
        let name = name(&moved.option);
        text.push_str(&format!("{} {name} has no effect now.\n", paint(Role::Warn, "note:")));
        text.push_str(&next_line(format!("boltboard why {name}"), "when it has one"));
    }
    text
}
