//! Board, choices and facts become a value with its origin for each option.
//!
//! The contract: nothing hard (choices, requirements, conflicts, ranges, facts) is ever broken. What is chosen on pulls in
//! what it requires; what is on merely by default never pulls, it is held off. Of several ways to meet an `or`, one that
//! already holds is taken, else the first written that can hold. A built-in module relies only on built-in modules.
//! The same input gives the same values, whatever the order of files or choices.

mod by_default;
mod clash;
mod engine;
mod judge;
mod possible;
mod proof;
mod resolution;
mod settle;
mod starts;

use std::cell::Cell;
use std::collections::BTreeSet;

use tracing::debug;

use crate::board::{Board, Interp, OptionId, Piece};
use crate::logic::{Lit, Logic, Truth, Var};
use crate::profile::{Choice, Choices};
use crate::survey::Facts;

use engine::{Engine, Pull};
use judge::Judge;
use settle::{NoValue, Setting};

pub use clash::{Clash, Verdict};
pub use possible::Possible;
pub use proof::{Proof, Statement, Step};
pub use resolution::{Effect, Origin, Resolution, Resolved};
pub use starts::{Started, StartingPoint, start, together};

/// Fills in the pieces that need no folders: options and the tree's own name and version.
pub(crate) fn fill(board: &Board, interp: &Interp, value: &dyn Fn(OptionId) -> String) -> String {
    let piece = |piece: &Piece| match piece {
        Piece::Text(text) => text.clone(),
        Piece::Option(option) => value(*option),
        Piece::TreeName => board.tree.name.clone(),
        Piece::TreeVersion => board.tree.version.clone(),
        // Defaults cannot name files; definitions with such pieces are filled in by the plan.
        Piece::Part(_) | Piece::Beside(_) | Piece::Folder(_) | Piece::Reads | Piece::Writes => String::new(),
        Piece::Source(_) | Piece::Value(_) => String::new(),
    };
    interp.pieces.iter().map(piece).collect()
}

/// Resolves all options.
///
/// What is asked for is narrowed down directly; where that meets a dead end, everything is done again with a SAT solver that
/// knows of each step whether it can be completed. Where the first way succeeds, both give the same.
///
/// # Errors
/// The choices cannot hold together: every independent clash, each a smallest set.
pub fn resolve(board: &Board, logic: &Logic, choices: &Choices, facts: &Facts) -> Result<Resolution, Vec<Clash>> {
    if let Ok(resolution) = directly(board, logic, choices, facts) {
        debug!(choices = choices.items.len(), "resolved by narrowing alone");
        return Ok(resolution);
    }
    debug!(choices = choices.items.len(), "narrowing met a dead end: resolved with the solver");
    match completely(board, logic, choices, facts) {
        Completely::Resolved(resolution) => Ok(*resolution),
        Completely::NoWay => {
            let clashes = clash::all(board, logic, choices, facts);
            Err(if clashes.is_empty() { vec![clash::not_decided(board, choices)] } else { clashes })
        }
        Completely::NotDecided => Err(vec![clash::not_decided(board, choices)]),
    }
}

/// The same, for whoever only wants to know whether there is a way; clashes cost more to tell than to find.
pub fn resolved(board: &Board, logic: &Logic, choices: &Choices, facts: &Facts) -> Option<Resolution> {
    directly(board, logic, choices, facts).ok().or_else(|| completely(board, logic, choices, facts).resolved())
}

/// What comes of resolving with the judge.
enum Completely {
    Resolved(Box<Resolution>),
    NoWay,
    NotDecided,
}

/// Resolves by narrowing alone; a dead end says nothing about whether there is another way.
fn directly(board: &Board, logic: &Logic, choices: &Choices, facts: &Facts) -> Result<Resolution, Option<OptionId>> {
    run(board, logic, choices, facts, None)
}

impl Completely {
    fn resolved(self) -> Option<Resolution> {
        match self {
            Completely::Resolved(resolution) => Some(*resolution),
            Completely::NoWay | Completely::NotDecided => None,
        }
    }
}

/// Resolves with the judge.
fn completely(board: &Board, logic: &Logic, choices: &Choices, facts: &Facts) -> Completely {
    let mut given = facts_spelt(board, logic, facts);
    given.extend(given_of(logic, &choices.items));
    let mut only_named = BTreeSet::new();
    let undecided = Cell::new(false);
    loop {
        let judge = Judge::new(logic, &given, &only_named, &undecided);
        let result = judge.map(|judge| run(board, logic, choices, facts, Some(judge)));
        if undecided.get() {
            return Completely::NotDecided;
        }
        match result {
            Some(Ok(resolution)) => return Completely::Resolved(Box::new(resolution)),
            // A text made of others came out as a value that must not be: it takes one that is named, or none will do.
            Some(Err(Some(option))) if only_named.insert(option) => {}
            Some(Err(_)) | None => return Completely::NoWay,
        }
    }
}

fn run(
    board: &Board,
    logic: &Logic,
    choices: &Choices,
    facts: &Facts,
    judge: Option<Judge<'_>>,
) -> Result<Resolution, Option<OptionId>> {
    let mut engine = Engine::new(logic, Setting { board, choices }, judge);
    let mut given = facts_spelt(board, logic, facts);
    given.extend(given_of(logic, &choices.items));
    engine.give(&given).and_then(|()| engine.meet(Pull::Allowed)).map_err(|_| None)?;
    engine.accept();
    let mut resolution = engine.settle(Setting { board, choices }).map_err(|NoValue(option)| Some(option))?;
    for (option, when) in &logic.applies_while {
        if when.truth(&|lit| engine.truth(lit)) != Truth::Yes {
            resolution.idle(*option);
        }
    }
    Ok(resolution)
}

/// Spells what the host has and lacks.
pub(crate) fn facts_spelt(board: &Board, logic: &Logic, facts: &Facts) -> Vec<Lit> {
    let spelt = |need| {
        let var: Var = logic.need(need);
        if facts.has(need) { var.yes() } else { var.no() }
    };
    board.needs.ids().map(spelt).collect()
}

/// Spells choices, in the canonical order of their options.
pub(crate) fn given_of(logic: &Logic, choices: &[Choice]) -> Vec<Lit> {
    let mut choices: Vec<&Choice> = choices.iter().collect();
    choices.sort_by_key(|choice| logic.position(choice.option));
    choices.into_iter().flat_map(|choice| logic.shape(choice.option).spell(&choice.value)).collect()
}

#[cfg(test)]
pub(crate) mod tests;
