//! Other machines that take steps: what they make counts only if it is what would be made here, and nothing that befalls them stops a build.
//!
//! A stand-in reaches them: it runs on this machine what a remote shell would run over there.

use std::path::PathBuf;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::harness::{Ran, Scratch};
use crate::sharing;

/// Runs the command after the host's name here, as something decides that stands in a file beside it.
const REACH: &str = r#"#!/bin/sh
place=$(dirname "$0")
host=$1
shift
case "$(cat "$place/befalls" 2> /dev/null)" in
    greets) echo "Welcome to $host. Today: fog."; exec sh -c "$1" ;;
    refuses) echo "$host: Permission denied (publickey)." >&2; exit 255 ;;
    answers) echo "no such program"; exit 0 ;;
    silent) exec sleep 1000 ;;
    cut) sh -c "$1" | dd bs=1 count=2500 2> /dev/null ;;
    spoilt) sh -c "$1" | { dd bs=1 count=1500; dd bs=1 conv=ucase; } 2> /dev/null ;;
    killed) sh -c "exec $1" <&0 & sleep 0.4; kill -9 $!; wait ;;
    full) ulimit -f 2; exec sh -c "$1" ;;
    late) sleep 0.5; exec sh -c "$1" ;;
    *) exec sh -c "$1" ;;
esac
"#;

/// A tree of so many sources, and machines that are written down for it.
fn tree(sources: usize) -> Scratch {
    let tree = sharing::tree();
    tree.edit("boltboard.toml", "\"-Iinclude\"", "\"-Iinclude\", \"-g\"");
    tree.edit("boltboard.toml", "\"lib/*.c\"", "\"lib/*.c\", \"lib/*.cc\"");
    tree.write("lib/odd name$.c", "#include <stdio.h>\nint odd(void) { return printf(\"%s\", __FILE__); }\n");
    tree.write(
        "lib/sea.cc",
        "#include <map>\n#include <string>\nint sea() { std::map<std::string, int> m; m[\"a\"] = 2; return m[\"a\"]; }\n",
    );
    for number in 0..sources {
        let text = format!(
            "#include <stdlib.h>\n#include \"words.h\"\n#include \"options.h\"\nint lamp{number}(void) {{ return WORDS * {number} + (int)sizeof(div_t); }}\n"
        );
        tree.write(&format!("lib/lamp{number}.c"), &text);
    }
    written_down(&tree);
    tree
}

/// Writes two machines down for a tree, which keep what they are sent below it.
pub fn written_down(tree: &Scratch) {
    tree.script("home/reach", REACH);
    let (reach, kept) = (tree.at("home/reach"), tree.at("home/kept"));
    let text = format!(
        "[two]\nhosts = [\"lamp-1\", \"lamp-2\"]\nreach = [{reach:?}]\njobs = 1\nwait = 1\nfolder = {kept:?}\n"
    );
    tree.write("home/.config/boltboard/workers.toml", &text);
}

fn run(tree: &Scratch, words: &str) -> Ran {
    tree.ran(tree.command(words).env("HOME", tree.at("home")))
}

/// Forgets all that was built, but for what the programs behind compilers stand on.
pub fn forget(tree: &Scratch) {
    for made in ["builds", "store/content", "store/notes"] {
        drop(std::fs::remove_dir_all(tree.at("boltboard-work").join(made)));
    }
}

/// Has something befall the machines.
fn befall(tree: &Scratch, what: &str) {
    tree.write("home/befalls", what);
}

/// Builds from nothing and returns how many steps ran elsewhere, and what was said of it.
fn built_anew(tree: &Scratch) -> (u64, String) {
    forget(tree);
    let ran = run(tree, "build -j1 --on two --json").code(0);
    let away = ran.json()["away"].as_u64().expect("a number");
    let told = run(tree, "build").code(0);
    assert!(told.out.contains("Nothing to do"), "{}", told.out);
    tree.equals_clean();
    (away, ran.err)
}

/// All workers that run for a tree.
fn left(tree: &Scratch) -> Vec<PathBuf> {
    let own = tree.at("home/kept").display().to_string();
    let processes = std::fs::read_dir("/proc").expect("processes").filter_map(Result::ok).map(|entry| entry.path());
    let is_own = |path: &PathBuf| {
        let words = std::fs::read(path.join("cmdline")).unwrap_or_default();
        let text = String::from_utf8_lossy(&words).into_owned();
        text.contains("serve-steps") && text.contains(&own) && !text.starts_with("sh")
    };
    processes.filter(is_own).collect()
}

