//! Views, the outline, needs, and another profile beside ours.

use super::*;
use crate::board::model::{Focus, Row};
use crate::board::views::View;

fn see(model: &mut Model, view: View) {
    while model.view != view {
        control(model, 'v');
    }
    settle(model);
}

#[test]
fn sections_stand_in_an_outline_with_what_they_count() {
    let tree = tree();
    let mut model = open(tree.path(), &["bell"]);
    press(&mut model, KeyCode::Enter);
    press(&mut model, KeyCode::Enter);
    let told = drawn(&mut model, 140, 20);
    let lines: Vec<String> =
        told.lines().map(|line| line.chars().take(28).collect::<String>().trim_end().to_string()).collect();
    let want =
        [" The light                 3", "›What is heard             3", "  1 chosen, 1 blocked, 1", "  lacking"];
    assert_eq!(lines[1..5], want, "{told}");
    press(&mut model, KeyCode::Tab);
    press(&mut model, KeyCode::Up);
    assert_eq!(model.option(), Some(option(&model, "lamp")));
    press(&mut model, KeyCode::Enter);
    assert_eq!(model.focus, Focus::Options);
    // Where there is no room for them, sections take that of the list while one moves in them.
    press(&mut model, KeyCode::Tab);
    let told = drawn(&mut model, 80, 24);
    assert!(told.contains("What is heard") && !told.contains("quiet"), "{told}");
    press(&mut model, KeyCode::Tab);
    assert!(drawn(&mut model, 80, 24).contains("quiet"));
}

#[test]
fn what_the_host_lacks_is_told_with_the_options_that_wait_for_it() {
    let tree = tree();
    let mut model = open(tree.path(), &[]);
    see(&mut model, View::Lacking);
    let (air, siren) = (model.session.board.need("air").expect("there"), option(&model, "siren"));
    assert_eq!(
        model.rows,
        [Row::Needs, Row::Need(air), Row::Section(model.session.board.options[siren].section), Row::Option(siren)]
    );
    let told = drawn(&mut model, 120, 24);
    assert!(told.contains("need:air") && told.contains("air is missing"), "{told}");
    control(&mut model, 'w');
    assert!(drawn(&mut model, 120, 24).contains("looked for the header <surely/no/compressor.h>"));
}

#[test]
fn who_meets_a_need_is_chosen_in_place() {
    let tree = tree();
    let mut model = open(tree.path(), &[]);
    see(&mut model, View::Needs);
    types(&mut model, "shell");
    settle(&mut model);
    let told = drawn(&mut model, 120, 24);
    for part in ["need:shell", " by itself  now", " system ", " off   nothing: as if it were not there"] {
        assert!(told.contains(part), "no {part}: {told}");
    }
    press(&mut model, KeyCode::End);
    press(&mut model, KeyCode::Right);
    press(&mut model, KeyCode::Right);
    press(&mut model, KeyCode::Enter);
    assert_eq!(model.command_lines(), ["boltboard set need:shell=off"]);
    let shell = model.session.board.need("shell").expect("there");
    assert!(!model.now.facts.has(shell), "it counts as lacking");
    control(&mut model, 'u');
    assert!(model.now.facts.has(shell));
    // A folder is written and checked.
    control(&mut model, 'f');
    types(&mut model, "surely/none");
    press(&mut model, KeyCode::Enter);
    assert!(drawn(&mut model, 120, 24).contains("/surely/none is no folder"));
    press(&mut model, KeyCode::Esc);
    press(&mut model, KeyCode::Delete);
    assert_eq!(model.said, "Nobody chose it.");
}

#[test]
fn another_profile_is_laid_beside_and_taken_over_in_part_and_wholly() {
    let tree = tree();
    let profiles = tree.path().join("boltboard-work/profiles");
    std::fs::create_dir_all(&profiles).expect("made");
    let text = "format = 1\ntree = \"pier\"\n[choose]\nbell = \"off\"\nquiet = \"on\"\nevery = 9\n";
    std::fs::write(profiles.join("still.toml"), text).expect("written");
    let mut model = open(tree.path(), &[]);
    control(&mut model, 'x');
    assert_eq!(model.said, "First lay another profile beside this one (^O).");
    control(&mut model, 'o');
    assert!(drawn(&mut model, 100, 20).contains("Which profile is laid beside this one?\n  still"));
    press(&mut model, KeyCode::Enter);
    let told = drawn(&mut model, 120, 20);
    assert!(told.contains("not as in still"), "{told}");
    let row = told.lines().find(|line| line.starts_with("  every")).expect("a row");
    let words: Vec<&str> = row.split_whitespace().take(3).collect();
    assert_eq!(words, ["every", "5", "9"], "{told}");
    control(&mut model, 'x');
    assert_eq!(value(&model, "every"), "9");
    assert_eq!(model.slate.pending().len(), 1);
    control(&mut model, 'a');
    assert_eq!(model.said, "2 choices taken over; nothing differs any more.");
    assert_eq!((value(&model, "quiet"), value(&model, "bell")), ("on".into(), "off".into()));
    control(&mut model, 'g');
    assert_eq!(model.said, "Keep the changes first (^K), or undo them.");
    control(&mut model, 'u');
    control(&mut model, 'u');
    // The other way round: changes go to the other profile.
    control(&mut model, 'g');
    assert_eq!(model.said, "Changes now go to still.");
    control(&mut model, 'r');
    assert_eq!(model.command_lines(), Vec::<String>::new(), "what was undone belongs to the other side");
    assert_eq!(value(&model, "every"), "9");
    model.go_to(option(&model, "every"));
    control(&mut model, 'x');
    assert_eq!(value(&model, "every"), "5");
    // Commands are told which profile the board is about.
    assert_eq!(model.command_lines(), ["boltboard set --profile still every=5"]);
    assert_eq!(model.global_aside().profile.as_deref(), Some("still"));
    assert_eq!(std::fs::read_to_string(profiles.join("still.toml")).expect("there"), text, "nothing is kept yet");
}

