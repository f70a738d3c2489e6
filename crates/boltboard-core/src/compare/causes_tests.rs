//! The causes behind differences.

use super::*;
use crate::board::Board;
use crate::logic::{Logic, encode};
use crate::profile::Choices;
use crate::resolve::{resolve, resolved};
use crate::survey::Facts;
use crate::testing::{TestTree, choices, facts};

const BOARD: &str = r#"
[need.tide]
header = "tide.h"
[option.fog]
kind = "switch"
[option.horn]
kind = "switch"
requires = "fog"
[option.air]
kind = "switch"
default = [{ when = "horn", value = "on" }, { value = "off" }]
[option.litres]
kind = "number"
default = [{ when = "air", value = 400 }, { value = 10 }]
[option.label]
kind = "text"
default = "tank of ${litres}"
[option.clock]
kind = "switch"
default = "on"
needs = "tide"
[option.first]
kind = "switch"
[option.second]
kind = "switch"
[option.either]
kind = "switch"
requires = "first or second"
[option.against]
kind = "switch"
conflicts = "first"
[option.apart]
kind = "switch"
"#;

struct Compared {
    board: Board,
    logic: Logic,
}

struct Resolved {
    choices: Choices,
    facts: Facts,
    resolution: crate::resolve::Resolution,
}

impl Compared {
    fn new(text: &str) -> Compared {
        let board = TestTree::board_only(text);
        Compared { logic: encode(&board), board }
    }

    fn resolve(&self, chosen: &str, has: bool) -> Resolved {
        let (choices, facts) = (choices(&self.board, chosen), facts(&vec![has; self.board.needs.len()]));
        let resolution = resolve(&self.board, &self.logic, &choices, &facts).expect("it resolves");
        Resolved { choices, facts, resolution }
    }

    fn side<'a>(&'a self, resolved: &'a Resolved) -> Side<'a> {
        let Resolved { choices, facts, resolution } = resolved;
        Side { board: &self.board, choices, facts, resolution, renamed: None }
    }
}

/// The causes, each with what it moves beside itself.
fn told(rows: &Rows<'_>, causes: &RootCauses) -> Vec<String> {
    let moves = |cause: &RootCause| {
        let names = cause.moves.iter().map(|row| rows.rows[*row].name.as_str()).filter(|name| *name != cause.name);
        names.collect::<Vec<_>>().join(" ")
    };
    let one = |cause: &RootCause| format!("{:?} {}: {}", cause.kind, cause.name, moves(cause)).trim_end().to_string();
    causes.causes.iter().map(one).collect()
}

fn between(left: (&str, bool), right: (&str, bool)) -> Vec<String> {
    let compared = Compared::new(BOARD);
    let sides = [compared.resolve(left.0, left.1), compared.resolve(right.0, right.1)];
    let rows = rows(&[compared.side(&sides[0]), compared.side(&sides[1])]);
    let resolve =
        |side: usize, choices: &Choices| resolved(&compared.board, &compared.logic, choices, &sides[side].facts);
    let causes = causes(&rows, Some(&resolve));
    for (row, _) in rows.differing() {
        assert!(causes.of.contains_key(&row), "{} has a cause", rows.rows[row].name);
    }
    told(&rows, &causes)
}

#[test]
fn what_follows_is_told_by_the_choice_that_it_follows_from() {
    assert_eq!(between(("", true), ("", true)), [""; 0]);
    assert_eq!(between(("", true), ("horn=on", true)), ["Choice horn: fog air litres label"]);
    assert_eq!(between(("horn=on", true), ("horn=on air=off", true)), ["Choice air: litres label"]);
    assert_eq!(
        between(("", true), ("fog=on horn=on", true)),
        ["Choice horn: air litres label", "Choice fog:"],
        "both are chosen, so neither moves the other"
    );
}

#[test]
fn hosts_that_differ_are_a_cause() {
    assert_eq!(between(("", true), ("", false)), ["Need tide: clock"]);
    assert_eq!(between(("horn=on", true), ("", false)), ["Choice horn: fog air litres label", "Need tide: clock"]);
}

#[test]
fn of_two_ways_the_one_that_is_there_already_is_a_cause() {
    // With `second` chosen, nothing pulls `first` in.
    assert_eq!(between(("either=on", true), ("either=on second=on", true)), ["Choice second: first"]);
    // Each of the two is only there because the other is not: no reason leads out of that ring, but trying does.
    assert_eq!(between(("either=on", true), ("either=on against=on", true)), ["Choice against: first second"]);
}

#[test]
fn several_sides_are_held_against_the_first() {
    let compared = Compared::new(BOARD);
    let sides = [compared.resolve("", true), compared.resolve("horn=on", true), compared.resolve("apart=on", false)];
    let seen: Vec<Side<'_>> = sides.iter().map(|side| compared.side(side)).collect();
    let rows = rows(&seen);
    let causes = causes(&rows, None);
    assert_eq!(told(&rows, &causes), ["Choice horn: fog air litres label", "Choice apart:", "Need tide: clock"]);
}

#[test]
fn other_versions_have_other_defaults_and_options() {
    let old = Compared::new(BOARD);
    let new = Compared::new(
        &BOARD
            .replace("{ value = 10 }", "{ value = 20 }")
            .replace("[option.apart]", "[option.lone]")
            .replace("[option.fog]", "[option.mist]")
            .replace("\"fog\"", "\"mist\""),
    );
    let (before, after) = (old.resolve("apart=on fog=on", true), new.resolve("mist=on", true));
    let renamed = [("fog".to_string(), "mist".to_string())].into();
    let left = Side { renamed: Some(&renamed), ..old.side(&before) };
    let rows = rows(&[left, new.side(&after)]);
    let causes = causes(&rows, None);
    assert_eq!(
        told(&rows, &causes),
        ["Default litres: label", "Presence apart:", "Presence lone:"],
        "what was renamed is the same"
    );
}
