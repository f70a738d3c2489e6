//! What leads to a value: the smallest sets of changes to choices, and of needs to bring to the host.
//!
//! A choice or a lacking need is an *obstacle* when it stands in the way. The sets of obstacles to remove are found as smallest
//! hitting sets of the cores that a SAT solver names (Reiter's tree, the cheapest node first), so the first set that works
//! is a smallest one. Other ways through an `or` that a set leads through are offered beside it.

use std::collections::{BTreeMap, BTreeSet, BinaryHeap};

use crate::board::{Board, DecidedBy, Linkage, NeedId, OptionId, Switch, Value};
use crate::logic::{Lit, Logic, Owner, Sat, Shape, Switchable, Truth, Unsolved};
use crate::profile::{Choice, Choices};
use crate::resolve::{Clash, Origin, Resolution, facts_spelt, resolve, resolved};
use crate::survey::Facts;

/// The most ways that are told.
const MOST_WAYS: usize = 6;
/// The most sets of obstacles that are looked at.
const MOST_SETS: usize = 400;

/// What `reach` starts from.
#[derive(Clone, Copy)]
pub struct Start<'a> {
    /// The board.
    pub board: &'a Board,
    /// Its rules as clauses.
    pub logic: &'a Logic,
    /// The choices.
    pub choices: &'a Choices,
    /// The facts.
    pub facts: &'a Facts,
    /// Lacking needs that can be brought to this host, or that a person only switched off.
    pub obtainable: &'a BTreeSet<NeedId>,
}

/// What leads to a value.
#[derive(Debug, Clone)]
pub enum Reach {
    /// It holds already.
    Already,
    /// These ways lead there, the cheapest first. Never empty.
    Ways(Vec<Way>),
    /// Nothing leads there, whatever is chosen and brought to this host.
    Never(Vec<Clash>),
}

/// One way: all of its changes together lead to the value.
#[derive(Debug, Clone)]
pub struct Way {
    /// What to choose, the wanted value first.
    pub choose: Vec<(OptionId, Value)>,
    /// Choices that have to go, each with the value that the option has then.
    pub give_up: Vec<(Choice, Value)>,
    /// Needs to bring to the host.
    pub needs: Vec<NeedId>,
    /// All other values that move: before and after. Without the values before when the choices clash now.
    pub moved: Vec<(OptionId, Value, Value)>,
    /// All values then.
    pub resolution: Resolution,
    /// The choices then.
    pub choices: Choices,
}

impl Way {
    /// Returns how many things a person has to do.
    pub fn changes(&self) -> usize {
        self.choose.len() + self.give_up.len() + self.needs.len()
    }

    fn rank(&self) -> (usize, usize, usize) {
        (self.changes(), self.needs.len(), self.moved.len())
    }
}

/// Something that may stand in the way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Obstacle {
    Choice(OptionId),
    Lacking(NeedId),
}

/// A set of obstacles to remove; the cheapest is the greatest, as a heap wants it.
#[derive(PartialEq, Eq)]
struct Node(BTreeSet<Obstacle>);

impl Node {
    fn rank(&self) -> (usize, usize) {
        (self.0.len(), self.0.iter().filter(|one| matches!(one, Obstacle::Lacking(_))).count())
    }
}

impl Ord for Node {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        other.rank().cmp(&self.rank()).then_with(|| other.0.cmp(&self.0))
    }
}

impl PartialOrd for Node {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl Start<'_> {
    /// Returns what leads to a value of an option.
    pub fn reach(self, option: OptionId, value: &Value) -> Reach {
        let now = resolved(self.board, self.logic, self.choices, self.facts);
        if now.as_ref().is_some_and(|now| now.value(option) == value) {
            return Reach::Already;
        }
        let wanted = (option, value.clone());
        let mut ways: Vec<Way> = Vec::new();
        for removed in self.removals(&wanted) {
            ways.extend(self.way(std::slice::from_ref(&wanted), &removed, now.as_ref()));
        }
        if ways.is_empty() {
            return Reach::Never(self.never(&wanted));
        }
        for way in ways.clone() {
            for other in self.other_branches(&way, now.as_ref()) {
                let known = |one: &Way| one.choose == other.choose && one.needs == other.needs;
                if !ways.iter().any(known) {
                    ways.push(other);
                }
            }
        }
        ways.sort_by_key(Way::rank);
        ways.truncate(MOST_WAYS);
        Reach::Ways(ways)
    }

    fn obstacles(self, wanted: OptionId) -> Vec<Obstacle> {
        let chosen = self.choices.items.iter().map(|choice| choice.option).filter(|option| *option != wanted);
        let lacking = self.obtainable.iter().copied().filter(|need| !self.facts.has(*need));
        let mut obstacles: Vec<Obstacle> = chosen.map(Obstacle::Choice).chain(lacking.map(Obstacle::Lacking)).collect();
        // In an order that does not depend on the order of files.
        obstacles.sort_by_key(|obstacle| match obstacle {
            Obstacle::Choice(option) => self.logic.shape(*option).first(),
            Obstacle::Lacking(need) => self.logic.need(*need),
        });
        obstacles
    }

