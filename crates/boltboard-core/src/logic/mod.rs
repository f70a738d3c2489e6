//! The board's hard rules as clauses over Boolean variables: what the resolver, `reach` and `lint` reason on.
//!
//! A switch is one variable, a module two (there; built in, which implies there), a pick one for each value. Numbers and
//! sizes have a variable for each bound that some condition draws ("at least 4"), texts one for each value that some
//! condition names, words one for each word. Every rule becomes clauses that wait for a *guard*: the variable that
//! makes the rule count. Facts are variables too, so the clauses hold for every host and are made once per board.

mod condition;
mod encode;
mod sat;
mod shape;

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use crate::board::{NeedId, OptionId, RuleId};

pub use condition::{Condition, Truth};
pub use encode::encode;
pub use sat::{MOST_STEPS, Sat, Switchable, Unsolved};
pub(crate) use shape::whole;
pub use shape::{Shape, TextSort, Unit};

/// A Boolean variable.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Var(u32);

/// A variable or its opposite.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Lit(u32);

/// The index of a clause. Clauses of one option stand together, options in the canonical order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ClauseId(pub(crate) u32);

/// What a variable speaks about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Owner {
    /// Nothing: the variable that always holds.
    Always,
    /// An option's value.
    Option(OptionId),
    /// Whether the host has a need.
    Need(NeedId),
    /// Several literals at once, as a member of an `or`.
    Several,
}

/// A default of an option in a form that is quick to decide.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct DefaultChoice {
    /// When it counts; `None` for always.
    pub when: Option<Condition>,
    /// What it gives.
    pub gives: Given,
}

/// What a default gives.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub enum Given {
    /// A value.
    Value(crate::board::Value),
    /// A text to fill in.
    Text(crate::board::Interp),
}

/// A default without conditions, with the option's first variable: nothing else has to be looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum PlainDefault {
    /// A switch is off.
    SwitchOff(Var),
    /// A switch is on.
    SwitchOn(Var),
    /// A module is off.
    ModuleOff(Var),
    /// A module is loadable.
    Loadable(Var),
    /// It is none of these.
    Other,
}

/// The rules of a board as clauses, with how options' values are spelt in variables.
///
/// Clause literals begin with the opposite of the guard; the others stand in the order in which the rule is written.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Logic {
    /// All options, those that others look at first.
    pub(crate) order: Vec<OptionId>,
    /// In the canonical order too.
    pub(crate) plain: Vec<PlainDefault>,
    /// Where each option stands in that order.
    positions: Vec<u32>,
    /// In the canonical order, so that what is looked at next lies next.
    shapes: Vec<Shape>,
    defaults: Vec<DefaultChoice>,
    default_starts: Vec<u32>,
    pub(crate) applies_while: Vec<(OptionId, Condition)>,
    owners: Vec<Owner>,
    /// Whether a variable says nothing about the others of its option, as that of a switch.
    alone: Vec<bool>,
    first_need: u32,
    clause_starts: Vec<u32>,
    literals: Vec<Lit>,
    clause_rules: Vec<u32>,
    guard_starts: Vec<u32>,
    guarded: Vec<u32>,
}

impl Var {
    /// The variable that always holds.
    pub const ALWAYS: Var = Var(0);

    /// Returns the literal that the variable holds.
    pub fn yes(self) -> Lit {
        Lit(self.0 << 1)
    }

    /// Returns the literal that it does not hold.
    pub fn no(self) -> Lit {
        Lit(self.0 << 1 | 1)
    }

    /// Returns its position among all variables.
    pub fn index(self) -> usize {
        self.0 as usize
    }

    pub(crate) fn at(index: usize) -> Var {
        Var(u32::try_from(index).unwrap_or(u32::MAX >> 1))
    }

    pub(crate) fn plus(self, offset: usize) -> Var {
        Var::at(self.index() + offset)
    }
}

impl Lit {
    /// Returns the variable.
    pub fn var(self) -> Var {
        Var(self.0 >> 1)
    }

    /// Tells whether it is the variable itself and not its opposite.
    pub fn is_yes(self) -> bool {
        self.0 & 1 == 0
    }

    /// Returns the opposite.
    pub fn opposite(self) -> Lit {
        Lit(self.0 ^ 1)
    }
}

