//! What can be at all, on any host and with any choices.

use std::collections::BTreeSet;

use super::clash::lean_rules;
use super::engine::{Engine, Pull};
use super::proof::{Proof, prove};
use super::settle::Setting;
use crate::board::{Board, OptionId, RuleId};
use crate::logic::{Condition, Lit, Logic, MOST_STEPS, Owner, Sat, Shape, Switchable, Truth, Unsolved};
use crate::profile::Choices;

/// Tells what can be. Answers are found by narrowing where that does, and by the SAT solver where it does not; whatever one
/// answer shows to be possible is remembered.
pub struct Possible<'a> {
    logic: &'a Logic,
    engine: Engine<'a>,
    /// Picks of which every value asks for something.
    bound: Vec<OptionId>,
    seen: Vec<bool>,
    /// How many questions were not decided.
    undecided: usize,
}

impl<'a> Possible<'a> {
    /// Begins with nothing chosen; `nothing` is an empty set of choices.
    pub fn new(board: &'a Board, logic: &'a Logic, nothing: &'a Choices) -> Possible<'a> {
        let asks = |option: &OptionId| match logic.shape(*option) {
            shape @ Shape::Pick { .. } => shape.vars().all(|var| logic.guarded_by(var).next().is_some()),
            _ => false,
        };
        Possible {
            logic,
            engine: Engine::new(logic, Setting { board, choices: nothing }, None),
            bound: logic.order.iter().copied().filter(asks).collect(),
            seen: vec![false; logic.vars() * 2],
            undecided: 0,
        }
    }

    /// Tells whether some pick has nothing but values that ask for something; only then can anything be on of itself.
    pub fn any_bound(&self) -> bool {
        !self.bound.is_empty()
    }

    /// Returns how many questions so far were too much work to be decided; they were answered with yes.
    pub fn undecided(&self) -> usize {
        self.undecided
    }

    /// Tells whether these can hold together.
    pub fn can(&mut self, literals: &[Lit]) -> bool {
        if let [only] = literals
            && self.seen[index(*only)]
        {
            return true;
        }
        match self.narrowly(literals) {
            Narrowed::Can => true,
            Narrowed::Cannot(_) => false,
            Narrowed::Undecided => self.by_sat(literals, None),
        }
    }

    /// Tells whether a condition can hold together with these.
    pub fn can_hold(&mut self, condition: &Condition, literals: &[Lit]) -> bool {
        match condition {
            Condition::Lit(lit) => self.can(&[&[*lit], literals].concat()),
            Condition::All(members) if members.iter().all(|member| matches!(member, Condition::Lit(_))) => {
                let mut all = literals.to_vec();
                condition.for_each_lit(&mut |lit| all.push(lit));
                self.can(&all)
            }
            other => self.by_sat(literals, Some(other)),
        }
    }

    /// Shows why these can never hold together: a smallest set of rules, and how they lead to a contradiction. `None` when
    /// they can.
    pub fn impossible(&mut self, board: &Board, literals: &[Lit]) -> Option<(Vec<RuleId>, Proof)> {
        let logic = self.logic;
        // The rules that narrowing ran through are few; only where it decides nothing are all asked.
        let suspects = match self.narrowly(literals) {
            Narrowed::Cannot(rules) if !rules.is_empty() => Some(rules),
            Narrowed::Can | Narrowed::Cannot(_) | Narrowed::Undecided => None,
        };
        let mut sat = match &suspects {
            Some(rules) => Sat::of_rules(logic, rules.iter().map(|rule| (board.rules[*rule].option, *rule))),
            None => Sat::new(logic, options(logic, literals), Switchable::ByRule),
        };
        literals.iter().for_each(|lit| sat.require(*lit));
        let rules = lean_rules(board, logic, &mut sat)?;
        let proof = prove(board, logic, literals, &rules);
        let mut ordered = proof.rules();
        let used: BTreeSet<RuleId> = ordered.iter().copied().collect();
        ordered.extend(rules.difference(&used));
        Some((ordered, proof))
    }

    fn narrowly(&mut self, literals: &[Lit]) -> Narrowed {
        let mark = self.engine.mark();
        let start = self.engine.known_so_far();
        let narrowed = self.narrowed(literals);
        if let Narrowed::Can = narrowed {
            for lit in self.engine.known_since(start) {
                self.seen[index(*lit)] = true;
            }
        }
        self.engine.undo(mark);
        narrowed
    }

    fn narrowed(&mut self, literals: &[Lit]) -> Narrowed {
        if let Err(stopped) = self.engine.give(literals).and_then(|()| self.engine.follow_up()) {
            return Narrowed::Cannot(stopped.by.map(|clause| self.engine.blamed(clause)).unwrap_or_default());
        }
        if self.engine.meet(Pull::Allowed).is_err() {
            return Narrowed::Undecided;
        }
        for option in &self.bound {
            let shape = self.logic.shape(*option);
            if shape.vars().any(|var| self.engine.truth(var.yes()) == Truth::Yes) {
                continue;
            }
            let found = shape.vars().any(|var| {
                self.engine.truth(var.yes()) == Truth::Open && self.engine.attempt(&[var.yes()], Pull::Allowed).is_ok()
            });
            if !found {
                return Narrowed::Undecided;
            }
        }
        Narrowed::Can
    }

    fn by_sat(&mut self, literals: &[Lit], condition: Option<&Condition>) -> bool {
        let mut mentioned: Vec<Lit> = literals.to_vec();
        condition.iter().for_each(|condition| condition.for_each_lit(&mut |lit| mentioned.push(lit)));
        let mut sat = Sat::new(self.logic, options(self.logic, &mentioned), Switchable::Fixed);
        if let Some(condition) = condition {
            sat.require_condition(condition);
        }
        if self.undecided >= PATIENCE {
            sat.limit(MOST_STEPS / 20);
        }
        match sat.solve(literals) {
            Ok(()) => true,
            Err(Unsolved::Core(_)) => false,
            Err(Unsolved::Undecided) => {
                self.undecided += 1;
                true
            }
        }
    }
}

/// After so many questions that were not decided, others are given less work.
const PATIENCE: usize = 3;

/// What narrowing alone finds out.
enum Narrowed {
    Can,
    /// Nothing was tried and everything followed: it can never be. The rules that led there.
    Cannot(BTreeSet<RuleId>),
    Undecided,
}

fn index(lit: Lit) -> usize {
    lit.var().index() * 2 + usize::from(lit.is_yes())
}

fn options(logic: &Logic, literals: &[Lit]) -> Vec<OptionId> {
    let option = |lit: &Lit| match logic.owner(lit.var()) {
        Owner::Option(option) => Some(option),
        Owner::Always | Owner::Need(_) | Owner::Several => None,
    };
    literals.iter().filter_map(option).collect()
}
