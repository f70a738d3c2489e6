//! The board through a real pseudo-terminal.

use std::path::Path;
use std::time::{Duration, Instant};

use rustix::termios::{LocalModes, tcgetattr};

use crate::harness::Scratch;
use sitting::Sitting;

#[path = "../../../boltboard-bench/src/sitting.rs"]
mod sitting;

/// How the terminal is told to show another screen, and to go back to its own.
const ENTER: &str = "\u{1b}[?1049h";
const LEAVE: &str = "\u{1b}[?1049l";
/// Whatever takes longer does not come.
const LIMIT: Duration = Duration::from_secs(60);

fn sit(tree: &Scratch, words: &str) -> Sitting {
    sit_with(tree, words, &[])
}

fn sit_with(tree: &Scratch, words: &str, variables: &[(&str, &str)]) -> Sitting {
    let mut command = tree.command(&format!("board {words}"));
    command.env("TERM", "xterm-256color").envs(variables.iter().copied());
    Sitting::start(command, 120, 30).expect("a terminal")
}

impl Sitting {
    /// Types, and waits until the screen shows this.
    fn types(&mut self, keys: &str, text: &str) {
        self.press(keys).expect("typed");
        self.shows(text);
    }

    fn shows(&self, text: &str) {
        let shown = self.wait(LIMIT, |shown| shown.screen().contents().contains(text));
        assert!(shown.is_some(), "no {text:?} on\n{}", self.text());
    }

    fn no_longer_shows(&self, text: &str) {
        let gone = self.wait(LIMIT, |shown| !shown.screen().contents().contains(text));
        assert!(gone.is_some(), "still {text:?} on\n{}", self.text());
    }

    /// Waits until the terminal was told this.
    fn is_told(&self, words: &str) {
        let told = self.wait(LIMIT, |shown| String::from_utf8_lossy(&shown.written).contains(words));
        assert!(told.is_some(), "no {words:?} in {:?}", String::from_utf8_lossy(&self.shown().written));
    }

    fn has_its_terminal_back(&self) {
        let modes = tcgetattr(&self.end).expect("its setting").local_modes;
        assert!(modes.contains(LocalModes::ECHO | LocalModes::ICANON));
        assert!(!self.shown().screen().alternate_screen(), "the other screen is left");
    }
}

/// Whether a file of this name lies below a folder.
fn has_file(folder: &Path, name: &str) -> bool {
    let entries = std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok);
    entries.into_iter().any(|entry| entry.file_name() == name || entry.path().is_dir() && has_file(&entry.path(), name))
}

#[test]
fn a_change_is_found_tried_and_kept_and_the_terminal_given_back() {
    let tree = Scratch::skerry();
    let mut sitting = sit(&tree, "log-time");
    sitting.is_told(ENTER);
    sitting.shows("log-time");
    sitting.types("\r", "Not kept yet: 1 change");
    assert!(!tree.at("boltboard-work/profiles").exists(), "nothing is kept");
    sitting.types("\u{0b}", "Kept 1 change");
    sitting.press("\u{1b}").expect("typed");
    sitting.is_told(LEAVE);
    assert_eq!(sitting.ends(LIMIT), Some(0));
    sitting.has_its_terminal_back();
    tree.run("options chosen --json").code(0).says(&["log-time"]);
}

#[test]
fn a_feature_that_clashes_is_found_understood_got_kept_and_built() {
    let tree = Scratch::with(&[
        (
            "boltboard.toml",
            "format = 1\n[tree]\nname = \"pier\"\nversion = \"1\"\n[header.options]\noutput = \"pier.h\"\nprefix = \"PIER_\"\n[option.bell]\nkind = \"switch\"\nsummary = \"A bell in fog\"\nconflicts = \"quiet\"\n[option.quiet]\nkind = \"switch\"\ndefault = \"on\"\nsummary = \"No noise at all\"\n[part.pier]\nkind = \"program\"\nsources = [\"main.c\", { when = \"bell\", add = [\"bell.c\"] }]\n",
        ),
        ("main.c", "#include <pier.h>\nint main(void) { return 0; }\n"),
        ("bell.c", "int bell(void) { return missing; }\n"),
    ]);
    tree.run("set quiet=on").code(0);
    let mut sitting = sit(&tree, "");
    sitting.types("fog", "find: fog_");
    // What stands against it is told before it is chosen.
    sitting.shows("Enter: 1 way out");
    sitting.types("\r", "Ways out");
    sitting.types("\r", "Not kept yet: 2 changes");
    sitting.shows("all together: 2 compiles");
    sitting.types("\u{14}", "because:");
    sitting.types("ships ask for it\r", "because ships ask for it");
    sitting.types("\u{0b}", "Kept 2 changes");
    // The build fails: the place is told, and the board comes back.
    sitting.press("\u{02}").expect("typed");
    sitting.shows("Press Enter to go back to the board.");
    let told = sitting.text();
    assert!(told.contains("bell.c:1") && told.contains("missing"), "{told}");
    sitting.types("\r", "A bell in fog");
    std::fs::write(tree.at("bell.c"), "int bell(void) { return 1; }\n").expect("written");
    sitting.press("\u{02}").expect("typed");
    sitting.shows("Built 1 part");
    sitting.types("\r", "A bell in fog");
    sitting.press("\u{11}").expect("typed");
    assert_eq!(sitting.ends(LIMIT), Some(0));
    sitting.has_its_terminal_back();
    let profile = std::fs::read_to_string(tree.at("boltboard-work/profiles/mine.toml")).expect("kept");
    assert!(profile.contains("bell = \"on\"") && profile.contains("ships ask for it"), "{profile}");
}

