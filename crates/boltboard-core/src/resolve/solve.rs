//! The search: goals narrow what options may be; an `or` is a fork that can be taken back.

use std::cell::OnceCell;
use std::collections::{BTreeSet, VecDeque};

use super::domain::{Domain, Levels, Truth};
use crate::board::{Atom, Board, OptionId, RuleId, Value};
use crate::expr::Expr;
use crate::profile::Choice;
use crate::survey::Facts;

/// What must hold, for the sake of which rule.
#[derive(Clone, Copy)]
struct Goal<'a> {
    expr: &'a Expr<Atom>,
    positive: bool,
    strength: Strength,
    rule: RuleId,
}

/// How much a bare module name asks for.
#[derive(Clone, Copy, PartialEq)]
enum Strength {
    /// Not off.
    Any,
    /// Built in, because a built-in module asks.
    Builtin,
}

/// Whether options that may be off can be switched on to meet a goal.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum Pull {
    Allowed,
    Forbidden,
}

/// What is known about one option, and which rules made it so.
#[derive(Debug, Clone)]
pub(super) struct Known {
    pub domain: Domain,
    pub pulled_by: Option<RuleId>,
    pub lowered_by: Option<RuleId>,
}

/// The search's state. Every change is on the trail, so that it can be taken back.
pub(super) struct Solver<'a> {
    pub board: &'a Board,
    pub facts: &'a Facts,
    pub known: Vec<Known>,
    /// The rule that the last failed attempt ran into.
    pub stopped_by: Option<RuleId>,
    pub touched: BTreeSet<RuleId>,
    choices: &'a [Choice],
    rule_counts: &'a dyn Fn(RuleId) -> bool,
    trail: Vec<(OptionId, Known)>,
    by_default: OnceCell<Vec<Value>>,
}

/// No assignment was found; the rules that the search looked at.
pub(super) struct Stuck {
    pub touched: BTreeSet<RuleId>,
}

/// Meets everything hard, for those rules that count, and settles what is left open.
pub(super) fn run<'a>(
    board: &'a Board,
    choices: &'a [Choice],
    facts: &'a Facts,
    rule_counts: &'a dyn Fn(RuleId) -> bool,
) -> Result<Solver<'a>, Stuck> {
    let mut solver = Solver::new(board, choices, facts, rule_counts);
    let mut agenda = VecDeque::new();
    for choice in choices {
        let fixed = solver.known[choice.option.index()].domain.fixed(&choice.value);
        let done = fixed.is_some_and(|domain| solver.replace(choice.option, domain, None, &mut agenda));
        if !done {
            return Err(Stuck { touched: solver.touched });
        }
    }
    if solver.meet(agenda, Pull::Allowed) && solver.settle() {
        Ok(solver)
    } else {
        Err(Stuck { touched: solver.touched })
    }
}