impl ClauseId {
    /// Returns its position among all clauses.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

impl Logic {
    /// Tells whether a variable says nothing about the others of its option.
    pub(crate) fn is_alone(&self, var: Var) -> bool {
        self.alone[var.index()]
    }

    /// Returns how many variables there are.
    pub fn vars(&self) -> usize {
        self.owners.len()
    }

    /// Returns what a variable speaks about.
    pub fn owner(&self, var: Var) -> Owner {
        self.owners[var.index()]
    }

    /// Returns the variable of a need.
    pub fn need(&self, need: NeedId) -> Var {
        Var::at(self.first_need as usize + need.index())
    }

    /// Returns how an option's values are spelt.
    pub fn shape(&self, option: OptionId) -> &Shape {
        &self.shapes[self.positions[option.index()] as usize]
    }

    /// Returns all options with how their values are spelt, in the canonical order.
    pub fn shapes(&self) -> impl Iterator<Item = (OptionId, &Shape)> {
        self.order.iter().copied().zip(&self.shapes)
    }

    /// Returns the defaults of an option, in the order in which they are looked at.
    pub fn defaults(&self, option: OptionId) -> &[DefaultChoice] {
        self.defaults_at(self.positions[option.index()] as usize)
    }

    /// Returns where an option stands in the canonical order.
    pub(crate) fn position(&self, option: OptionId) -> usize {
        self.positions[option.index()] as usize
    }

    /// Returns the defaults of the option that stands there in the canonical order.
    pub(crate) fn defaults_at(&self, at: usize) -> &[DefaultChoice] {
        &self.defaults[self.default_starts[at] as usize..self.default_starts[at + 1] as usize]
    }

    /// Returns all clauses.
    pub fn clauses(&self) -> impl Iterator<Item = ClauseId> + use<> {
        (0..self.clause_rules.len() as u32).map(ClauseId)
    }

    /// Returns a clause's literals; the first one is the opposite of its guard.
    pub fn literals(&self, clause: ClauseId) -> &[Lit] {
        let (from, to) = (self.clause_starts[clause.index()], self.clause_starts[clause.index() + 1]);
        &self.literals[from as usize..to as usize]
    }

    /// Returns the rule that a clause was made of.
    pub fn rule(&self, clause: ClauseId) -> RuleId {
        RuleId::new(self.clause_rules[clause.index()] as usize)
    }

    /// Returns the rules that look at an option, sorted.
    pub fn rules_about(&self, option: OptionId) -> BTreeSet<RuleId> {
        let shape = self.shape(option);
        self.rules_among(shape.first(), shape.len())
    }

    /// Returns the rules that look at a variable, sorted.
    pub fn rules_on(&self, var: Var) -> BTreeSet<RuleId> {
        self.rules_among(var, 1)
    }

    fn rules_among(&self, first: Var, count: usize) -> BTreeSet<RuleId> {
        let about = |lit: &Lit| lit.var().index().wrapping_sub(first.index()) < count;
        let asked = self.clauses().filter(|clause| self.literals(*clause)[1..].iter().any(about));
        asked.map(|clause| self.rule(clause)).collect()
    }

    /// Returns the clauses of one rule of an option.
    pub fn clauses_of(&self, option: OptionId, rule: RuleId) -> Vec<ClauseId> {
        let mut clauses: Vec<ClauseId> = Vec::new();
        let mut guards: Vec<Var> = self.shape(option).vars().collect();
        while let Some(guard) = guards.pop() {
            for clause in self.guarded_by(guard).filter(|clause| self.rule(*clause) == rule) {
                clauses.push(clause);
                let several = |lit: &&Lit| self.owner(lit.var()) == Owner::Several;
                guards.extend(self.literals(clause)[1..].iter().filter(several).map(|lit| lit.var()));
            }
        }
        clauses
    }

    /// Returns the clauses that count when a variable holds.
    pub fn guarded_by(&self, guard: Var) -> impl Iterator<Item = ClauseId> {
        let (from, to) = (self.guard_starts[guard.index()], self.guard_starts[guard.index() + 1]);
        self.guarded[from as usize..to as usize].iter().map(|clause| ClauseId(*clause))
    }
}

#[cfg(test)]
mod tests;
