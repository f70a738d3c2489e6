//! What resolving gives: a value for each option, with where it comes from.

use super::settle::Plainly;
use crate::base::Id;
use crate::board::{Atom, Linkage, OptionId, RuleId, Switch, Value};
use crate::expr::Expr;
use crate::logic::PlainDefault;
use crate::survey::Facts;

/// A value for each option, with where it comes from.
///
/// Most options of a large board are off because nobody wants them; they share what they were resolved to.
#[derive(Debug, Clone)]
pub struct Resolution {
    /// All that occurs; the first, those of [`SHARED`], may occur more than once.
    values: Vec<Resolved>,
    /// For each option, which of them.
    places: Vec<u32>,
}

/// What a switch or module can be by its first default, in force and idle.
const SHARED: [Value; 5] = [
    Value::Switch(Switch::Off),
    Value::Switch(Switch::On),
    Value::Module(Linkage::Off),
    Value::Module(Linkage::Loadable),
    Value::Module(Linkage::Builtin),
];

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
    /// A person chose it; see [`Choices::get`](crate::profile::Choices::get).
    Chosen,
    /// Something that is on wants it; the rule says what.
    PulledIn(RuleId),
    /// The option's default rule of that index.
    Default(usize),
    /// Its default would be another value, but this rule, or a rule of another option, stands against it.
    Blocked {
        /// The default's value.
        would_be: Box<Value>,
        /// What stands against it.
        by: RuleId,
    },
}

/// Whether a value has an effect.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effect {
    /// It has.
    Applies,
    /// What the option belongs to is not there, so its value changes nothing.
    NoEffect,
}

impl Resolution {
    /// All options as switches that are off.
    pub(super) fn all_off(count: usize) -> Resolution {
        let mut values = Vec::with_capacity(count / 2);
        let shared = |effect| SHARED.map(|value| Resolved { value, origin: Origin::Default(0), effect });
        values.extend(shared(Effect::Applies));
        values.extend(shared(Effect::NoEffect));
        Resolution { values, places: vec![0; count] }
    }

    /// Puts down what an option was resolved to.
    pub(super) fn put(&mut self, option: OptionId, resolved: Resolved) {
        let at = match (&resolved.origin, &resolved.value) {
            (Origin::Default(0), Value::Switch(Switch::Off)) => Some(0),
            (Origin::Default(0), Value::Switch(Switch::On)) => Some(1),
            (Origin::Default(0), Value::Module(Linkage::Off)) => Some(2),
            (Origin::Default(0), Value::Module(Linkage::Loadable)) => Some(3),
            (Origin::Default(0), Value::Module(Linkage::Builtin)) => Some(4),
            _ => None,
        };
        let place = match (at, resolved.effect) {
            (Some(at), Effect::Applies) => at,
            (Some(at), Effect::NoEffect) => at + SHARED.len(),
            (None, _) => {
                self.values.push(resolved);
                self.values.len() - 1
            }
        };
        // There are hardly more values than options, whose ids are as narrow.
        self.places[option.index()] = place as u32;
    }

    /// Puts down how an option with such a default was settled.
    pub(super) fn put_plain(&mut self, option: OptionId, plain: PlainDefault, plainly: Plainly) {
        let (default, off) = match plain {
            PlainDefault::SwitchOff(_) => (0, 0),
            PlainDefault::SwitchOn(_) => (1, 0),
            PlainDefault::ModuleOff(_) => (2, 2),
            PlainDefault::Loadable(_) => (3, 2),
            PlainDefault::Other => return,
        };
        match plainly {
            // Every option begins as the first of them, and most stay it.
            Plainly::ByDefault if default == 0 => {}
            Plainly::ByDefault => self.places[option.index()] = default as u32,
            Plainly::Blocked(by) => {
                let origin = Origin::Blocked { would_be: Box::new(SHARED[default].clone()), by };
                self.put(option, Resolved { value: SHARED[off].clone(), origin, effect: Effect::Applies });
            }
        }
    }

    /// Puts down that an option's value has no effect.
    pub(super) fn idle(&mut self, option: OptionId) {
        let resolved = Resolved { effect: Effect::NoEffect, ..self.get(option).clone() };
        self.put(option, resolved);
    }

    /// Returns what an option was resolved to.
    pub fn get(&self, option: OptionId) -> &Resolved {
        &self.values[self.places[option.index()] as usize]
    }

    /// Returns an option's value.
    pub fn value(&self, option: OptionId) -> &Value {
        &self.get(option).value
    }

    /// Returns all options with what they were resolved to, in the order of options.
    pub fn iter(&self) -> impl Iterator<Item = (OptionId, &Resolved)> {
        let resolved = |place: &u32| &self.values[*place as usize];
        self.places.iter().enumerate().map(move |(index, place)| (Id::new(index), resolved(place)))
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
