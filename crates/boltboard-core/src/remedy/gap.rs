//! What is not met: what it stops, what is lost by it, what does without it.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use super::distribution::Distribution;
use super::help::{first_copy_aside, helpful_packages, installable, packages, providers};
use crate::base::Severity;
use crate::board::{Atom, Board, DecidedBy, Importance, Kind, NeedCheck, NeedId, OptionId, PartId, Provider, Value};
use crate::checks::Package;
use crate::expr::Expr;
use crate::profile::{Choice, Choices};
use crate::resolve::{Clash, Effect, Origin, Resolution};
use crate::survey::{Fact, FactState, Facts, Missing};

/// How much a gap stops.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Stops {
    /// Nothing can be built without it.
    Everything,
    /// Something that is chosen, or made, needs it.
    Chosen,
    /// Options are blocked by it.
    Options,
    /// Nothing that could be on now needs it.
    Nothing,
}

impl Stops {
    /// All with their names, those that stop most first.
    pub const NAMED: [(&'static str, Stops); 4] = [
        ("everything", Stops::Everything),
        ("chosen", Stops::Chosen),
        ("options", Stops::Options),
        ("nothing", Stops::Nothing),
    ];

    /// Returns its name.
    pub fn name(self) -> &'static str {
        Stops::NAMED.iter().find(|(_, stops)| *stops == self).map_or("", |(name, _)| name)
    }

    /// Returns how bad that is.
    pub fn severity(self) -> Severity {
        match self {
            Stops::Everything | Stops::Chosen => Severity::Error,
            Stops::Options => Severity::Warning,
            Stops::Nothing => Severity::Note,
        }
    }
}

/// An option that a gap keeps from a value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lost {
    /// The option.
    pub option: OptionId,
    /// What it would be, or is chosen to be.
    pub would_be: Value,
    /// What it is without.
    pub is: Value,
    /// Whether a person chose it.
    pub chosen: bool,
}

/// One gap with all that helps.
#[derive(Debug, Clone)]
pub struct Gap {
    /// The need.
    pub need: NeedId,
    /// How much it stops.
    pub stops: Stops,
    /// Options that want it, each with the value that does where only one does.
    pub wanted_by: Vec<(OptionId, Option<String>)>,
    /// Parts that want it.
    pub parts: Vec<PartId>,
    /// What is lost without it.
    pub lost: Vec<Lost>,
    /// Packages that bring it; empty when none is known, and when what they bring is there and does not fit.
    pub packages: Vec<Package>,
    /// Packages that bring it in a version that may fit once they are newer.
    pub packages_if_newer: Vec<Package>,
    /// A copy that does not do and is found first, before what a package installs.
    pub first_copy: Option<PathBuf>,
    /// Whether installing can help at all: a wrong byte order cannot be installed.
    pub installable: bool,
    /// Choices that make do without it: option and value.
    pub switch_off: Vec<(OptionId, Value)>,
    /// Providers that would meet it, as they are set.
    pub providers: Vec<Provider>,
}

/// Everything that gaps are judged by.
#[derive(Clone, Copy)]
pub struct Situation<'a> {
    /// The board.
    pub board: &'a Board,
    /// The facts.
    pub facts: &'a Facts,
    /// The choices.
    pub choices: &'a Choices,
    /// The values, or those without the choices that clash.
    pub resolution: Option<&'a Resolution>,
    /// Choices that cannot be honoured.
    pub clashes: &'a [Clash],
    /// Where packages would be installed.
    pub here: &'a Distribution,
}

impl Situation<'_> {
    /// Returns all gaps, those that stop most first, then in the order of needs. A need that is only part of another is left to that
    /// one, and one that could not be looked for is no gap yet.
    pub fn gaps(self) -> Vec<Gap> {
        let within = members_only(self.board);
        let not_asked = |fact: &Fact| fact.state == FactState::Missing(Missing::NotAsked);
        let missing =
            self.facts.iter().filter(|fact| !fact.is_met() && !within.contains(&fact.need) && !not_asked(fact));
        let mut gaps: Vec<Gap> = missing.map(|fact| gap(self, fact)).collect();
        gaps.sort_by_key(|gap| (gap.stops, gap.need));
        gaps
    }
}

/// Needs that nothing asks for but other needs.
fn members_only(board: &Board) -> BTreeSet<NeedId> {
    let mut members = BTreeSet::new();
    for (_, need) in board.needs.iter() {
        match &need.check {
            NeedCheck::AnyOf(list) | NeedCheck::AllOf(list) => members.extend(list),
            NeedCheck::Host(_) => {}
        }
    }
    members.retain(|need| {
        let wanted = wanted_by(board, *need);
        wanted.0.is_empty() && wanted.1.is_empty() && board.needs[*need].importance == Importance::Optional
    });
    members
}

/// Returns the options and parts that want a need.
pub fn wanted_by(board: &Board, need: NeedId) -> (Vec<(OptionId, Option<String>)>, Vec<PartId>) {
    let mut options: Vec<(OptionId, Option<String>)> = Vec::new();
    for (_, rule) in board.rules.iter() {
        let entry = (rule.option, rule.value.clone());
        if names(&rule.must, need) && !options.contains(&entry) {
            options.push(entry);
        }
    }
    let parts = board.parts.iter().filter(|(_, part)| part.needs.iter().any(|when| when.item == need));
    (options, parts.map(|(id, _)| id).collect())
}