#[test]
fn what_changes_beside_the_board_is_said_and_taken_in() {
    let tree = tree();
    let mut model = open(tree.path(), &["every"]);
    let (every, lamp) = (option(&model, "every"), option(&model, "lamp"));
    model.change([Change::Choose(every, Value::Number(50))]);
    model.change([Change::Choose(lamp, Value::Pick("led".into()))]);
    let global = model.session.global.clone();
    assert!(!model.look_beside(&global, &Screen::new()), "nothing changed");
    let file = tree.path().join("boltboard.toml");
    std::fs::write(&file, TREE.replace("range = [1, 60]", "range = [1, 40]")).expect("written");
    assert!(model.look_beside(&global, &Screen::new()));
    assert_eq!(model.said, "boltboard.toml changed beside the board, and is taken in. No longer fits: every=50.");
    assert_eq!(model.command_lines(), ["boltboard set lamp=led"]);
    // What cannot be read leaves everything as it is, and is not tried again until it changes.
    std::fs::write(&file, "format = 1\n[tree").expect("written");
    assert!(model.look_beside(&global, &Screen::new()));
    assert!(model.said.starts_with("boltboard.toml changed beside the board and cannot be read"), "{}", model.said);
    assert_eq!(model.command_lines(), ["boltboard set lamp=led"]);
    assert!(!model.look_beside(&global, &Screen::new()));
    // The profile is written by another command meanwhile.
    std::fs::write(&file, TREE).expect("written");
    assert!(model.look_beside(&global, &Screen::new()));
    let profiles = tree.path().join("boltboard-work/profiles");
    std::fs::create_dir_all(&profiles).expect("made");
    std::fs::write(profiles.join("mine.toml"), "format = 1\ntree = \"pier\"\n[choose]\nevery = 7\n").expect("written");
    assert!(model.look_beside(&global, &Screen::new()));
    assert_eq!((value(&model, "every"), model.command_lines().len()), ("7".into(), 1), "{}", model.said);
}

#[test]
fn what_is_open_survives_definitions_that_are_read_anew_or_is_closed() {
    let tree = tree();
    let profiles = tree.path().join("boltboard-work/profiles");
    let mut model = open(tree.path(), &["siren"]);
    model.session.prepare_work().unwrap_or_else(|_| panic!("a work folder"));
    std::fs::create_dir_all(&profiles).expect("made");
    let text = "format = 1\ntree = \"pier\"\n[choose]\nbell = \"off\"\nevery = 9\n";
    std::fs::write(profiles.join("still.toml"), text).expect("written");
    let global = model.session.global.clone();
    control(&mut model, 'w');
    // The last options of the board are gone: what named them must not be looked up any more.
    let few = TREE.split("[option.power]").next().expect("a part").replace(", requires = \"power\"", "");
    let file = tree.path().join("boltboard.toml");
    std::fs::write(&file, few).expect("written");
    assert!(model.look_beside(&global, &Screen::new()));
    assert!(matches!(model.mode, Mode::Choose));
    drawn(&mut model, 140, 30);
    // A profile that is laid beside ours stays there, also over keeping what was taken over.
    std::fs::write(&file, TREE).expect("written");
    assert!(model.look_beside(&global, &Screen::new()), "{}", model.said);
    model.lay_beside("still");
    assert_eq!(model.view, View::Other);
    model.go_to(option(&model, "every"));
    control(&mut model, 'x');
    model.keep(&global, &Screen::new()).unwrap_or_else(|stop| panic!("{}", stop.line()));
    assert!(drawn(&mut model, 140, 30).contains("not as in still"));
    assert_eq!(model.option(), Some(option(&model, "bell")), "what differs still is listed");
    // One that is gone leaves all options.
    std::fs::remove_file(profiles.join("still.toml")).expect("removed");
    std::fs::write(&file, format!("{TREE}\n# moved\n")).expect("written");
    assert!(model.look_beside(&global, &Screen::new()));
    assert_eq!(model.view, View::All);
}
