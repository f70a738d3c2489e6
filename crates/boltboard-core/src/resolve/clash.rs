//! Which choices cannot hold together, and the rules that show it.

use std::collections::{BTreeMap, BTreeSet};

use super::judge::unnamed;
use super::proof::{Proof, prove};
use super::{facts_spelt, given_of};
use crate::board::{Atom, Board, NeedId, OptionId, RuleId};
use crate::expr::Expr;
use crate::logic::{Lit, Logic, MOST_STEPS, Sat, Switchable, Unsolved};
use crate::profile::{Choice, Choices};
use crate::survey::Facts;

/// A smallest set of choices that cannot hold together: leave out any one and the clash is gone.
#[derive(Debug, Clone)]
pub struct Clash {
    /// The choices; empty when the board contradicts itself.
    pub choices: Vec<Choice>,
    /// The rules that show why: a smallest set as well, in the order in which they lead to the contradiction.
    pub rules: Vec<RuleId>,
    /// Needs that the host lacks and the rules ask for.
    pub lacking: Vec<NeedId>,
    /// How the rules lead from the choices to the contradiction.
    pub proof: Proof,
    /// Whether that was shown.
    pub verdict: Verdict,
}

/// What is known of choices for which no values were found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// They cannot hold together.
    Impossible,
    /// Nobody knows: no values were found within so many steps of work, nor was it shown that there are none.
    NotDecided {
        /// The steps.
        steps: u64,
    },
}

/// What could not be decided of all these choices, with the rules about them.
pub(super) fn not_decided(board: &Board, choices: &Choices) -> Clash {
    let rules = choices.items.iter().flat_map(|choice| {
        let of_value = |rule: &&RuleId| match &board.rules[**rule].value {
            None => !choice.value.is_off(),
            Some(value) => choice.value.to_string() == *value,
        };
        board.options[choice.option].rules.iter().filter(of_value).copied().collect::<Vec<_>>()
    });
    let (choices, rules) = (choices.items.clone(), rules.collect());
    let verdict = Verdict::NotDecided { steps: MOST_STEPS };
    Clash { choices, rules, lacking: Vec::new(), proof: Proof::default(), verdict }
}

/// Returns all independent clashes: no choice is in two of them.
pub(super) fn all(board: &Board, logic: &Logic, choices: &Choices, facts: &Facts) -> Vec<Clash> {
    let finder = Finder { board, logic, facts, items: &choices.items };
    let mut clashes = Vec::new();
    let mut left = choices.items.clone();
    // Those that come first in the canonical order are let go first, whatever the order of files.
    left.sort_by_key(|choice| logic.shape(choice.option).first());
    while let Some(kept) = finder.smallest(&left) {
        left.retain(|choice| !kept.iter().any(|c| c.option == choice.option));
        let hopeless = kept.is_empty();
        clashes.push(finder.told(kept));
        if hopeless {
            break;
        }
    }
    clashes.sort_by_cached_key(|clash| clash.choices.first().map(|c| board.options[c.option].name.clone()));
    clashes
}

struct Finder<'a> {
    board: &'a Board,
    logic: &'a Logic,
    facts: &'a Facts,
    items: &'a [Choice],
}

