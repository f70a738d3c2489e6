//! What a build says while it runs and afterwards, and how it uses the machine.

use std::collections::BTreeMap;

use crate::harness::{Ran, Scratch, usual_path};

const BOARD: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[toolchain]
flags = ["-Wall"]
[header.h]
output = "t/options.h"
prefix = "T_"
[option.fog]
kind = "switch"
[option.spare]
kind = "switch"
default = "on"
macro = []
[part.prog]
kind = "program"
sources = ["main.c", { when = "spare", add = ["spare.c"] }]
"#;

const WARNED: &str = "output of main.c\nmain.c: In function 'main':";

fn warned() -> Scratch {
    Scratch::with(&[
        ("boltboard.toml", BOARD),
        (
            "main.c",
            "#include <t/options.h>\nint main(void) {\n    int unused = 1;\n#ifdef T_FOG\n    return 1;\n#endif\n    return 0;\n}\n",
        ),
        ("spare.c", "int spare;\n"),
    ])
}

/// Builds with a compiler that does something else first.
fn with_compiler(tree: &Scratch, words: &str, script: &str) -> Ran {
    tree.script("first/cc", &format!("{script}\nexec /usr/bin/cc \"$@\""));
    tree.run_with(words, "PATH", &format!("TREE/first:{}", usual_path()))
}

#[test]
fn warnings_are_told_again_when_a_result_comes_from_the_store() {
    let tree = warned();
    tree.run("build").code(0).complains(&[WARNED, "[-Wunused-variable]"]);
    tree.run("set fog=on").code(0);
    tree.run("build").code(0).complains(&[WARNED]);
    tree.run("unset fog").code(0);
    tree.run("build").code(0).says(&[": 2 reused"]).complains(&[WARNED, "[-Wunused-variable]"]);
    let quiet = tree.run("build").code(0);
    assert_eq!(quiet.err, "", "nothing was made, so nothing is told");
}

#[test]
fn quiet_builds_tell_failures_alone_and_verbose_ones_each_step() {
    let tree = warned();
    let told = tree.run("build --verbose").code(0);
    let steps: Vec<&str> = told.err.lines().filter(|line| line.contains("  prog")).collect();
    assert_eq!(steps.len(), 3, "{}", told.err);
    assert!(steps.last().is_some_and(|line| line.starts_with("link      out/bin/prog")), "{steps:?}");
    tree.edit("spare.c", "int spare;", "int spare_too;");
    let told = tree.run("build --quiet").code(0);
    assert_eq!((told.out.as_str(), told.err.as_str()), ("", ""));
    tree.edit("spare.c", "int spare_too;", "int spare_too");
    let told = tree.run("build --quiet").code(1);
    assert_eq!(told.out, "");
    let told = told.complains(&[
        "failed: compile spare.c of part prog",
        "first error: spare.c:1:1: expected",
        "because spare",
        "log: TREE/boltboard-work/logs/objects+prog+spare.c.o.log",
        "command: mkdir -p TREE/boltboard-work/builds/mine/again && cd TREE && ",
    ]);
    assert!(tree.read("boltboard-work/logs/objects+prog+spare.c.o.log").contains("int spare_too"));
    // The command is there to be run by hand, from anywhere.
    let command = told.err.lines().find_map(|line| line.trim().strip_prefix("command: ")).expect("a command");
    let command = command.replace("TREE", &tree.path().display().to_string());
    let by_hand = std::process::Command::new("sh").args(["-c", &command]).current_dir("/").output().expect("a shell");
    assert!(String::from_utf8_lossy(&by_hand.stderr).contains("spare.c:1:1: error: expected"), "{by_hand:?}");
}

#[test]
fn a_step_that_fails_once_as_if_the_machine_were_at_fault_runs_again_alone() {
    let killed = "case \"$*\" in *spare.c*-c*) [ -e once ] || { touch once; kill -9 $$; };; esac";
    let tree = warned();
    with_compiler(&tree, "build", killed)
        .code(0)
        .steps(3)
        .says(&["Flaky: spare.c failed beside others and passed alone."]);

    let tree = warned();
    let without_memory = "case \"$*\" in *spare.c*-c*) echo 'cc1: out of memory allocating 9 bytes' >&2; exit 1;; esac";
    with_compiler(&tree, "build", without_memory).code(1).complains(&["failed: compile spare.c", "out of memory"]);

    // What is wrong with the source is not tried again.
    let tree = warned();
    let counted = "case \"$*\" in *spare.c*-c*) echo >> tries; exit 1;; esac";
    with_compiler(&tree, "build", counted).code(1);
    assert_eq!(tree.read("tries"), "\n");
}

