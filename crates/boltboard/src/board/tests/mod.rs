//! The board without a terminal: keys in, text out.

mod mouse;
mod sizes;
mod tasks;
mod views;
mod walking;
mod writing;

use std::cell::RefCell;
use std::path::Path;

use boltboard_core::board::Value;
use boltboard_core::slate::Change;
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use ratatui::Terminal;
use ratatui::backend::TestBackend;

use super::model::{Mode, Model, Wish};
use super::{draw, keys, worker};
use crate::args::Global;
use crate::render::Screen;
use crate::session::Session;

const TREE: &str = r#"
format = 1
[tree]
name = "pier"
version = "1.0"
[header.options]
output = "pier/options.h"
prefix = "PIER_"
[section.light]
title = "The light"
[section.sound]
title = "What is heard"
[option.lamp]
kind = "pick"
section = "light"
values = [{ name = "led", summary = "Cold and cheap" }, { name = "arc", summary = "Bright", requires = "power" }]
summary = "What gives the light"
[option.every]
kind = "number"
section = "light"
range = [1, 60]
default = 5
summary = "Seconds between flashes"
[option.power]
kind = "switch"
section = "light"
summary = "A cable to the shore"
conflicts = "quiet"
[option.bell]
kind = "switch"
section = "sound"
default = "on"
summary = "A bell in fog"
[option.quiet]
kind = "switch"
section = "sound"
summary = "No noise at all"
conflicts = "bell"
[option.siren]
kind = "switch"
section = "sound"
default = "on"
summary = "Louder than the bell"
requires = "need:air"
[option.tunes]
kind = "words"
section = "sound"
level = "expert"
default = ["slow"]
summary = "What the bell plays"
[option.chart]
kind = "path"
section = "light"
level = "expert"
default = "charts/north"
summary = "The chart of the coast"
[need.air]
summary = "A compressor"
header = "surely/no/compressor.h"
[need.shell]
summary = "A shell"
tool = "sh"
[part.pier]
kind = "program"
sources = ["main.c", { when = "bell", add = ["bell.c"] }]
"#;

fn tree() -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    for (file, text) in [
        ("boltboard.toml", TREE),
        ("main.c", "#include <pier/options.h>\nint main(void) { return PIER_EVERY; }\n"),
        ("bell.c", "int bell(void) { return 1; }\n"),
        ("charts/north", ""),
        ("charts/northern", ""),
        ("charts/south", ""),
    ] {
        let file = folder.path().join(file);
        std::fs::create_dir_all(file.parent().expect("a folder")).expect("made");
        std::fs::write(file, text).expect("written");
    }
    folder
}

fn open(tree: &Path, words: &[&str]) -> Model {
    let work = Some(tree.join("boltboard-work"));
    let global = Global { tree: Some(tree.to_path_buf()), work, ..Global::default() };
    let words: Vec<String> = words.iter().map(ToString::to_string).collect();
    let session = Session::open(&global, &Screen::new()).unwrap_or_else(|stop| panic!("{}", stop.line()));
    Model::open(session, &words).unwrap_or_else(|stop| panic!("{}", stop.line()))
}

fn press(model: &mut Model, code: KeyCode) -> Option<Wish> {
    keys::key(model, KeyEvent::new(code, KeyModifiers::NONE))
}

fn control(model: &mut Model, letter: char) -> Option<Wish> {
    keys::key(model, KeyEvent::new(KeyCode::Char(letter), KeyModifiers::CONTROL))
}

fn types(model: &mut Model, text: &str) {
    for letter in text.chars() {
        press(model, KeyCode::Char(letter));
    }
}

fn option(model: &Model, name: &str) -> boltboard_core::board::OptionId {
    model.session.board.option(name).expect("it is there")
}

fn value(model: &Model, name: &str) -> String {
    model.now.resolution.value(option(model, name)).to_string()
}

/// Finds out at once what the worker would find aside.
fn settle(model: &mut Model) {
    let Some(question) = model.question() else { return };
    let answers = RefCell::new(Vec::new());
    worker::find(&model.session, &question, &|| false, &|answer| answers.borrow_mut().push(answer));
    answers.into_inner().into_iter().for_each(|answer| model.learn(answer));
}

