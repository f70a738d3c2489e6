//! The ways out of a gap: install, switch off, the bundled copy, another provider; and how grave it is.

use std::collections::BTreeSet;

use super::catalogue;
use super::distribution::{Distribution, Family};
use crate::board::{Atom, Board, Importance, Kind, NeedCheck, NeedId, OptionId, PartId, Provider, Switch, Value};
use crate::expr::Expr;
use crate::profile::{Choice, Choices};
use crate::resolve::{Clash, Effect, Origin, Resolution};
use crate::survey::{CopyRank, Fact, FactState, Facts, Missing};

/// How much a gap stops.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Gravity {
    /// Nothing can be built without it.
    StopsAll,
    /// Something that is chosen, or made, wants it.
    StopsChosen,
    /// Options are held off by it.
    HoldsOff,
    /// Nothing that could be on now wants it.
    Unwanted,
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
    pub gravity: Gravity,
    /// Options that want it, each with the value that does where only one does.
    pub wanted_by: Vec<(OptionId, Option<String>)>,
    /// Parts that want it.
    pub parts: Vec<PartId>,
    /// What is lost without it.
    pub lost: Vec<Lost>,
    /// Packages that bring it; empty when none is known, and when what they bring is there and does not fit.
    pub packages: Vec<String>,
    /// Packages that bring it in a version that may fit once they are newer.
    pub packages_if_newer: Vec<String>,
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
    /// Returns all gaps, the gravest first, then in the order of needs. A need that is only part of another is left to that
    /// one, and one that could not be looked for is no gap yet.
    pub fn gaps(self) -> Vec<Gap> {
        let within = members_only(self.board);
        let not_asked = |fact: &Fact| fact.state == FactState::Missing(Missing::NotAsked);
        let missing =
            self.facts.iter().filter(|fact| !fact.is_met() && !within.contains(&fact.need) && !not_asked(fact));
        let mut gaps: Vec<Gap> = missing.map(|fact| gap(self, fact)).collect();
        gaps.sort_by_key(|gap| (gap.gravity, gap.need));
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
    let gravity = if board.needs[need].importance == Importance::Required {
        Gravity::StopsAll
    } else if chosen_part || lost.iter().any(|lost| lost.chosen) {
        Gravity::StopsChosen
    } else if lost.is_empty() {
        Gravity::Unwanted
    } else {
        Gravity::HoldsOff
    };
    if switch_off.is_empty() && chosen_part {
        switch_off.extend(parts.iter().filter(|part| made(part)).filter_map(|part| part_off(board, *part, resolution)));
    }
    let known = here.family.map_or(Vec::new(), |family| packages(board, facts, need, family));
    let other_version = matches!(fact.state, FactState::Missing(Missing::WrongVersion { .. }));
    let (packages, packages_if_newer) = if other_version { (Vec::new(), known) } else { (known, Vec::new()) };
    Gap {
        need,
        gravity,
        wanted_by: options,
        parts,
        lost,
        packages,
        packages_if_newer,
        installable: installable(board, need),
        switch_off,
        providers: providers(board, facts, fact),
    }
}

/// The value of an option that does without.
fn without(board: &Board, option: OptionId, taken: Option<&str>) -> Option<Value> {
    match &board.options[option].kind {
        Kind::Switch => Some(Value::Switch(Switch::Off)),
        Kind::Module => Kind::Module.read("off").ok(),
        Kind::Pick(values) => {
            let rules = || board.options[option].rules.iter().map(|rule| &board.rules[*rule]);
            let free = |name: &String| rules().all(|rule| rule.value.as_ref() != Some(name));
            let other = values.iter().find(|other| Some(other.name.as_str()) != taken && free(&other.name));
            other.and_then(|other| board.options[option].kind.read(&other.name).ok())
        }
        Kind::Number(_) | Kind::Size(_) | Kind::Text | Kind::Path | Kind::Words(_) => None,
    }
}

/// The option that a part is made by, with the value that does without the part.
fn part_off(board: &Board, part: PartId, resolution: Option<&Resolution>) -> Option<(OptionId, Value)> {
    let when = board.parts[part].when.as_ref()?;
    let Expr::Atom(Atom::On(option)) = &when.expr else { return None };
    let resolved = resolution?.get(*option);
    (resolved.effect == Effect::Applies).then(|| without(board, *option, None)).flatten().map(|off| (*option, off))
}

