//! The clauses in a SAT solver, for the cases that narrowing alone does not decide.

use std::cell::Cell;
use std::collections::{BTreeMap, HashMap, HashSet};

use batsat::{Callbacks, ClauseKind, Solver, SolverInterface, SolverOpts, lbool};

use super::{ClauseId, Condition, Lit, Logic, Owner, Shape, Var};
use crate::board::{OptionId, RuleId};

/// Whether single rules can be left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Switchable {
    /// All rules always count.
    Fixed,
    /// A rule counts only while its literal is assumed, see [`Sat::rules`].
    ByRule,
}

/// A SAT solver over the part of a board that some options can touch.
///
/// An option outside of that part can be off, or keep any value, without breaking a rule.
pub struct Sat<'a> {
    logic: &'a Logic,
    solver: Solver<Steps>,
    /// The solver's variable of each of ours, where it has one.
    known: HashMap<usize, batsat::Var>,
    /// The literal that each rule waits for.
    rules: BTreeMap<RuleId, Lit>,
    /// Variables of ours that the board does not have: their meaning is the caller's.
    fresh: usize,
}

/// Why there is no assignment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Unsolved {
    /// These of the assumptions cannot hold together.
    Core(Vec<Lit>),
    /// The work that a solver may do is done, and nothing is shown.
    Undecided,
}

impl Unsolved {
    /// Returns the assumptions that cannot hold together, where that was shown.
    pub fn core(self) -> Option<Vec<Lit>> {
        match self {
            Unsolved::Core(core) => Some(core),
            Unsolved::Undecided => None,
        }
    }
}

/// How much a solver may do in all: steps are guesses, and a contradiction that is met counts as some. It is counted and not
/// timed, so that the same question is decided on every machine or on none.
pub const MOST_STEPS: u64 = 1_000_000;
/// How many steps a contradiction counts as.
const CONTRADICTION: u64 = 10;

/// Counts what is left of the work.
struct Steps {
    left: Cell<u64>,
}

impl Steps {
    fn spend(&self, steps: u64) {
        self.left.set(self.left.get().saturating_sub(steps));
    }
}

impl Callbacks for Steps {
    fn on_new_clause(&mut self, _: &[batsat::Lit], kind: ClauseKind) {
        if matches!(kind, ClauseKind::Learnt) {
            self.spend(CONTRADICTION);
        }
    }

    fn stop(&self) -> bool {
        self.spend(1);
        self.left.get() == 0
    }
}