impl<'a> Finder<'a> {
    fn sat(&self, choices: &[Choice], switchable: Switchable) -> Sat<'a> {
        let mut sat = Sat::new(self.logic, choices.iter().map(|choice| choice.option), switchable);
        facts_spelt(self.board, self.logic, self.facts).into_iter().for_each(|lit| sat.require(lit));
        let chosen = given_of(self.logic, self.items);
        unnamed(self.logic, &chosen, &BTreeSet::new()).into_iter().for_each(|lit| sat.require(lit));
        sat
    }

    /// Returns a smallest set of these choices that cannot hold together.
    fn smallest(&self, choices: &[Choice]) -> Option<Vec<Choice>> {
        let mut sat = self.sat(choices, Switchable::Fixed);
        let groups: BTreeMap<OptionId, Lit> = choices
            .iter()
            .map(|choice| (choice.option, sat.group(&self.logic.shape(choice.option).spell(&choice.value))))
            .collect();
        let all: Vec<Lit> = choices.iter().map(|choice| groups[&choice.option]).collect();
        let mut core = sat.solve(&all).err()?.core()?;
        for lit in &all {
            if core.contains(lit) {
                let fewer: Vec<Lit> = core.iter().copied().filter(|one| one != lit).collect();
                // What is not found out is taken as needed: the set is not the smallest then.
                if let Err(Unsolved::Core(smaller)) = sat.solve(&fewer) {
                    core = smaller;
                }
            }
        }
        // In the order of options, as choices are.
        let kept = self.items.iter().filter(|choice| groups.get(&choice.option).is_some_and(|lit| core.contains(lit)));
        Some(kept.cloned().collect())
    }

    /// Finds the rules that show a clash, and the way that they lead.
    fn told(&self, choices: Vec<Choice>) -> Clash {
        let mut sat = self.sat(&choices, Switchable::ByRule);
        for choice in &choices {
            self.logic.shape(choice.option).spell(&choice.value).into_iter().for_each(|lit| sat.require(lit));
        }
        let rules = lean_rules(self.board, self.logic, &mut sat).unwrap_or_default();
        let mut lacking = BTreeSet::new();
        for rule in &rules {
            missing_needs(&self.board.rules[*rule].must, self.facts, &mut lacking);
        }
        let mut given = facts_spelt(self.board, self.logic, self.facts);
        given.extend(given_of(self.logic, &choices));
        let proof = prove(self.board, self.logic, &given, &rules);
        let mut ordered = proof.rules();
        ordered.extend(rules.into_iter().filter(|rule| !ordered.contains(rule)).collect::<Vec<_>>());
        Clash { choices, rules: ordered, lacking: lacking.into_iter().collect(), proof, verdict: Verdict::Impossible }
    }
}

/// Up to so many rules are left out one by one to find a smallest set; more are taken as the solver names them.
const MOST_TRIED: usize = 400;

/// Returns a smallest set of rules that leave no assignment, or a small one where smaller ones are too much work; `None` when there is an
/// assignment, or nothing is found out. `sat` waits by rule.
pub(super) fn lean_rules(board: &Board, logic: &Logic, sat: &mut Sat<'_>) -> Option<BTreeSet<RuleId>> {
    let waits = sat.rules().clone();
    let mut core_of = |kept: &BTreeSet<RuleId>| {
        let assumed: Vec<Lit> = kept.iter().map(|rule| waits[rule]).collect();
        let core: BTreeSet<Lit> = sat.solve(&assumed).err()?.core()?.into_iter().collect();
        Some(kept.iter().copied().filter(|rule| core.contains(&waits[rule])).collect::<BTreeSet<RuleId>>())
    };
    let mut rules = core_of(&waits.keys().copied().collect())?;
    // A chain this long has no rule to spare, and trying each would take minutes.
    if rules.len() > MOST_TRIED {
        return Some(rules);
    }
    // What stands first in the canonical order is kept, whatever the order of files.
    let mut ordered: Vec<RuleId> = rules.iter().copied().collect();
    ordered.sort_by_key(|rule| (logic.shape(board.rules[*rule].option).first(), *rule));
    for rule in ordered.into_iter().rev() {
        let fewer: BTreeSet<RuleId> = rules.iter().copied().filter(|one| *one != rule).collect();
        if rules.contains(&rule)
            && let Some(core) = core_of(&fewer)
        {
            rules = core;
        }
    }
    Some(rules)
}

fn missing_needs(expr: &Expr<Atom>, facts: &Facts, lacking: &mut BTreeSet<NeedId>) {
    expr.for_each_atom(&mut |atom| {
        if let Atom::Need(need) = atom
            && !facts.has(*need)
        {
            lacking.insert(*need);
        }
    });
}
