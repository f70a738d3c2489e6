//! Boards at the edge: very long, very deep, very many, names that nearly agree; and the kept form of a board.

use std::fmt::Write;
use std::time::Duration;

use crate::harness::Scratch;

const HEAD: &str = "format = 1\n[tree]\nname = \"edge\"\nversion = \"1\"\n";

fn board(text: &str) -> Scratch {
    Scratch::with(&[("boltboard.toml", &format!("{HEAD}{text}"))])
}

fn switch(name: &str, more: &str) -> String {
    format!("[option.{name}]\nkind = \"switch\"\n{more}\n")
}

#[test]
fn conditions_beyond_reason_are_refused_with_their_place() {
    let deep = format!("{}b{}", "(".repeat(10_000), ")".repeat(10_000));
    let tree = board(&(switch("a", &format!("requires = \"{deep}\"")) + &switch("b", "")));
    tree.run("options").code(3).complains(&["the condition nests deeper than 200 levels", "boltboard.toml:7:"]);
    let negations = format!("{}b", "not ".repeat(10_000));
    let tree = board(&(switch("a", &format!("requires = \"{negations}\"")) + &switch("b", "")));
    tree.run("options").code(3).complains(&["nests deeper than 200 levels"]);
    let long = vec!["b"; 350_000].join(" or ");
    let tree = board(&(switch("a", &format!("requires = \"{long}\"")) + &switch("b", "")));
    let ran = tree.run("options").code(3).complains(&["the condition is longer than", "boltboard.toml:7:"]);
    assert!(ran.err.len() < 2_000, "the line is cut: {} bytes", ran.err.len());
}

#[test]
fn a_chain_of_ten_thousand_is_no_nesting() {
    let mut text = String::new();
    for index in 0..10_000 {
        text.push_str(&switch(&format!("o{index}"), &format!("requires = \"o{}\"", index + 1)));
    }
    text.push_str(&switch("o10000", ""));
    let tree = board(&text);
    tree.run("options --count on --try o0=on").code(0).says(&["10001"]);
    tree.run("why o10000 --try o0=on").code(0).says(&["o10000 is on: o9999 requires it"]);
    let ran = tree.run("options --try o0=on --try o10000=off").code(3);
    ran.complains(&["these choices cannot hold together: o0=on, o10000=off", "o9999 requires o10000"]);
    tree.run("ways o0 --try o10000=off").code(0).says(&["give up o10000=off", "9999 other values move"]);
    tree.run("lint --severity error").code(0);
}

#[test]
fn a_hundred_thousand_options_in_one_file_are_read() {
    let mut text = String::new();
    for index in 0..100_000 {
        let _ = writeln!(text, "[option.o{index}]\nkind = \"switch\"");
        if index % 20 == 1 {
            text.push_str("requires = \"o0\"\n");
        }
    }
    let tree = board(&text);
    // Five thousand want the first.
    tree.run("show o0").code(0).says(&["o1, o21,"]);
    tree.run("set o1=on").code(0).says(&["o0", "for o1"]);
    tree.run("options --count").code(0).says(&["100000"]);
}

#[test]
fn names_that_nearly_agree_are_told_apart() {
    let tree = board(&(switch("fog-horn", "") + &switch("fog_horn", "") + &switch("Fog-Horn", "")));
    tree.run("set fog_horn=on").code(0);
    tree.run("options on").code(0).says(&["fog_horn"]);
    assert_eq!(tree.run("options on --count").code(0).out, "1\n");
    tree.run("show FOG-HORN").code(2).complains(&["did you mean `Fog-Horn` or `fog-horn` or `fog_horn`?"]);
    tree.run("show foghorn").code(2).complains(&["did you mean"]);
}

#[test]
fn clashes_of_one_two_and_twelve_choices() {
    let mut text =
        switch("one", "needs = \"nowhere\"") + &switch("two", "conflicts = \"other\"") + &switch("other", "");
    text.push_str("[need.nowhere]\nlibrary = \"nowhere-at-all\"\n");
    let names: Vec<String> = (0..11).map(|index| format!("way{index}")).collect();
    names.iter().for_each(|name| text.push_str(&switch(name, "")));
    text.push_str(&switch("twelve", &format!("requires = \"{}\"", names.join(" or "))));
    text.push_str(&switch("bystander", ""));
    let tree = board(&text);
    tree.run("options --try one=on --try bystander=on")
        .code(4)
        .complains(&["one=on cannot hold while the need nowhere is not met"]);
    tree.run("options --try two=on --try other=on --try bystander=on")
        .code(3)
        .complains(&["together: two=on, other=on"])
        .complains(&["two conflicts with other"]);
    let tried: Vec<String> = names.iter().map(|name| format!("--try {name}=off")).collect();
    let ran = tree.run(&format!("options --try twelve=on --try bystander=on {}", tried.join(" "))).code(3);
    assert_eq!(ran.err.matches("is chosen on the command line").count(), 12, "{}", ran.err);
    assert!(!ran.err.contains("bystander"), "{}", ran.err);
}