impl<'a> Sat<'a> {
    /// Takes in the clauses of all that `seeds` can touch.
    pub fn new(logic: &'a Logic, seeds: impl IntoIterator<Item = OptionId>, switchable: Switchable) -> Sat<'a> {
        let mut sat = Sat::empty(logic);
        let mut scope = Scope { logic, touched: HashSet::new(), seen: vec![false; logic.vars()], waiting: Vec::new() };
        for option in seeds {
            scope.touch(option);
        }
        for (_, shape) in logic.shapes() {
            // A pick always takes a value: where each asks for something, something is always asked for.
            if let Shape::Pick { .. } = shape
                && shape.vars().all(|var| logic.guarded_by(var).next().is_some())
            {
                shape.vars().for_each(|var| scope.see(var));
            }
        }
        while let Some(var) = scope.waiting.pop() {
            for clause in logic.guarded_by(var) {
                scope.follow(logic.literals(clause));
                match switchable {
                    Switchable::Fixed => sat.add(logic.literals(clause)),
                    Switchable::ByRule => sat.add_waiting(clause),
                }
            }
        }
        sat
    }

    /// Takes in only the clauses of these rules; each waits for its literal.
    pub fn of_rules(logic: &'a Logic, rules: impl IntoIterator<Item = (OptionId, RuleId)>) -> Sat<'a> {
        let mut sat = Sat::empty(logic);
        for (option, rule) in rules {
            logic.clauses_of(option, rule).into_iter().for_each(|clause| sat.add_waiting(clause));
        }
        sat
    }

    fn empty(logic: &'a Logic) -> Sat<'a> {
        let mut sat = Sat {
            logic,
            solver: Solver::new(SolverOpts::default(), Steps { left: Cell::new(MOST_STEPS) }),
            known: HashMap::new(),
            rules: BTreeMap::new(),
            fresh: logic.vars(),
        };
        sat.require(Var::ALWAYS.yes());
        sat
    }

    fn add_waiting(&mut self, clause: ClauseId) {
        let fresh = &mut self.fresh;
        let waits = *self.rules.entry(self.logic.rule(clause)).or_insert_with(|| {
            *fresh += 1;
            Var::at(*fresh - 1).yes()
        });
        self.add(&[self.logic.literals(clause), &[waits.opposite()]].concat());
    }

    /// The literals that rules wait for, for [`Switchable::ByRule`].
    pub fn rules(&self) -> &BTreeMap<RuleId, Lit> {
        &self.rules
    }

    /// Returns a new literal that makes all these hold when it is assumed.
    pub fn group(&mut self, literals: &[Lit]) -> Lit {
        let group = Var::at(self.fresh).yes();
        self.fresh += 1;
        for lit in literals {
            self.add(&[group.opposite(), *lit]);
        }
        group
    }

    /// Makes a literal hold from now on.
    pub fn require(&mut self, lit: Lit) {
        self.add(&[lit]);
    }

    /// Makes a condition hold from now on.
    pub fn require_condition(&mut self, condition: &Condition) {
        let lit = self.spelt(condition);
        self.require(lit);
    }

    /// Returns a literal that makes a condition hold.
    fn spelt(&mut self, condition: &Condition) -> Lit {
        let (Condition::All(members) | Condition::Any(members)) = condition else {
            let Condition::Lit(lit) = condition else { return Var::ALWAYS.yes() };
            return *lit;
        };
        let spelt: Vec<Lit> = members.iter().map(|member| self.spelt(member)).collect();
        if let Condition::All(_) = condition {
            return self.group(&spelt);
        }
        let any = Var::at(self.fresh).yes();
        self.fresh += 1;
        self.add(&[&[any.opposite()], spelt.as_slice()].concat());
        any
    }

    /// Leaves so many steps of work.
    pub fn limit(&mut self, steps: u64) {
        self.solver.cb().left.set(steps);
    }

    /// Adds a clause.
    pub fn add(&mut self, literals: &[Lit]) {
        let mut inner: Vec<batsat::Lit> = Vec::with_capacity(literals.len());
        for lit in literals {
            inner.push(self.inner(*lit));
        }
        self.solver.add_clause_reuse(&mut inner);
    }

    /// Looks for an assignment in which these hold.
    ///
    /// # Errors
    /// There is none; says which of the assumptions are to blame (not the smallest set). Or it was not found out.
    pub fn solve(&mut self, assumed: &[Lit]) -> Result<(), Unsolved> {
        let inner: Vec<batsat::Lit> = assumed.iter().map(|lit| self.inner(*lit)).collect();
        match self.solver.solve_limited(&inner) {
            answer if answer == lbool::TRUE => return Ok(()),
            answer if answer == lbool::FALSE => {}
            _ => return Err(Unsolved::Undecided),
        }
        let core = assumed.iter().zip(&inner).filter(|(_, inner)| self.solver.unsat_core_contains_var(inner.var()));
        Err(Unsolved::Core(core.map(|(lit, _)| *lit).collect()))
    }

    /// Tells whether a literal holds in the assignment that was found last. One that nothing touches does not.
    pub fn holds(&self, lit: Lit) -> bool {
        let value = match self.known.get(&lit.var().index()).copied() {
            Some(var) => self.solver.value_var(var) == lbool::TRUE,
            None => false,
        };
        value == lit.is_yes()
    }

    /// Tells whether the solver knows the variable; one that it does not know can take any value.
    pub fn knows(&self, var: Var) -> bool {
        self.known.contains_key(&var.index())
    }

    fn inner(&mut self, lit: Lit) -> batsat::Lit {
        let index = lit.var().index();
        let var = match self.known.get(&index) {
            Some(var) => *var,
            None => {
                let var = self.solver.new_var_default();
                self.known.insert(index, var);
                if index < self.logic.vars()
                    && let Owner::Option(option) = self.logic.owner(lit.var())
                {
                    self.axioms_once(option);
                }
                var
            }
        };
        batsat::Lit::new(var, lit.is_yes())
    }

    /// An option's own clauses come in with the first of its variables.
    fn axioms_once(&mut self, option: OptionId) {
        let logic = self.logic;
        let shape = logic.shape(option);
        for var in shape.vars() {
            self.known.entry(var.index()).or_insert_with(|| self.solver.new_var_default());
        }
        let fresh = &mut self.fresh;
        let axioms = shape.axioms(&mut || {
            *fresh += 1;
            Var::at(*fresh - 1)
        });
        axioms.iter().for_each(|axiom| self.add(axiom));
    }
}

/// Follows rules from what may be on to what that asks for.
struct Scope<'a> {
    logic: &'a Logic,
    /// Options of which all variables were seen: one of very many values may be asked about very often.
    touched: HashSet<OptionId>,
    seen: Vec<bool>,
    waiting: Vec<Var>,
}

impl Scope<'_> {
    fn touch(&mut self, option: OptionId) {
        if self.touched.insert(option) {
            self.logic.shape(option).vars().for_each(|var| self.see(var));
        }
    }

    fn see(&mut self, var: Var) {
        if !std::mem::replace(&mut self.seen[var.index()], true) {
            self.waiting.push(var);
        }
    }

    fn follow(&mut self, literals: &[Lit]) {
        for lit in literals.iter().skip(1) {
            match self.logic.owner(lit.var()) {
                Owner::Option(option) => {
                    let shape = self.logic.shape(option);
                    // What must be off asks for nothing; a pick that must not have one value takes another.
                    if lit.is_yes() || shape.is_one_of() {
                        self.touch(option);
                    }
                }
                Owner::Several => self.see(lit.var()),
                Owner::Need(_) | Owner::Always => {}
            }
        }
    }
}
