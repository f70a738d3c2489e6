use super::*;
use crate::base::Version;
use crate::board::{Board, NeedCheck, Provider};
use crate::checks::Package;
use crate::logic::encode;
use crate::profile::Choices;
use crate::resolve::resolve;
use crate::survey::{Copy, CopyRank, Fact, FactSource, FactState, Facts, Found, Missing, Presence};
use crate::testing::{TestTree, choices};

const BOARD: &str = r#"
[need.must]
header = "must.h"
required = true
[need.lamp]
library = "lamp"
packages = { debian = "liblamp-dev liblamp-tools" }
[need.horn]
library = "zlib"
bundled = "own-horn"
[need.tide]
tool = "bison"
version = ">= 3"
[need.idle]
file = "/dev/idle"
[need.any]
any-of = ["lamp", "horn"]
[need.all]
all-of = ["lamp", "tide"]
[option.light]
kind = "switch"
default = "on"
needs = "lamp"
[option.sound]
kind = "module"
needs = "horn"
[option.drive]
kind = "pick"
values = ["hand", { name = "tidal", needs = "tide" }]
[option.deep]
kind = "switch"
requires = "light"
[option.watch]
kind = "switch"
default = "on"
[part.own-horn]
kind = "static-library"
sources = ["h.c"]
[part.tower]
kind = "static-library"
when = "watch"
sources = ["t.c"]
needs = ["any"]
"#;

fn board() -> Board {
    TestTree::board_only(BOARD)
}

/// Facts in which only these needs are met.
fn only(board: &Board, met: &[&str]) -> Vec<Fact> {
    let state = |name: &String| {
        if met.contains(&name.as_str()) {
            FactState::Found(Found::default())
        } else {
            FactState::Missing(Missing::Absent)
        }
    };
    board.needs.iter().map(|(id, need)| Fact::plain(id, state(&need.name), FactSource::Looked)).collect()
}

fn debian() -> Distribution {
    Distribution { title: "Reef".into(), family: Some(Family::Debian), root: None }
}

/// Each gap as `need stops: lost; packages; switch-off; providers`.
fn told(board: &Board, facts: Vec<Fact>, chosen: &str, here: &Distribution) -> Vec<String> {
    let facts = Facts::new(facts);
    let choices: Choices = choices(board, chosen);
    let resolved = resolve(board, &encode(board), &choices, &facts);
    let (resolution, clashes) = match resolved {
        Ok(resolution) => (Some(resolution), Vec::new()),
        Err(clashes) => (resolve(board, &encode(board), &Choices::default(), &facts).ok(), clashes),
    };
    let situation =
        Situation { board, facts: &facts, choices: &choices, resolution: resolution.as_ref(), clashes: &clashes, here };
    let gaps = situation.gaps();
    gaps.iter()
        .map(|gap| {
            let lost: Vec<String> = gap
                .lost
                .iter()
                .map(|lost| format!("{}={}>{}", board.options[lost.option].name, lost.would_be, lost.is))
                .collect();
            let off: Vec<String> =
                gap.switch_off.iter().map(|(o, value)| format!("{}={value}", board.options[*o].name)).collect();
            let providers: Vec<String> = gap.providers.iter().map(|provider| provider.text(board)).collect();
            format!(
                "{} {:?}: {}; {}; {}; {}",
                board.needs[gap.need].name,
                gap.stops,
                lost.join(" "),
                Package::joined(&gap.packages),
                off.join(" "),
                providers.join(" ")
            )
        })
        .collect()
}

#[test]
fn gaps_come_in_the_order_of_what_they_stop() {
    let board = board();
    let all = told(&board, only(&board, &[]), "", &debian());
    assert_eq!(
        all,
        [
            "must Everything: ; ; ; ",
            "any Chosen: ; liblamp-dev liblamp-tools; watch=off; ",
            "lamp Options: light=on>off; liblamp-dev liblamp-tools; ; ",
            "horn Nothing: ; zlib1g-dev; ; bundled",
            "tide Nothing: ; bison; ; ",
            "idle Nothing: ; ; ; ",
            "all Nothing: ; liblamp-dev liblamp-tools bison; ; ",
        ]
    );
}

#[test]
fn what_is_chosen_names_the_choice_that_does_without() {
    let board = board();
    let met = ["must", "any"];
    let one = |chosen: &str, name: &str| {
        let all = told(&board, only(&board, &met), chosen, &debian());
        all.into_iter().find(|gap| gap.starts_with(name)).expect("the gap")
    };
    let light = "lamp Chosen: light=on>off; liblamp-dev liblamp-tools; light=off; ";
    assert_eq!(one("light=on", "lamp"), light);
    let sound = "horn Chosen: sound=builtin>off; zlib1g-dev; sound=off; bundled";
    assert_eq!(one("sound=builtin", "horn"), sound);
    assert_eq!(one("drive=tidal", "tide"), "tide Chosen: drive=tidal>hand; bison; drive=hand; ");
    assert_eq!(one("drive=hand", "tide"), "tide Nothing: ; bison; ; ", "the other value wants nothing");
    // Through a requirement: the chosen option is what has to go.
    let deep = one("deep=on", "lamp");
    assert!(deep.starts_with("lamp Chosen: ") && deep.contains("deep=on>off"), "{deep}");
}

