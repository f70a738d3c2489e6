//! Board, choices and facts become a value with its origin for each option.
//!
//! The contract: nothing hard (choices, requirements, conflicts, ranges, facts) is ever broken. What is chosen on pulls in
//! what it requires; what is on merely by default never pulls, it is held off. Of several ways to meet an `or`, one that
//! already holds is taken, else the first written that can hold. A built-in module relies only on built-in modules.
//! The same input gives the same values, whatever the order of files or choices.

mod clash;
mod domain;
mod settle;
mod solve;

use crate::base::Id;
use crate::board::{Atom, Board, Interp, OptionId, Piece, RuleId, Value};
use crate::expr::Expr;
use crate::profile::Choices;
use crate::survey::Facts;

pub use clash::Clash;

/// A value for each option, with where it comes from.
#[derive(Debug, Clone)]
pub struct Resolution {
    values: Vec<Resolved>,
}

/// One option's value.
#[derive(Debug, Clone, PartialEq)]
pub struct Resolved {
    /// The value.
    pub value: Value,
    /// Where it comes from.
    pub origin: Origin,
    /// Whether it has an effect.
    pub effect: Effect,
}

/// Where a value comes from.
#[derive(Debug, Clone, PartialEq)]
pub enum Origin {
    /// A person chose it; see [`Choices::get`].
    Chosen,
    /// Something that is on wants it; the rule says what.
    PulledIn(RuleId),
    /// The option's default rule of that index.
    Default(usize),
    /// Its default would be another value, but this rule, or a rule of another option, stands against it.
    Held {
        /// The default's value.
        would_be: Value,
        /// What stands against it.
        by: RuleId,
    },
}

/// Whether a value has an effect.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effect {
    /// It has.
    InForce,
    /// What the option belongs to is not there, so its value changes nothing.
    Idle,
}

impl Resolution {
    /// Returns what an option was resolved to.
    pub fn get(&self, option: OptionId) -> &Resolved {
        &self.values[option.index()]
    }

    /// Returns an option's value.
    pub fn value(&self, option: OptionId) -> &Value {
        &self.get(option).value
    }

    /// Returns all options with what they were resolved to, in the order of options.
    pub fn iter(&self) -> impl Iterator<Item = (OptionId, &Resolved)> {
        self.values.iter().enumerate().map(|(index, resolved)| (Id::new(index), resolved))
    }

    /// Tells whether an atom holds.
    pub fn atom_holds(&self, facts: &Facts, atom: &Atom) -> bool {
        match atom {
            Atom::On(option) => !self.value(*option).is_off(),
            Atom::Need(need) => facts.has(*need),
            Atom::Compare(option, op, value) => self.value(*option).compares(*op, value),
        }
    }

    /// Tells whether a condition holds.
    pub fn holds(&self, facts: &Facts, expr: &Expr<Atom>) -> bool {
        expr.holds(&|atom| self.atom_holds(facts, atom))
    }
}

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
/// # Errors
/// The choices cannot hold together: every independent clash, each a smallest set.
pub fn resolve(board: &Board, choices: &Choices, facts: &Facts) -> Result<Resolution, Vec<Clash>> {
    let all = |_: RuleId| true;
    match solve::run(board, &choices.items, facts, &all) {
        Ok(solved) => Ok(settle::finish(board, choices, facts, solved)),
        Err(_) => Err(clash::all(board, &choices.items, facts)),
    }
}

#[cfg(test)]
mod tests;
