//! Starting points: as little as there can be, as much, all as loadable modules, something at random, what this host can have.
//!
//! A starting point wants a value for many options. Not all of them hold together: in the canonical order each is taken that can hold beside
//! those taken before it, so that nothing more could be chosen as wanted. They are tried many at once, and by halves where that does not hold.

use std::collections::BTreeSet;

use super::{facts_spelt, resolved};
use crate::base::Digest;
use crate::board::{Atom, Board, DecidedBy, Kind, Linkage, NeedId, OptionDef, OptionId, Switch, Value};
use crate::logic::{Lit, Logic, MOST_STEPS, Sat, Switchable};
use crate::profile::Choices;
use crate::survey::Facts;

/// What a profile begins with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StartingPoint {
    /// Everything off that can be.
    Smallest,
    /// Everything on that can be, modules built in.
    Everything,
    /// Everything on that can be, modules loadable.
    AllLoadable,
    /// Values at random, the same for the same seed.
    Random(u64),
    /// On what this host meets needs for.
    ThisHost,
}

/// How many choices are tried at once.
const AT_ONCE: usize = 64;

/// A starting point.
#[derive(Debug, Clone)]
pub struct Started {
    /// The choices, in the order of options.
    pub chosen: Vec<(OptionId, Value)>,
    /// Options that were wanted to be otherwise and cannot be, beside the others.
    pub let_go: Vec<OptionId>,
}

/// Finds the choices of a starting point on top of others. `None` where those alone do not hold together.
pub fn start(board: &Board, logic: &Logic, start: &StartingPoint, below: &Choices, facts: &Facts) -> Option<Started> {
    let plain = resolved(board, logic, below, facts)?;
    let mut wanted: Vec<(OptionId, Value)> = Vec::new();
    for option in logic.order.iter().copied() {
        let definition = &board.options[option];
        if definition.decided_by != DecidedBy::People || below.get(option).is_some() {
            continue;
        }
        let value = wish(board, definition, start, facts);
        // What is so by itself need not be chosen; for a random one that would be no choice at all.
        wanted.extend(value.filter(|value| plain.value(option) != value).map(|value| (option, value)));
    }
    together(board, logic, wanted, below, facts)
}

/// Takes of what is wanted what holds together on top of other choices, earlier ones first. `None` where not even those choices hold.
pub fn together(
    board: &Board,
    logic: &Logic,
    wanted: Vec<(OptionId, Value)>,
    below: &Choices,
    facts: &Facts,
) -> Option<Started> {
    let (mut kept, mut let_go) = consistent(board, logic, wanted, below, facts);
    loop {
        let choices = below.clone().on_top(board, "start", &kept);
        if let Some(values) = resolved(board, logic, &choices, facts) {
            // A choice without an effect would only puzzle whoever reads the profile.
            let idle = |(option, _): &(OptionId, Value)| values.get(*option).effect == super::Effect::NoEffect;
            kept.retain(|one| !idle(one));
            kept.sort_by_key(|(option, _)| *option);
            let_go.sort_unstable();
            return Some(Started { chosen: kept, let_go });
        }
        // Texts made of others are not known to the solver; what came last goes.
        let (option, _) = kept.pop()?;
        let_go.push(option);
    }
}

/// The value that a starting point wants for an option.
fn wish(board: &Board, definition: &OptionDef, start: &StartingPoint, facts: &Facts) -> Option<Value> {
    match (start, &definition.kind) {
        (StartingPoint::Smallest, Kind::Switch) => Some(Value::Switch(Switch::Off)),
        (StartingPoint::Smallest, Kind::Module) => Some(Value::Module(Linkage::Off)),
        (StartingPoint::Everything | StartingPoint::AllLoadable, Kind::Switch) => Some(Value::Switch(Switch::On)),
        (StartingPoint::Everything, Kind::Module) => Some(Value::Module(Linkage::Builtin)),
        (StartingPoint::AllLoadable, Kind::Module) => Some(Value::Module(Linkage::Loadable)),
        (StartingPoint::ThisHost, Kind::Switch | Kind::Module) => {
            let needs = needs_of(board, definition);
            let met = !needs.is_empty() && needs.iter().all(|need| facts.has(*need));
            let on = || match definition.kind {
                Kind::Module => Value::Module(Linkage::Loadable),
                _ => Value::Switch(Switch::On),
            };
            met.then(on)
        }
        (StartingPoint::Random(seed), kind) => random(kind, *seed, &definition.name),
        (
            StartingPoint::Smallest | StartingPoint::Everything | StartingPoint::AllLoadable | StartingPoint::ThisHost,
            _,
        ) => None,
    }
}