#[test]
fn packages_follow_the_distribution() {
    let board = board();
    let facts = Facts::new(only(&board, &["tide"]));
    let of = |name: &str, family| Package::joined(&packages(&board, &facts, board.need(name).expect("a need"), family));
    assert_eq!(of("lamp", Family::Debian), "liblamp-dev liblamp-tools");
    assert_eq!(of("lamp", Family::Arch), "", "neither the board nor the catalogue knows one");
    assert_eq!(of("horn", Family::Alpine), "zlib-dev");
    assert_eq!(of("any", Family::Fedora), "zlib-devel", "the first member that has one");
    assert_eq!(of("all", Family::Debian), "liblamp-dev liblamp-tools", "only what is missing");
    assert_eq!(of("idle", Family::Debian), "");
    let command = |family, root| {
        let here = Distribution { title: String::new(), family, root: None };
        install_command(&here, &Package::all_of("b a b"), root)
    };
    for (family, want) in [
        (Family::Debian, "apt install a b"),
        (Family::Fedora, "dnf install a b"),
        (Family::OpenSuse, "zypper install a b"),
        (Family::Arch, "pacman -S a b"),
        (Family::Alpine, "apk add a b"),
    ] {
        assert_eq!(command(Some(family), true).as_deref(), Some(want));
        assert_eq!(command(Some(family), false), Some(format!("sudo {want}")));
    }
    assert_eq!(command(None, true), None);
    assert_eq!(install_command(&debian(), &[], true), None);
}

#[test]
fn other_copies_and_providers_that_would_do_are_offered() {
    let board = board();
    let mut facts = only(&board, &["must", "lamp"]);
    let number = |name: &str| board.need(name).expect("a need").index();
    facts[number("tide")].state = FactState::Missing(Missing::WrongVersion { found: "2.4".into() });
    let copy = |place: &str, version: &str, rank| Copy { place: place.into(), version: Some(version.into()), rank };
    facts[number("tide")].copies = vec![
        copy("/usr/bin/bison", "2.4", CopyRank::InUse),
        copy("/usr/local/bin/bison", "3.1", CopyRank::Later),
        copy("/opt/old/bin/bison", "2.9", CopyRank::Aside),
    ];
    facts[number("horn")].state = FactState::Missing(Missing::SwitchedOff { there: Presence::There(None) });
    let all = told(&board, facts, "", &debian());
    let find = |name: &str| all.iter().find(|gap| gap.starts_with(name)).cloned().unwrap_or_default();
    assert_eq!(find("tide"), "tide Nothing: ; ; ; /usr/local", "one that fits, and no package of the same version");
    assert_eq!(find("horn"), "horn Nothing: ; ; ; system bundled");
    assert_eq!(find("any"), "any Chosen: ; liblamp-dev liblamp-tools; watch=off; lamp");
}

#[test]
fn what_could_not_be_looked_for_is_no_gap() {
    let board = board();
    let mut facts = only(&board, &[]);
    facts.iter_mut().for_each(|fact| fact.state = FactState::Missing(Missing::NotAsked));
    assert_eq!(told(&board, facts, "", &debian()), Vec::<String>::new());
}

#[test]
fn without_a_known_distribution_the_other_ways_remain() {
    let board = board();
    let nowhere = Distribution::default();
    let all = told(&board, only(&board, &["must", "any"]), "sound=loadable", &nowhere);
    assert!(all.contains(&"horn Chosen: sound=loadable>off; ; sound=off; bundled".to_string()), "{all:?}");
}

#[test]
fn providers_are_read_as_they_are_written() {
    let board = board();
    let read = |need: &str, text: &str| {
        let need = board.need(need).expect("a need");
        Provider::read(&board, need, text).map(|provider| provider.text(&board)).map_err(|fault| fault.to_string())
    };
    for (need, text) in [
        ("horn", "bundled"),
        ("horn", "system"),
        ("lamp", "off"),
        ("lamp", "/opt/lamp"),
        ("any", "horn"),
        ("tide", "/opt/x"),
    ] {
        assert_eq!(read(need, text).as_deref(), Ok(text), "{need}");
    }
    for (need, text) in [
        ("lamp", "bundled"),
        ("any", "tide"),
        ("any", "/opt/x"),
        ("idle", "/opt/x"),
        ("lamp", "opt/lamp"),
        ("lamp", ""),
    ] {
        assert!(read(need, text).is_err(), "{need}={text}");
    }
    let told = read("any", "brass").expect_err("no provider");
    assert_eq!(told, "`any` cannot be met by `brass`; it can be met by system, off, lamp, horn");
}

#[test]
fn a_need_is_read_with_all_that_it_says() {
    let board = board();
    let tide = &board.needs[board.need("tide").expect("a need")];
    let range = tide.version.as_ref().expect("a range");
    assert!(range.holds(&Version::new("3.0")) && !range.holds(&Version::new("2.99")));
    let NeedCheck::Host(check) = &tide.check else { panic!("it is looked for on the host") };
    let tool = check.tool.as_ref().expect("a tool");
    assert_eq!((tool.names.join(" "), tool.version_arguments.join(" ")), ("bison".into(), "--version".into()));
    assert!(
        matches!(&board.needs[board.need("all").expect("a need")].check, NeedCheck::AllOf(list) if list.len() == 2)
    );
}
