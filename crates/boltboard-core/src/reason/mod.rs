//! Why a value is what it is, and what leads to another, as trees of places without prose.

mod reach;

use std::collections::BTreeSet;

use crate::board::{Atom, Board, NeedId, OptionId, RuleId, Value};
use crate::expr::Expr;
use crate::profile::{Choice, Choices};
use crate::resolve::{Origin, Resolution};
use crate::survey::Facts;

pub use reach::{Reach, Start, Way};

#[cfg(test)]
mod reach_tests;
#[cfg(test)]
mod tests;

/// How deep a chain of reasons is followed.
const MAX_DEPTH: usize = 40;

/// Why an option has its value.
#[derive(Debug, Clone)]
pub struct Reason {
    /// The option.
    pub option: OptionId,
    /// Its value.
    pub value: Value,
    /// Why.
    pub cause: Cause,
}

/// The cause of a value.
#[derive(Debug, Clone)]
pub enum Cause {
    /// A person chose it.
    Chosen(Choice),
    /// Something that is on wants it.
    PulledIn {
        /// The rule that wants it.
        rule: RuleId,
        /// Why that option is on.
        by: Box<Reason>,
    },
    /// Its default.
    Default {
        /// Which default rule.
        rule: usize,
        /// The options that the default looks at.
        from: Vec<Reason>,
    },
    /// Its default would be another value.
    Blocked {
        /// That value.
        would_be: Value,
        /// The rule that stands against it.
        rule: RuleId,
        /// What makes the rule stand against it.
        blockers: Vec<Blocker>,
    },
    /// Told already, further up in the same tree.
    Told,
    /// Not told: the chain is too long to read. Whoever asks about this option learns the rest.
    Further,
}

/// Something that keeps a requirement from holding.
#[derive(Debug, Clone)]
pub enum Blocker {
    /// An option's value.
    Option(Reason),
    /// A need that the host lacks.
    Lacking(NeedId),
    /// A need that the host has.
    Present(NeedId),
}

/// A requirement that does not hold now and that an option would need.
#[derive(Debug, Clone)]
pub struct Unmet {
    /// The rule.
    pub rule: RuleId,
    /// What keeps it from holding.
    pub blockers: Vec<Blocker>,
}

/// Which options are explained already: each is explained once, however many ways lead to it.
#[derive(Default)]
struct Told {
    options: BTreeSet<OptionId>,
    depth: usize,
}

/// Explains values under one resolution.
#[derive(Clone, Copy)]
pub struct Explainer<'a> {
    /// The board.
    pub board: &'a Board,
    /// The choices.
    pub choices: &'a Choices,
    /// The facts.
    pub facts: &'a Facts,
    /// The values.
    pub resolution: &'a Resolution,
}

impl Explainer<'_> {
    /// Returns why an option has its value, down to choices, defaults and facts.
    pub fn why(&self, option: OptionId) -> Reason {
        self.reason(option, &mut Told::default())
    }

    /// Returns the requirements of an option that do not hold now.
    pub fn unmet(&self, option: OptionId) -> Vec<Unmet> {
        let rules = self.board.options[option].rules.iter().filter(|rule| self.board.rules[**rule].value.is_none());
        let unmet = rules.filter(|rule| !self.resolution.holds(self.facts, &self.board.rules[**rule].must));
        let mut told = Told { options: [option].into(), depth: 1 };
        unmet.map(|rule| Unmet { rule: *rule, blockers: self.blockers_of(*rule, &mut told) }).collect()
    }

    fn reason(&self, option: OptionId, told: &mut Told) -> Reason {
        let resolved = self.resolution.get(option);
        let value = resolved.value.clone();
        if told.options.contains(&option) {
            return Reason { option, value, cause: Cause::Told };
        }
        if told.depth > MAX_DEPTH {
            return Reason { option, value, cause: Cause::Further };
        }
        told.options.insert(option);
        told.depth += 1;
        let cause = match (&resolved.origin, self.choices.get(option)) {
            (_, Some(choice)) => Cause::Chosen(choice.clone()),
            (Origin::PulledIn(rule), None) => {
                let by = Box::new(self.reason(self.board.rules[*rule].option, told));
                Cause::PulledIn { rule: *rule, by }
            }
            (Origin::Blocked { would_be, by }, None) => {
                let other = self.board.rules[*by].option;
                let blockers = if other == option {
                    self.blockers_of(*by, told)
                } else {
                    vec![Blocker::Option(self.reason(other, told))]
                };
                Cause::Blocked { would_be: Value::clone(would_be), rule: *by, blockers }
            }
            (Origin::Default(rule), None) => {
                Cause::Default { rule: *rule, from: self.default_from(option, *rule, told) }
            }
            // A choice without its entry cannot be: both come from the same list.
            (Origin::Chosen, None) => Cause::Told,
        };
        told.depth -= 1;
        Reason { option, value, cause }
    }

    fn default_from(&self, option: OptionId, rule: usize, told: &mut Told) -> Vec<Reason> {
        let Some(rule) = self.board.options[option].defaults.get(rule) else { return vec![] };
        let mut looked_at = Vec::new();
        if let Some(when) = &rule.when {
            when.expr.for_each_atom(&mut |atom| match atom {
                Atom::On(id) | Atom::Compare(id, _, _) => looked_at.push(*id),
                Atom::Need(_) => {}
            });
        }
        if let crate::board::DefaultValue::Derived(interp) = &rule.value {
            looked_at.extend(interp.options());
        }
        looked_at.dedup();
        looked_at.into_iter().map(|id| self.reason(id, told)).collect()
    }

    fn blockers_of(&self, rule: RuleId, told: &mut Told) -> Vec<Blocker> {
        let mut atoms = Vec::new();
        self.failing(&self.board.rules[rule].must, true, &mut atoms);
        let mut blockers = Vec::new();
        for atom in atoms {
            blockers.push(match atom {
                Atom::On(id) | Atom::Compare(id, _, _) => Blocker::Option(self.reason(*id, told)),
                Atom::Need(need) if self.facts.has(*need) => Blocker::Present(*need),
                Atom::Need(need) => Blocker::Lacking(*need),
            });
        }
        blockers
    }

    /// Collects the atoms that make a condition come out other than wanted.
    fn failing<'e>(&self, expr: &'e Expr<Atom>, wanted: bool, atoms: &mut Vec<&'e Atom>) {
        if self.resolution.holds(self.facts, expr) == wanted {
            return;
        }
        match expr {
            Expr::Atom(atom) => atoms.push(atom),
            Expr::Not(inner) => self.failing(inner, !wanted, atoms),
            Expr::All(members) | Expr::Any(members) => members.iter().for_each(|m| self.failing(m, wanted, atoms)),
        }
    }
}
