//! The contract, line by line; `oracle` holds it against trying every assignment.

pub(crate) mod oracle;
mod starts;

use super::*;
use crate::board::{Switch, Value};

use crate::logic::encode;
use crate::testing::{self, TestTree};

/// Options as `name kind key="value" …`, one a line.
fn options(lines: &str) -> Board {
    let mut text = String::new();
    for line in lines.lines().map(str::trim).filter(|l| !l.is_empty()) {
        let mut words = line.splitn(3, ' ');
        let (name, kind, rest) = (words.next().unwrap(), words.next().unwrap(), words.next().unwrap_or(""));
        text.push_str(&format!("[option.{name}]\nkind = \"{kind}\"\n{}\n", rest.replace("; ", "\n")));
    }
    text.push_str("[need.lib]\nheader = \"lib.h\"\n");
    TestTree::board_only(&text)
}

fn facts(has: bool) -> Facts {
    testing::facts(&[has])
}

fn choices(board: &Board, text: &str) -> Choices {
    testing::choices(board, text)
}

fn resolved(board: &Board, chosen: &str, has: bool) -> Result<Resolution, Vec<Clash>> {
    resolve(board, &encode(board), &choices(board, chosen), &facts(has))
}

/// All values in the order of options, as `a=on b=off`.
fn values(board: &Board, chosen: &str, has: bool) -> String {
    let resolution = resolved(board, chosen, has).expect("it resolves");
    let shown = |(id, r): (OptionId, &Resolved)| format!("{}={}", board.options[id].name, r.value);
    resolution.iter().map(shown).collect::<Vec<_>>().join(" ")
}

#[test]
fn the_contract_holds() {
    let on = "default = \"on\"";
    for (case, lines, chosen, has, want) in [
        (
            "a choice pulls in what it requires",
            "a switch requires = \"b\"\nb switch requires = \"c\"\nc switch",
            "a=on",
            false,
            "a=on b=on c=on",
        ),
        ("a default never pulls", &format!("a switch {on}; requires = \"b\"\nb switch"), "", false, "a=off b=off"),
        (
            "a default whose requirement is chosen holds",
            &format!("a switch {on}; requires = \"b\"\nb switch"),
            "b=on",
            false,
            "a=on b=on",
        ),
        (
            "a pulled-in value lets a default go",
            &format!("a switch requires = \"not b\"\nb switch {on}"),
            "a=on",
            false,
            "a=on b=off",
        ),
        (
            "a chosen conflict holds a default off",
            &format!("a switch\nb switch {on}; conflicts = \"a\""),
            "a=on",
            false,
            "a=on b=off",
        ),
        (
            "an or takes what already holds",
            &format!("a switch requires = \"b or c\"\nb switch\nc switch {on}"),
            "a=on",
            false,
            "a=on b=off c=on",
        ),
        (
            "an or takes the first written",
            "a switch requires = \"b or c\"\nb switch\nc switch",
            "a=on",
            false,
            "a=on b=on c=off",
        ),
        (
            "an or goes back when the first cannot hold",
            "a switch requires = \"b or c\"\nb switch requires = \"not d\"\nc switch\nd switch",
            "a=on d=on",
            false,
            "a=on b=off c=on d=on",
        ),
        (
            "forks are searched together",
            "a switch requires = [\"b or c\", \"not b or d\"]\nb switch\nc switch\nd switch conflicts = \"a\"",
            "a=on",
            false,
            "a=on b=off c=on d=off",
        ),
        ("a lacking need holds a default off", &format!("a switch {on}; needs = \"lib\""), "", false, "a=off"),
        ("a need that is there lets it on", &format!("a switch {on}; needs = \"lib\""), "", true, "a=on"),
        (
            "a loadable module takes a loadable one",
            "a module requires = \"b\"\nb module",
            "a=loadable",
            false,
            "a=loadable b=loadable",
        ),
        (
            "a built-in module takes a built-in one",
            "a module requires = \"b\"\nb module",
            "a=builtin",
            false,
            "a=builtin b=builtin",
        ),
        (
            "a loadable one may rely on a built-in one",
            "a module requires = \"b\"\nb module",
            "a=loadable b=builtin",
            false,
            "a=loadable b=builtin",
        ),
        (
            "a built-in module raises a loadable default",
            "a module requires = \"b\"\nb module default = \"loadable\"",
            "a=builtin",
            false,
            "a=builtin b=builtin",
        ),
        (
            "a default built-in over a loadable one is held to loadable",
            "a module default = \"builtin\"; requires = \"b\"\nb module",
            "b=loadable",
            false,
            "a=loadable b=loadable",
        ),
        (
            "a comparison moves a number as little as needed",
            "a switch requires = \"n >= 4\"\nn number range = [0, 9]; default = 2",
            "a=on",
            false,
            "a=on n=4",
        ),
        (
            "a number that fits stays",
            "a switch requires = \"n >= 4\"\nn number range = [0, 9]; default = 7",
            "a=on",
            false,
            "a=on n=7",
        ),
        (
            "a size is compared in bytes",
            "a switch requires = \"s > 1KiB\"\ns size default = \"512B\"",
            "a=on",
            false,
            "a=on s=1025B",
        ),
        ("a pick is moved", "a switch requires = \"p = y\"\np pick values = [\"x\", \"y\"]", "a=on", false, "a=on p=y"),
        (
            "a pick's default with an unmet need gives way",
            "p pick values = [{ name = \"x\", needs = \"lib\" }, \"y\"]",
            "",
            false,
            "p=y",
        ),
        (
            "words gain what is required",
            "a switch requires = \"w = x\"\nw words default = [\"y\"]",
            "a=on",
            false,
            "a=on w=y x",
        ),
        (
            "conditional defaults",
            "a switch\nn number default = [{ when = \"a\", value = 5 }, { value = 1 }]",
            "a=on",
            false,
            "a=on n=5",
        ),
        (
            "derived defaults follow",
            "p path default = \"/usr\"\nq path default = \"${p}/lib\"\nr path default = \"${q}/x\"",
            "p=/opt",
            false,
            "p=/opt q=/opt/lib r=/opt/lib/x",
        ),
        (
            "a derived default that is chosen stays",
            "p path default = \"/usr\"\nq path default = \"${p}/lib\"",
            "p=/opt q=/q",
            false,
            "p=/opt q=/q",
        ),
    ] {
        assert_eq!(values(&options(lines), chosen, has), want, "{case}");
    }
}

