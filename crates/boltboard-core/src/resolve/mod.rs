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

use std::collections::BTreeSet;

use crate::board::{Board, Interp, OptionId, Piece};
use crate::logic::{Lit, Logic, Truth, Var};
use crate::profile::{Choice, Choices};
use crate::survey::Facts;

use engine::{Engine, Pull};
use judge::Judge;
use settle::{NoValue, Setting};

pub use clash::Clash;
pub use possible::Possible;
pub use proof::{Proof, Statement, Step};
pub use resolution::{Effect, Origin, Resolution, Resolved};

/// Fills in the pieces that need no folders: options and the tree's own name and version.
pub(crate) fn fill(board: &Board, interp: &Interp, value: &dyn Fn(OptionId) -> String) -> String {
    let piece = |piece: &Piece| match piece {
        Piece::Text(text) => text.clone(),
        Piece::Option(option) => value(*option),
        Piece::TreeName => board.tree.name.clone(),
        Piece::TreeVersion => board.tree.version.clone(),
        // Defaults cannot name files; definitions with such pieces are filled in by the plan.
        Piece::Part(_) | Piece::Folder(_) | Piece::Reads | Piece::Writes => String::new(),
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
        return Ok(resolution);
    }
    completely(board, logic, choices, facts).ok_or_else(|| clash::all(board, logic, choices, facts))
}

/// Resolves by narrowing alone; a dead end says nothing about whether there is another way.
fn directly(board: &Board, logic: &Logic, choices: &Choices, facts: &Facts) -> Result<Resolution, Option<OptionId>> {
    run(board, logic, choices, facts, None)
}

/// Resolves with the judge; `None` when there is no way.
fn completely(board: &Board, logic: &Logic, choices: &Choices, facts: &Facts) -> Option<Resolution> {
    let mut given = facts_spelt(board, logic, facts);
    given.extend(given_of(logic, &choices.items));
    let mut only_named = BTreeSet::new();
    loop {
        let judge = Judge::new(logic, &given, &only_named)?;
        match run(board, logic, choices, facts, Some(judge)) {
            Ok(resolution) => return Some(resolution),
            // A text made of others came out as a value that must not be: it takes one that is named, or none will do.
            Err(Some(option)) if only_named.insert(option) => {}
            Err(_) => return None,
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
    let mut given: Vec<Lit> =
        choices.iter().flat_map(|choice| logic.shape(choice.option).spell(&choice.value)).collect();
    given.sort_by_key(|lit| lit.var());
    given
}

#[cfg(test)]
pub(crate) mod tests;