#[test]
fn a_definition_is_edited_from_the_board_and_taken_in_and_windows_change_their_size() {
    let tree = Scratch::with(&[(
        "boltboard.toml",
        "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[option.bell]\nkind = \"switch\"\nsummary = \"A bell\"\n",
    )]);
    tree.script("edit", "echo \"$@\" > edited\nsed -i 's/A bell/A loud bell/' \"$2\"\n");
    let editor = tree.at("edit").display().to_string();
    let mut sitting = sit_with(&tree, "bell", &[("VISUAL", &editor)]);
    sitting.shows("A bell");
    sitting.types("\u{05}", "A loud bell");
    sitting.shows("boltboard.toml changed beside the board, and is taken in.");
    let edited = std::fs::read_to_string(tree.at("edited")).expect("it ran");
    assert!(edited.starts_with("+5 ") && edited.trim_end().ends_with("boltboard.toml"), "{edited}");
    for (columns, rows) in [(60, 20), (200, 50), (24, 8), (120, 30)] {
        let frames = sitting.shown().frames;
        sitting.resize(columns, rows).expect("resized");
        let drawn = sitting.wait(LIMIT, |shown| shown.frames > frames);
        assert!(drawn.is_some(), "it is not drawn anew at {columns}x{rows}:\n{}", sitting.text());
    }
    // A size that is had again before anybody looks: what was lost meanwhile is drawn anew.
    for _ in 0..20 {
        sitting.resize(20, 5).expect("resized");
        sitting.resize(120, 30).expect("resized");
        sitting.shows("A loud bell");
        sitting.shows("t 1   profile mine");
    }
    sitting.shows("A loud bell");
    // Another command writes the profile meanwhile.
    tree.run("set bell=on").code(0);
    sitting.shows("changed beside the board, and is taken in.");
    sitting.no_longer_shows("default");
    sitting.press("\u{11}").expect("typed");
    assert_eq!(sitting.ends(LIMIT), Some(0));
}

#[test]
fn another_size_is_seen_also_when_nobody_tells_of_it() {
    let tree = Scratch::skerry();
    let mut sitting = sit(&tree, "fog");
    sitting.shows("fog");
    for (columns, rows) in [(60, 20), (150, 40)] {
        sitting.resize_untold(columns, rows).expect("resized");
        let is_full = |shown: &sitting::Shown| shown.screen().contents().lines().count() >= usize::from(rows) - 1;
        assert!(sitting.wait(LIMIT, is_full).is_some(), "{columns}x{rows}:\n{}", sitting.text());
    }
    sitting.press("\u{03}").expect("typed");
    assert_eq!(sitting.ends(LIMIT), Some(0));
}

#[test]
fn a_board_that_is_stopped_goes_on_when_it_is_called_back() {
    let tree = Scratch::skerry();
    let mut sitting = sit(&tree, "fog");
    sitting.shows("fog");
    sitting.press("\u{1a}").expect("typed");
    sitting.is_told(LEAVE);
    let stopped = || {
        let status = std::fs::read_to_string(format!("/proc/{}/stat", sitting.child.id())).unwrap_or_default();
        status.rsplit(") ").next().is_some_and(|rest| rest.starts_with('T'))
    };
    let until = Instant::now() + LIMIT;
    while !stopped() {
        assert!(Instant::now() < until, "it does not stop");
        std::thread::sleep(Duration::from_millis(10));
    }
    sitting.shown().written.clear();
    let own = rustix::process::Pid::from_child(&sitting.child);
    rustix::process::kill_process(own, rustix::process::Signal::CONT).expect("sent");
    sitting.is_told(ENTER);
    sitting.shows("fog");
    sitting.types("x", "find: x_");
    sitting.press("\u{03}").expect("typed");
    assert_eq!(sitting.ends(LIMIT), Some(0));
    sitting.has_its_terminal_back();
}

#[test]
fn colour_is_never_alone_and_can_be_left_out() {
    let tree = Scratch::skerry();
    let mut sitting = sit_with(&tree, "blocked", &[("NO_COLOR", "1")]);
    sitting.shows("blocked");
    sitting.press("\u{1b}\u{1b}").expect("typed");
    sitting.press("\u{03}").expect("typed");
    assert!(sitting.ends(LIMIT).is_some());
    let written = String::from_utf8_lossy(&sitting.shown().written).into_owned();
    for colour in 30..38 {
        assert!(!written.contains(&format!("[{colour}m")) && !written.contains(&format!("38;5;{}", colour - 30)));
    }
}