fn names(expr: &Expr<Atom>, need: NeedId) -> bool {
    let mut named = false;
    expr.for_each_atom(&mut |atom| named |= *atom == Atom::Need(need));
    named
}

fn gap(situation: Situation<'_>, fact: &Fact) -> Gap {
    let Situation { board, facts, choices, resolution, clashes, here } = situation;
    let need = fact.need;
    let (options, parts) = wanted_by(board, need);
    let mut lost = Vec::new();
    let mut switch_off = Vec::new();
    for (option, value) in &options {
        let asks = |choice: &&Choice| {
            value.as_ref().map_or(!choice.value.is_off(), |value| *value == choice.value.to_string())
        };
        if let Some(choice) = choices.get(*option).filter(asks) {
            let off = without(board, *option, value.as_deref());
            lost.push(Lost {
                option: *option,
                would_be: choice.value.clone(),
                is: off.clone().unwrap_or_else(|| choice.value.clone()),
                chosen: true,
            });
            switch_off.extend(off.map(|off| (*option, off)));
        } else if let Some(resolved) = resolution.map(|resolution| resolution.get(*option))
            && let Origin::Blocked { would_be, by } = &resolved.origin
            && names(&board.rules[*by].must, need)
        {
            let (would_be, is) = (Value::clone(would_be), resolved.value.clone());
            lost.push(Lost { option: *option, would_be, is, chosen: false });
        }
    }
    for choice in clashes.iter().filter(|clash| clash.lacking.contains(&need)).flat_map(|clash| &clash.choices) {
        if lost.iter().all(|lost| lost.option != choice.option) {
            let off = without(board, choice.option, None);
            let (option, would_be) = (choice.option, choice.value.clone());
            lost.push(Lost { option, is: off.clone().unwrap_or_else(|| would_be.clone()), would_be, chosen: true });
            switch_off.extend(off.map(|off| (option, off)));
        }
    }
    let made = |part: &PartId| {
        let definition = &board.parts[*part];
        resolution.is_some_and(|resolution| {
            let holds = |when: &Option<crate::board::Condition>| {
                when.as_ref().is_none_or(|when| resolution.holds(facts, &when.expr))
            };
            holds(&definition.when) && definition.needs.iter().any(|when| when.item == need && holds(&when.when))
        })
    };
    let chosen_part = parts.iter().any(made);
    let stops = if board.needs[need].importance == Importance::Required {
        Stops::Everything
    } else if chosen_part || lost.iter().any(|lost| lost.chosen) {
        Stops::Chosen
    } else if lost.is_empty() {
        Stops::Nothing
    } else {
        Stops::Options
    };
    if switch_off.is_empty() && chosen_part {
        switch_off.extend(parts.iter().filter(|part| made(part)).filter_map(|part| part_off(board, *part, resolution)));
    }
    switch_off.retain(|(option, _)| board.options[*option].decided_by == DecidedBy::People);
    let of_family = |packages: &dyn Fn(super::Family) -> Vec<Package>| here.family.map_or(Vec::new(), packages);
    let other_version = matches!(fact.state, FactState::Missing(Missing::WrongVersion { .. }));
    let newer = |family| {
        if other_version && first_copy_aside(fact).is_none() {
            packages(board, facts, need, family)
        } else {
            Vec::new()
        }
    };
    let packages_if_newer = of_family(&newer);
    let packages = helpful_packages(board, facts, need, here);
    Gap {
        need,
        stops,
        wanted_by: options,
        parts,
        lost,
        packages,
        packages_if_newer,
        first_copy: first_copy_aside(fact).map(Path::to_path_buf),
        installable: installable(board, need),
        switch_off,
        providers: providers(board, facts, fact),
    }
}

/// The value of an option that does without.
fn without(board: &Board, option: OptionId, taken: Option<&str>) -> Option<Value> {
    let kind = &board.options[option].kind;
    if kind.is_on_off() {
        return Some(kind.own_default());
    }
    let Kind::Pick(values) = kind else { return None };
    let rules = || board.options[option].rules.iter().map(|rule| &board.rules[*rule]);
    let free = |name: &String| rules().all(|rule| rule.value.as_ref() != Some(name));
    let other = values.iter().find(|other| Some(other.name.as_str()) != taken && free(&other.name));
    other.and_then(|other| kind.read(&other.name).ok())
}

/// The option that a part is made by, with the value that does without the part.
fn part_off(board: &Board, part: PartId, resolution: Option<&Resolution>) -> Option<(OptionId, Value)> {
    let when = board.parts[part].when.as_ref()?;
    let Expr::Atom(Atom::On(option)) = &when.expr else { return None };
    let resolved = resolution?.get(*option);
    (resolved.effect == Effect::Applies).then(|| without(board, *option, None)).flatten().map(|off| (*option, off))
}
