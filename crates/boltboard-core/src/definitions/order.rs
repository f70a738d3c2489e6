//! Rings in the definitions, and the order in which options are resolved.

use std::collections::BTreeMap;

use super::fields::Log;
use super::problem::{Fault, Problem};
use crate::base::{Id, Walk};
use crate::board::{Atom, Board, DefaultValue, NeedCheck, OptionDef, OptionId};
use crate::expr::Expr;

/// How deep sections may lie in each other, and needs be made of others.
const MOST_LEVELS: usize = 32;
/// How many needs one may be made of, counted through.
const MOST_MEMBERS: usize = 1000;

/// Reports rings: sections in each other, requirements and defaults that lead back, parts that use each other.
pub(super) fn check_cycles(board: &Board, log: &Log) {
    let names = |ring: &[usize]| ring.iter().map(|i| board.options[Id::new(*i)].name.clone()).collect::<Vec<_>>();
    let place_of = |ring: &[usize]| board.options[Id::new(ring[0])].place;
    let count = board.options.len();
    if let Some(ring) = ring(count, &|i| certain_requirements(board, &board.options[Id::new(i)])) {
        log.add(Problem::at(place_of(&ring), Fault::RequireCycle(names(&ring))));
    }
    if let Some(ring) = ring(count, &|i| default_sources(&board.options[Id::new(i)])) {
        log.add(Problem::at(place_of(&ring), Fault::DefaultCycle(names(&ring))));
    }
    let uses = |i: usize| board.parts[Id::new(i)].uses.iter().map(|u| u.item.index()).collect::<Vec<_>>();
    if let Some(ring) = ring(board.parts.len(), &uses) {
        let names = ring.iter().map(|i| board.parts[Id::new(*i)].name.clone()).collect();
        log.add(Problem::at(board.parts[Id::new(ring[0])].place, Fault::UseCycle(names)));
    }
    let made_of = |i: usize| match &board.needs[Id::new(i)].check {
        NeedCheck::AnyOf(members) | NeedCheck::AllOf(members) => members.iter().map(|m| m.index()).collect(),
        NeedCheck::Host(_) => Vec::new(),
    };
    if let Some(ring) = ring(board.needs.len(), &made_of) {
        let names = ring.iter().map(|i| board.needs[Id::new(*i)].name.clone()).collect();
        log.add(Problem::at(board.needs[Id::new(ring[0])].place, Fault::NeedCycle(names)));
    } else if let Some((need, fault)) = first_too_deep(board.needs.len(), &made_of) {
        let what = match fault {
            TooDeep::Levels => format!("the need `{}`, made of needs that are made of others,", board.needs[need].name),
            TooDeep::Members => format!("what the need `{}` is made of, counted through,", board.needs[need].name),
        };
        log.add(Problem::at(board.needs[need].place, fault.limit(what)));
    }
    let inside = |i: usize| board.sections[Id::new(i)].parent.iter().map(|p| p.index()).collect::<Vec<_>>();
    if let Some(ring) = ring(board.sections.len(), &inside) {
        let section = &board.sections[Id::new(ring[0])];
        if let Some(place) = section.place {
            log.add(Problem::at(place, Fault::SectionCycle(section.name.clone())));
        }
    } else if let Some((section, fault)) = first_too_deep(board.sections.len(), &inside)
        && let Some(place) = board.sections[section].place
    {
        let what = format!("how deep the section `{}` lies in others", board.sections[section].name);
        log.add(Problem::at(place, fault.limit(what)));
    }
}

/// Reports a compiler, or the folder that stands for a target's root, that follows from a need: needs are looked for with it.
pub(super) fn check_toolchain(board: &Board, log: &Log) {
    let named = board.toolchains.both().into_iter().flat_map(|chain| chain.programs());
    let named: Vec<OptionId> = named.flat_map(|text| text.options().collect::<Vec<_>>()).collect();
    let mut from: BTreeMap<OptionId, OptionId> = BTreeMap::new();
    let mut open = named.clone();
    while let Some(option) = open.pop() {
        let definition = &board.options[option];
        let rules = definition.rules.iter().map(|rule| (&board.rules[*rule].must, board.rules[*rule].place));
        let conditions = definition.defaults.iter().filter_map(|rule| rule.when.as_ref());
        let conditions = conditions.chain(&definition.applies_while).map(|when| (&when.expr, when.place));
        for (expr, place) in rules.chain(conditions) {
            let mut needs = Vec::new();
            expr.for_each_atom(&mut |atom| needs.extend(if let Atom::Need(need) = atom { Some(*need) } else { None }));
            if let Some(need) = needs.first() {
                let mut way = vec![option];
                while let Some(before) = from.get(&way[way.len() - 1]) {
                    way.push(*before);
                }
                let way = way.iter().rev().map(|option| board.options[*option].name.clone()).collect();
                log.add(Problem::at(place, Fault::ToolchainNeeds { way, need: board.needs[*need].name.clone() }));
                return;
            }
        }
        for other in looked_at(board, definition).into_iter().map(Id::new) {
            if !named.contains(&other) && !from.contains_key(&other) {
                from.insert(other, option);
                open.push(other);
            }
        }
    }
}