#[test]
fn a_board_that_contradicts_itself_says_so() {
    let tree = board(
        "[option.p]\nkind = \"pick\"\nvalues = [{ name = \"x\", requires = \"b\" }, { name = \"y\", requires = \"b\" }]\n[option.b]\nkind = \"switch\"\nrequires = [\"c\", \"not c\"]\n[option.c]\nkind = \"switch\"\n",
    );
    tree.run("options").code(3).complains(&[
        "the definitions contradict themselves: no values meet all requirements",
        "and no way leads on:",
        "if p is x:",
    ]);
    tree.run("lint").code(1).says(&["error: no values meet all requirements (no-way)"]);
    // Facts that exclude each other are no contradiction of the board: they are told as facts.
    let tree = board(
        "[need.n]\nlibrary = \"nowhere-at-all\"\n[option.a]\nkind = \"switch\"\nneeds = \"n\"\nconflicts = \"need:n\"\n",
    );
    tree.run("options --try a=on").code(4).complains(&["the need n is not met"]);
    tree.run("options --try a=on --assume n").code(3).complains(&["a conflicts with need:n", "the need n is met"]);
}

#[test]
fn a_board_is_kept_and_the_kept_form_is_never_stale() {
    let tree = board(&(switch("air", "summary = \"Compressed air\"") + &switch("horn", "requires = \"air\"")));
    tree.run("set horn=on").code(0);
    std::thread::sleep(Duration::from_millis(120));
    let show = tree.run("show horn").code(0).out;
    let kept = std::fs::read(tree.at("boltboard-work/board")).expect("it was kept");
    assert_eq!(tree.run("show horn").code(0).out, show, "the same answer from the kept form");
    assert_eq!(std::fs::read(tree.at("boltboard-work/board")).expect("kept"), kept, "and it was left alone");
    tree.run("options --find compresed").code(0).says(&["air"]);
    assert!(tree.at("boltboard-work/board.words").exists());
    tree.edit("boltboard.toml", "Compressed air", "Much air");
    tree.run("show air").code(0).says(&["Much air"]);
    tree.run("options --find compressed").code(1);
    for damage in [&kept[..kept.len() / 2], b"", b"rubbish"] {
        std::fs::write(tree.at("boltboard-work/board"), damage).expect("written");
        tree.run("show air").code(0).says(&["Much air"]);
    }
    std::fs::write(tree.at("boltboard-work/board.words"), "rubbish").expect("written");
    tree.run("options --find much").code(0).says(&["air"]);
    tree.edit("boltboard.toml", "requires = \"air\"", "requires = \"ari\"");
    tree.run("show air").code(3).complains(&["there is no option `ari`"]);
}

#[test]
fn nothing_is_kept_in_the_work_folder_of_another_tree() {
    let first = board(&switch("air", ""));
    first.run("set air=on").code(0);
    std::thread::sleep(Duration::from_millis(120));
    first.run("show air").code(0);
    let kept = std::fs::read(first.at("boltboard-work/board")).expect("it was kept");
    let other = Scratch::with(&[("boltboard.toml", "format = 1\n[tree]\nname = \"other\"\nversion = \"1\"\n")]);
    std::thread::sleep(Duration::from_millis(120));
    other.run(&format!("options --work {}", first.at("boltboard-work").display())).code(2);
    assert_eq!(std::fs::read(first.at("boltboard-work/board")).expect("still there"), kept);
}

#[test]
fn what_was_not_there_at_the_last_build_is_new() {
    let tree = Scratch::with(crate::harness::MINI);
    tree.run("options new").code(1);
    tree.run("build").code(0);
    tree.run("options new").code(1);
    let text = tree.read("boltboard.toml");
    tree.write("boltboard.toml", &format!("{text}\n[option.gong]\nkind = \"switch\"\nsummary = \"A gong\"\n"));
    tree.run("options new").code(0).says(&["gong", "1 option"]);
}

/// A tree without sources whose definitions are this text after its root table.
fn bare(definitions: &str) -> Scratch {
    Scratch::with(&[("boltboard.toml", &format!("{HEAD}{definitions}")), ("m.c", "int m;\n")])
}

