//! Narrowing: what is asked for is spelt as literals, rules that begin to count make others hold, an `or` is a fork.
//!
//! Every clause whose guard holds is *active*. An active clause with one literal left makes it hold; one with several left
//! waits. Nothing is searched here beyond the next step: where a way that looked open turns out to lead nowhere, the
//! whole run is made again with a [`Judge`], which knows of every step whether it can be completed.

use std::collections::BTreeSet;

use super::by_default::ByDefault;
use super::judge::Judge;
use super::settle::Setting;
use crate::board::RuleId;
use crate::logic::{ClauseId, Condition, Lit, Logic, Owner, Shape, Truth, Var};

/// Whether options that may be off can be switched on to meet a rule.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum Pull {
    Allowed,
    Forbidden,
}

/// What made a literal hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Cause {
    /// A choice, a fact or a default.
    Given,
    /// A clause of which nothing else was left.
    Clause(ClauseId),
}

/// Stands for [`Cause::Given`]; there are never so many clauses.
const GIVEN: u32 = u32::MAX;

impl Cause {
    fn kept(self) -> u32 {
        match self {
            Cause::Given => GIVEN,
            Cause::Clause(clause) => clause.0,
        }
    }
}

/// Nothing can be made of it; the clause that it ran into last, when it was a clause.
#[derive(Debug, Clone, Copy)]
pub(super) struct DeadEnd {
    pub by: Option<ClauseId>,
}

/// What is known of each variable, in the order in which it became known.
pub(super) struct Engine<'a> {
    pub logic: &'a Logic,
    setting: Setting<'a>,
    known: Vec<Truth>,
    /// The clause that made it known; [`GIVEN`] where there was none.
    causes: Vec<u32>,
    trail: Vec<Lit>,
    /// How much of the trail has been followed up.
    followed: usize,
    /// How much of it the judge has accepted.
    accepted: usize,
    /// Active clauses with several literals left, in no order.
    waiting: Vec<ClauseId>,
    stopped_by: Option<ClauseId>,
    by_default: Option<Box<ByDefault<'a>>>,
    pub judge: Option<Judge<'a>>,
}

/// A place on the trail to go back to.
pub(super) struct Mark {
    trail: usize,
    waiting: Vec<ClauseId>,
}

