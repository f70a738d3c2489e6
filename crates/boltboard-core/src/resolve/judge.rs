//! Whether a step can be completed to an assignment that breaks nothing: the SAT solver behind the narrowing.

use std::cell::Cell;
use std::collections::BTreeSet;

use crate::board::OptionId;
use crate::logic::{ClauseId, Given, Lit, Logic, Owner, Sat, Shape, Switchable, Unsolved, Var};

/// Knows of each step whether it can be completed. What was accepted is never taken back.
pub(super) struct Judge<'a> {
    sat: Sat<'a>,
    /// Set when something was not found out.
    undecided: &'a Cell<bool>,
    accepted: Vec<Lit>,
    refused: Vec<Lit>,
}

impl<'a> Judge<'a> {
    /// Takes in the given literals; `None` when nothing can come of them. No text takes an unnamed value where
    /// `only_named` says so. `undecided` is set as soon as something is not found out; the answers are of no use then.
    pub fn new(
        logic: &'a Logic,
        given: &[Lit],
        only_named: &BTreeSet<OptionId>,
        undecided: &'a Cell<bool>,
    ) -> Option<Judge<'a>> {
        // What is on merely by default counts too, so nothing is left out.
        let mut sat = Sat::new(logic, logic.order.iter().copied(), Switchable::Fixed);
        given.iter().for_each(|lit| sat.require(*lit));
        unnamed(logic, given, only_named).into_iter().for_each(|lit| sat.require(lit));
        let solved = sat.solve(&[]);
        undecided.set(undecided.get() || solved == Err(Unsolved::Undecided));
        solved.ok()?;
        Some(Judge { sat, undecided, accepted: Vec::new(), refused: Vec::new() })
    }

    /// Tells whether these can hold together with all that was accepted.
    pub fn can(&mut self, added: &[Lit]) -> bool {
        let new: Vec<Lit> = added.iter().copied().filter(|lit| self.sat.knows(lit.var())).collect();
        // The assignment found last may happen to agree.
        let agrees = new.iter().all(|lit| self.sat.holds(*lit));
        if agrees {
            return true;
        }
        match self.sat.solve(&new) {
            Ok(()) => return true,
            Err(Unsolved::Core(_)) => {}
            Err(Unsolved::Undecided) => self.undecided.set(true),
        }
        self.refused = new;
        // The assignment was lost with the answer; what was accepted still has one.
        let restored = self.sat.solve(&[]);
        debug_assert!(!matches!(restored, Err(Unsolved::Core(_))));
        self.undecided.set(self.undecided.get() || restored.is_err());
        false
    }

    /// Makes these hold from now on; they were found to be possible.
    pub fn accept(&mut self, added: &[Lit]) {
        for lit in added {
            if self.sat.knows(lit.var()) {
                self.sat.require(*lit);
                self.accepted.push(*lit);
            }
        }
    }

    /// Returns a clause that stands against what was refused last.
    pub fn blame(&self, logic: &Logic) -> Option<ClauseId> {
        let options = self.accepted.iter().chain(&self.refused).filter_map(|lit| match logic.owner(lit.var()) {
            Owner::Option(option) => Some(option),
            Owner::Always | Owner::Need(_) | Owner::Several => None,
        });
        let mut sat = Sat::new(logic, options, Switchable::ByRule);
        self.accepted.iter().chain(&self.refused).for_each(|lit| sat.require(*lit));
        let rules: Vec<(crate::board::RuleId, Lit)> = sat.rules().iter().map(|(rule, lit)| (*rule, *lit)).collect();
        let assumed: Vec<Lit> = rules.iter().map(|(_, lit)| *lit).collect();
        let core: BTreeSet<Lit> = sat.solve(&assumed).err()?.core()?.into_iter().collect();
        let blamed: BTreeSet<_> = rules.iter().filter(|(_, lit)| core.contains(lit)).map(|(rule, _)| *rule).collect();
        logic.clauses().find(|clause| blamed.contains(&logic.rule(*clause)))
    }
}

/// Texts that nobody chose take a value that some condition or default names, unless their default is made of others.
pub(super) fn unnamed(logic: &Logic, given: &[Lit], only_named: &BTreeSet<OptionId>) -> Vec<Lit> {
    let chosen: BTreeSet<Var> = given.iter().map(|lit| lit.var()).collect();
    let mut forbidden = Vec::new();
    for (option, shape) in logic.shapes() {
        let Shape::Text { values, .. } = shape else { continue };
        let Some(other) = shape.vars().last().filter(|other| !chosen.contains(other)) else { continue };
        let can_be_other = logic.defaults(option).iter().any(|default| match &default.gives {
            Given::Value(value) => !values.contains(&value.to_string()),
            Given::Text(_) => true,
        });
        if !can_be_other || only_named.contains(&option) {
            forbidden.push(other.no());
        }
    }
    forbidden
}