#[test]
fn nice_builds_let_other_work_go_first() {
    let board = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.text]\nkind = \"generated\"\n\
                 command = [\"sh\", \"-c\", \"nice > ${step:output}\"]\noutput = [\"text\"]\n";
    let tree = Scratch::with(&[("boltboard.toml", board)]);
    tree.run("build").code(0);
    let niceness = || tree.read("boltboard-work/builds/mine/made/text").trim().parse::<i32>().expect("a number");
    let usual = niceness();
    tree.run("clean --store").code(0);
    tree.run("build --nice").code(0);
    assert!(niceness() > usual, "{} after {usual}", niceness());
}

/// Of each lane of a build's course, when steps ran: start and end.
fn lanes(tree: &Scratch) -> BTreeMap<u64, Vec<(u64, u64)>> {
    tree.run("ledger --timeline t.json").code(0);
    let trace: serde_json::Value = serde_json::from_str(&tree.read("t.json")).expect("JSON");
    let mut lanes: BTreeMap<u64, Vec<(u64, u64)>> = BTreeMap::new();
    for event in trace["traceEvents"].as_array().expect("events").iter().filter(|event| event["ph"] == "X") {
        let number = |key: &str| event[key].as_u64().expect("a number");
        lanes.entry(number("tid")).or_default().push((number("ts"), number("ts") + number("dur")));
    }
    lanes.values_mut().for_each(|spans| spans.sort_unstable());
    lanes
}

#[test]
fn no_more_steps_run_at_once_than_there_are_jobs() {
    let board = BOARD.replace("[\"main.c\"", "[\"main.c\", \"more/*.c\"");
    for jobs in [1, 3] {
        let tree = warned();
        tree.write("boltboard.toml", &board);
        for number in 0..12 {
            tree.write(&format!("more/m{number}.c"), &format!("int m{number}(void) {{ return {number}; }}\n"));
        }
        with_compiler(&tree, &format!("build --jobs {jobs}"), "case \"$*\" in *more/*-c*) sleep 0.05;; esac").code(0);
        let lanes = lanes(&tree);
        assert_eq!(lanes.len(), jobs, "{lanes:?}");
        assert_eq!(lanes.values().map(Vec::len).sum::<usize>(), 16, "14 compiles, the link, the option header");
        for spans in lanes.values() {
            assert!(spans.windows(2).all(|pair| pair[0].1 <= pair[1].0), "a job does one step at a time: {spans:?}");
        }
    }
}

#[test]
fn a_test_of_the_tree_that_hangs_is_ended_at_its_limit() {
    let board = format!(
        "{BOARD}[test.hangs]\ncommand = [\"sh\", \"-c\", \"echo begun; sleep 60\"]\nlimit-seconds = 1\n\
         [test.passes]\ncommand = [\"${{part:prog}}\"]\n"
    );
    let tree = warned();
    tree.write("boltboard.toml", &board);
    let begun = std::time::Instant::now();
    tree.run("test --report out.xml").code(1).says(&[
        "failed    hangs",
        "stopped after 1 s, its time limit",
        "begun",
        "1 test passed, 1 failed",
    ]);
    assert!(begun.elapsed() < std::time::Duration::from_secs(30));
    let report = tree.read("out.xml");
    assert!(
        report.starts_with("<?xml") && report.contains("tests=\"2\"") && report.contains("failures=\"1\""),
        "{report}"
    );
    assert!(report.contains("<testcase") && report.contains("name=\"hangs\""), "{report}");
}

#[test]
fn what_is_decided_on_the_way_is_told_where_it_is_asked_for() {
    let tree = Scratch::with(crate::harness::MINI);
    let traced = |words: &str| {
        let output = tree.command(words).env("BOLTBOARD_TRACE", "debug").output().expect("it runs");
        String::from_utf8_lossy(&output.stderr).into_owned()
    };
    // What has just changed cannot be sealed yet.
    std::thread::sleep(std::time::Duration::from_millis(60));
    let said = traced("build");
    for piece in
        ["opened", "resolved by narrowing alone", "judged step=\"out/bin/mini\"", "verdict=\"runs\"", "ended program="]
    {
        assert!(said.contains(piece), "no {piece} in {said}");
    }
    assert!(traced("build").contains("the seal of the last build answers=true"), "to ask changes nothing");
    assert!(!tree.run("build").code(0).err.contains("judged"), "it is off by default");
}

#[test]
fn of_very_many_problems_the_first_are_shown_and_the_others_counted() {
    let wrong: String = (0..70).map(|at| format!("lamp{at} = 1\n")).collect();
    let tree = Scratch::with(&[(
        "boltboard.toml",
        &format!("format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[option.bell]\nkind = \"switch\"\n{wrong}"),
    )]);
    let told = tree.run("options").code(3);
    let told = told.complains(&["lamp0", "70 problems, 50 of them shown; the same command with --json tells all"]);
    assert_eq!(told.err.matches("error:").count(), 50);
    assert_eq!(tree.run("options --json").code(3).json()["errors"].as_array().expect("a list").len(), 70);
}
