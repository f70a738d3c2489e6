//! What builders that look less closely miss: time, environment, and headers that are reached in roundabout ways.

use crate::harness::{MINI, Ran, Scratch};

fn with(tree: &Scratch, words: &str, name: &str, value: &str) -> Ran {
    tree.ran(tree.command(words).env(name, value))
}

#[test]
fn the_time_of_a_build_is_what_was_asked_for_and_concerns_those_that_name_it() {
    let tree = Scratch::with(MINI);
    tree.edit("src/main.c", "printf(", "printf(__DATE__ \" \" __TIMESTAMP__ \"\\n\"); printf(");
    tree.run("build").code(0);
    let program = || std::fs::read(tree.at("bolt-work/builds/mine/out/bin/mini")).expect("built");
    let holds = |text: &str| program().windows(text.len()).any(|part| part == text.as_bytes());
    assert!(holds("Jan  1 1970 Thu Jan  1 00:00:00 1970"));

    let at = |words: &str, time: &str| with(&tree, words, "SOURCE_DATE_EPOCH", time);
    at("preview --explain src/main.c", "1767225599").code(0).says(&["__DATE__ 0 → 1767225599"]);
    at("preview --explain src/depth.c", "1767225599").code(0).says(&["would not run"]);
    at("build --verify", "1767225599").code(0).says(&["Verified:"]);
    assert!(holds("Dec 31 2025 Wed Dec 31 23:59:59 2025"));
    at("build", "1767225599").code(0).says(&["0 steps run"]);
    tree.run("build").code(0).says(&["from the store"]);
    assert!(holds("Jan  1 1970 Thu Jan  1 00:00:00 1970"));
    at("build", "soon").code(2).complains(&["SOURCE_DATE_EPOCH is `soon`", "seconds since 1970"]);
}

const PASSED: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[part.station]
kind = "generated"
command = ["sh", "-c", "echo \"const char *station = \\\"$STATION\\\";\" > ${step:writes}"]
writes = ["station.c"]
environment = ["STATION"]
[part.stamp]
kind = "generated"
command = ["sh", "-c", "echo \"const char *stamp = \\\"$SOURCE_DATE_EPOCH\\\";\" > ${step:writes}"]
writes = ["stamp.c"]
[part.prog]
kind = "program"
sources = ["main.c", { add = [], made = ["station.c", "stamp.c"] }]
uses = ["station", "stamp"]
"#;

#[test]
fn a_variable_that_a_generator_declares_counts_and_no_other_does() {
    let tree = Scratch::with(&[("board.toml", PASSED), ("main.c", "int main(void) { return 0; }\n")]);
    let made = |file: &str| tree.read(&format!("bolt-work/builds/mine/made/{file}"));
    tree.run("build").code(0);
    assert!(made("station.c").contains("\"\""));
    with(&tree, "build", "LANTERN", "lit").code(0).says(&["0 steps run"]);
    let here = |words: &str| with(&tree, words, "STATION", "Skerry Rock");
    here("preview").code(0).says(&["+STATION=Skerry Rock"]);
    here("build --verify").code(0);
    assert!(made("station.c").contains("\"Skerry Rock\""));
    here("build").code(0).says(&["0 steps run"]);
    with(&tree, "preview", "STATION", "Inner Light").code(0).says(&["+STATION=Inner Light −STATION=Skerry Rock"]);
    tree.run("build").code(0);
    assert!(made("station.c").contains("\"\""), "it is not there any more");
    with(&tree, "build", "SOURCE_DATE_EPOCH", "7").code(0);
    assert!(made("stamp.c").contains("\"7\""), "what a generator makes of the time is not known, so it counts");

    tree.edit("board.toml", "[\"STATION\"]", "[\"STA TION\"]");
    tree.run("build").code(3).complains(&["`STA TION` is neither NAME=VALUE nor NAME"]);
}

const ROUNDABOUT: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[header.h]
path = "t/options.h"
prefix = "T_"
[option.drive]
kind = "pick"
values = ["slow", "fast"]
macro = [{ name = "T_DRIVE_FILE", form = "quoted" }]
[part.first]
kind = "generated"
command = ["sh", "-c", "cat first.txt > ${step:writes}"]
reads = ["first.txt"]
writes = ["first.h"]
[part.second]
kind = "generated"
command = ["sh", "-c", "sed -e s/DEPTH/depth/ -e s/5/1/ ${part:first} second.txt > ${step:writes}"]
reads = ["second.txt"]
writes = ["second.h"]
uses = ["first"]
[part.low]
kind = "static-library"
sources = ["low/*.c"]
[part.prog]
kind = "program"
sources = ["main.c", "drive.c"]
include = ["drives"]
uses = ["low", "first", "second"]
"#;

fn roundabout() -> Scratch {
    let tree = Scratch::with(&[
        ("board.toml", ROUNDABOUT),
        ("first.txt", "#define FIRST 1\n"),
        ("second.txt", "#define DEPTH 2\n"),
        ("low/a.c", "int a(void) { return 1; }\n"),
        ("low/b.c", "int b(void) { return 2; }\n"),
        ("drives/slow", "#define SPEED 1\n"),
        ("drives/fast", "#define SPEED 9\n"),
        (
            "main.c",
            "int a(void);\nint b(void) __attribute__((weak));\nint drive(void);\n\
             int main(void) { return b ? a() : drive(); }\n",
        ),
        ("drive.c", "#include <t/options.h>\n#include T_DRIVE_FILE\nint drive(void) { return SPEED; }\n"),
    ]);
    tree.run("build").code(0);
    tree
}

#[test]
fn a_header_named_by_an_option_is_followed() {
    let tree = roundabout();
    tree.run("set drive=fast").code(0);
    assert_eq!(tree.previewed("run"), ["write made/t/options.h", "compile drive.c"]);
    tree.run("build --verify").code(0);
    tree.edit("drives/fast", "9", "8");
    tree.run("build --verify").code(0).says(&["2 steps run"]);
    tree.edit("drives/slow", "1", "3");
    tree.run("build").code(0).says(&["0 steps run"]);
}

#[test]
fn generated_files_of_generated_files_follow_and_stop_where_they_stay_the_same() {
    let tree = roundabout();
    tree.edit("first.txt", "1", "5");
    let will = tree.previewed("run");
    assert_eq!(will, ["generate made/first.h"]);
    assert_eq!(tree.previewed("follows"), ["generate made/second.h"]);
    tree.run("build --verify").code(0).says(&["2 steps run"]);
    tree.write("second.txt", "#define depth 2\n");
    tree.run("build --verify").code(0).says(&["1 step run"]);
}

#[test]
fn a_member_that_leaves_an_archive_is_gone_from_it() {
    let tree = roundabout();
    let members = || {
        let library = tree.at("bolt-work/builds/mine/out/lib/liblow.a");
        let output = std::process::Command::new("ar").arg("t").arg(library).output().expect("ar runs");
        String::from_utf8_lossy(&output.stdout).lines().map(str::to_string).collect::<Vec<_>>()
    };
    assert_eq!(members().len(), 2);
    std::fs::remove_file(tree.at("low/b.c")).expect("removed");
    tree.run("build --verify").code(0);
    assert_eq!(members().len(), 1);
    assert!(!tree.at("bolt-work/builds/mine/objects/low/low/b.c.o").exists());
}
