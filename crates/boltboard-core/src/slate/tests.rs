//! Changes that are tried, and what they would bring.

use proptest::prelude::*;

use super::*;
use crate::board::Switch;
use crate::profile::{ProfileFile, ProfileName};
use crate::session::{Resolved, Scope, Session};
use crate::survey::{Facts, Presence};
use crate::testing::TestTree;
use crate::testing::sessions::{built, open, resolved};

fn item(option: usize) -> Item {
    Item::Option(OptionId::new(option))
}

fn on(slate: &mut Slate, option: usize) {
    slate.put([Change::Choose(OptionId::new(option), Value::Switch(Switch::On))]);
}

#[test]
fn each_option_is_changed_once_and_every_step_can_be_undone() {
    let mut slate = Slate::default();
    on(&mut slate, 1);
    on(&mut slate, 2);
    slate.because(item(1), " a reason ");
    on(&mut slate, 1);
    assert_eq!(slate.pending().len(), 2);
    assert_eq!(slate.of(item(1)).unwrap().reason.as_deref(), Some("a reason"));
    assert!(slate.drop(item(2)) && !slate.drop(item(2)));
    assert!(slate.undo());
    assert!(slate.of(item(2)).is_some());
    assert!(slate.redo() && !slate.redo());
    assert!(slate.of(item(2)).is_none());
}

proptest! {
    #[test]
    fn undoing_all_leads_back_and_redoing_all_leads_forth(acts in prop::collection::vec((0usize..4, 0usize..3), 0..30)) {
        let mut slate = Slate::default();
        for (option, act) in acts {
            match act {
                0 => on(&mut slate, option),
                1 => slate.put([Change::TakeBack(item(option))]),
                _ => drop(slate.drop(item(option))),
            }
        }
        let end = slate.pending().to_vec();
        while slate.undo() {}
        prop_assert!(slate.pending().is_empty());
        while slate.redo() {}
        prop_assert_eq!(slate.pending(), end.as_slice());
    }
}

const TREE: &str = r#"
[header.h]
output = "t/options.h"
prefix = "T_"
[option.fog]
kind = "switch"
[option.bell]
kind = "switch"
requires = "fog"
[option.deep]
kind = "switch"
requires = "need:well"
[need.well]
file = "/surely/not/there"
[part.prog]
kind = "program"
sources = ["main.c", { when = "fog", add = ["fog.c"] }]
[part.horn]
kind = "program"
when = "bell"
sources = ["main.c"]
"#;

fn tree() -> TestTree {
    let main = "#include <t/options.h>\nint main(void) { return 0; }\n";
    let fog = "char fog[3000] = { 1 };\n";
    TestTree::new(TREE, &[("main.c", main), ("fog.c", fog)])
}

fn switched(session: &Session, now: &Resolved, name: &str, to: Switch) -> Outcome {
    let option = session.board.option(name).expect("there");
    let choices = now.choices.clone().with(&session.board, option, Value::Switch(to));
    Effects::of(session, now, choices, now.facts.clone())
}

fn effects(outcome: Outcome) -> Effects {
    match outcome {
        Outcome::Holds(effects) => *effects,
        Outcome::Clash(_, clashes) => panic!("{clashes:?}"),
    }
}

/// A session whose profile makes these choices.
fn choosing(tree: &TestTree, choices: &str) -> Session {
    let text = format!("format = 1\ntree = \"t\"\n[choose]\n{choices}");
    open(tree, &Scope::default()).prepare_work().expect("a work folder");
    tree.write("boltboard-work/profiles/mine.toml", &text);
    open(tree, &Scope::default())
}

#[test]
fn what_moves_comes_and_goes_is_told_with_its_price() {
    let tree = tree();
    let session = open(&tree, &Scope::default());
    let now = resolved(&session);
    let bell = effects(switched(&session, &now, "bell", Switch::On));
    let moved: Vec<&str> = bell.values.iter().map(|moved| session.board.options[moved.option].name.as_str()).collect();
    assert_eq!(moved, ["fog", "bell"]);
    let names = |parts: &[crate::board::PartId]| -> Vec<String> {
        parts.iter().map(|part| session.board.parts[*part].name.clone()).collect()
    };
    assert_eq!((names(&bell.parts_on), names(&bell.parts_off)), (vec!["horn".to_string()], vec![]));
    let price = Price::of(&session, &session.profile, &bell.resolved).expect("it can be planned");
    // Two programs of main.c, one of them with fog.c.
    assert_eq!((price.compiles, price.steps, price.reused), (3, 5, 0));
    assert_eq!((price.work_ms, price.growth), (None, None), "nothing like it was ever made");
    assert!(matches!(switched(&session, &now, "deep", Switch::On), Outcome::Clash(..)));
}

