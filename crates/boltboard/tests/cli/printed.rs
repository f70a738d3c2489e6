//! Every command that the program prints works: what the demo, the clashes, the wrong definitions and wrong use print is collected and
//! run.

use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;

use crate::harness::{MINI, Ran, Scratch};

/// The commands of ours that a text prints, without the words beside them.
pub fn printed(text: &str) -> BTreeSet<String> {
    let of_line = |line: &str| {
        let (_, rest) = line.split_once("→ boltboard")?;
        let command = rest.split("   ").next().unwrap_or_default().trim();
        Some(command.to_string())
    };
    text.lines().filter_map(of_line).collect()
}

/// Runs a command line as a shell would, in a folder of the tree.
pub fn typed(tree: &Scratch, folder: &str, line: &str) -> Ran {
    let program = env!("CARGO_BIN_EXE_boltboard");
    let line = line.replace("TREE", &tree.path().display().to_string());
    let script = line.split(" && ").map(|part| format!("{program} {}", part.trim_start_matches("boltboard"))).next();
    let mut shell = Command::new("sh");
    let usual = tree.command("");
    shell.args(["-c", &script.unwrap_or_default()]).current_dir(tree.at(folder)).env_clear();
    shell.envs(usual.get_envs().filter_map(|(name, value)| Some((name, value?))));
    tree.ran(shell.stdin(std::process::Stdio::null()))
}

/// A tree, and beside it a copy of what it was.
struct Prepared {
    tree: Scratch,
    copy: Scratch,
}

impl Prepared {
    fn new(tree: Scratch) -> Prepared {
        let copy = tree.copy();
        Prepared { tree, copy }
    }

    /// The tree as it was prepared, in its own place.
    fn anew(&self) -> &Scratch {
        for entry in std::fs::read_dir(self.tree.path()).expect("a folder").map(|entry| entry.expect("an entry").path())
        {
            let gone = if entry.is_dir() { std::fs::remove_dir_all(&entry) } else { std::fs::remove_file(&entry) };
            gone.expect("removed");
        }
        self.copy.copy_to(&self.tree);
        &self.tree
    }
}

/// Runs all commands that an answer printed, each on a tree as it was then. The demo, and what builds for minutes, is not run again.
#[track_caller]
fn all_work(prepared: &Prepared, asked: &str, seen: &mut BTreeSet<String>) -> usize {
    let ran = prepared.anew().run(asked);
    let mut number = 0;
    for command in printed(&format!("{}\n{}", ran.out, ran.err)) {
        assert!(
            !command.split(' ').any(|word| word.len() > 2 && word.chars().all(|c| c.is_ascii_uppercase())),
            "`boltboard {command}` has a place-holder, printed by `{asked}`"
        );
        number += 1;
        if command == "demo" || !seen.insert(format!("{asked}: {command}")) {
            continue;
        }
        let after = prepared.anew();
        after.run(asked);
        let told = typed(after, "", &command);
        // It may say no, or that the host lacks something: it must be understood, and the tree must allow it.
        assert!(![2, 3, 8, -1].contains(&told.code), "`boltboard {command}`, printed by `{asked}`: {told:?}");
    }
    number
}

fn mini() -> Prepared {
    let tree = Scratch::with(MINI);
    tree.run("set horn=on depth=4").code(0);
    Prepared::new(tree)
}

#[test]
fn what_answers_about_a_small_tree_print() {
    let (mini, mut seen, mut number) = (mini(), BTreeSet::new(), 0);
    for asked in [
        "",
        "options",
        "options changed",
        "options nothing-of-this-name",
        "show radio",
        "show hron",
        "show MINI_AIR",
        "show sound",
        "show nowhere",
        "show src/main.c",
        "why radio",
        "why air",
        "why horn=off",
        "why radio=on",
        "ways radio",
        "ways air=off",
        "ways horn",
        "ways depth",
        "set radio=on",
        "set hron=on",
        "set depth=99",
        "set nowhere=off",
        "set air=off",
        "set need:nowhere=off",
        "unset depth",
        "unset radio",
        "unset need:nowhere",
        "survey",
        "survey --all",
        "survey nowhere",
        "survey horn",
        "preview",
        "preview mini",
        "preview nothing",
        "preview --why src/horn.c",
        "preview --why src/nothing.c",
        "compare mine nothing",
        "profile list",
        "profile use nothing",
        "profile new mine",
        "profile remove mine",
        "profile check",
        "ledger",
        "ledger --timeline x.svg",
        "lint",
        "install --preview",
        "uninstall",
        "test nothing",
        "clean",
        "status",
        "optoins",
        "enable",
        "build --jobz",
        "build nothing",
        "lint --only nothing",
        "options kind:nothing",
        "overview --tree /",
        "profile",
        "set",
    ] {
        number += all_work(&mini, asked, &mut seen);
    }
    assert!(number >= 60, "only {number} commands were printed");
}

#[test]
fn what_clashes_print() {
    let tree = Scratch::skerry();
    tree.run("set crc=on").code(0);
    let (clashing, mut seen, mut number) = (Prepared::new(tree), BTreeSet::new(), 0);
    for asked in [
        "set horn-speaker=on",
        "set clock-gps=on",
        "set fog=off fog-horn=builtin",
        "set lamp-drive=arc power-generator=off power-shore=off",
        "ways clock-gps",
        "why clock-gps",
        "why horn-speaker",
        "why crc=off",
        "set c-compiler=gcc-99",
        "set prefix=here",
        "set prefix=",
        "set need:gps=/nowhere",
        "set gps=off",
        "preview --why fog/siren.c",
        "preview fog-siren",
        "build fog-siren",
    ] {
        number += all_work(&clashing, asked, &mut seen);
    }
    assert!(number >= 18, "only {number} commands were printed");
}

#[test]
fn what_a_switched_off_need_and_a_missing_compiler_print() {
    let tree = Scratch::with(MINI);
    tree.run("set need:nowhere=off").code(0);
    let off = Prepared::new(tree);
    let tree = Scratch::skerry();
    tree.run("set crc=on").code(0);
    tree.edit("boltboard-work/profiles/mine.toml", "[choose]", "[choose]\nc-compiler = \"gcc-99\"");
    let compiler = Prepared::new(tree);
    let mut seen = BTreeSet::new();
    for asked in ["why radio", "set radio=on", "survey", "survey nowhere", "ways radio"] {
        all_work(&off, asked, &mut seen);
    }
    for asked in ["", "survey", "build", "preview", "set clock-gps=on", "why clock-gps"] {
        all_work(&compiler, asked, &mut seen);
    }
    compiler.anew().run("build").code(4).complains(&[
        "gcc-99 is not in the search path",
        "c-compiler=gcc-99 is chosen in the profile mine, line ",
        "→ boltboard unset c-compiler ",
    ]);
    compiler.anew().run("set clock-gps=on").code(4).complains(&["gcc-99 is not in the search path"]);
}

#[test]
fn what_wrong_definitions_print() {
    let (mini, mut number) = (mini(), 0);
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cli/wrong");
    for entry in std::fs::read_dir(folder).expect("the wrong definitions").filter_map(Result::ok) {
        if entry.path().extension().is_some_and(|ending| ending == "txt") {
            let text = std::fs::read_to_string(entry.path()).expect("readable");
            // They tell what to write, so that only help of ours can be among it.
            for command in printed(&text) {
                let told = typed(mini.anew(), "", &command);
                assert!(told.code == 0 || told.code == 4, "{command}: {told:?}");
            }
            number += 1;
        }
    }
    assert!(number > 30);
}