impl<'a> Solver<'a> {
    fn new(
        board: &'a Board,
        choices: &'a [Choice],
        facts: &'a Facts,
        rule_counts: &'a dyn Fn(RuleId) -> bool,
    ) -> Solver<'a> {
        let open = |(_, option): (_, &crate::board::OptionDef)| Known {
            domain: Domain::of(&option.kind),
            pulled_by: None,
            lowered_by: None,
        };
        Solver {
            board,
            facts,
            known: board.options.iter().map(open).collect(),
            stopped_by: None,
            touched: BTreeSet::new(),
            choices,
            rule_counts,
            trail: Vec::new(),
            by_default: OnceCell::new(),
        }
    }

    /// What options would be if nothing were pulled in: tells which way through an `or` already holds.
    fn by_default(&self) -> &[Value] {
        self.by_default.get_or_init(|| {
            let mut plain = Solver::new(self.board, self.choices, self.facts, self.rule_counts);
            // The pass itself meets forks too; there, nothing but choices holds already.
            let nothing: Vec<Value> = self.board.options.iter().map(|(_, option)| option.kind.own_default()).collect();
            plain.by_default = OnceCell::from(nothing);
            for choice in self.choices {
                if let Some(domain) = plain.known[choice.option.index()].domain.fixed(&choice.value) {
                    plain.known[choice.option.index()].domain = domain;
                }
            }
            plain.settle();
            let value = |known: &Known| known.domain.single();
            let kinds = self.board.options.iter().map(|(_, option)| option.kind.own_default());
            plain.known.iter().zip(kinds).map(|(known, own)| value(known).unwrap_or(own)).collect()
        })
    }

    fn atom_by_default(&self, atom: &Atom) -> bool {
        match atom {
            Atom::On(option) => !self.by_default()[option.index()].is_off(),
            Atom::Need(need) => self.facts.has(*need),
            Atom::Compare(option, op, value) => self.by_default()[option.index()].compares(*op, value),
        }
    }

    /// Narrows an option to a value and meets what follows from it. Takes everything back when that fails.
    pub fn try_value(&mut self, option: OptionId, value: &Value, pull: Pull) -> bool {
        let mark = self.trail.len();
        let mut agenda = VecDeque::new();
        let done = match self.known[option.index()].domain.fixed(value) {
            Some(domain) => self.replace(option, domain, None, &mut agenda) && self.meet(agenda, pull),
            None => false,
        };
        if !done {
            self.undo(mark);
        }
        done
    }

    fn undo(&mut self, mark: usize) {
        while self.trail.len() > mark {
            if let Some((option, known)) = self.trail.pop() {
                self.known[option.index()] = known;
            }
        }
    }

    /// Puts a narrower domain in place and adds the goals of rules that now count.
    fn replace(
        &mut self,
        option: OptionId,
        domain: Domain,
        cause: Option<RuleId>,
        agenda: &mut VecDeque<Goal<'a>>,
    ) -> bool {
        let old = &self.known[option.index()];
        if old.domain == domain {
            return true;
        }
        let mut new = Known { domain, ..old.clone() };
        match (old.domain.levels(), new.domain.levels()) {
            (Some(before), Some(after)) => {
                if before.may(Levels::OFF) && !after.may(Levels::OFF) {
                    new.pulled_by = cause;
                }
                if before.without(after).may(Levels::NOT_OFF) {
                    new.lowered_by = cause.or(new.lowered_by);
                    if !after.may(Levels::OFF) {
                        new.pulled_by = cause.or(new.pulled_by);
                    }
                }
                let newly_on = before.may(Levels::OFF) && !after.may(Levels::OFF);
                let newly_full = before.may(Levels::LOADABLE) && after == Levels::FULL && !after.may(Levels::OFF);
                if newly_on || newly_full {
                    let module = matches!(new.domain, Domain::Module(_));
                    let strength = if module && after == Levels::FULL { Strength::Builtin } else { Strength::Any };
                    self.activate(option, None, strength, agenda);
                }
            }
            _ => {
                new.pulled_by = cause.or(new.pulled_by);
                if let (Domain::Pick(before), Domain::Pick(after)) = (&old.domain, &new.domain)
                    && before.len() > 1
                    && let [only] = after.as_slice()
                {
                    let only = only.clone();
                    self.activate(option, Some(&only), Strength::Any, agenda);
                }
            }
        }
        let old = std::mem::replace(&mut self.known[option.index()], new);
        self.trail.push((option, old));
        true
    }

    fn activate(&mut self, option: OptionId, value: Option<&str>, strength: Strength, agenda: &mut VecDeque<Goal<'a>>) {
        let board = self.board;
        for id in &board.options[option].rules {
            let rule = &board.rules[*id];
            if rule.value.as_deref() == value && (self.rule_counts)(*id) {
                self.touched.insert(*id);
                agenda.push_back(Goal { expr: &rule.must, positive: true, strength, rule: *id });
            }
        }
    }

    /// Meets all goals; leaves the state narrowed, or partly narrowed when it fails (the caller takes it back).
    fn meet(&mut self, mut agenda: VecDeque<Goal<'a>>, pull: Pull) -> bool {
        while let Some(goal) = agenda.pop_front() {
            match self.truth(goal.expr, goal.strength, goal.positive) {
                Truth::Yes => continue,
                Truth::No => {
                    self.stopped_by = Some(goal.rule);
                    return false;
                }
                Truth::Open => {}
            }
            let met = match (goal.expr, goal.positive) {
                (Expr::Not(inner), positive) => {
                    agenda.push_front(Goal { expr: inner, positive: !positive, ..goal });
                    true
                }
                (Expr::All(members), true) | (Expr::Any(members), false) => {
                    members.iter().rev().for_each(|m| agenda.push_front(Goal { expr: m, ..goal }));
                    true
                }
                (Expr::Any(members), true) | (Expr::All(members), false) => {
                    return self.fork(members, goal, agenda, pull);
                }
                (Expr::Atom(atom), positive) => self.narrow(atom, positive, goal, pull, &mut agenda),
            };
            if !met {
                self.stopped_by = Some(goal.rule);
                return false;
            }
        }
        true
    }

    /// Tries the ways through an `or`: those that already hold by default first, then as written.
    fn fork(&mut self, ways: &'a [Expr<Atom>], goal: Goal<'a>, agenda: VecDeque<Goal<'a>>, pull: Pull) -> bool {
        let open: Vec<&Expr<Atom>> =
            ways.iter().filter(|way| self.truth(way, goal.strength, goal.positive) != Truth::No).collect();
        let holds = |way: &&&Expr<Atom>| way.holds(&|atom| self.atom_by_default(atom)) == goal.positive;
        // Looking at defaults costs a pass over the board, so only where there is a choice.
        let ordered: Vec<&Expr<Atom>> = if open.len() > 1 {
            let (now, later): (Vec<_>, Vec<_>) = open.iter().partition(|way| holds(way));
            now.into_iter().chain(later).copied().collect()
        } else {
            open
        };
        for way in ordered {
            let mark = self.trail.len();
            let mut rest = agenda.clone();
            rest.push_front(Goal { expr: way, ..goal });
            if self.meet(rest, pull) {
                return true;
            }
            self.undo(mark);
        }
        self.stopped_by = Some(goal.rule);
        false
    }

    fn narrow(
        &mut self,
        atom: &Atom,
        positive: bool,
        goal: Goal<'a>,
        pull: Pull,
        agenda: &mut VecDeque<Goal<'a>>,
    ) -> bool {
        let (option, narrowed) = match atom {
            // A fact is never open.
            Atom::Need(_) => return false,
            Atom::On(option) => {
                let domain = &self.known[option.index()].domain;
                let Some(levels) = domain.levels() else { return false };
                (*option, domain.with_levels(levels.and(wanted(domain, goal.strength, positive))))
            }
            Atom::Compare(option, op, value) => {
                let op = if positive { *op } else { op.opposite() };
                (*option, self.known[option.index()].domain.narrowed(op, value))
            }
        };
        let Some(narrowed) = narrowed else { return false };
        if pull == Pull::Forbidden && narrowed.levels() != Some(Levels::OFF) {
            return false;
        }
        self.replace(option, narrowed, Some(goal.rule), agenda)
    }

    /// Tells what is known about a condition (or its opposite).
    fn truth(&self, expr: &Expr<Atom>, strength: Strength, positive: bool) -> Truth {
        let plain = match expr {
            Expr::Atom(atom) => return self.atom_truth(atom, strength, positive),
            Expr::Not(inner) => return self.truth(inner, strength, !positive),
            Expr::All(members) => (members, Truth::No, Truth::Yes),
            Expr::Any(members) => (members, Truth::Yes, Truth::No),
        };
        let (members, decisive, neutral) = plain;
        let (decisive, neutral) =
            if positive { (decisive, neutral) } else { (decisive.opposite(), neutral.opposite()) };
        let mut sum = neutral;
        for member in members {
            let truth = self.truth(member, strength, positive);
            if truth == decisive {
                return decisive;
            }
            if truth == Truth::Open {
                sum = Truth::Open;
            }
        }
        sum
    }

    fn atom_truth(&self, atom: &Atom, strength: Strength, positive: bool) -> Truth {
        let as_asked = |truth: Truth| if positive { truth } else { truth.opposite() };
        match atom {
            Atom::Need(need) => as_asked(if self.facts.has(*need) { Truth::Yes } else { Truth::No }),
            Atom::Compare(option, op, value) => as_asked(self.known[option.index()].domain.compares(*op, value)),
            Atom::On(option) => {
                let domain = &self.known[option.index()].domain;
                let Some(levels) = domain.levels() else { return Truth::No };
                let wanted = wanted(domain, strength, positive);
                if levels.within(wanted) {
                    Truth::Yes
                } else if levels.may(wanted) {
                    Truth::Open
                } else {
                    Truth::No
                }
            }
        }
    }

    /// Tells whether a condition surely holds.
    pub fn surely(&self, expr: &Expr<Atom>) -> bool {
        self.truth(expr, Strength::Any, true) == Truth::Yes
    }
}

fn wanted(domain: &Domain, strength: Strength, positive: bool) -> Levels {
    match (positive, strength) {
        (false, _) => Levels::OFF,
        (true, Strength::Builtin) if matches!(domain, Domain::Module(_)) => Levels::FULL,
        (true, Strength::Any | Strength::Builtin) => Levels::NOT_OFF,
    }
}
