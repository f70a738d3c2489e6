//! What people come for, on the demo tree: each with fewer keys than its commands have letters, and with the consequence in sight before
//! it is chosen.

use super::*;
use crate::board::views::View;

/// A person at the board, who counts what is pressed.
struct Sitter {
    model: Model,
    keys: usize,
    _tree: tempfile::TempDir,
}

impl Sitter {
    fn at_skerry() -> Sitter {
        let folder = tempfile::tempdir().expect("a folder");
        let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/skerry");
        copy(&demo, folder.path());
        // Whatever this host has, it lacks this.
        let file = folder.path().join("boltboard.toml");
        let text = std::fs::read_to_string(&file).expect("the demo's");
        let text = text.replace(
            "library = \"libgps\"\nheader = \"gps.h\"",
            "library = \"surely-none\"\nheader = \"surely/none.h\"",
        );
        assert!(text.contains("surely/none.h"), "the need is found");
        std::fs::write(&file, text).expect("written");
        Sitter { model: open(folder.path(), &[]), keys: 0, _tree: folder }
    }

    fn press(&mut self, code: KeyCode) -> &mut Sitter {
        self.keys += 1;
        press(&mut self.model, code);
        settle(&mut self.model);
        self
    }

    fn control(&mut self, letter: char) -> &mut Sitter {
        self.keys += 1;
        control(&mut self.model, letter);
        settle(&mut self.model);
        self
    }

    fn types(&mut self, text: &str) -> &mut Sitter {
        for letter in text.chars() {
            self.press(KeyCode::Char(letter));
        }
        self
    }

    /// What is in sight.
    fn sees(&mut self, texts: &[&str]) -> &mut Sitter {
        let shown = drawn(&mut self.model, 128, 40);
        for text in texts {
            assert!(shown.contains(text), "no {text:?} in\n{shown}");
        }
        self
    }

    /// The slate does what these commands do, and took fewer keys than they have letters.
    fn did(&self, commands: &[&str]) {
        assert_eq!(self.model.command_lines(), commands, "{}", self.model.said);
        self.took_less_than(commands);
    }

    fn took_less_than(&self, commands: &[&str]) {
        // Keeping is one key more, and so is the end of a line.
        let letters: usize = commands.iter().map(|line| line.len() + 1).sum();
        assert!(self.keys < letters, "{} keys, {letters} letters", self.keys);
    }
}

fn copy(from: &Path, to: &Path) {
    for entry in std::fs::read_dir(from).expect("a folder").map(|entry| entry.expect("an entry")) {
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            if entry.file_name() != "boltboard-work" {
                std::fs::create_dir_all(&target).expect("made");
                copy(&entry.path(), &target);
            }
        } else {
            std::fs::copy(entry.path(), target).expect("copied");
        }
    }
}

#[test]
fn a_feature_is_switched_on() {
    let mut sitter = Sitter::at_skerry();
    sitter.types("dog").sees(&["watchdog", "watchdog-minutes has an effect"]);
    sitter.press(KeyCode::Enter).did(&["boltboard set watchdog=on"]);
}

#[test]
fn a_feature_that_requires_others_takes_them_along_and_says_so_before() {
    let mut sitter = Sitter::at_skerry();
    sitter.types("frame-ch").sees(&["frame-check", "crc off → on"]);
    sitter.press(KeyCode::Enter).sees(&["Not kept yet: 1 change"]);
    sitter.did(&["boltboard set frame-check=on"]);
    assert_eq!(value(&sitter.model, "crc"), "on");
}

#[test]
fn a_value_of_several_is_taken() {
    let mut sitter = Sitter::at_skerry();
    sitter.types("l-drive").press(KeyCode::Right).sees(&["lamp-drive", "compile"]);
    sitter.press(KeyCode::Enter);
    let chosen = value(&sitter.model, "lamp-drive");
    sitter.did(&[format!("boltboard set lamp-drive={chosen}").as_str()]);
}

#[test]
fn a_number_is_written_and_its_price_seen_while_it_is() {
    let mut sitter = Sitter::at_skerry();
    sitter.types("watts").press(KeyCode::Enter).control('u').types("90").sees(&["value: 90_", "compiles of"]);
    sitter.press(KeyCode::Enter).did(&["boltboard set lamp-watts=90"]);
}

#[test]
fn why_something_is_blocked_is_found_and_what_would_get_it() {
    let mut sitter = Sitter::at_skerry();
    sitter.types("gps").sees(&["clock-gps", "blocked", "Enter: 1 way out"]).control('w');
    sitter.sees(&["clock-gps is off: blocked", "the need gps"]);
    sitter.took_less_than(&["boltboard why clock-gps", "boltboard ways clock-gps=on"]);
}

#[test]
fn what_this_host_lacks_is_one_list() {
    let mut sitter = Sitter::at_skerry();
    while sitter.model.view != View::Lacking {
        sitter.control('v');
    }
    sitter.sees(&["Needs", "gps", "clock-gps", "gps is missing"]);
    sitter.took_less_than(&["boltboard survey", "boltboard survey gps"]);
}

#[test]
fn a_whole_profile_is_taken_over_and_one_value_of_it_left() {
    let mut sitter = Sitter::at_skerry();
    sitter.control('o');
    sitter.press(KeyCode::Down).press(KeyCode::Enter);
    let name = sitter.model.other.as_ref().expect("another").name.to_string();
    sitter.sees(&[&format!("not as in {name}")]).control('a');
    assert!(sitter.model.said.contains("taken over"), "{}", sitter.model.said);
    let many = sitter.model.slate.pending().len();
    assert!(many > 1, "{many}");
    let [line] = sitter.model.command_lines().try_into().expect("one line");
    sitter.took_less_than(&[line.as_str()]);
    // One of them is not wanted after all.
    let first = sitter.model.slate.pending()[0].change.item();
    sitter.model.show(first);
    sitter.press(KeyCode::Delete);
    assert_eq!(sitter.model.slate.pending().len(), many - 1);
}

#[test]
fn what_was_changed_is_one_list_from_which_things_are_taken_back() {
    let mut sitter = Sitter::at_skerry();
    sitter.types("dog").press(KeyCode::Enter).press(KeyCode::Esc).control('v').sees(&["changed", "watchdog"]);
    sitter.press(KeyCode::Delete);
    assert_eq!(sitter.model.command_lines(), Vec::<String>::new());
    assert_eq!(sitter.model.rows, [], "nothing is changed any more");
}

#[test]
fn a_reason_is_kept_with_a_change_and_all_is_undone_by_one_key_each() {
    let mut sitter = Sitter::at_skerry();
    sitter.types("dog").press(KeyCode::Enter).control('t').types("it sleeps").press(KeyCode::Enter);
    sitter.sees(&["watchdog = on   because it sleeps"]);
    sitter.took_less_than(&["boltboard set watchdog=on --reason \"it sleeps\""]);
    sitter.control('u').control('u');
    assert_eq!(sitter.model.command_lines(), Vec::<String>::new());
}

#[test]
fn a_build_is_made_cheaper_by_what_it_leaves_out() {
    let mut sitter = Sitter::at_skerry();
    // What a station without radio saves is read off the value, before it is taken.
    sitter.types("links").sees(&["no longer makes"]).press(KeyCode::Enter);
    sitter.did(&["boltboard set links=off"]);
    sitter.sees(&["all together:"]);
}