fn drawn(model: &mut Model, width: u16, height: u16) -> String {
    let mut terminal = Terminal::new(TestBackend::new(width, height)).expect("a screen");
    terminal.draw(|frame| draw::draw(frame, model)).expect("drawn");
    let buffer = terminal.backend().buffer().clone();
    let line = |y: u16| (0..width).map(|x| buffer[(x, y)].symbol().to_string()).collect::<String>();
    (0..height).map(|y| line(y).trim_end().to_string() + "\n").collect()
}

#[test]
fn the_consequence_of_each_value_stands_beside_the_option() {
    let tree = tree();
    let mut model = open(tree.path(), &["bell"]);
    settle(&mut model);
    assert_eq!(
        drawn(&mut model, 120, 14),
        "\
pier 1.0   profile mine   all options, up to tuning
The light  3 options                                                 bell
  lamp                 led              default      What gives t…   A bell in fog
  every                5                default      Seconds betw…
  power                off              default      A cable to t…    off
What is heard  3 options                                               1 compile of 2 steps
  bell                 on               default      A bell in fog     nothing else moves
  quiet                off              default      No noise at …
  siren                off              blocked      Louder than …    on  now




type to find · ? keys · Left Right value · Enter take · ^W why · ^V view · Tab sections · ^B build · Esc leave
"
    );
}

#[test]
fn nothing_is_kept_before_a_person_says_so_and_every_step_can_be_taken_back() {
    let tree = tree();
    let mut model = open(tree.path(), &["bell"]);
    settle(&mut model);
    let profile = tree.path().join("boltboard-work/profiles/mine.toml");
    press(&mut model, KeyCode::Enter);
    assert_eq!(model.command_lines(), ["boltboard set bell=off"]);
    assert!(drawn(&mut model, 100, 20).contains("Not kept yet: 1 change   all together: …\n  bell = off"));
    settle(&mut model);
    let told = drawn(&mut model, 100, 20);
    assert!(told.contains("all together: 1 compile of 2 steps"), "{told}");
    assert!(!profile.exists(), "nothing is written");
    control(&mut model, 't');
    types(&mut model, "it wakes people");
    press(&mut model, KeyCode::Enter);
    control(&mut model, 'u');
    control(&mut model, 'u');
    assert!(model.slate.pending().is_empty());
    assert_eq!(model.now.resolution.value(model.session.board.option("bell").expect("there")).to_string(), "on");
    control(&mut model, 'r');
    control(&mut model, 'r');
    // What is on the slate is not left behind unasked.
    assert_eq!(press(&mut model, KeyCode::Esc), None);
    assert!(matches!(model.mode, Mode::Leave));
    press(&mut model, KeyCode::Esc);
    assert_eq!(control(&mut model, 'k'), Some(Wish::Keep));
    let global = model.session.global.clone();
    let said = model.keep(&global, &Screen::new()).unwrap_or_else(|stop| panic!("{}", stop.line()));
    assert_eq!(said, "Kept 1 change in the profile mine.");
    let text = std::fs::read_to_string(profile).expect("it is kept");
    assert!(text.contains("bell = \"off\"") && text.contains("it wakes people"), "{text}");
    assert_eq!(press(&mut model, KeyCode::Esc), Some(Wish::Leave));
}

#[test]
fn a_clash_is_told_before_it_is_chosen_and_a_way_out_is_one_key() {
    let tree = tree();
    let mut model = open(tree.path(), &["power"]);
    settle(&mut model);
    press(&mut model, KeyCode::Enter);
    assert_eq!(model.command_lines(), ["boltboard set power=on"]);
    types(&mut model, "quiet");
    settle(&mut model);
    let told = drawn(&mut model, 120, 24);
    assert!(told.contains("these choices cannot hold together: power=on,"), "{told}");
    assert!(told.contains("Enter: 1 way out"), "{told}");
    press(&mut model, KeyCode::Enter);
    assert!(matches!(model.mode, Mode::Ways { .. }), "{}", model.said);
    assert!(drawn(&mut model, 120, 30).contains("Ways out"));
    press(&mut model, KeyCode::Enter);
    let quiet = model.session.board.option("quiet").expect("there");
    assert_eq!(model.now.resolution.value(quiet).to_string(), "on", "{}", model.said);
}

