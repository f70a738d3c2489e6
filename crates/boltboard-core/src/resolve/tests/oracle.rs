//! Small random boards against an oracle that tries every assignment.
//!
//! `BOLTBOARD_BOARDS=100000 cargo test --release -p boltboard-core --lib oracle` makes the long run.

use proptest::prelude::*;
use proptest::test_runner::{Config, RngAlgorithm, TestRng, TestRunner};

use crate::board::{Atom, Board, Kind, Linkage, OptionId, Switch, Value};
use crate::expr::Expr;
use crate::logic::encode;
use crate::profile::Choices;
use crate::resolve::{Clash, Resolution, completely, directly, resolve};
use crate::testing::{self, TestTree};

const NAMES: [&str; 6] = ["a", "b", "c", "d", "e", "f"];

/// What an option of a random board is.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Sort {
    Switch,
    Module,
    Pick,
    Number,
}

/// A board as text, and choices as a person types them.
#[derive(Debug, Clone)]
pub(crate) struct Case {
    pub board: String,
    pub chosen: String,
}

/// A statement about one option, or the one need.
fn atom(sorts: Vec<Sort>, from: usize) -> BoxedStrategy<String> {
    let one = move |index: usize, which: usize| match sorts.get(index) {
        None => "need:lib".to_string(),
        Some(Sort::Switch) => NAMES[index].to_string(),
        Some(Sort::Module) => {
            let says = ["", "", " = loadable", " = builtin", " >= loadable", " != builtin"][which];
            format!("{}{says}", NAMES[index])
        }
        Some(Sort::Pick) => format!("{} {} {}", NAMES[index], ["=", "!="][which % 2], ["x", "y", "z"][which % 3]),
        Some(Sort::Number) => {
            format!("{} {} {}", NAMES[index], ["=", "!=", "<", "<=", ">", ">="][which], 1 + which % 3)
        }
    };
    (from..=NAMES.len(), 0..6_usize).prop_map(move |(index, which)| one(index, which)).boxed()
}

/// A requirement; a bare name that must hold for certain looks only at later options, so that nothing leads back.
fn requirement(sorts: Vec<Sort>, index: usize) -> BoxedStrategy<String> {
    let anything = atom(sorts.clone(), 0);
    let negated =
        (any::<bool>(), anything.clone()).prop_map(|(not, atom)| if not { format!("not ({atom})") } else { atom });
    let either = prop::collection::vec(negated.clone(), 2..4).prop_map(|ways| ways.join(" or "));
    let nested = (anything.clone(), anything, negated).prop_map(|(a, b, c)| format!("({a} and {b}) or {c}"));
    let later = atom(sorts, index + 1);
    prop_oneof![3 => later, 3 => either, 2 => nested].boxed()
}

fn option(sorts: Vec<Sort>, index: usize) -> BoxedStrategy<String> {
    let sort = sorts[index];
    let rules = prop::collection::vec(requirement(sorts.clone(), index), 0..4);
    let conflict = prop::option::weighted(0.2, atom(sorts.clone(), 0));
    let default = prop::option::weighted(0.4, (0..6_usize, prop::option::weighted(0.3, atom(sorts, index + 1))));
    (rules, conflict, default)
        .prop_map(move |(rules, conflict, default)| {
            let quoted: Vec<String> = rules.iter().map(|rule| format!("\"{rule}\"")).collect();
            let mut text = format!("[option.{}]\n", NAMES[index]);
            match sort {
                Sort::Switch => text.push_str("kind = \"switch\"\n"),
                Sort::Module => text.push_str("kind = \"module\"\n"),
                Sort::Number => text.push_str("kind = \"number\"\nrange = [0, 4]\n"),
                Sort::Pick => {
                    let value = |at: usize, name: &str| match quoted.get(at) {
                        Some(rule) => format!("{{ name = \"{name}\", requires = {rule} }}"),
                        None => format!("\"{name}\""),
                    };
                    let values = [value(0, "x"), value(1, "y"), value(2, "z")].join(", ");
                    text.push_str(&format!("kind = \"pick\"\nvalues = [{values}]\n"));
                }
            }
            if matches!(sort, Sort::Switch | Sort::Module) {
                text.push_str(&format!("requires = [{}]\n", quoted.join(", ")));
                if let Some(conflict) = conflict {
                    text.push_str(&format!("conflicts = \"{conflict}\"\n"));
                }
            }
            if let Some((which, when)) = default {
                let value = match sort {
                    Sort::Switch => "\"on\"".to_string(),
                    Sort::Module => ["\"loadable\"", "\"builtin\""][which % 2].to_string(),
                    Sort::Pick => ["\"x\"", "\"y\"", "\"z\""][which % 3].to_string(),
                    Sort::Number => (which % 5).to_string(),
                };
                text.push_str(&match when {
                    Some(when) => format!("default = [{{ when = \"{when}\", value = {value} }}]\n"),
                    None => format!("default = {value}\n"),
                });
            }
            text
        })
        .boxed()
}