    /// Returns the smallest sets of obstacles to remove, the cheapest first.
    fn removals(self, wanted: &(OptionId, Value)) -> Vec<BTreeSet<Obstacle>> {
        let without: BTreeSet<Obstacle> = BTreeSet::new();
        // What can simply be chosen needs no search.
        if self.way(std::slice::from_ref(wanted), &without, None).is_some() {
            return vec![without];
        }
        let obstacles = self.obstacles(wanted.0);
        let chosen = self.choices.items.iter().map(|choice| choice.option);
        let mut sat = Sat::new(self.logic, chosen.chain([wanted.0]), Switchable::Fixed);
        for (need, lit) in self.board.needs.ids().zip(facts_spelt(self.board, self.logic, self.facts)) {
            if !obstacles.contains(&Obstacle::Lacking(need)) {
                sat.require(lit);
            }
        }
        for lit in self.logic.shape(wanted.0).spell(&wanted.1) {
            sat.require(lit);
        }
        let mut stands: BTreeMap<Obstacle, Lit> = BTreeMap::new();
        for obstacle in &obstacles {
            let lit = match obstacle {
                Obstacle::Lacking(need) => Some(self.logic.need(*need).no()),
                Obstacle::Choice(option) => self.choices.get(*option).map(|choice| {
                    let spelt = self.logic.shape(*option).spell(&choice.value);
                    sat.group(&spelt)
                }),
            };
            stands.extend(lit.map(|lit| (*obstacle, lit)));
        }
        let mut found: Vec<BTreeSet<Obstacle>> = Vec::new();
        let mut seen: BTreeSet<BTreeSet<Obstacle>> = BTreeSet::new();
        let mut waiting = BinaryHeap::from([Node(BTreeSet::new())]);
        let mut looked_at = 0;
        while let Some(Node(removed)) = waiting.pop() {
            let worse = found.first().is_some_and(|first| removed.len() > first.len() + 1);
            if looked_at >= MOST_SETS || found.len() >= MOST_WAYS || worse {
                break;
            }
            if found.iter().any(|smaller| smaller.is_subset(&removed)) {
                continue;
            }
            looked_at += 1;
            let assumed: Vec<Obstacle> = obstacles.iter().copied().filter(|one| !removed.contains(one)).collect();
            match smallest_core(&mut sat, &assumed, &stands) {
                None => found.push(removed),
                Some(core) => {
                    for obstacle in core {
                        let mut more = removed.clone();
                        more.insert(obstacle);
                        if seen.insert(more.clone()) {
                            waiting.push(Node(more));
                        }
                    }
                }
            }
        }
        found
    }

    /// Resolves what comes of these choices and removals.
    fn way(self, choose: &[(OptionId, Value)], removed: &BTreeSet<Obstacle>, now: Option<&Resolution>) -> Option<Way> {
        let mut choices = self.choices.clone();
        let gone = |option: OptionId| removed.contains(&Obstacle::Choice(option));
        choices
            .items
            .retain(|choice| !gone(choice.option) && choose.iter().all(|(option, _)| *option != choice.option));
        for (option, value) in choose {
            choices = choices.with(self.board, *option, value.clone());
        }
        let needs: Vec<NeedId> = removed
            .iter()
            .filter_map(|one| if let Obstacle::Lacking(need) = one { Some(*need) } else { None })
            .collect();
        let facts = self.facts.with_assumed(&needs);
        let resolution = resolved(self.board, self.logic, &choices, &facts)?;
        let give_up: Vec<(Choice, Value)> = self
            .choices
            .items
            .iter()
            .filter(|choice| gone(choice.option))
            .map(|choice| (choice.clone(), resolution.value(choice.option).clone()))
            .collect();
        let told = |option: OptionId| choose.iter().any(|(one, _)| *one == option) || gone(option);
        let both = now.into_iter().flat_map(|now| now.iter().zip(resolution.iter()));
        let moving = both.filter(|((option, was), (_, is))| was.value != is.value && !told(*option));
        let moved = moving.map(|((option, was), (_, is))| (option, was.value.clone(), is.value.clone()));
        let moved = moved.collect();
        Some(Way { choose: choose.to_vec(), give_up, needs, moved, resolution, choices })
    }

