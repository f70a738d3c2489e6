//! How a few rules lead from choices and facts to a contradiction, step by step, as a person would tell it.

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet, VecDeque};

use crate::board::{Board, NeedId, OptionId, RuleId};
use crate::logic::{ClauseId, Lit, Logic, Owner, Shape, Var};

/// A proof: each step follows from the choices, the facts and the steps before it.
#[derive(Debug, Clone, Default)]
pub struct Proof {
    /// The steps, in the order in which they follow.
    pub steps: Vec<Step>,
}

/// One step.
#[derive(Debug, Clone)]
pub enum Step {
    /// A rule makes something hold.
    So {
        /// The rule.
        rule: RuleId,
        /// What holds then.
        holds: Statement,
    },
    /// A rule cannot be met: this, which it asks for, does not hold.
    But {
        /// The rule.
        rule: RuleId,
        /// What it would need.
        wants: Vec<Statement>,
    },
    /// A rule leaves several ways, and each of them fails.
    Either {
        /// The rule; without one, it is that a pick must have a value.
        rule: Option<RuleId>,
        /// The ways, each with what it leads to.
        ways: Vec<(Statement, Proof)>,
    },
    /// Further cases, more than anyone would read, are not gone through.
    LeftOut,
}

/// What can be said of one option or need.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Statement {
    /// The option is on, or there.
    On(OptionId),
    /// It is off.
    Off(OptionId),
    /// It is built in.
    Builtin(OptionId),
    /// It is not built in.
    NotBuiltin(OptionId),
    /// It has this value.
    Is(OptionId, String),
    /// It does not have this value.
    IsNot(OptionId, String),
    /// It is at least this much.
    AtLeast(OptionId, i128),
    /// It is below this.
    Below(OptionId, i128),
    /// The host has the need.
    Has(NeedId),
    /// The host lacks it.
    Lacks(NeedId),
    /// Several things at once, as one way through an `or`.
    Several(Vec<Statement>),
}

impl Proof {
    /// Returns the rules in the order in which they are used.
    pub fn rules(&self) -> Vec<RuleId> {
        let mut rules = Vec::new();
        self.collect_rules(&mut rules);
        rules
    }

    fn collect_rules(&self, rules: &mut Vec<RuleId>) {
        for step in &self.steps {
            let rule = match step {
                Step::So { rule, .. } | Step::But { rule, .. } => Some(*rule),
                Step::Either { rule, .. } => *rule,
                Step::LeftOut => None,
            };
            if let Some(rule) = rule.filter(|rule| !rules.contains(rule)) {
                rules.push(rule);
            }
            if let Step::Either { ways, .. } = step {
                ways.iter().for_each(|(_, proof)| proof.collect_rules(rules));
            }
        }
    }
}

/// Says what a literal says.
fn statement(logic: &Logic, lit: Lit) -> Statement {
    let var = lit.var();
    match logic.owner(var) {
        Owner::Need(need) if lit.is_yes() => Statement::Has(need),
        Owner::Need(need) => Statement::Lacks(need),
        Owner::Always => Statement::Several(Vec::new()),
        Owner::Several => {
            let members = logic.guarded_by(var).flat_map(|clause| logic.literals(clause)[1..].to_vec());
            Statement::Several(members.map(|member| statement(logic, member)).collect())
        }
        Owner::Option(option) => {
            let shape = logic.shape(option);
            let at = var.index() - shape.first().index();
            let is = |value: &str| match lit.is_yes() {
                true => Statement::Is(option, value.to_string()),
                false => Statement::IsNot(option, value.to_string()),
            };
            match (shape, lit.is_yes()) {
                (Shape::Switch { .. }, true) => Statement::On(option),
                (Shape::Switch { .. }, false) => Statement::Off(option),
                (Shape::Module { .. }, true) if at == 0 => Statement::On(option),
                (Shape::Module { .. }, false) if at == 0 => Statement::Off(option),
                (Shape::Module { .. }, true) => Statement::Builtin(option),
                (Shape::Module { .. }, false) => Statement::NotBuiltin(option),
                (Shape::Scale { cuts, .. }, true) => Statement::AtLeast(option, cuts[at]),
                (Shape::Scale { cuts, .. }, false) => Statement::Below(option, cuts[at]),
                (Shape::Pick { values, .. }, _) => is(&values[at]),
                (Shape::Text { values, .. }, _) => is(values.get(at).map_or("something else", String::as_str)),
                (Shape::Words { words, .. }, _) => is(&words[at]),
            }
        }
    }
}

