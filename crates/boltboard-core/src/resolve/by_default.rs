//! What options would be if nothing more were pulled in: this tells which way through an `or` holds already.
//!
//! Only what a fork asks about is settled, with all that this looks at in turn. In the canonical order that comes out the
//! same as settling everything, because an option's value by default depends on nothing else.

use std::collections::BTreeSet;

use super::engine::{Engine, Pull};
use super::settle::Setting;
use super::{Effect, Origin, Resolution, Resolved};
use crate::logic::{Given, Lit, Logic, Owner, Shape, Truth, Var};

/// Values by default, as far as somebody asked.
pub(super) struct ByDefault<'a> {
    engine: Engine<'a>,
    found: Resolution,
    /// Options by their place in the canonical order.
    settled: Vec<bool>,
}

impl<'a> ByDefault<'a> {
    /// Starts from what an engine knows.
    pub fn new(engine: Engine<'a>) -> ByDefault<'a> {
        let count = engine.logic.order.len();
        ByDefault { engine, found: Resolution::all_off(count), settled: vec![false; count] }
    }

    /// Tells whether a way through a fork holds.
    pub fn holds(&mut self, way: Lit, setting: Setting<'_>) -> bool {
        let logic = self.engine.logic;
        for at in self.unsettled(way) {
            self.settled[at] = true;
            self.settle(at, setting);
        }
        holds_in(logic, &self.engine, way)
    }

    /// Takes the default that holds without pulling anything in; leaves open what has none.
    fn settle(&mut self, at: usize, setting: Setting<'_>) {
        let logic = self.engine.logic;
        let option = logic.order[at];
        if self.engine.settle_plain(logic.plain[at]).is_some() {
            return;
        }
        let (rule, default) = self.engine.default_of(option, logic.defaults_at(at), setting, &self.found);
        // What finds no value stays open, and so holds nothing.
        let _ = self.engine.settle_one(option, &default, Pull::Forbidden);
        if !matches!(logic.shape(option), Shape::Switch { .. } | Shape::Module { .. }) {
            let value = self.engine.value_of(option, &default);
            let origin = Origin::Default(rule);
            self.found.put(option, Resolved { value, origin, effect: Effect::Applies });
        }
    }

    /// Returns all that a way looks at and that is not settled yet, in the canonical order.
    fn unsettled(&self, way: Lit) -> BTreeSet<usize> {
        let logic = self.engine.logic;
        let (mut needed, mut several) = (BTreeSet::new(), BTreeSet::new());
        let (mut open, mut options) = (vec![way], Vec::new());
        let guarded = |var: Var| logic.guarded_by(var).flat_map(|clause| logic.literals(clause)[1..].iter().copied());
        loop {
            if let Some(lit) = open.pop() {
                match logic.owner(lit.var()) {
                    Owner::Option(option) => options.push(option),
                    Owner::Several if several.insert(lit.var()) => open.extend(guarded(lit.var())),
                    Owner::Several | Owner::Need(_) | Owner::Always => {}
                }
                continue;
            }
            let Some(option) = options.pop() else { break };
            let at = logic.position(option);
            if self.settled[at] || !needed.insert(at) {
                continue;
            }
            logic.shape(option).vars().for_each(|var| open.extend(guarded(var)));
            for default in logic.defaults_at(at) {
                default.when.iter().for_each(|when| when.for_each_lit(&mut |lit| open.push(lit)));
                if let Given::Text(interp) = &default.gives {
                    options.extend(interp.options());
                }
            }
        }
        needed
    }
}

fn holds_in(logic: &Logic, engine: &Engine<'_>, way: Lit) -> bool {
    if logic.owner(way.var()) != Owner::Several {
        return engine.truth(way) == Truth::Yes;
    }
    let met = |clause| logic.literals(clause)[1..].iter().any(|lit| holds_in(logic, engine, *lit));
    logic.guarded_by(way.var()).all(met)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::tests::oracle::case;
    use super::super::{facts_spelt, given_of};
    use super::*;
    use crate::logic::encode;
    use crate::testing::{self, TestTree};

    proptest! {
        #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn asking_about_one_gives_the_same_as_settling_all(case in case(), has in any::<bool>()) {
            let Some(board) = TestTree::new(&case.board, &[]).reading().board else { return Ok(()) };
            let logic = encode(&board);
            let choices = testing::choices(&board, &case.chosen);
            let setting = Setting { board: &board, choices: &choices };
            let started = || {
                let mut engine = Engine::new(&logic, setting, None);
                let given = [facts_spelt(&board, &logic, &testing::facts(&[has])), given_of(&logic, &choices.items)];
                engine.give(&given.concat()).and_then(|()| engine.follow_up()).ok().map(|()| ByDefault::new(engine.apart()))
            };
            let Some(mut all) = started() else { return Ok(()) };
            (0..logic.order.len()).for_each(|at| all.settle(at, setting));
            for var in (0..logic.vars()).map(Var::at) {
                let mut alone = started().expect("it did before");
                prop_assert_eq!(alone.holds(var.yes(), setting), holds_in(&logic, &all.engine, var.yes()), "{:?}", var);
            }
        }
    }
}
