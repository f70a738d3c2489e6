//! Defaults: every option that is still open gets a value, those that others look at first.

use std::borrow::Cow;

use super::engine::{Cause, DeadEnd, Engine, Pull};
use super::{Effect, Origin, Resolution, Resolved, fill};
use crate::board::{Board, Interp, Linkage, OptionId, RuleId, Switch, Value};
use crate::logic::{DefaultChoice, Given, Lit, PlainDefault, Shape, TextSort, Truth, Unit, whole};
use crate::profile::Choices;

/// What defaults look at beside the values themselves.
#[derive(Clone, Copy)]
pub(super) struct Setting<'a> {
    pub board: &'a Board,
    pub choices: &'a Choices,
}

/// No value of an option is left.
pub(super) struct NoValue(pub OptionId);

/// How an option with a [`PlainDefault`] was settled.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Plainly {
    /// By that default.
    ByDefault,
    /// Off, because a rule stands against it.
    Blocked(RuleId),
}

impl<'a> Engine<'a> {
    /// Gives every option a value: its default where nothing stands against it, else as little as possible.
    pub(super) fn settle(&mut self, setting: Setting<'_>) -> Result<Resolution, NoValue> {
        let logic = self.logic;
        let mut found = Resolution::all_off(logic.order.len());
        for (at, (option, plain)) in logic.order.iter().copied().zip(&logic.plain).enumerate() {
            if let Some(plainly) = self.settle_plain(*plain) {
                found.put_plain(option, *plain, plainly);
                continue;
            }
            let (rule, default) = self.default_of(option, logic.defaults_at(at), setting, &found);
            let moved_by = self.settle_one(option, &default, Pull::Allowed).map_err(|_| NoValue(option))?;
            let chosen = setting.choices.get(option).map(|choice| &choice.value);
            let value = chosen.cloned().unwrap_or_else(|| self.value_of(option, &default));
            let origin = if chosen.is_some() {
                Origin::Chosen
            } else if value == *default {
                Origin::Default(rule)
            } else if let (false, Some(by)) = (value.is_off(), self.wanted_by(option)) {
                Origin::PulledIn(by)
            } else if let Some(by) = moved_by.or_else(|| self.narrowed_by(option)) {
                Origin::Blocked { would_be: Box::new(default.into_owned()), by }
            } else {
                Origin::Default(rule)
            };
            found.put(option, Resolved { value, origin, effect: Effect::Applies });
        }
        Ok(found)
    }

    /// Settles a switch or module that is still open and has a default without conditions; `None` where more has to be
    /// looked at. There are so many of these that nothing larger is handed around here.
    pub(super) fn settle_plain(&mut self, plain: PlainDefault) -> Option<Plainly> {
        let (literals, vars) = match plain {
            PlainDefault::SwitchOff(on) => return self.all_no(on, 1).then_some(Plainly::ByDefault),
            PlainDefault::ModuleOff(on) => return self.all_no(on, 2).then_some(Plainly::ByDefault),
            PlainDefault::SwitchOn(on) => ([on.yes(), on.yes()], 1),
            PlainDefault::Loadable(on) => ([on.yes(), on.plus(1).no()], 2),
            PlainDefault::Other => return None,
        };
        let first = literals[0];
        if self.judge.is_some() || self.truth(first) != Truth::Open {
            return None;
        }
        match self.attempt(&literals, Pull::Forbidden) {
            Ok(()) => Some(Plainly::ByDefault),
            Err(DeadEnd { by: Some(clause) }) if self.all_no(first.var(), vars) => {
                Some(Plainly::Blocked(self.logic.rule(clause)))
            }
            Err(_) => None,
        }
    }

