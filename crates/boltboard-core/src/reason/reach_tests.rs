//! `reach` on small random boards against an oracle that tries every set of choices to give up.

use std::collections::BTreeSet;

use proptest::prelude::*;
use proptest::test_runner::{Config, RngAlgorithm, TestRng, TestRunner};

use super::{Reach, Start};
use crate::base::Id;
use crate::board::{Board, Kind, Linkage, OptionId, Switch, Value};
use crate::logic::encode;
use crate::profile::Choices;
use crate::resolve::resolve;
use crate::resolve::tests::oracle::{Case, assignments, case, sound};
use crate::testing::{self, TestTree};

/// The least that has to go, choices and the one need together, so that the value can be had; `None` when it never can.
fn least(board: &Board, choices: &Choices, wanted: OptionId, value: &Value, has: bool) -> Option<usize> {
    let all = assignments(board);
    let others: Vec<_> = choices.items.iter().filter(|choice| choice.option != wanted).cloned().collect();
    let mut best: Option<usize> = None;
    for kept in 0..1_u32 << others.len() {
        for there in [has, true] {
            let mut fewer = choices.with_nothing();
            fewer.items =
                others.iter().enumerate().filter(|(at, _)| kept >> at & 1 == 1).map(|(_, c)| c.clone()).collect();
            let cost = others.len() - fewer.items.len() + usize::from(there != has);
            let holds = |a: &Vec<Value>| a[wanted.index()] == *value && sound(board, &fewer, a, there);
            if best.is_none_or(|best| cost < best) && all.iter().any(holds) {
                best = Some(cost);
            }
        }
    }
    best
}

impl Choices {
    fn with_nothing(&self) -> Choices {
        Choices { items: Vec::new(), ..self.clone() }
    }
}

fn most(kind: &Kind) -> Value {
    match kind {
        Kind::Module => Value::Module(Linkage::Builtin),
        Kind::Pick(values) => Value::Pick(values[values.len() - 1].name.clone()),
        Kind::Number(range) => Value::Number(*range.end()),
        _ => Value::Switch(Switch::On),
    }
}

fn check(case: &Case, has: bool, index: usize, counts: &mut [usize; 3]) -> Result<(), TestCaseError> {
    let reading = TestTree::new(&case.board, &[]).reading();
    let Some(board) = reading.board else { return Ok(()) };
    let logic = encode(&board);
    let choices = testing::choices(&board, &case.chosen);
    let facts = testing::facts(&[has]);
    let obtainable: BTreeSet<_> = if has { BTreeSet::new() } else { board.needs.ids().collect() };
    let wanted: OptionId = Id::new(index);
    let value = most(&board.options[wanted].kind);
    let start = Start { board: &board, logic: &logic, choices: &choices, facts: &facts, obtainable: &obtainable };
    let least = least(&board, &choices, wanted, &value, has);
    match start.reach(wanted, &value) {
        Reach::Already => {
            counts[0] += 1;
            prop_assert_eq!(least, Some(0));
        }
        Reach::Never(clashes) => {
            counts[1] += 1;
            prop_assert_eq!(least, None);
            prop_assert!(!clashes.is_empty(), "nothing is said about why");
        }
        Reach::Ways(ways) => {
            counts[2] += 1;
            let first = &ways[0];
            prop_assert_eq!(Some(first.give_up.len() + first.needs.len()), least, "not the smallest");
            prop_assert!(ways.windows(2).all(|pair| pair[0].changes() <= pair[1].changes()), "not the cheapest first");
            for way in &ways {
                prop_assert_eq!(way.resolution.value(wanted), &value);
                let again = resolve(&board, &logic, &way.choices, &facts.with_assumed(&way.needs));
                prop_assert!(again.is_ok_and(|again| again.value(wanted) == &value), "it does not lead there");
                for (choice, becomes) in &way.give_up {
                    prop_assert_eq!(way.resolution.value(choice.option), becomes);
                }
            }
        }
    }
    Ok(())
}

#[test]
fn the_first_way_gives_up_as_little_as_can_be() {
    let config = Config { cases: 300, failure_persistence: None, ..Config::default() };
    let mut runner = TestRunner::new_with_rng(config, TestRng::deterministic_rng(RngAlgorithm::ChaCha));
    let counts = std::cell::RefCell::new([0; 3]);
    let cases = (case(), any::<bool>(), 0..6_usize);
    let outcome = runner.run(&cases, |(case, has, index)| check(&case, has, index, &mut counts.borrow_mut()));
    if let Err(failure) = outcome {
        panic!("{failure}");
    }
    let counts = counts.into_inner();
    assert!(counts.iter().all(|count| *count > 0), "the boards are of all sorts: {counts:?}");
}