#[test]
fn origins_say_where_values_come_from() {
    let board = options(
        "a switch requires = \"b\"\nb switch\nc switch default = \"on\"; requires = \"not a\"\nd switch default = \"on\"\nn number requires = \"d\"\nm number requires = \"c\"",
    );
    let resolution = resolved(&board, "a=on", false).expect("it resolves");
    let origin = |name: &str| resolution.get(board.option(name).unwrap()).origin.clone();
    assert_eq!(origin("a"), Origin::Chosen);
    assert!(matches!(origin("b"), Origin::PulledIn(_)));
    assert!(matches!(origin("c"), Origin::Blocked { would_be, .. } if *would_be == Value::Switch(Switch::On)));
    assert_eq!(origin("d"), Origin::Default(0));
    let effect = |name: &str| resolution.get(board.option(name).unwrap()).effect;
    assert_eq!((effect("n"), effect("m")), (Effect::Applies, Effect::NoEffect));
}

#[test]
fn clashes_are_smallest_sets() {
    for (case, lines, chosen, want, lacking) in [
        ("one choice against itself", "a switch requires = \"b and not b\"\nb switch", "a=on", vec!["a"], 0),
        ("two choices", "a switch conflicts = \"b\"\nb switch\nc switch", "a=on b=on c=on", vec!["a b"], 0),
        (
            "through a chain",
            "a switch requires = \"b\"\nb switch requires = \"not c\"\nc switch\nd switch",
            "a=on c=on d=on",
            vec!["a c"],
            0,
        ),
        (
            "two independent ones",
            "a switch conflicts = \"b\"\nb switch\nc switch conflicts = \"d\"\nd switch",
            "a=on b=on c=on d=on",
            vec!["a b", "c d"],
            0,
        ),
        ("a need of the host", "a switch needs = \"lib\"\nb switch", "a=on b=on", vec!["a"], 1),
        ("modules", "a module requires = \"b\"\nb module", "a=builtin b=loadable", vec!["a b"], 0),
        ("a number", "a switch requires = \"n > 5\"\nn number range = [0, 9]", "a=on n=3", vec!["a n"], 0),
    ] {
        let board = options(lines);
        let clashes = resolved(&board, chosen, false).expect_err(case);
        let names = |clash: &Clash| {
            clash.choices.iter().map(|c| board.options[c.option].name.clone()).collect::<Vec<_>>().join(" ")
        };
        assert_eq!(clashes.iter().map(names).collect::<Vec<_>>(), want, "{case}");
        assert_eq!(clashes.iter().map(|c| c.lacking.len()).sum::<usize>(), lacking, "{case}");
        assert!(clashes.iter().all(|c| !c.rules.is_empty()), "{case}: the rules that show it are named");
    }
}

#[test]
fn the_order_of_definitions_does_not_matter() {
    let lines = [
        "a switch requires = \"b or c\"",
        "b switch conflicts = \"d\"",
        "c switch",
        "d switch default = \"on\"",
        "e switch default = \"on\"; conflicts = \"f\"",
        "f switch default = \"on\"; conflicts = \"e\"",
    ];
    let sorted = |lines: &[&str]| {
        let board = options(&lines.join("\n"));
        let text = values(&board, "a=on", false);
        let mut words: Vec<String> = text.split(' ').map(str::to_string).collect();
        words.sort();
        words
    };
    let mut turned = lines;
    turned.reverse();
    assert_eq!(sorted(&lines), sorted(&turned));
}

/// Found by the long run: a way that was tried for an option and taken back must not bind what comes later.
#[test]
fn what_was_taken_back_does_not_bind_the_judge() {
    let lines = "a switch requires = \"b\"\nb switch requires = \"not e or a\"; default = \"on\"\ne switch requires = \"a or f\"\n\
                 f switch requires = [\"a or not b\", \"a or e\"]; default = \"on\"";
    let board = options(lines);
    let logic = encode(&board);
    let values = |resolution: Resolution| resolution.iter().map(|(_, r)| r.value.clone()).collect::<Vec<_>>();
    let (none, facts) = (choices(&board, ""), facts(false));
    let direct = directly(&board, &logic, &none, &facts).expect("it resolves");
    let judged = completely(&board, &logic, &none, &facts).resolved().expect("it resolves");
    assert_eq!(values(direct), values(judged));
}
