use super::*;
use crate::logic::encode;
use crate::resolve::resolve;
use crate::testing::{TestTree, choices, facts};

/// Tells a reason as one line, what is behind it in brackets.
fn told(board: &Board, reason: &Reason) -> String {
    let name = &board.options[reason.option].name;
    let behind = match &reason.cause {
        Cause::Chosen(_) => "chosen".to_string(),
        Cause::PulledIn { by, .. } => format!("wanted by [{}]", told(board, by)),
        Cause::Default { from, .. } if from.is_empty() => "default".into(),
        Cause::Default { from, .. } => {
            format!("default after [{}]", from.iter().map(|r| told(board, r)).collect::<Vec<_>>().join(", "))
        }
        Cause::Blocked { would_be, blockers, .. } => {
            format!(
                "held from {would_be} by [{}]",
                blockers.iter().map(|b| blocker(board, b)).collect::<Vec<_>>().join(", ")
            )
        }
        Cause::Told => "told".into(),
        Cause::Further => "further".into(),
    };
    format!("{name}={} {behind}", reason.value)
}

fn blocker(board: &Board, blocker: &Blocker) -> String {
    match blocker {
        Blocker::Option(reason) => told(board, reason),
        Blocker::Lacking(need) => format!("lacking {}", board.needs[*need].name),
        Blocker::Present(need) => format!("present {}", board.needs[*need].name),
    }
}

fn why(text: &str, chosen: &str, option: &str) -> String {
    let board = TestTree::board_only(&format!("[need.lib]\nheader = \"l.h\"\n[need.old]\nheader = \"o.h\"\n{text}"));
    let (choices, facts) = (choices(&board, chosen), facts(&[false, true]));
    let resolution = resolve(&board, &encode(&board), &choices, &facts).expect("it resolves");
    let explainer = Explainer { board: &board, choices: &choices, facts: &facts, resolution: &resolution };
    told(&board, &explainer.why(board.option(option).expect("the option")))
}

fn switch(name: &str, more: &str) -> String {
    format!("[option.{name}]\nkind = \"switch\"\n{more}\n")
}

#[test]
fn chains_end_at_choices_defaults_and_facts() {
    let chain = [switch("a", "requires = \"b\""), switch("b", "requires = \"c\""), switch("c", "")].concat();
    assert_eq!(why(&chain, "a=on", "c"), "c=on wanted by [b=on wanted by [a=on chosen]]");
    assert_eq!(why(&chain, "", "c"), "c=off default");
    let held =
        [switch("a", "default = \"on\"\nrequires = \"b and c\""), switch("b", ""), switch("c", "default = \"on\"")]
            .concat();
    assert_eq!(why(&held, "", "a"), "a=off held from on by [b=off default]", "only what fails is told");
    assert_eq!(why(&held, "c=off", "a"), "a=off held from on by [b=off default, c=off chosen]");
    assert_eq!(why(&switch("a", "default = \"on\"\nneeds = \"lib\""), "", "a"), "a=off held from on by [lacking lib]");
    let present = switch("a", "default = \"on\"\nrequires = \"not need:old\"");
    assert_eq!(why(&present, "", "a"), "a=off held from on by [present old]");
    let other = [switch("a", "conflicts = \"b\""), switch("b", "default = \"on\"")].concat();
    assert_eq!(why(&other, "a=on", "b"), "b=off held from on by [a=on chosen]", "held by another option's conflict");
}

#[test]
fn defaults_tell_what_they_look_at() {
    let text = switch("a", "")
        + "[option.n]\nkind = \"number\"\ndefault = [{ when = \"a\", value = 2 }, { value = 1 }]\n"
        + "[option.p]\nkind = \"path\"\ndefault = \"/x\"\n[option.q]\nkind = \"path\"\ndefault = \"${p}/y\"\n";
    assert_eq!(why(&text, "a=on", "n"), "n=2 default after [a=on chosen]");
    assert_eq!(why(&text, "", "n"), "n=1 default");
    assert_eq!(why(&text, "p=/z", "q"), "q=/z/y default after [p=/z chosen]");
}

#[test]
fn an_option_that_is_off_tells_what_it_would_need() {
    let text =
        [switch("a", "requires = [\"b\", \"c\"]\nneeds = \"lib\""), switch("b", "default = \"on\""), switch("c", "")]
            .concat();
    let board = TestTree::board_only(&format!("[need.lib]\nheader = \"l.h\"\n{text}"));
    let (choices, facts) = (choices(&board, ""), facts(&[false]));
    let resolution = resolve(&board, &encode(&board), &choices, &facts).expect("it resolves");
    let explainer = Explainer { board: &board, choices: &choices, facts: &facts, resolution: &resolution };
    let unmet = explainer.unmet(board.option("a").expect("the option"));
    let shown: Vec<(String, String)> = unmet
        .iter()
        .map(|u| (board.print(&board.rules[u.rule].must), u.blockers.iter().map(|b| blocker(&board, b)).collect()))
        .collect();
    assert_eq!(shown, [("c".into(), "c=off default".into()), ("need:lib".to_string(), "lacking lib".to_string())]);
}