#[test]
fn a_board_that_is_ended_from_outside_gives_the_terminal_back() {
    let tree = Scratch::skerry();
    let mut sitting = sit(&tree, "");
    sitting.shows("skerry");
    let own = rustix::process::Pid::from_child(&sitting.child);
    rustix::process::kill_process(own, rustix::process::Signal::TERM).expect("sent");
    sitting.is_told(LEAVE);
    assert_eq!(sitting.ends(LIMIT), Some(130));
    sitting.has_its_terminal_back();
}

#[test]
fn a_build_that_was_started_from_the_board_can_be_interrupted() {
    let tree = Scratch::with(&[(
        "boltboard.toml",
        "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.slow]\nkind = \"generated\"\ncommand = [\"sh\", \"-c\", \"echo begun > ${step:output}; sleep 600\"]\noutput = \"slow.txt\"\n[option.bell]\nkind = \"switch\"\nsummary = \"A bell\"\n",
    )]);
    let mut sitting = sit(&tree, "");
    sitting.shows("bell");
    sitting.press("\u{02}").expect("typed");
    sitting.is_told(LEAVE);
    let until = Instant::now() + Duration::from_secs(60);
    while !has_file(&tree.at("boltboard-work"), "slow.txt") {
        assert!(Instant::now() < until, "the build does not begin");
        std::thread::sleep(Duration::from_millis(10));
    }
    let own = rustix::process::Pid::from_child(&sitting.child);
    rustix::process::kill_process(own, rustix::process::Signal::INT).expect("sent");
    assert_eq!(sitting.ends(LIMIT), Some(130));
}

#[test]
fn without_a_terminal_other_commands_are_named() {
    Scratch::skerry().run("board").code(2).complains(&[
        "the board needs a terminal",
        "boltboard options",
        "boltboard set",
    ]);
}

#[test]
fn the_command_that_does_the_same_is_shown_and_copied_and_works() {
    let tree = Scratch::skerry();
    let mut sitting = sit(&tree, "log-time");
    sitting.shows("log-time");
    sitting.types("\r", "Not kept yet: 1 change");
    sitting.types("\u{19}", "boltboard set log-time=");
    // What terminals take for their clipboard, in the form that they take it.
    sitting.is_told("\u{1b}]52;c;Ym9sdGJvYXJkIHNldCBsb2ctdGltZT");
    let told = sitting.text();
    let command = told.lines().find(|line| line.starts_with("boltboard set")).expect("a command").trim().to_string();
    sitting.press("\u{11}\r").expect("typed");
    assert_eq!(sitting.ends(LIMIT), Some(0));
    tree.run(command.trim_start_matches("boltboard ")).code(0);
    tree.run("options chosen").code(0).says(&["log-time"]);
}

#[test]
fn keys_at_random_keep_nothing_and_the_terminal_is_given_back() {
    let tree = Scratch::skerry();
    let mut sitting = sit(&tree, "");
    sitting.shows("skerry");
    let mut dice = fastrand::Rng::with_seed(7);
    // All but what keeps, leaves, or runs something outside of the board.
    let keys = [
        "\u{1b}[A",
        "\u{1b}[B",
        "\u{1b}[C",
        "\u{1b}[D",
        "\u{1b}[5~",
        "\u{1b}[6~",
        "\u{1b}[H",
        "\u{1b}[F",
        "\u{1b}[3~",
        "\t",
        "\u{1b}[Z",
        "\r",
        "\u{7f}",
        "\u{15}",
        "\u{12}",
        "\u{16}",
        "\u{0c}",
        "\u{17}",
        "\u{04}",
        "\u{14}",
        "\u{19}",
        "\u{0f}",
        "\u{18}",
        "\u{01}",
        "\u{07}",
        "\u{06}",
        "fog",
        "off",
        "in:links",
        "?",
        "=1",
        "9",
        " ",
    ];
    for press in 0..600 {
        let frames = sitting.shown().frames;
        sitting.press(dice.choice(keys.iter()).expect("a key")).expect("typed");
        // A line that is full would be cut anywhere, and half of an arrow is the key that leaves.
        let answered = sitting.wait(LIMIT, |shown| shown.frames > frames);
        assert!(answered.is_some(), "no answer after {press} keys");
        if press % 100 == 99 {
            let (columns, rows) = (dice.u16(1..200), dice.u16(1..60));
            sitting.resize(columns, rows).expect("resized");
        }
    }
    sitting.resize(120, 30).expect("resized");
    sitting.shows("skerry");
    let own = rustix::process::Pid::from_child(&sitting.child);
    rustix::process::kill_process(own, rustix::process::Signal::TERM).expect("sent");
    assert_eq!(sitting.ends(LIMIT), Some(130));
    sitting.has_its_terminal_back();
    assert!(!tree.at("boltboard-work/profiles").exists(), "nothing is kept");
}