/// Tells how the rules lead from what is given to a contradiction. What is given must contradict the rules.
pub(super) fn prove(board: &Board, logic: &Logic, given: &[Lit], rules: &BTreeSet<RuleId>) -> Proof {
    let clauses: BTreeSet<ClauseId> =
        rules.iter().flat_map(|rule| logic.clauses_of(board.rules[*rule].option, *rule)).collect();
    let clauses: Vec<ClauseId> = clauses.into_iter().collect();
    let mut options: BTreeSet<OptionId> = BTreeSet::new();
    let mut counts: BTreeSet<Var> = BTreeSet::new();
    let in_clauses = clauses.iter().flat_map(|clause| logic.literals(*clause));
    for lit in in_clauses.chain(given.iter().filter(|lit| lit.is_yes())) {
        counts.insert(lit.var());
        if let Owner::Option(option) = logic.owner(lit.var()) {
            options.insert(option);
        }
    }
    let mut lines: Vec<Line> = clauses
        .iter()
        .map(|clause| Line { clause: Some(*clause), literals: logic.literals(*clause).to_vec() })
        .collect();
    let axioms = options.iter().flat_map(|option| logic.shape(*option).axioms_among(&|var| counts.contains(&var)));
    lines.extend(axioms.map(|literals| Line { clause: None, literals }));
    let mut at: BTreeMap<Var, Vec<usize>> = BTreeMap::new();
    for (index, line) in lines.iter().enumerate() {
        line.literals.iter().for_each(|lit| at.entry(lit.var()).or_default().push(index));
    }
    let prover = Prover { logic, lines, at, left: Cell::new(MOST_CASES) };
    let mut known = Known::default();
    given.iter().for_each(|lit| known.put(*lit));
    prover.proof(known, &(0..prover.lines.len()).collect::<Vec<usize>>())
}

/// How many cases a proof goes through in all.
const MOST_CASES: usize = 300;

/// A clause of a rule, or one that holds of an option anyway.
struct Line {
    clause: Option<ClauseId>,
    literals: Vec<Lit>,
}

struct Prover<'a> {
    logic: &'a Logic,
    lines: Vec<Line>,
    /// The lines that each variable stands in.
    at: BTreeMap<Var, Vec<usize>>,
    /// How many more cases are gone through.
    left: Cell<usize>,
}

/// What holds, in the order in which it was found, with what it follows from.
#[derive(Clone, Default)]
struct Known {
    holds: BTreeMap<Var, bool>,
    found: Vec<(Lit, Option<usize>)>,
}

impl Known {
    fn put(&mut self, lit: Lit) {
        self.because(lit, None);
    }

    fn because(&mut self, lit: Lit, line: Option<usize>) {
        if self.holds.insert(lit.var(), lit.is_yes()).is_none() {
            self.found.push((lit, line));
        }
    }

    fn says(&self, lit: Lit) -> Option<bool> {
        self.holds.get(&lit.var()).map(|holds| *holds == lit.is_yes())
    }
}

/// What a look at one line brings.
enum Look {
    Nothing,
    Forced(Lit),
    Broken,
}

