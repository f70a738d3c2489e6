use super::*;
use crate::journal::Journal;
use crate::judge::Judge;
use crate::reading::TokenMemo;

use crate::work::StatusMemo;

use crate::store::Store;
use crate::testing::{Planner, TestTree};

const TREE: &str = r#"
[option.fog]
kind = "switch"
[option.level]
kind = "number"
requires = "fog"
[option.m]
kind = "module"
[part.a]
kind = "program"
sources = ["a.c", { when = "fog", add = ["fog.c"] }]
flags = [{ when = "m = builtin", add = ["-O2"] }]
[part.extra]
kind = "program"
when = "fog"
sources = ["b.c"]
[part.mod]
kind = "module"
option = "m"
program = "a"
symbol = "s"
sources = ["m.c"]
"#;

fn compared(left: &str, right: &str) -> (Vec<String>, Vec<String>, PlanDifference) {
    let tree = TestTree::new(TREE, &[("a.c", ""), ("b.c", ""), ("fog.c", ""), ("m.c", "")]);
    let (l, r) = (Planner::new(&tree, left, true), Planner::new(&tree, right, true));
    let (lp, rp) = (l.plan(), r.plan());
    let journal = Journal::open(&lp.folders.build).expect("empty");
    let (status, store, tokens) = (StatusMemo::default(), Store::at(&tree.root().join("store")), TokenMemo::default());
    let judge = |plan| Judge::new(plan, &journal, &store, &status, &tokens);
    let (lj, rj) = (judge(&lp), judge(&rp));
    let difference = plans(&PlanSide { judge: &lj }, &PlanSide { judge: &rj });
    let parts = super::parts(&l.board, &[&lp, &rp]);
    let moved = values(&l.resolution, &r.resolution);
    let moved = moved.iter().map(|d| format!("{} {} {}", l.board.options[d.option].name, d.left.value, d.right.value));
    let parts = parts.iter().map(|p| format!("{} {:?} {:?}", l.board.parts[p.part].name, p.states[0], p.states[1]));
    (moved.collect(), parts.collect(), difference)
}

#[test]
fn the_same_choices_differ_in_nothing() {
    let (values, parts, difference) = compared("fog=on", "fog=on");
    assert!(values.is_empty() && parts.is_empty());
    assert!(difference.left_only.is_empty() && difference.right_only.is_empty() && difference.differ.is_empty());
    assert_eq!(difference.unknown.len(), 5, "nothing was ever run, so nothing is known to be the same");
}

#[test]
fn values_parts_and_steps_that_differ_are_told() {
    let (values, parts, difference) = compared("", "fog=on m=builtin");
    assert_eq!(values, ["fog off on", "level 0 0", "m off builtin"], "level has an effect on one side only");
    assert_eq!(parts, ["extra NotMade Made(None)", "mod NotMade Within"]);
    assert_eq!((difference.left_only.len(), difference.right_only.len()), (0, 4));
    assert_eq!(difference.differ.len(), 2, "the compile of a.c has another flag, the link other objects");
}