    /// Returns other ways through each `or` that a way leads through: what was pulled in is had by another choice.
    fn other_branches(self, way: &Way, now: Option<&Resolution>) -> Vec<Way> {
        let facts = self.facts.with_assumed(&way.needs);
        let known = |lit: Lit| lit_truth(self.logic, &way.resolution, &facts, lit);
        let removed: BTreeSet<Obstacle> = way
            .give_up
            .iter()
            .map(|(choice, _)| Obstacle::Choice(choice.option))
            .chain(way.needs.iter().map(|need| Obstacle::Lacking(*need)))
            .collect();
        let mut others = Vec::new();
        for (option, resolved) in way.resolution.iter() {
            let Origin::PulledIn(rule) = &resolved.origin else { continue };
            let guards = self.logic.shape(self.board.rules[*rule].option).vars();
            let clauses =
                guards.flat_map(|var| self.logic.guarded_by(var)).filter(|clause| self.logic.rule(*clause) == *rule);
            for clause in clauses {
                let literals = self.logic.literals(clause);
                let by_this =
                    |lit: &Lit| self.logic.owner(lit.var()) == Owner::Option(option) && known(*lit) == Truth::Yes;
                if literals.len() < 3 || known(literals[0]) != Truth::No || !literals[1..].iter().any(by_this) {
                    continue;
                }
                for other in literals[1..].iter().filter(|lit| !by_this(lit)) {
                    let Some((instead, value)) = self.choice_of(*other) else { continue };
                    if way.choose.iter().any(|(one, _)| *one == instead) || others.len() >= MOST_WAYS {
                        continue;
                    }
                    let mut choose = way.choose.clone();
                    choose.push((instead, value));
                    // It is another way only if what was pulled in is not any more.
                    let found = self.way(&choose, &removed, now);
                    others.extend(found.filter(|found| found.resolution.value(option) != &resolved.value));
                }
            }
        }
        others
    }

    /// The choice that makes a literal hold, where a single one does.
    fn choice_of(self, lit: Lit) -> Option<(OptionId, Value)> {
        let Owner::Option(option) = self.logic.owner(lit.var()) else { return None };
        if self.board.options[option].decided_by != DecidedBy::People {
            return None;
        }
        let shape = self.logic.shape(option);
        let at = lit.var().index() - shape.first().index();
        let value = match (shape, lit.is_yes()) {
            (Shape::Switch { .. }, true) => Value::Switch(Switch::On),
            (Shape::Switch { .. }, false) => Value::Switch(Switch::Off),
            (Shape::Module { .. }, true) if at == 0 => Value::Module(Linkage::Loadable),
            (Shape::Module { .. }, true) => Value::Module(Linkage::Builtin),
            (Shape::Module { .. }, false) if at == 0 => Value::Module(Linkage::Off),
            (Shape::Pick { values, .. }, true) => Value::Pick(values[at].clone()),
            (Shape::Scale { cuts, .. }, true) => self.board.options[option].kind.of_number(cuts[at])?,
            _ => return None,
        };
        Some((option, value))
    }

    /// Why nothing leads to a value, even with everything that can be brought to the host.
    fn never(self, wanted: &(OptionId, Value)) -> Vec<Clash> {
        let only = Choices { items: Vec::new(), ..self.choices.clone() }.with(self.board, wanted.0, wanted.1.clone());
        let needs: Vec<NeedId> = self.obtainable.iter().copied().collect();
        resolve(self.board, self.logic, &only, &self.facts.with_assumed(&needs)).err().unwrap_or_default()
    }
}

/// Returns a smallest set of obstacles that stand in the way together; `None` when these do not.
fn smallest_core(sat: &mut Sat<'_>, assumed: &[Obstacle], stands: &BTreeMap<Obstacle, Lit>) -> Option<Vec<Obstacle>> {
    let literals =
        |obstacles: &[Obstacle]| obstacles.iter().filter_map(|one| stands.get(one)).copied().collect::<Vec<Lit>>();
    let within = |obstacles: &[Obstacle], core: &[Lit]| {
        obstacles
            .iter()
            .copied()
            .filter(|one| stands.get(one).is_some_and(|lit| core.contains(lit)))
            .collect::<Vec<_>>()
    };
    // What is not found out is no way either: whoever follows it resolves it, and meets the same.
    let mut core = within(assumed, &sat.solve(&literals(assumed)).err()?.core()?);
    for obstacle in core.clone() {
        let fewer: Vec<Obstacle> = core.iter().copied().filter(|one| *one != obstacle).collect();
        if fewer.len() < core.len()
            && let Err(Unsolved::Core(smaller)) = sat.solve(&literals(&fewer))
        {
            core = within(&fewer, &smaller);
        }
    }
    Some(core)
}

/// What is known of a literal when all values are.
fn lit_truth(logic: &Logic, resolution: &Resolution, facts: &Facts, lit: Lit) -> Truth {
    let holds = match logic.owner(lit.var()) {
        Owner::Always => true,
        Owner::Need(need) => facts.has(need),
        Owner::Option(option) => logic.shape(option).spell(resolution.value(option)).contains(&lit.var().yes()),
        Owner::Several => logic.guarded_by(lit.var()).all(|clause| {
            logic.literals(clause)[1..].iter().any(|one| lit_truth(logic, resolution, facts, *one) == Truth::Yes)
        }),
    };
    if holds == lit.is_yes() { Truth::Yes } else { Truth::No }
}