impl Prover<'_> {
    /// Goes on from what is known; `fresh` are the lines that something became known of.
    fn proof(&self, mut known: Known, fresh: &[usize]) -> Proof {
        // What holds anyway comes first, then what leads forward from what is on, then the rest.
        let mut agenda: [VecDeque<usize>; 3] = Default::default();
        let mut fresh = fresh.to_vec();
        loop {
            for index in fresh.drain(..) {
                let line = &self.lines[index];
                match look(&known, &line.literals) {
                    Look::Broken => return self.told(&known, line),
                    Look::Forced(_) if line.clause.is_none() => agenda[0].push_back(index),
                    Look::Forced(lit) => agenda[if lit == line.literals[0] { 2 } else { 1 }].push_back(index),
                    Look::Nothing => {}
                }
            }
            let Some(next) = agenda.iter_mut().find_map(VecDeque::pop_front) else { return self.cases(known) };
            if let Look::Forced(lit) = look(&known, &self.lines[next].literals) {
                known.because(lit, Some(next));
                fresh = self.at.get(&lit.var()).cloned().unwrap_or_default();
            }
        }
    }

    /// Nothing follows by itself: one rule leaves several ways.
    fn cases(&self, known: Known) -> Proof {
        let open = |line: &Line| {
            let met = line.literals.iter().any(|lit| known.says(*lit) == Some(true));
            let ways: Vec<Lit> = line.literals.iter().copied().filter(|lit| known.says(*lit).is_none()).collect();
            // What holds anyway is worth telling only where it is that a value must be taken.
            let counts = line.clause.is_some() || (ways.len() > 1 && ways.iter().all(|lit| lit.is_yes()));
            let waits = line.clause.is_some() && known.says(line.literals[0]).is_none();
            (!met && !ways.is_empty() && counts).then_some((waits, ways.len(), line.clause, ways))
        };
        // One that counts already, with the fewest ways.
        let Some((_, _, clause, ways)) = self.lines.iter().filter_map(open).min_by_key(|found| (found.0, found.1))
        else {
            return Proof::default();
        };
        let needed: BTreeSet<Var> = known.holds.keys().copied().collect();
        let mut steps = self.steps(&known, needed);
        let Some(left) = self.left.get().checked_sub(ways.len()) else {
            steps.push(Step::LeftOut);
            return Proof { steps };
        };
        self.left.set(left);
        let way = |lit: &Lit| {
            let mut deeper = known.clone();
            // What was found before is told before.
            deeper.found.clear();
            deeper.put(*lit);
            let fresh = self.at.get(&lit.var()).cloned().unwrap_or_default();
            (statement(self.logic, *lit), self.proof(deeper, &fresh))
        };
        let either =
            Step::Either { rule: clause.map(|clause| self.logic.rule(clause)), ways: ways.iter().map(way).collect() };
        steps.push(either);
        Proof { steps }
    }

    fn told(&self, known: &Known, broken: &Line) -> Proof {
        let needed: BTreeSet<Var> = broken.literals.iter().map(|lit| lit.var()).collect();
        let mut steps = self.steps(known, needed);
        if let Some(clause) = broken.clause {
            let wants = broken.literals[1..].iter().map(|lit| statement(self.logic, *lit)).collect();
            steps.push(Step::But { rule: self.logic.rule(clause), wants });
        }
        Proof { steps }
    }

    /// Returns the steps that lead to what is needed, without those that lead elsewhere.
    fn steps(&self, known: &Known, mut needed: BTreeSet<Var>) -> Vec<Step> {
        let mut steps = Vec::new();
        for (lit, line) in known.found.iter().rev() {
            let Some(line) = line.filter(|_| needed.contains(&lit.var())) else { continue };
            let line = &self.lines[line];
            needed.extend(line.literals.iter().map(|lit| lit.var()));
            if let Some(clause) = line.clause {
                steps.push(Step::So { rule: self.logic.rule(clause), holds: statement(self.logic, *lit) });
            }
        }
        steps.reverse();
        steps
    }
}

fn look(known: &Known, literals: &[Lit]) -> Look {
    let mut open = None;
    for lit in literals {
        match (known.says(*lit), open) {
            (Some(true), _) | (None, Some(_)) => return Look::Nothing,
            (None, None) => open = Some(*lit),
            (Some(false), _) => {}
        }
    }
    open.map_or(Look::Broken, Look::Forced)
}
