//! Defaults, and from the search's state to values with origins.

use super::solve::{Pull, Solver};
use super::{Effect, Origin, Resolution, Resolved, fill};
use crate::board::{Board, DefaultValue, OptionId, Value};
use crate::profile::Choices;
use crate::survey::Facts;

impl Solver<'_> {
    /// Gives every option that is still open a value: its default where nothing stands against it, else as little as
    /// possible. Returns whether each found one.
    pub(super) fn settle(&mut self) -> bool {
        let board = self.board;
        board.order.iter().all(|option| self.settle_one(*option))
    }

    fn settle_one(&mut self, option: OptionId) -> bool {
        if self.known[option.index()].domain.single().is_some() {
            return true;
        }
        let (_, default) = self.default_of(option);
        let mut held_by = self.known[option.index()].lowered_by;
        if self.try_value(option, &default, Pull::Forbidden) {
            return true;
        }
        if self.known[option.index()].domain.allows(&default) {
            held_by = self.stopped_by;
        }
        let candidates = self.known[option.index()].domain.candidates(&default);
        for pull in [Pull::Forbidden, Pull::Allowed] {
            if candidates.iter().any(|value| self.try_value(option, value, pull)) {
                self.known[option.index()].lowered_by = held_by;
                return true;
            }
        }
        false
    }

    /// Returns the default rule that counts now, and its value.
    fn default_of(&self, option: OptionId) -> (usize, Value) {
        let definition = &self.board.options[option];
        let counts = |rule: &crate::board::DefaultRule| rule.when.as_ref().is_none_or(|w| self.surely(&w.expr));
        let index = definition.defaults.iter().position(counts).unwrap_or(0);
        let value = match definition.defaults.get(index).map(|rule| &rule.value) {
            Some(DefaultValue::Fixed(value)) => value.clone(),
            Some(DefaultValue::Derived(interp)) => {
                let shown = |id: OptionId| {
                    let single = self.known[id.index()].domain.single();
                    single.map_or(String::new(), |value| value.to_string())
                };
                let text = fill(self.board, interp, &shown);
                definition.kind.read(&text).unwrap_or_else(|_| definition.kind.own_default())
            }
            None => definition.kind.own_default(),
        };
        (index, value)
    }
}

/// Turns a settled search into values with origins.
pub(super) fn finish(board: &Board, choices: &Choices, facts: &Facts, solver: Solver<'_>) -> Resolution {
    let one = |option: OptionId| {
        let known = &solver.known[option.index()];
        let (rule, default) = solver.default_of(option);
        let value = known.domain.single().unwrap_or_else(|| default.clone());
        let origin = if choices.get(option).is_some() {
            Origin::Chosen
        } else if value == default {
            Origin::Default(rule)
        } else if let (false, Some(by)) = (value.is_off(), known.pulled_by) {
            Origin::PulledIn(by)
        } else if let Some(by) = known.lowered_by {
            Origin::Held { would_be: default, by }
        } else {
            Origin::Default(rule)
        };
        Resolved { value, origin, effect: Effect::InForce }
    };
    let mut resolution = Resolution { values: board.options.ids().map(one).collect() };
    for option in board.options.ids() {
        let idle = board.options[option].in_force.as_ref().is_some_and(|when| !resolution.holds(facts, &when.expr));
        if idle {
            resolution.values[option.index()].effect = Effect::Idle;
        }
    }
    resolution
}
