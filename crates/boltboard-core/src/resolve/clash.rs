//! Which choices cannot hold together, and the rules that show it.

use std::collections::BTreeSet;

use super::solve::run;
use crate::board::{Atom, Board, NeedId, OptionId, RuleId};
use crate::expr::Expr;
use crate::profile::Choice;
use crate::survey::Facts;

/// A smallest set of choices that cannot hold together: leave out any one and the clash is gone.
#[derive(Debug, Clone)]
pub struct Clash {
    /// The choices; empty when the board contradicts itself.
    pub choices: Vec<Choice>,
    /// The rules that show why, in the order in which they lead from the choices to the contradiction.
    pub rules: Vec<RuleId>,
    /// Needs that the host lacks and the rules ask for.
    pub lacking: Vec<NeedId>,
}

/// Returns all independent clashes: no choice is in two of them.
pub(super) fn all(board: &Board, choices: &[Choice], facts: &Facts) -> Vec<Clash> {
    let mut left = choices.to_vec();
    let mut clashes = Vec::new();
    while let Some(clash) = smallest(board, &left, facts) {
        left.retain(|choice| !clash.choices.iter().any(|c| c.option == choice.option));
        let hopeless = clash.choices.is_empty();
        clashes.push(clash);
        if hopeless {
            break;
        }
    }
    clashes.sort_by_cached_key(|clash| clash.choices.first().map(|c| board.options[c.option].name.clone()));
    clashes
}

fn smallest(board: &Board, choices: &[Choice], facts: &Facts) -> Option<Clash> {
    let mut touched = run(board, choices, facts, &|_| true).err()?.touched;
    let mut kept = choices.to_vec();
    for choice in choices {
        let fewer: Vec<Choice> = kept.iter().filter(|c| c.option != choice.option).cloned().collect();
        if let Err(stuck) = run(board, &fewer, facts, &|_| true) {
            kept = fewer;
            touched = stuck.touched;
        }
    }
    let mut rules = touched.clone();
    for rule in &touched {
        let fewer: BTreeSet<RuleId> = rules.iter().copied().filter(|r| r != rule).collect();
        if run(board, &kept, facts, &|r| fewer.contains(&r)).is_err() {
            rules = fewer;
        }
    }
    let mut lacking = BTreeSet::new();
    for rule in &rules {
        missing_needs(&board.rules[*rule].must, facts, &mut lacking);
    }
    let rules = led_from(board, &kept, rules);
    Some(Clash { choices: kept, rules, lacking: lacking.into_iter().collect() })
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

/// Orders rules so that each follows from a choice or from a rule before it.
fn led_from(board: &Board, choices: &[Choice], rules: BTreeSet<RuleId>) -> Vec<RuleId> {
    let mut reached: BTreeSet<OptionId> = choices.iter().map(|c| c.option).collect();
    let mut left: Vec<RuleId> = rules.into_iter().collect();
    let mut ordered = Vec::new();
    while !left.is_empty() {
        let next = left.iter().position(|r| reached.contains(&board.rules[*r].option)).unwrap_or(0);
        let rule = left.remove(next);
        board.rules[rule].must.for_each_atom(&mut |atom| match atom {
            Atom::On(option) | Atom::Compare(option, _, _) => {
                reached.insert(*option);
            }
            Atom::Need(_) => {}
        });
        ordered.push(rule);
    }
    ordered
}