#[test]
fn chains_of_any_length_are_read_planned_and_explained_or_refused() {
    const LONG: usize = 3000;
    let chain = |item: &dyn Fn(usize, Option<usize>) -> String| -> String {
        (0..LONG).map(|at| item(at, Some(at + 1).filter(|next| *next < LONG))).collect()
    };
    let parts = chain(&|at, next| {
        let of = next.map_or("sources = [\"m.c\"]".to_string(), |next| format!("uses = [\"p{next}\"]"));
        format!("[part.p{at}]\nkind = \"objects\"\n{of}\n")
    });
    bare(&parts).run("preview").code(0).says(&["1 step to run"]);
    let needs = chain(&|at, next| {
        let of = next.map_or("header = \"stdio.h\"".to_string(), |next| format!("any-of = [\"n{next}\"]"));
        format!("[need.n{at}]\nsummary = \"x\"\n{of}\n")
    });
    bare(&needs).run("survey").code(3).complains(&["the need `n0`", "more than the limit of 32 levels"]);
    let sections =
        chain(&|at, next| format!("[section.s{at}]\n{}\n", next.map_or(String::new(), |n| format!("in = \"s{n}\""))));
    bare(&sections).run("options").code(3).complains(&["the section `s0`", "more than the limit of 32 levels"]);
    let defaults = chain(&|at, next| {
        let value = next.map_or("\"on\"".into(), |next| format!("[{{ when = \"a{next}\", value = \"on\" }}]"));
        format!("[option.a{at}]\nkind = \"switch\"\nsummary = \"x\"\ndefault = {value}\n")
    });
    let tree = bare(&defaults);
    tree.run("lint --severity error").code(0);
    tree.run("why a0").code(0).says(&["a0 is on: its default while a1"]);
    // Twice through each of twenty levels is more than a million ways.
    let twice: String = (0..20)
        .map(|at| format!("[need.t{at}]\nsummary = \"x\"\nall-of = [\"l{at}\", \"r{at}\"]\n[need.l{at}]\nsummary = \"x\"\nany-of = [\"t{0}\"]\n[need.r{at}]\nsummary = \"x\"\nany-of = [\"t{0}\"]\n", at + 1))
        .collect();
    let tree = bare(&format!("{twice}[need.t20]\nsummary = \"x\"\nheader = \"stdio.h\"\n"));
    tree.run("survey").code(3).complains(&["more than the limit of"]);
}

#[test]
fn a_pick_of_very_many_values_is_as_good_as_any() {
    const MANY: usize = 20_000;
    let values: Vec<String> = (0..MANY).map(|at| format!("\"v{at}\"")).collect();
    let pick = format!("[option.a]\nkind = \"pick\"\nsummary = \"x\"\nvalues = [{}]\n", values.join(","));
    let tree =
        bare(&format!("{pick}[option.b]\nkind = \"switch\"\nsummary = \"x\"\nrequires = \"a = v{}\"\n", MANY - 1));
    tree.run("set a=v9999").code(0);
    tree.run("ways b=on").code(0).says(&["One way leads to b=on"]);
    tree.run("set b=on").code(3).complains(&["these choices cannot hold together: a=v9999, b=on"]);
}

#[test]
fn a_number_with_very_many_bounds_is_as_good_as_any() {
    const MANY: usize = 20_000;
    let wants: String = (1..=MANY)
        .map(|at| format!("[option.a{at}]\nkind = \"switch\"\nsummary = \"x\"\nrequires = \"n >= {at}\"\n"))
        .collect();
    let tree = bare(&format!("[option.n]\nkind = \"number\"\nsummary = \"x\"\nrange = [0, 100000]\n{wants}"));
    tree.run(&format!("set a{MANY}=on")).code(0);
    tree.run("why n").code(0).says(&["n is 20000: a20000 requires it"]);
    tree.run("set n=5").code(3).complains(&["these choices cannot hold together: n=5, a20000=on"]);
}

#[test]
fn what_takes_too_much_work_ends_with_an_honest_word() {
    // Each of eleven things needs one of ten places of its own, which takes any solver of this sort far too long to refute.
    let place = |thing: usize, at: usize| format!("p{thing}h{at}");
    let each = |count: usize, item: &dyn Fn(usize) -> String| (0..count).map(item).collect::<Vec<_>>();
    let mut text = String::new();
    for (thing, at) in (0..11).flat_map(|thing| (0..10).map(move |at| (thing, at))) {
        let others: Vec<String> = (0..11).filter(|other| *other != thing).map(|other| place(other, at)).collect();
        let name = place(thing, at);
        text +=
            &format!("[option.{name}]\nkind = \"switch\"\nsummary = \"x\"\nconflicts = \"{}\"\n", others.join(" or "));
    }
    let wants = each(11, &|thing| format!("\"{}\"", each(10, &|at| place(thing, at)).join(" or ")));
    text += &format!("[option.all]\nkind = \"switch\"\nsummary = \"x\"\nrequires = [{}]\n", wants.join(", "));
    let tree = bare(&text);
    let not_decided = "whether these choices can hold together was not decided within";
    tree.run("set all=on").code(3).complains(&[not_decided, "a hard rule: all requires"]);
    tree.run("ways all=on").code(1).complains(&[not_decided]);
    tree.run("lint --only not-decided").code(1).says(&["what values all can have is too much work to find out"]);
}