    /// Settles an option; returns the rule that kept it from its default, if one did.
    pub(super) fn settle_one(
        &mut self,
        option: OptionId,
        default: &Value,
        most: Pull,
    ) -> Result<Option<RuleId>, DeadEnd> {
        let logic = self.logic;
        let shape = logic.shape(option);
        if shape.vars().all(|var| self.truth(var.yes()) != Truth::Open) {
            return Ok(None);
        }
        if default.is_off() && self.switch_off(shape) {
            return Ok(None);
        }
        if let Shape::Words { .. } = shape {
            return self.settle_words(shape, default, most);
        }
        let first = match (shape, default) {
            // The commonest cases, spelt without asking for memory.
            (Shape::Switch { on }, _) if !default.is_off() => self.attempt(&[on.yes()], Pull::Forbidden),
            (Shape::Module { on }, Value::Module(Linkage::Loadable)) => {
                self.attempt(&[on.yes(), on.plus(1).no()], Pull::Forbidden)
            }
            _ => self.attempt(&shape.spell(default), Pull::Forbidden),
        };
        let Err(stopped) = first else { return Ok(None) };
        let moved_by = stopped.by.map(|clause| logic.rule(clause));
        if *default != Value::Module(Linkage::Builtin) && self.switch_off(shape) {
            return Ok(moved_by);
        }
        let candidates = self.candidates(shape, default);
        let mut last = stopped;
        for pull in [Pull::Forbidden, Pull::Allowed].into_iter().filter(|pull| most == Pull::Allowed || *pull == most) {
            for candidate in &candidates {
                match self.attempt(candidate, pull) {
                    Ok(()) => return Ok(moved_by),
                    Err(stopped) => last = stopped,
                }
            }
        }
        Err(last)
    }

    /// Words come and go one by one.
    fn settle_words(&mut self, shape: &Shape, default: &Value, most: Pull) -> Result<Option<RuleId>, DeadEnd> {
        let mut moved_by = None;
        for lit in shape.spell(default) {
            if self.truth(lit.var().yes()) != Truth::Open {
                continue;
            }
            if let Err(stopped) = self.attempt(&[lit], Pull::Forbidden) {
                moved_by = moved_by.or(stopped.by.map(|clause| self.logic.rule(clause)));
                self.attempt(&[lit.opposite()], most)?;
            }
        }
        Ok(moved_by)
    }

    /// Returns the values to try when the default is not allowed, best first: as little as possible, as near to the
    /// default as possible.
    fn candidates(&self, shape: &Shape, default: &Value) -> Vec<Vec<Lit>> {
        let fits = |lits: &Vec<Lit>| lits.iter().all(|lit| self.truth(*lit) != Truth::No);
        let all: Vec<Vec<Lit>> = match shape {
            Shape::Switch { .. } => {
                [Switch::Off, Switch::On].map(|switch| shape.spell(&Value::Switch(switch))).to_vec()
            }
            Shape::Module { .. } => {
                // A built-in default that cannot be is better loadable than not there.
                let order = match default {
                    Value::Module(Linkage::Builtin) => [Linkage::Loadable, Linkage::Off, Linkage::Builtin],
                    _ => [Linkage::Off, Linkage::Loadable, Linkage::Builtin],
                };
                order.map(|linkage| shape.spell(&Value::Module(linkage))).to_vec()
            }
            // That the other values are not taken follows.
            Shape::Pick { values, .. } | Shape::Text { values, .. } => {
                shape.vars().take(values.len()).map(|var| vec![var.yes()]).collect()
            }
            Shape::Scale { cuts, range, .. } => {
                let (low, high) = &**range;
                let from = whole(default).unwrap_or(*low);
                let starts = std::iter::once(*low).chain(cuts.iter().copied());
                let ends = cuts.iter().map(|cut| cut - 1).chain([*high]);
                let mut regions: Vec<i128> = starts.zip(ends).map(|(start, end)| from.clamp(start, end)).collect();
                regions.sort_by_key(|nearest| ((nearest - from).abs(), *nearest));
                let spelt = |n: &i128| {
                    let vars = shape.vars().zip(cuts);
                    vars.map(|(var, cut)| if n >= cut { var.yes() } else { var.no() }).collect()
                };
                regions.iter().map(spelt).collect()
            }
            Shape::Words { .. } => Vec::new(),
        };
        all.into_iter().filter(fits).collect()
    }

    /// Returns which of an option's defaults counts now, and its value.
    pub(super) fn default_of(
        &self,
        option: OptionId,
        defaults: &'a [DefaultChoice],
        setting: Setting<'_>,
        found: &Resolution,
    ) -> (usize, Cow<'a, Value>) {
        let counts = |when: &Option<crate::logic::Condition>| when.as_ref().is_none_or(|when| self.surely(when));
        let index = defaults.iter().position(|default| counts(&default.when)).unwrap_or(0);
        let value = match defaults.get(index).map(|default| &default.gives) {
            Some(Given::Value(value)) => Cow::Borrowed(value),
            Some(Given::Text(interp)) => Cow::Owned(self.filled(option, interp, setting, found)),
            None => Cow::Owned(setting.board.options[option].kind.own_default()),
        };
        (index, value)
    }