pub(crate) fn case() -> impl Strategy<Value = Case> {
    let sort =
        prop_oneof![3 => Just(Sort::Switch), 3 => Just(Sort::Module), 4 => Just(Sort::Pick), 2 => Just(Sort::Number)];
    prop::collection::vec(sort, NAMES.len()).prop_flat_map(|sorts| {
        let options: Vec<BoxedStrategy<String>> = (0..NAMES.len()).map(|at| option(sorts.clone(), at)).collect();
        let chosen = prop::collection::vec(prop::option::weighted(0.45, 0..5_usize), NAMES.len());
        (options, chosen).prop_map(move |(options, chosen)| {
            let value = |at: usize, which: usize| match sorts[at] {
                Sort::Switch => ["off", "on"][which % 2].to_string(),
                Sort::Module => ["off", "loadable", "builtin"][which % 3].to_string(),
                Sort::Pick => ["x", "y", "z"][which % 3].to_string(),
                Sort::Number => which.to_string(),
            };
            let words = chosen
                .iter()
                .enumerate()
                .filter_map(|(at, which)| which.map(|which| format!("{}={}", NAMES[at], value(at, which))));
            Case {
                board: format!("{}[need.lib]\nheader = \"lib.h\"\n", options.concat()),
                chosen: words.collect::<Vec<_>>().join(" "),
            }
        })
    })
}

/// Tells whether an assignment breaks nothing hard: the plain reading of the contract, which shares nothing with the
/// solver.
pub(crate) fn sound(board: &Board, choices: &Choices, assigned: &[Value], has: bool) -> bool {
    let chosen = choices.items.iter().all(|c| assigned[c.option.index()] == c.value);
    let rules = board.rules.iter().all(|(_, rule)| {
        let value = &assigned[rule.option.index()];
        let counts = match &rule.value {
            Some(name) => *value == Value::Pick(name.clone()),
            None => !value.is_off(),
        };
        !counts || truth(&rule.must, assigned, has, *value == Value::Module(Linkage::Builtin), true)
    });
    chosen && rules
}

fn truth(expr: &Expr<Atom>, assigned: &[Value], has: bool, builtin: bool, positive: bool) -> bool {
    let each = |member: &Expr<Atom>| truth(member, assigned, has, builtin, positive);
    match expr {
        Expr::Atom(Atom::On(id)) => {
            let value = &assigned[id.index()];
            let strong = !builtin || *value != Value::Module(Linkage::Loadable);
            if positive { !value.is_off() && strong } else { value.is_off() }
        }
        Expr::Atom(Atom::Need(_)) => has == positive,
        Expr::Atom(Atom::Compare(id, op, value)) => assigned[id.index()].compares(*op, value) == positive,
        Expr::Not(inner) => truth(inner, assigned, has, builtin, !positive),
        Expr::All(members) if positive => members.iter().all(each),
        Expr::Any(members) if !positive => members.iter().all(each),
        Expr::All(members) | Expr::Any(members) => members.iter().any(each),
    }
}

pub(crate) fn assignments(board: &Board) -> Vec<Vec<Value>> {
    let mut all = vec![vec![]];
    for (_, option) in board.options.iter() {
        let values: Vec<Value> = match &option.kind {
            Kind::Module => [Linkage::Off, Linkage::Loadable, Linkage::Builtin].map(Value::Module).to_vec(),
            Kind::Pick(values) => values.iter().map(|value| Value::Pick(value.name.clone())).collect(),
            Kind::Number(range) => range.clone().map(Value::Number).collect(),
            _ => [Switch::Off, Switch::On].map(Value::Switch).to_vec(),
        };
        all = all.iter().flat_map(|a| values.iter().map(|v| [a.clone(), vec![v.clone()]].concat())).collect();
    }
    all
}

