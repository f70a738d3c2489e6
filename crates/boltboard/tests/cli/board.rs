//! The board through a real pseudo-terminal.

use std::fs::File;
use std::io::{Read, Write};
use std::path::Path;
use std::process::{Child, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcgetattr, tcsetwinsize};

use crate::harness::Scratch;

/// How the terminal is told to show another screen, and to go back to its own.
const ENTER: &str = "\u{1b}[?1049h";
const LEAVE: &str = "\u{1b}[?1049l";

/// A terminal in which the board runs.
struct Sitting {
    child: Child,
    keys: File,
    /// The terminal's own end, for asking how it is set.
    end: File,
    said: Arc<Mutex<String>>,
}

impl Sitting {
    fn of(tree: &Scratch, words: &str) -> Sitting {
        let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).expect("a terminal");
        grantpt(&master).expect("granted");
        unlockpt(&master).expect("unlocked");
        let size = Winsize { ws_row: 30, ws_col: 120, ws_xpixel: 0, ws_ypixel: 0 };
        tcsetwinsize(&master, size).expect("a size");
        let name = ptsname(&master, Vec::new()).expect("a name").into_string().expect("a text");
        let end = || File::options().read(true).write(true).open(&name).expect("the terminal");
        let mut command = tree.command(&format!("board {words}"));
        let child = command.stdin(end()).stdout(end()).stderr(Stdio::null()).spawn().expect("it starts");
        let said = Arc::new(Mutex::new(String::new()));
        let (mut reads, sink) = (File::from(master), said.clone());
        let keys = reads.try_clone().expect("another end");
        std::thread::spawn(move || {
            let mut bytes = [0; 4096];
            while let Ok(read) = reads.read(&mut bytes) {
                sink.lock().expect("a text").push_str(&String::from_utf8_lossy(&bytes[..read]));
            }
        });
        Sitting { child, keys, end: end(), said }
    }

    fn wait_for(&self, text: &str) {
        let until = Instant::now() + Duration::from_secs(60);
        while !self.said.lock().expect("a text").contains(text) {
            assert!(Instant::now() < until, "no {text:?} in {:?}", self.said.lock().expect("a text"));
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    /// Types, and waits for what then comes; what was said before does not count.
    fn types(&mut self, keys: &str, text: &str) {
        self.said.lock().expect("a text").clear();
        self.keys.write_all(keys.as_bytes()).expect("typed");
        self.wait_for(text);
    }

    fn ends(&mut self) -> Option<i32> {
        let until = Instant::now() + Duration::from_secs(60);
        loop {
            if let Some(status) = self.child.try_wait().expect("it is ours") {
                return status.code();
            }
            assert!(Instant::now() < until, "it does not end");
            std::thread::sleep(Duration::from_millis(10));
        }
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
    let mut sitting = Sitting::of(&tree, "log-time");
    sitting.wait_for(ENTER);
    sitting.wait_for("log-time");
    sitting.types("\r", "log-time");
    assert!(!tree.at("boltboard-work/profiles").exists(), "nothing is kept");
    sitting.types("\u{0b}", "Kept");
    sitting.types("\u{1b}", LEAVE);
    assert_eq!(sitting.ends(), Some(0));
    tree.run("options chosen --json").code(0).says(&["log-time"]);
    let after = tcgetattr(&sitting.end).expect("its setting");
    assert!(after.local_modes.contains(rustix::termios::LocalModes::ECHO | rustix::termios::LocalModes::ICANON));
}

#[test]
fn a_board_that_is_ended_from_outside_gives_the_terminal_back() {
    let tree = Scratch::skerry();
    let mut sitting = Sitting::of(&tree, "");
    sitting.wait_for("skerry");
    let own = rustix::process::Pid::from_child(&sitting.child);
    rustix::process::kill_process(own, rustix::process::Signal::TERM).expect("sent");
    sitting.wait_for(LEAVE);
    assert_eq!(sitting.ends(), Some(130));
    let after = tcgetattr(&sitting.end).expect("its setting");
    assert!(after.local_modes.contains(rustix::termios::LocalModes::ECHO));
}

#[test]
fn a_build_that_was_started_from_the_board_can_be_interrupted() {
    let tree = Scratch::with(&[(
        "boltboard.toml",
        "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.slow]\nkind = \"generated\"\ncommand = [\"sh\", \"-c\", \"echo begun > ${step:output}; sleep 600\"]\noutput = \"slow.txt\"\n[option.bell]\nkind = \"switch\"\nsummary = \"A bell\"\n",
    )]);
    let mut sitting = Sitting::of(&tree, "");
    sitting.wait_for("bell");
    sitting.types("\u{02}", LEAVE);
    let until = Instant::now() + Duration::from_secs(60);
    while !has_file(&tree.at("boltboard-work"), "slow.txt") {
        assert!(Instant::now() < until, "the build does not begin");
        std::thread::sleep(Duration::from_millis(10));
    }
    let own = rustix::process::Pid::from_child(&sitting.child);
    rustix::process::kill_process(own, rustix::process::Signal::INT).expect("sent");
    assert_eq!(sitting.ends(), Some(130));
}

#[test]
fn without_a_terminal_other_commands_are_named() {
    Scratch::skerry().run("board").code(2).complains(&[
        "the board needs a terminal",
        "boltboard options",
        "boltboard set",
    ]);
}