/// Tells whether a package is known for a need on some distribution, or none could bring it.
pub fn is_packaged(board: &Board, need: NeedId) -> bool {
    let known = |family: Family| !packages(board, &Facts::default(), need, family).is_empty();
    !board.needs[need].packages.is_empty() || !installable(board, need) || Family::ALL.into_iter().any(known)
}

/// Returns the lacking needs that can be brought to this host, or that a person only switched off.
pub fn obtainable(board: &Board, facts: &Facts) -> BTreeSet<NeedId> {
    let lacking = facts.iter().filter_map(|fact| match &fact.state {
        FactState::Missing(missing) => Some((fact.need, matches!(missing, Missing::SwitchedOff { .. }))),
        FactState::Found(_) | FactState::Bundled(_) => None,
    });
    let can = |need: NeedId| installable(board, need) || !board.needs[need].packages.is_empty();
    lacking.filter(|(need, switched_off)| *switched_off || can(*need)).map(|(need, _)| need).collect()
}

/// Tells whether a package could bring it: what only the compiler or the target decides, none can.
fn installable(board: &Board, need: NeedId) -> bool {
    match &board.needs[need].check {
        NeedCheck::AnyOf(members) | NeedCheck::AllOf(members) => {
            members.iter().any(|member| installable(board, *member))
        }
        NeedCheck::Host(check) => {
            check.library.is_some()
                || !check.headers.is_empty()
                || !check.link.is_empty()
                || check.tool.is_some()
                || check.script_module.is_some()
                || check.asks.iter().any(|ask| matches!(ask, crate::board::Ask::KernelHeaders(_)))
        }
    }
}

/// Returns the packages that bring a need: those that the board names, else those of the catalogue. For one of several, those of
/// the first that has any; for all of several, those of the missing ones.
pub fn packages(board: &Board, facts: &Facts, need: NeedId, family: Family) -> Vec<String> {
    let definition = &board.needs[need];
    if let Some(named) = definition.packages.get(family.key()) {
        return named.split_whitespace().map(str::to_string).collect();
    }
    match &definition.check {
        NeedCheck::Host(check) => catalogue::package(check, family).into_iter().collect(),
        NeedCheck::AnyOf(members) => {
            let each = members.iter().map(|member| packages(board, facts, *member, family));
            each.into_iter().find(|list| !list.is_empty()).unwrap_or_default()
        }
        NeedCheck::AllOf(members) => {
            let missing = members.iter().filter(|member| !facts.has(**member));
            missing.flat_map(|member| packages(board, facts, *member, family)).collect()
        }
    }
}

/// Providers other than the one in use that would meet a need.
fn providers(board: &Board, facts: &Facts, fact: &Fact) -> Vec<Provider> {
    let definition = &board.needs[fact.need];
    let mut list = Vec::new();
    if let FactState::Missing(Missing::SwitchedOff { there: crate::survey::Presence::There(_) }) = fact.state {
        list.push(Provider::System);
    }
    if definition.bundled.is_some() {
        list.push(Provider::Bundled);
    }
    if let NeedCheck::AnyOf(members) = &definition.check {
        list.extend(members.iter().filter(|member| facts.has(**member)).map(|member| Provider::Need(*member)));
    }
    for copy in fact.copies.iter().filter(|copy| copy.rank != CopyRank::InUse) {
        let fits = match (&definition.version, &copy.version) {
            (None, _) => true,
            (Some(range), Some(version)) => range.holds(&crate::base::Version::new(version)),
            (Some(_), None) => false,
        };
        let below =
            |part: &str| copy.place.ancestors().find(|folder| folder.file_name().is_some_and(|name| name == part));
        let folder = below("lib").or_else(|| below("lib64")).or_else(|| below("include")).or_else(|| below("bin"));
        if let Some(folder) = folder.and_then(std::path::Path::parent).filter(|_| fits) {
            list.push(Provider::Folder(folder.to_path_buf()));
        }
    }
    list
}

/// Returns the one command that installs packages, `None` when there is nothing to install or the distribution is not known.
pub fn install_command(here: &Distribution, packages: &[String], as_root: bool) -> Option<String> {
    let family = here.family?;
    let sorted: BTreeSet<&String> = packages.iter().collect();
    if sorted.is_empty() {
        return None;
    }
    let mut words: Vec<&str> = if as_root { vec![] } else { vec!["sudo"] };
    words.extend(family.install_words());
    words.extend(sorted.iter().map(|package| package.as_str()));
    Some(words.join(" "))
}