fn none_is_left(tree: &Scratch) {
    let began = Instant::now();
    while !left(tree).is_empty() {
        assert!(began.elapsed() < Duration::from_secs(20), "{:?}", left(tree));
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn what_other_machines_make_is_what_is_made_here() {
    let tree = tree(12);
    run(&tree, "workers").code(0).says(&["two", "lamp-1, lamp-2", "1 step at once", "boltboard workers check two"]);
    run(&tree, "build -j1").code(0);
    let (away, _) = built_anew(&tree);
    assert!(away > 4, "{away} of 16 compiles were sent");
    none_is_left(&tree);
    run(&tree, "build --verify").code(0);
    // A change of choices reaches what it must, there as here.
    run(&tree, "set loud=on").code(0);
    run(&tree, "build -j1 --on two").code(0);
    tree.equals_clean();
    let told = run(&tree, "ledger").code(0);
    assert!(told.out.contains(&format!("{away} elsewhere")), "{}", told.out);
    // What was sent once is kept there.
    assert!(tree.at("home/kept/contents").is_dir());
    assert_eq!(
        std::fs::read_dir(tree.at("home/kept/runs")).expect("a folder").count(),
        0,
        "what was laid out is removed"
    );
}

#[test]
fn machines_are_checked_before_anything_is_built() {
    let tree = tree(0);
    run(&tree, "workers check two").code(0).says(&["lamp-1", "reached; compilers as here", "1 step at once"]);
    befall(&tree, "refuses");
    run(&tree, "workers check two").code(1).says(&["not reached: lamp-2: lamp-2: Permission denied (publickey)."]);
    let answer = run(&tree, "workers check two --json").code(1).json();
    assert_eq!(answer["not-reached"].as_array().map(Vec::len), Some(2), "{answer}");
    run(&tree, "build --on tow").code(2).complains(&["names no workers `tow`", "two", "boltboard workers --help"]);
    tree.write("home/.config/boltboard/workers.toml", "[two]\nhosts = [\"-oX\"]\n");
    run(&tree, "build --on two").code(2).complains(&["workers.toml: [two] `-oX` is no name of a host"]);
    tree.write("home/.config/boltboard/workers.toml", "");
    run(&tree, "workers").code(0).says(&["No other machines are written down"]);
}

#[test]
fn whatever_befalls_them_the_build_goes_on_and_says_it_once() {
    let tree = tree(10);
    run(&tree, "build -j1").code(0);
    let here = tree.outputs("mine");
    for (what, said) in [
        ("greets", ""),
        ("refuses", "Permission denied (publickey)."),
        ("answers", "it ended before its first word"),
        ("cut", "lost: lamp-"),
        ("spoilt", "lamp-"),
        ("killed", ""),
        ("full", ""),
        ("late", ""),
        ("silent", ""),
    ] {
        befall(&tree, what);
        forget(&tree);
        drop(std::fs::remove_dir_all(tree.at("home/kept")));
        let ran = run(&tree, "build -j1 --on two").code(0);
        assert!(ran.err.contains(said), "{what}: {}", ran.err);
        assert!(ran.err.matches("lamp-1:").count() <= 2, "{what}: {}", ran.err);
        assert!(what != "greets" || ran.err.contains("On other machines"), "{}", ran.err);
        assert!(tree.outputs("mine") == here, "{what}: it is not what is made here");
        none_is_left(&tree);
    }
}

#[test]
fn a_step_that_fails_there_is_told_as_one_that_fails_here() {
    let tree = tree(12);
    run(&tree, "build -j1").code(0);
    tree.write("lib/lamp3.c", "int lamp3(void) { return fog; }\n");
    tree.write("lib/lamp4.c", "#include \"options.h\"\n#include \"gone.h\"\n");
    tree.write(
        "lib/lamp5.c",
        "#warning \"the lamp is old\"\n#include \"words.h\"\nint lamp5(void) { return WORDS; }\n",
    );
    let there = run(&tree, "build -j1 --keep-going --on two").code(1);
    assert!(there.err.contains("fog") && there.err.contains("gone.h"), "{}", there.err);
    assert!(!there.err.contains("home/kept") && !there.out.contains("home/kept"), "{}", there.err);
    tree.write("lib/lamp3.c", "int lamp3(void) { return 1; }\n");
    tree.write("lib/lamp4.c", "int lamp4(void) { return 1; }\n");
    run(&tree, "build -j1 --on two").code(0);
    tree.equals_clean();
}

#[test]
fn a_tree_does_not_make_machines_read_what_is_not_its_own() {
    let (tree, other) = (tree(0), Scratch::with(&[("fog.h", "static int outside = 9;\n")]));
    tree.write("secret/key.h", "static int key = 7;\n");
    let outside = other.at("fog.h").display().to_string();
    let kinds = [
        format!("#include \"{outside}\"\nint lamp(void) {{ return outside; }}\n"),
        format!("__asm__(\".incbin \\\"{outside}\\\"\");\n"),
        "#define H \"../secret/key.h\"\n#include H\nint lamp(void) { return key; }\n".to_string(),
        format!("#if __has_include(\"{outside}\")\nint lamp = 1;\n#endif\n"),
    ];
    // One job here takes some of them; so many are left that each sort comes up.
    for (kind, text) in kinds.iter().enumerate() {
        for number in 0..6 {
            let text = text.replace("lamp", &format!("lamp{kind}_{number}"));
            tree.write(&format!("lib/lamp{kind}_{number}.c"), &text);
        }
    }
    run(&tree, "build -j1").code(0);
    forget(&tree);
    let ran = run(&tree, "build -j1 --on two --json").code(0).json();
    assert!(ran["workers"]["not-sent"].as_u64() >= Some(6), "{ran}");
    let taken_in = ran["workers"]["not-counted"].to_string();
    assert!(taken_in.contains("its assembler takes in"), "{ran}");
    tree.equals_clean();
    let kept = std::fs::read_dir(tree.at("home/kept/contents")).expect("contents").filter_map(Result::ok);
    for file in kept.flat_map(|folder| std::fs::read_dir(folder.path()).expect("a folder").filter_map(Result::ok)) {
        let text = std::fs::read(file.path()).expect("read");
        let text = String::from_utf8_lossy(&text);
        assert!(!text.contains("int key") && !text.contains("int outside"), "{} was sent", file.path().display());
    }
}

#[test]
fn a_header_that_a_step_makes_later_is_found_there_where_it_is_found_here() {
    // Before it is made, another one of its name would be found, which lies behind it.
    let tree = Scratch::with(&[
        (
            "boltboard.toml",
            "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n\
             [header.options]\noutput = \"options.h\"\n[part.early]\nkind = \"static-library\"\nsources = [\"early/*.c\"]\ninclude = [\"include\", \"behind\"]\n\
             [part.words]\nkind = \"generated\"\ncommand = [\"sh\", \"make.sh\"]\nreads = [\"make.sh\"]\nstdout = \"words.h\"\n\
             uses = [\"early\"]\n\
             [part.late]\nkind = \"static-library\"\nsources = [\"late/*.c\"]\ninclude = [\"include\", \"behind\"]\nuses = [\"words\"]\n",
        ),
        ("make.sh", "sleep 0.2\necho '#define WORDS 3'\n"),
        ("behind/words.h", "#define WORDS 4\n"),
        ("include/low.h", "#ifdef LATE\n#include <words.h>\n#endif\n"),
    ]);
    for number in 0..8 {
        tree.write(&format!("early/e{number}.c"), &format!("#include <low.h>\nint early{number};\n"));
        let text = format!("#define LATE 1\n#include <low.h>\nint late{number}(void) {{ return WORDS; }}\n");
        tree.write(&format!("late/l{number}.c"), &text);
    }
    written_down(&tree);
    run(&tree, "build -j1").code(0);
    forget(&tree);
    let ran = run(&tree, "build -j1 --on two --json").code(0).json();
    assert!(ran["away"].as_u64() > Some(4), "{ran}");
    assert_eq!(ran["workers"]["not-counted"].as_array().map(Vec::len), Some(0), "it was sent along: {ran}");
    tree.equals_clean();
}

#[test]
fn a_compiler_finds_there_what_it_finds_here_when_files_have_several_names() {
    let tree = tree(6);
    // Compilers tell files that are read once by what lies behind their names, and by when they were changed.
    let once = "#pragma once\nstatic int times = 1;\n";
    tree.write("include/once.h", once);
    tree.write("include/copy/once.h", once);
    tree.set_time("include/copy/once.h", std::time::SystemTime::now() - Duration::from_secs(5000));
    std::fs::hard_link(tree.at("include/once.h"), tree.at("include/linked.h")).expect("a name");
    std::os::unix::fs::symlink("once.h", tree.at("include/leads.h")).expect("a link");
    std::os::unix::fs::symlink("copy", tree.at("include/folder")).expect("a link");
    tree.write("include/above.h", "#define ABOVE 1\n");
    tree.write("include/copy/up.h", "#include \"../above.h\"\n");
    for (number, text) in [
        "#include \"once.h\"\n#include \"linked.h\"\nint lamp0(void) { return times; }\n",
        "#include \"once.h\"\n#include \"leads.h\"\nint lamp1(void) { return times; }\n",
        "#include \"folder/up.h\"\nint lamp2(void) { return ABOVE; }\n",
        "#include \"copy/once.h\"\nint lamp3(void) { return times; }\n",
    ]
    .iter()
    .enumerate()
    {
        tree.write(&format!("lib/lamp{number}.c"), text);
    }
    run(&tree, "build -j1").code(0);
    let (away, _) = built_anew(&tree);
    assert!(away > 2, "{away}");
}

#[test]
fn a_tool_that_is_killed_leaves_no_worker_behind() {
    let tree = tree(30);
    run(&tree, "build -j1").code(0);
    forget(&tree);
    let mut command = tree.command("build -j1 --on two");
    let command = command.env("HOME", tree.at("home")).stdout(Stdio::null()).stderr(Stdio::null());
    let mut child = command.spawn().expect("it starts");
    let began = Instant::now();
    while left(&tree).is_empty() && began.elapsed() < Duration::from_secs(20) {
        std::thread::sleep(Duration::from_millis(5));
    }
    child.kill().expect("killed");
    child.wait().expect("ended");
    none_is_left(&tree);
    run(&tree, "build -j1 --on two").code(0);
    tree.equals_clean();
}