/// What is too much of what things are made of.
enum TooDeep {
    Levels,
    Members,
}

impl TooDeep {
    fn limit(&self, what: String) -> Fault {
        let limit = match self {
            TooDeep::Levels => format!("{MOST_LEVELS} levels"),
            TooDeep::Members => format!("{MOST_MEMBERS} needs"),
        };
        Fault::Limit { what, limit }
    }
}

/// The first item that goes too deep, of items without a ring.
fn first_too_deep<T>(count: usize, next: &dyn Fn(usize) -> Vec<usize>) -> Option<(Id<T>, TooDeep)> {
    let (mut levels, mut members) = (vec![0_usize; count], vec![0_usize; count]);
    let mut walk = Walk::new(count);
    for start in 0..count {
        walk.from(start, next, &mut |done| {
            let below = next(done);
            levels[done] = below.iter().map(|one| levels[*one] + 1).max().unwrap_or(0);
            members[done] = below.iter().fold(0, |sum: usize, one| sum.saturating_add(members[*one].saturating_add(1)));
        });
    }
    (0..count).find_map(|at| {
        let fault = match (levels[at] > MOST_LEVELS, members[at] > MOST_MEMBERS) {
            (true, _) => TooDeep::Levels,
            (_, true) => TooDeep::Members,
            (false, false) => return None,
        };
        Some((Id::new(at), fault))
    })
}

/// Returns all options so that what an option looks at comes before it. Ties, and rings through `conflicts`, go by
/// name, so the order does not depend on the order of files.
pub(super) fn canonical(board: &Board) -> Vec<OptionId> {
    let mut rank = vec![0; board.options.len()];
    for (place, option) in board.option_names.by_name().enumerate() {
        rank[option.index()] = place;
    }
    let next = |option: usize| {
        let mut seen = looked_at(board, &board.options[Id::new(option)]);
        seen.sort_unstable_by_key(|option| rank[*option]);
        seen.dedup();
        seen
    };
    let mut walk = Walk::new(board.options.len());
    let mut order = Vec::with_capacity(board.options.len());
    for start in board.option_names.by_name() {
        walk.from(start.index(), &next, &mut |done| order.push(Id::new(done)));
    }
    order
}

/// Options that an option surely wants on: not those in a choice of several, and not those it wants off.
fn certain_requirements(board: &Board, option: &OptionDef) -> Vec<usize> {
    let mut wanted = Vec::new();
    for rule in option.rules.iter().map(|id| &board.rules[*id]).filter(|rule| rule.value.is_none()) {
        let members = match &rule.must {
            Expr::All(members) => members.as_slice(),
            other @ (Expr::Atom(_) | Expr::Not(_) | Expr::Any(_)) => std::slice::from_ref(other),
        };
        for member in members {
            if let Expr::Atom(Atom::On(id)) = member {
                wanted.push(id.index());
            }
        }
    }
    wanted
}

/// In the order of the text; an option can be there more than once.
fn default_sources(option: &OptionDef) -> Vec<usize> {
    let mut sources = Vec::new();
    for rule in &option.defaults {
        if let Some(when) = &rule.when {
            when.expr.for_each_atom(&mut |atom| sources.extend(option_of(atom)));
        }
        if let DefaultValue::Derived(interp) = &rule.value {
            sources.extend(interp.options().map(Id::index));
        }
    }
    sources
}

fn looked_at(board: &Board, option: &OptionDef) -> Vec<usize> {
    let mut seen = default_sources(option);
    for rule in &option.rules {
        board.rules[*rule].must.for_each_atom(&mut |atom| seen.extend(option_of(atom)));
    }
    seen
}

fn option_of(atom: &Atom) -> Option<usize> {
    match atom {
        Atom::On(id) | Atom::Compare(id, _, _) => Some(id.index()),
        Atom::Need(_) => None,
    }
}

/// Returns the first ring, its start repeated at its end.
fn ring(count: usize, next: &dyn Fn(usize) -> Vec<usize>) -> Option<Vec<usize>> {
    let mut walk = Walk::new(count);
    (0..count).find_map(|start| walk.from(start, next, &mut |_| {}))
}