#[test]
fn a_value_that_is_written_is_checked_while_it_is_written() {
    let tree = tree();
    let mut model = open(tree.path(), &["every"]);
    press(&mut model, KeyCode::Enter);
    types(&mut model, "00");
    let told = drawn(&mut model, 100, 20);
    assert!(told.contains("value: 500_   write"), "{told}");
    press(&mut model, KeyCode::Enter);
    assert!(matches!(model.mode, Mode::Write { .. }), "it is not taken");
    press(&mut model, KeyCode::Backspace);
    assert!(!drawn(&mut model, 100, 20).contains("500"));
    press(&mut model, KeyCode::Enter);
    assert_eq!(model.command_lines(), ["boltboard set every=50"]);
}

#[test]
fn it_is_drawn_at_every_size() {
    let tree = tree();
    let mut model = open(tree.path(), &["lamp"]);
    settle(&mut model);
    for (width, height) in [(60, 20), (80, 24), (128, 40), (220, 60), (20, 6), (1, 1)] {
        let text = drawn(&mut model, width, height);
        if width >= 60 {
            for part in ["lamp", "led", "type to find"] {
                assert!(text.contains(part), "no {part} at {width}x{height}:\n{text}");
            }
        }
    }
}

#[test]
fn signs_of_the_tree_turn_nothing_around() {
    let tree = tree();
    let text = TREE.replace("A bell in fog", "A bell \u{202e}gof ni\u{202c} \\u001b[2J");
    std::fs::write(tree.path().join("boltboard.toml"), text).expect("written");
    let mut model = open(tree.path(), &["bell"]);
    let told = drawn(&mut model, 120, 14);
    assert!(told.contains("A bell"), "{told}");
    assert!(!told.contains(['\u{202e}', '\u{202c}', '\u{1b}']), "{told}");
}

#[test]
fn definitions_that_changed_meanwhile_are_read_anew() {
    let tree = tree();
    let mut model = open(tree.path(), &["quiet"]);
    press(&mut model, KeyCode::Down);
    let every = model.session.board.option("every").expect("there");
    model.change([Change::Choose(every, Value::Number(9))]);
    control(&mut model, 'u');
    // Options that are gone took their numbers along.
    let text = TREE.split("[option.every]").next().expect("a part").replace(", requires = \"power\"", "");
    std::fs::write(tree.path().join("boltboard.toml"), text).expect("written");
    let global = model.session.global.clone();
    model.reopen(&global, &Screen::new()).unwrap_or_else(|stop| panic!("{}", stop.line()));
    assert_eq!(model.session.board.options.len(), 1);
    control(&mut model, 'r');
    assert_eq!(model.command_lines(), Vec::<String>::new(), "what was undone belongs to other definitions");
    assert!(drawn(&mut model, 100, 20).contains("lamp"));
}

#[test]
fn no_key_does_harm() {
    let tree = tree();
    let mut model = open(tree.path(), &[]);
    let mut dice = fastrand::Rng::with_seed(11);
    let codes = [
        KeyCode::Up,
        KeyCode::Down,
        KeyCode::Left,
        KeyCode::Right,
        KeyCode::Enter,
        KeyCode::Delete,
        KeyCode::Backspace,
        KeyCode::Esc,
        KeyCode::PageDown,
        KeyCode::PageUp,
        KeyCode::Home,
        KeyCode::End,
        KeyCode::Tab,
        KeyCode::BackTab,
    ];
    for _ in 0..1500 {
        match dice.usize(..4) {
            0 => drop(control(&mut model, char::from(*dice.choice(b"urvlwdtyqbpsnoxagfe".iter()).expect("a letter")))),
            1 => drop(press(
                &mut model,
                KeyCode::Char(char::from(*dice.choice(b"bell onqx=:?1 ".iter()).expect("a letter"))),
            )),
            _ => drop(press(&mut model, *dice.choice(codes.iter()).expect("a key"))),
        }
        if dice.usize(..20) == 0 {
            settle(&mut model);
        }
        drawn(&mut model, dice.u16(1..130), dice.u16(1..45));
    }
    assert!(!tree.path().join("boltboard-work/profiles").exists(), "nothing is kept");
}