    fn filled(&self, option: OptionId, interp: &Interp, setting: Setting<'_>, found: &Resolution) -> Value {
        let text = fill(setting.board, interp, &|other: OptionId| found.value(other).to_string());
        let kind = &setting.board.options[option].kind;
        kind.read(&text).unwrap_or_else(|_| kind.own_default())
    }

    /// Returns the value that the variables spell; where they leave several, the one nearest to the default.
    pub(super) fn value_of(&self, option: OptionId, default: &Value) -> Value {
        let holds = |lit: Lit| self.truth(lit) == Truth::Yes;
        let shape = self.logic.shape(option);
        match shape {
            Shape::Switch { on } => Value::Switch(if holds(on.yes()) { Switch::On } else { Switch::Off }),
            Shape::Module { on } => Value::Module(match (holds(on.yes()), holds(on.plus(1).yes())) {
                (_, true) => Linkage::Builtin,
                (true, false) => Linkage::Loadable,
                (false, false) => Linkage::Off,
            }),
            Shape::Pick { values, .. } => {
                let taken = shape.vars().position(|var| holds(var.yes()));
                taken.map_or_else(|| default.clone(), |at| Value::Pick(values[at].clone()))
            }
            Shape::Scale { cuts, range, unit, .. } => {
                let (low, high) = &**range;
                let known = |var: crate::logic::Var| self.truth(var.yes());
                let least =
                    shape.vars().zip(cuts).filter(|(var, _)| known(*var) == Truth::Yes).map(|(_, cut)| *cut).last();
                let most = shape.vars().zip(cuts).find(|(var, _)| known(*var) == Truth::No).map(|(_, cut)| *cut - 1);
                let n = whole(default).unwrap_or(*low).clamp(least.unwrap_or(*low), most.unwrap_or(*high));
                // Both ends lie within the range of the kind.
                match unit {
                    Unit::One => i64::try_from(n).map_or_else(|_| default.clone(), Value::Number),
                    Unit::Byte => u64::try_from(n).map_or_else(|_| default.clone(), Value::Size),
                }
            }
            Shape::Text { values, sort, .. } => match shape.vars().position(|var| holds(var.yes())) {
                Some(at) if at < values.len() => match sort {
                    TextSort::Text => Value::Text(values[at].clone()),
                    TextSort::Path => Value::Path(values[at].clone()),
                },
                Some(_) | None => default.clone(),
            },
            Shape::Words { words: named, .. } => {
                let mut words = if let Value::Words(words) = default { words.clone() } else { Vec::new() };
                for (var, word) in shape.vars().zip(named) {
                    match self.truth(var.yes()) {
                        Truth::Yes if !words.contains(word) => words.push(word.clone()),
                        Truth::No => words.retain(|one| one != word),
                        Truth::Yes | Truth::Open => {}
                    }
                }
                Value::Words(words)
            }
        }
    }

    /// The rule that made an option be there, or take its value.
    fn wanted_by(&self, option: OptionId) -> Option<RuleId> {
        let shape = self.logic.shape(option);
        let by_rule = |lit: Lit| match self.cause(lit.var()) {
            Cause::Clause(clause) if self.truth(lit) == Truth::Yes => Some(self.logic.rule(clause)),
            Cause::Clause(_) | Cause::Given => None,
        };
        match shape {
            Shape::Switch { .. } | Shape::Module { .. } => {
                shape.full().and_then(by_rule).or_else(|| shape.on().and_then(by_rule))
            }
            Shape::Pick { .. } | Shape::Text { .. } => shape.vars().find_map(|var| by_rule(var.yes())),
            Shape::Words { .. } => shape.vars().find_map(|var| by_rule(var.yes()).or_else(|| by_rule(var.no()))),
            // The bound next to the value is the one that counts.
            Shape::Scale { .. } => {
                let least = shape.vars().filter(|var| self.truth(var.yes()) == Truth::Yes).last();
                let most = shape.vars().find(|var| self.truth(var.yes()) == Truth::No);
                least.and_then(|var| by_rule(var.yes())).or_else(|| most.and_then(|var| by_rule(var.no())))
            }
        }
    }

    /// The rule that took a value away.
    fn narrowed_by(&self, option: OptionId) -> Option<RuleId> {
        let clauses = self.logic.shape(option).vars().filter_map(|var| match self.cause(var) {
            Cause::Clause(clause) => Some(self.logic.rule(clause)),
            Cause::Given => None,
        });
        clauses.last()
    }
}