#[test]
fn what_was_made_before_costs_nothing_and_its_size_is_known() {
    let tree = tree();
    // What has just changed is looked at again, and compiles once more.
    std::thread::sleep(std::time::Duration::from_millis(60));
    let program = |session: &Session| {
        let folders = session.work.folders(&session.board.tree.source_root, &session.profile);
        std::fs::metadata(folders.parts().join("bin/prog")).expect("built").len()
    };
    let with_fog = choosing(&tree, "fog = \"on\"\n");
    built(&with_fog);
    let large = program(&with_fog);
    let without = choosing(&tree, "");
    built(&without);
    let small = program(&without);
    let now = resolved(&without);
    let fog = effects(switched(&without, &now, "fog", Switch::On));
    let price = Price::of(&without, &without.profile, &fog.resolved).expect("it can be planned");
    assert_eq!((price.steps, price.compiles), (0, 0));
    assert!(price.reused > 0);
    assert_eq!(price.growth, Some(i64::try_from(large).unwrap() - i64::try_from(small).unwrap()));
    let same = Price::of(&without, &without.profile, &now).expect("it can be planned");
    assert_eq!((same.steps, same.reused, same.growth), (0, 0, Some(0)));
    // What was never made has no size.
    let bell = effects(switched(&without, &now, "bell", Switch::On));
    assert_eq!(Price::of(&without, &without.profile, &bell.resolved).expect("planned").growth, None);
}

#[test]
fn a_profile_that_is_not_there_yet_can_be_tried() {
    let tree = tree();
    let session = open(&tree, &Scope::default());
    let later = ProfileName::parse("later").expect("a name");
    let choices = session.choices_as(&later, "format = 1\ntree = \"t\"\n[choose]\nfog = \"on\"\n").expect("read");
    let fog = session.board.option("fog").expect("there");
    assert!(choices.get(fog).is_some());
    assert!(session.choices_as(&later, "format = 1\ntree = \"t\"\n[choose]\nfog = \"blue\"\n").is_err());
    assert!(session.source_of(&later).expect("listed").is_none(), "nothing is written");
}

#[test]
fn facts_are_asked_anew_only_where_the_host_would_be_asked_otherwise() {
    let tree = tree();
    let session = open(&tree, &Scope::default());
    let now = resolved(&session);
    let well = session.board.need("well").expect("there");
    let fog = session.board.option("fog").expect("there");
    let same = now.choices.clone().with(&session.board, fog, Value::Switch(Switch::On));
    assert!(session.asks_alike(&now.choices, &same));
    // Facts that could not be found on any host show that none were asked for.
    let marked = Resolved { facts: Facts::default(), ..now.clone() };
    assert!(facts_of(&session, &marked, &same).expect("facts").get(well).is_none());
    let other = now.choices.clone().with_tried(&session.board, &["need:well=off".to_string()]).expect("a choice");
    assert!(!session.asks_alike(&now.choices, &other));
    let facts = facts_of(&session, &marked, &other).expect("facts");
    let state = &facts.get(well).expect("asked").state;
    let off = crate::survey::Missing::SwitchedOff { there: Presence::NotThere };
    assert_eq!(*state, crate::survey::FactState::Missing(off));
}

#[test]
fn changes_are_written_and_carried_over_to_definitions_that_were_read_anew() {
    let tree = tree();
    let old = tree.board();
    let id = |name: &str| old.option(name).expect("there");
    let well = old.need("well").expect("there");
    let mut slate = Slate::default();
    slate.put([
        Change::Choose(id("fog"), Value::Switch(Switch::On)),
        Change::Choose(id("bell"), Value::Switch(Switch::On)),
        Change::Provide(well, Provider::Off),
        Change::TakeBack(Item::Option(id("deep"))),
    ]);
    slate.because(Item::Option(id("fog")), "for ships");
    let file = tree.root().join("boltboard-work/profiles/mine.toml");
    let mut profile = ProfileFile::new(&file, &old.tree, &[]);
    slate.write(&old, &mut profile);
    let text = profile.text();
    for line in ["fog = \"on\"", "bell = \"on\"", "well = \"off\"", "fog = \"for ships\""] {
        assert!(text.contains(line), "no {line} in {text}");
    }
    assert_eq!(
        slate.words(&old),
        (vec!["fog=on".into(), "bell=on".into(), "need:well=off".into()], vec!["deep".into()])
    );
    // Options change their places, one changes its kind, others are gone.
    let new = TestTree::new(
        "[option.first]\nkind = \"switch\"\n[option.bell]\nkind = \"number\"\nrange = [1, 9]\n[option.fog]\nkind = \"switch\"\n[part.prog]\nkind = \"program\"\nsources = [\"main.c\"]\n",
        &[("main.c", "int main(void) { return 0; }\n")],
    );
    let new = new.board();
    let (carried, lost) = slate.carried(&old, &new);
    assert_eq!(lost, ["bell=on", "need:well=off", "deep"]);
    let fog = new.option("fog").expect("there");
    assert_eq!(carried.pending().len(), 1);
    let pending = carried.of(Item::Option(fog)).expect("it fits");
    assert_eq!(pending.change, Change::Choose(fog, Value::Switch(Switch::On)));
    assert_eq!(pending.reason.as_deref(), Some("for ships"));
    let (again, none) = carried.carried(&new, &new);
    assert_eq!((again.pending(), none.len()), (carried.pending(), 0));
}