/// The needs that an option has by itself.
fn needs_of(board: &Board, definition: &OptionDef) -> BTreeSet<NeedId> {
    let mut needs = BTreeSet::new();
    for rule in definition.rules.iter().map(|rule| &board.rules[*rule]).filter(|rule| rule.value.is_none()) {
        rule.must.for_each_atom(&mut |atom| {
            if let Atom::Need(need) = atom {
                needs.insert(*need);
            }
        });
    }
    needs
}

/// A value at random, by the seed and the option's name alone, so that other options do not change it.
fn random(kind: &Kind, seed: u64, name: &str) -> Option<Value> {
    let digest = Digest::of_parts([seed.to_string().as_str(), name]).half();
    let mut halves =
        digest.chunks_exact(8).map(|half| half.iter().fold(0_u64, |all, byte| all << 8 | u64::from(*byte)));
    let (asks, chance) = (halves.next()?, halves.next()?);
    // About half of all options stay as they are.
    if asks.is_multiple_of(2) {
        return None;
    }
    let below = |number: u64| chance % number.max(1);
    match kind {
        Kind::Switch => Some(Value::Switch(if below(2) == 0 { Switch::Off } else { Switch::On })),
        Kind::Module => Some(Value::Module([Linkage::Off, Linkage::Loadable, Linkage::Builtin][below(3) as usize])),
        Kind::Pick(values) => Some(Value::Pick(values.get(below(values.len() as u64) as usize)?.name.clone())),
        Kind::Number(range) => {
            let width = range.end().checked_sub(*range.start())?;
            let step = i64::try_from(below(u64::try_from(width).ok()?.checked_add(1)?)).ok()?;
            Some(Value::Number(range.start() + step))
        }
        Kind::Size(range) if *range.end() < u64::MAX => {
            Some(Value::Size(range.start() + below(range.end() - range.start() + 1)))
        }
        Kind::Size(_) | Kind::Text | Kind::Path | Kind::Words(_) => None,
    }
}

/// Takes of what is wanted what holds together; the rest is let go.
fn consistent(
    board: &Board,
    logic: &Logic,
    wanted: Vec<(OptionId, Value)>,
    below: &Choices,
    facts: &Facts,
) -> (Vec<(OptionId, Value)>, Vec<OptionId>) {
    let mut sat = Sat::new(logic, logic.order.iter().copied(), Switchable::Fixed);
    facts_spelt(board, logic, facts).into_iter().for_each(|lit| sat.require(lit));
    super::given_of(logic, &below.items).into_iter().for_each(|lit| sat.require(lit));
    let groups: Vec<Lit> = wanted.iter().map(|(option, value)| sat.group(&logic.shape(*option).spell(value))).collect();
    let mut taken = BTreeSet::new();
    let mut waiting: Vec<&[Lit]> = groups.chunks(AT_ONCE).rev().collect();
    while let Some(some) = waiting.pop() {
        sat.limit(MOST_STEPS);
        if sat.solve(some).is_ok() {
            // From now on they hold, so that the solver need not think about them again.
            some.iter().for_each(|lit| sat.require(*lit));
            taken.extend(some.iter().map(|lit| lit.var().index()));
        } else if some.len() > 1 {
            let (first, second) = some.split_at(some.len() / 2);
            waiting.extend([second, first]);
        }
    }
    let (mut kept, mut let_go) = (Vec::new(), Vec::new());
    for (one, group) in wanted.into_iter().zip(groups) {
        if taken.contains(&group.var().index()) { kept.push(one) } else { let_go.push(one.0) }
    }
    (kept, let_go)
}