fn only(choices: &Choices, clash: &Clash, skip: Option<usize>) -> Choices {
    let mut only = choices.clone();
    let kept = clash.choices.iter().enumerate().filter(|(at, _)| Some(*at) != skip);
    only.items = kept.map(|(_, choice)| choice.clone()).collect();
    only
}

/// How many cases came out in which way, so that the test is known to try them all.
#[derive(Debug, Default)]
struct Tally {
    direct: usize,
    judged: usize,
    clashes: usize,
}

fn check(case: &Case, has: bool, tally: &mut Tally) -> Result<(), TestCaseError> {
    let reading = TestTree::new(&case.board, &[]).reading();
    // Rings of certain requirements are refused when a board is read.
    let Some(board) = reading.board else { return Ok(()) };
    let logic = encode(&board);
    let choices = testing::choices(&board, &case.chosen);
    let facts = testing::facts(&[has]);
    let all = assignments(&board);
    let possible = |choices: &Choices| all.iter().any(|a| sound(&board, choices, a, has));
    match resolve(&board, &logic, &choices, &facts) {
        Ok(resolution) => {
            let assigned: Vec<Value> = resolution.iter().map(|(_, r)| r.value.clone()).collect();
            prop_assert!(sound(&board, &choices, &assigned, has), "broken: {assigned:?}");
            let judged =
                completely(&board, &logic, &choices, &facts).resolved().expect("what has a way has one for the judge");
            match directly(&board, &logic, &choices, &facts) {
                Ok(direct) => {
                    tally.direct += 1;
                    let values = |r: &Resolution| r.iter().map(|(_, r)| r.value.clone()).collect::<Vec<_>>();
                    prop_assert_eq!(values(&direct), values(&judged), "the two ways differ");
                }
                Err(_) => tally.judged += 1,
            }
        }
        Err(clashes) => {
            tally.clashes += 1;
            prop_assert!(!possible(&choices), "a way was missed");
            prop_assert!(!clashes.is_empty());
            let mut seen: Vec<OptionId> = Vec::new();
            for clash in &clashes {
                prop_assert!(!possible(&only(&choices, clash, None)), "the clash set can hold");
                for index in 0..clash.choices.len() {
                    prop_assert!(possible(&only(&choices, clash, Some(index))), "a smaller set clashes too");
                }
                prop_assert!(clash.choices.iter().all(|choice| !seen.contains(&choice.option)), "not independent");
                seen.extend(clash.choices.iter().map(|choice| choice.option));
                prop_assert!(!clash.proof.steps.is_empty(), "a clash without a proof");
            }
            // Without the choices of all clashes told, nothing clashes any more.
            let mut rest = choices.clone();
            rest.items.retain(|choice| !seen.contains(&choice.option));
            prop_assert!(clashes.iter().any(|clash| clash.choices.is_empty()) || possible(&rest), "one was not told");
        }
    }
    Ok(())
}

/// Nothing hard is broken, a way is found when there is one, the two ways of solving agree, and every clash is a
/// smallest set.
#[test]
fn agrees_with_trying_everything() {
    let long: Option<u32> = option_env!("BOLTBOARD_BOARDS").and_then(|text| text.parse().ok());
    let boards = long.unwrap_or(2_000);
    let config = Config { cases: boards, failure_persistence: None, ..Config::default() };
    // The short run is the same each time, so that a change of ours and not chance makes it fail; the long run is not.
    let mut runner = match long {
        Some(_) => TestRunner::new(config),
        None => TestRunner::new_with_rng(config, TestRng::deterministic_rng(RngAlgorithm::ChaCha)),
    };
    let tally = std::cell::RefCell::new(Tally::default());
    let outcome = runner.run(&(case(), any::<bool>()), |(case, has)| check(&case, has, &mut tally.borrow_mut()));
    if let Err(failure) = outcome {
        panic!("{failure}");
    }
    let tally = tally.into_inner();
    // The generator must make all sorts of cases, else the agreement says little.
    assert!(tally.direct > 0 && tally.judged > 0 && tally.clashes > 0, "{tally:?}");
}