impl<'a> Engine<'a> {
    pub fn new(logic: &'a Logic, setting: Setting<'a>, judge: Option<Judge<'a>>) -> Engine<'a> {
        let mut engine = Engine {
            logic,
            setting,
            known: vec![Truth::Open; logic.vars()],
            causes: vec![GIVEN; logic.vars()],
            trail: Vec::with_capacity(logic.vars()),
            followed: 0,
            accepted: 0,
            waiting: Vec::new(),
            stopped_by: None,
            by_default: None,
            judge,
        };
        engine.set(Var::ALWAYS.yes(), Cause::Given);
        engine
    }

    /// Tells what is known of a literal.
    pub fn truth(&self, lit: Lit) -> Truth {
        truth_in(&self.known, lit)
    }

    /// Tells whether a condition surely holds.
    pub fn surely(&self, condition: &Condition) -> bool {
        condition.truth(&|lit| self.truth(lit)) == Truth::Yes
    }

    /// Returns what made a variable known.
    pub fn cause(&self, var: Var) -> Cause {
        match self.causes[var.index()] {
            GIVEN => Cause::Given,
            clause => Cause::Clause(ClauseId(clause)),
        }
    }

    /// Returns how much is known, for [`Engine::known_since`].
    pub fn known_so_far(&self) -> usize {
        self.trail.len()
    }

    /// Returns what became known since then.
    pub fn known_since(&self, start: usize) -> &[Lit] {
        &self.trail[start..]
    }

    pub fn mark(&self) -> Mark {
        Mark { trail: self.trail.len(), waiting: self.waiting.clone() }
    }

    pub fn undo(&mut self, mark: Mark) {
        for lit in self.trail.drain(mark.trail..) {
            self.known[lit.var().index()] = Truth::Open;
        }
        self.followed = self.trail.len();
        self.waiting = mark.waiting;
    }

    /// Makes literals hold because they were asked for.
    pub fn give(&mut self, literals: &[Lit]) -> Result<(), DeadEnd> {
        self.stopped_by = None;
        for lit in literals {
            match self.truth(*lit) {
                Truth::Yes => {}
                Truth::Open => {
                    if !self.set(*lit, Cause::Given) {
                        return Err(self.dead_end());
                    }
                }
                Truth::No => {
                    if let Cause::Clause(clause) = self.cause(lit.var()) {
                        self.stopped_by = Some(clause);
                    }
                    return Err(self.dead_end());
                }
            }
        }
        Ok(())
    }

    /// Follows up everything that became known, then takes a way through each `or` that is still open.
    pub fn meet(&mut self, pull: Pull) -> Result<(), DeadEnd> {
        if self.follow(pull) && self.forks(pull) { Ok(()) } else { Err(self.dead_end()) }
    }

    /// Follows up everything that became known, and nothing more: when this fails, no assignment has it.
    pub fn follow_up(&mut self) -> Result<(), DeadEnd> {
        if self.follow(Pull::Allowed) { Ok(()) } else { Err(self.dead_end()) }
    }

    /// Returns the rules that led to a clause that cannot be met.
    pub fn blamed(&self, stopped: ClauseId) -> BTreeSet<RuleId> {
        let logic = self.logic;
        let mut clauses = vec![stopped];
        let mut seen: BTreeSet<ClauseId> = BTreeSet::from([stopped]);
        let mut at = 0;
        while let Some(clause) = clauses.get(at).copied() {
            at += 1;
            for lit in logic.literals(clause) {
                // What holds of one variable of an option may follow from another.
                let vars: Vec<Var> = match logic.owner(lit.var()) {
                    Owner::Option(option) => logic.shape(option).vars().collect(),
                    Owner::Several | Owner::Need(_) | Owner::Always => vec![lit.var()],
                };
                for var in vars.into_iter().filter(|var| self.truth(var.yes()) != Truth::Open) {
                    if let Cause::Clause(cause) = self.cause(var)
                        && seen.insert(cause)
                    {
                        clauses.push(cause);
                    }
                }
            }
        }
        seen.into_iter().map(|clause| logic.rule(clause)).collect()
    }

    /// Makes literals hold and meets what follows; takes everything back when that fails.
    pub fn attempt(&mut self, literals: &[Lit], pull: Pull) -> Result<(), DeadEnd> {
        let mark = self.mark();
        let done = self.give(literals).and_then(|()| self.meet(pull)).and_then(|()| self.judged());
        match done {
            Ok(()) => self.accept(),
            Err(_) => self.undo(mark),
        }
        done
    }

    /// Switches off a switch or module that is still open: no rule begins to count by that, so there is nothing to follow
    /// up. Tells whether it was done; where a judge has to be asked, it is not.
    pub fn switch_off(&mut self, shape: &Shape) -> bool {
        match shape {
            Shape::Switch { on } => self.all_no(*on, 1),
            Shape::Module { on } => self.all_no(*on, 2),
            Shape::Pick { .. } | Shape::Scale { .. } | Shape::Text { .. } | Shape::Words { .. } => false,
        }
    }

    /// The same for a switch or module whose variables are known.
    pub fn all_no(&mut self, first: Var, count: usize) -> bool {
        if self.judge.is_some() || self.truth(first.yes()) != Truth::Open {
            return false;
        }
        for var in first.index()..first.index() + count {
            // What is built in cannot be: it would not be off.
            if self.known[var] == Truth::Open {
                self.known[var] = Truth::No;
                self.causes[var] = GIVEN;
                self.trail.push(Var::at(var).no());
            }
        }
        self.followed = self.trail.len();
        true
    }

    /// Asks the judge, if there is one, whether all that was not accepted yet can be completed.
    fn judged(&mut self) -> Result<(), DeadEnd> {
        let Some(judge) = &mut self.judge else { return Ok(()) };
        if judge.can(&self.trail[self.accepted..]) { Ok(()) } else { Err(DeadEnd { by: judge.blame(self.logic) }) }
    }

    /// Tells the judge that what is known now is never taken back.
    pub fn accept(&mut self) {
        if let Some(judge) = &mut self.judge {
            judge.accept(&self.trail[self.accepted..]);
        }
        self.accepted = self.trail.len();
    }

    fn dead_end(&self) -> DeadEnd {
        DeadEnd { by: self.stopped_by }
    }

    fn follow(&mut self, pull: Pull) -> bool {
        let logic = self.logic;
        loop {
            while let Some(lit) = self.trail.get(self.followed).copied() {
                self.followed += 1;
                if lit.is_yes() && !logic.guarded_by(lit.var()).all(|clause| self.visit(clause, pull)) {
                    return false;
                }
            }
            let before = self.trail.len();
            let waiting = std::mem::take(&mut self.waiting);
            if !waiting.into_iter().all(|clause| self.visit(clause, pull)) {
                return false;
            }
            if self.trail.len() == before {
                return true;
            }
        }
    }

    fn visit(&mut self, clause: ClauseId, pull: Pull) -> bool {
        let mut open = None;
        let mut several = false;
        for lit in &self.logic.literals(clause)[1..] {
            match self.truth(*lit) {
                Truth::Yes => return true,
                Truth::Open => {
                    several |= open.is_some_and(|other| other != *lit);
                    open = Some(*lit);
                }
                Truth::No => {}
            }
        }
        if several {
            self.waiting.push(clause);
            return true;
        }
        let done = open.is_some_and(|lit| self.derive(lit, clause, pull));
        if !done {
            self.stopped_by = Some(clause);
        }
        done
    }

    fn derive(&mut self, lit: Lit, clause: ClauseId, pull: Pull) -> bool {
        (pull == Pull::Allowed || self.takes_only(lit)) && self.set(lit, Cause::Clause(clause))
    }

    /// Tells whether a literal switches something off and nothing on.
    fn takes_only(&self, lit: Lit) -> bool {
        match self.logic.owner(lit.var()) {
            Owner::Several | Owner::Always => true,
            Owner::Option(option) => !lit.is_yes() && self.logic.shape(option).on().is_some(),
            Owner::Need(_) => false,
        }
    }

    /// Takes a way through each waiting clause: one that holds by default, else the first written that can hold.
    fn forks(&mut self, pull: Pull) -> bool {
        while let Some(clause) = self.waiting.iter().min().copied() {
            let logic = self.logic;
            let ways = logic.literals(clause)[1..].iter().copied().filter(|lit| self.truth(*lit) == Truth::Open);
            let mut ways: Vec<Lit> = ways.collect();
            if pull == Pull::Allowed {
                let by_default = self.by_default.take();
                let mut by_default = by_default.unwrap_or_else(|| Box::new(ByDefault::new(self.apart())));
                ways.sort_by_cached_key(|way| !by_default.holds(*way, self.setting));
                self.by_default = Some(by_default);
            }
            let taken = ways.into_iter().any(|way| {
                let mark = self.mark();
                let done = self.derive(way, clause, pull) && self.follow(pull) && self.judged().is_ok();
                if !done {
                    self.undo(mark);
                }
                done
            });
            if !taken {
                self.stopped_by = Some(clause);
                return false;
            }
        }
        true
    }

    /// An engine that knows the same and goes its own way from here.
    pub(super) fn apart(&self) -> Engine<'a> {
        let mut own = Engine::new(self.logic, self.setting, None);
        own.known.clone_from(&self.known);
        own.causes.clone_from(&self.causes);
        own.trail.clear();
        own
    }

    /// Puts down a literal that was open, and what it means for the other variables of its option. Tells whether
    /// these agree.
    fn set(&mut self, lit: Lit, cause: Cause) -> bool {
        let var = lit.var();
        self.put_down(lit, cause);
        let logic = self.logic;
        if logic.is_alone(var) {
            return true;
        }
        let Owner::Option(option) = logic.owner(var) else { return true };
        match logic.shape(option) {
            Shape::Switch { .. } | Shape::Words { .. } => true,
            Shape::Module { on } => match (var == *on, lit.is_yes()) {
                (true, false) => self.also(on.plus(1).no(), cause),
                (false, true) => self.also(on.yes(), cause),
                (true, true) | (false, false) => true,
            },
            Shape::Scale { first, cuts, .. } => {
                let at = var.index() - first.index();
                let first = *first;
                match lit.is_yes() {
                    true => self.row((0..at).rev().map(|one| first.plus(one).yes()), cause),
                    false => self.row((at + 1..cuts.len()).map(|one| first.plus(one).no()), cause),
                }
            }
            shape @ (Shape::Pick { .. } | Shape::Text { .. }) => {
                if lit.is_yes() {
                    return shape.vars().filter(|other| *other != var).all(|other| self.not_taken(other, cause));
                }
                let mut left = shape.vars().filter(|other| self.truth(other.yes()) != Truth::No);
                match (left.next(), left.next()) {
                    (Some(only), None) => self.also(only.yes(), cause),
                    (Some(_), Some(_)) => true,
                    (None, _) => false,
                }
            }
        }
    }

    /// Puts down that a value is not taken because another one is; nothing more follows for the option.
    fn not_taken(&mut self, var: Var, cause: Cause) -> bool {
        match self.truth(var.yes()) {
            Truth::Yes => false,
            Truth::No => true,
            Truth::Open => {
                self.put_down(var.no(), cause);
                true
            }
        }
    }

    /// Puts down a row of bounds of which each implies the next; behind one that holds, all others do.
    fn row(&mut self, bounds: impl Iterator<Item = Lit>, cause: Cause) -> bool {
        for lit in bounds {
            match self.truth(lit) {
                Truth::Yes => return true,
                Truth::No => return false,
                Truth::Open => self.put_down(lit, cause),
            }
        }
        true
    }

    fn put_down(&mut self, lit: Lit, cause: Cause) {
        let var = lit.var().index();
        self.known[var] = if lit.is_yes() { Truth::Yes } else { Truth::No };
        self.causes[var] = cause.kept();
        self.trail.push(lit);
    }

    fn also(&mut self, lit: Lit, cause: Cause) -> bool {
        match self.truth(lit) {
            Truth::Yes => true,
            Truth::No => false,
            Truth::Open => self.set(lit, cause),
        }
    }
}

fn truth_in(known: &[Truth], lit: Lit) -> Truth {
    match (known[lit.var().index()], lit.is_yes()) {
        (truth, true) => truth,
        (Truth::Yes, false) => Truth::No,
        (Truth::No, false) => Truth::Yes,
        (Truth::Open, false) => Truth::Open,
    }
}
