//! What a build tells and keeps: explanations, timelines, tests that need not run again, limits of the store; and what is left when
//! it ends before its time: nothing.

use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::harness::{MINI, Scratch};

fn built() -> Scratch {
    let tree = Scratch::with(MINI);
    tree.run("build").code(0);
    tree
}

#[test]
fn a_file_s_fate_is_explained_down_to_what_differs() {
    let tree = built();
    tree.run("preview --why src/depth.c").code(0).says(&[
        "compile src/depth.c  for part mini",
        "would not run: nothing that it depends on has changed since its last run",
        "MINI_DEPTH: 3",
    ]);
    tree.run("set depth=4").code(0);
    tree.run("preview --why src/depth.c").code(0).says(&["would run:", "MINI_DEPTH 3 → 4"]);
    tree.run("build --why src/main.c").code(0).says(&["compile src/main.c", "would not run", "Built"]);
    tree.edit("src/mini.h", "int depth(void);", "int depth(void);\nint tide(void);");
    let told = tree.run("preview --why src/mini.h").code(0);
    told.says(&["compile src/depth.c", "compile src/main.c", "src/mini.h has changed"]);
    tree.run("preview --why src/dept.c").code(2).complains(&["no step compiles, reads or makes `src/dept.c`"]);
}

#[test]
fn a_build_s_course_is_written_as_trace_events_and_drawn() {
    let tree = Scratch::with(MINI);
    tree.run("ledger --timeline t.json").code(2).complains(&["was not built here yet"]);
    tree.run("build").code(0);
    tree.run("ledger --timeline t.json").code(0).says(&["Wrote when 5 steps ran"]);
    let trace: serde_json::Value = serde_json::from_str(&tree.read("t.json")).expect("JSON");
    let events = trace["traceEvents"].as_array().expect("events");
    let compile = events.iter().find(|event| event["name"] == "compile src/depth.c").expect("the compile");
    assert_eq!((compile["ph"].as_str(), compile["args"]["part"].as_str()), (Some("X"), Some("mini")));
    let link = events.iter().find(|event| event["cat"] == "link").expect("the link");
    let end = |event: &serde_json::Value| event["ts"].as_u64().zip(event["dur"].as_u64()).map(|(at, long)| at + long);
    assert!(end(compile) <= link["ts"].as_u64(), "a link starts after the compile that it reads from");
    tree.run("set depth=4").code(0);
    tree.run("build").code(0);
    tree.run("ledger --timeline t.svg --growth g.svg").code(0).says(&["Drew 2 builds"]);
    for (file, word) in [("t.svg", "seconds from the start"), ("g.svg", "builds, oldest first")] {
        let picture = tree.read(file);
        assert!(picture.starts_with("<svg") && picture.contains(word), "{file}");
        assert!(!picture.contains("href"), "{file} needs nothing beside it");
    }
    tree.run("ledger --timeline t.png").code(2).complains(&[".json or .svg"]);
    tree.run("ledger").code(0).says(&["option depth: MINI_DEPTH 3 → 4", "On disk: sources", "Slowest"]);
}

const TESTED: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[part.one]
kind = "program"
sources = ["one.c"]
[part.two]
kind = "program"
sources = ["two.c"]
[test.one]
parts = ["one"]
command = ["${part:one}"]
[test.two]
parts = ["two"]
command = ["${part:two}"]
[test.meets]
parts = ["two"]
command = ["sh", "-c", "touch MEET/a; until [ -e MEET/b ]; do sleep 0.05; done; ${part:two}"]
[test.meets-too]
parts = ["two"]
command = ["sh", "-c", "touch MEET/b; until [ -e MEET/a ]; do sleep 0.05; done; ${part:two}"]
"#;

#[test]
fn tests_run_side_by_side_and_again_only_after_a_change() {
    let meet = tempfile::tempdir().expect("a folder");
    let tree = Scratch::with(&[
        ("boltboard.toml", &TESTED.replace("MEET", &meet.path().display().to_string())),
        ("one.c", "int main(void) { return 0; }\n"),
        ("two.c", "int main(void) { return 0; }\n"),
    ]);
    tree.run("build").code(0);
    // Two of them wait for each other, and would wait for ever in a row.
    tree.run("test --jobs 4").code(0).says(&["4 tests passed, 0 failed"]);
    tree.run("test --all --jobs 1").code(0).says(&["4 tests passed, 0 failed"]);
    tree.run("test").code(0).says(&["0 tests passed, 0 failed, 4 unchanged since they passed"]);
    tree.write("one.c", "int main(void) { return 3; }\n");
    tree.run("test").code(1).says(&["failed    one", "exit code 3", "3 unchanged"]);
    tree.run("test").code(1).says(&["failed    one"]);
    tree.write("one.c", "int main(void) { return 0; }\n");
    tree.run("test").code(0).says(&["1 test passed, 0 failed, 3 unchanged"]);
    tree.run("test --report out.xml").code(0).says(&["unchanged one", "4 unchanged"]);
    assert!(tree.read("out.xml").contains("nothing that it runs or reads has changed"));
    tree.run("test two").code(0).says(&["1 test passed"]);
    tree.run("test --all").code(0).says(&["4 tests passed, 0 failed\n"]);
}

#[test]
fn the_store_keeps_to_its_limits() {
    let tree = built();
    tree.run("set depth=4").code(0);
    tree.run("build").code(0);
    tree.run("clean --store-limit much").code(2).complains(&["`much` is not a size"]);
    tree.run("clean --store-limit 1GiB").code(0).says(&["Dropped 0 results"]);
    tree.run("clean --store-limit 0B").code(0).says(&["Dropped"]);
    tree.run("build").code(0).steps(0);
    tree.run("set depth=3").code(0);
    tree.run("build --verify").code(0).says(&["byte for byte"]);
}

/// A tree whose generator writes its number and then sleeps.
fn sleeping() -> Scratch {
    let board = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.text]\nkind = \"generated\"\n\
                 command = [\"sh\", \"${path:tree}/slow.sh\", \"${path:tree}/pid\"]\noutput = [\"text.h\"]\n";
    Scratch::with(&[("boltboard.toml", board), ("slow.sh", "sleep 60 &\necho $! > $1.new\nmv $1.new $1\nwait\n")])
}

fn is_running(pid: &str) -> bool {
    let status = std::fs::read_to_string(format!("/proc/{}/stat", pid.trim())).unwrap_or_default();
    !status.is_empty() && !status.contains(") Z ")
}

fn wait_until(what: &str, holds: impl Fn() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(20), "{what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn nothing_outlives_an_interrupted_or_a_killed_build() {
    for (signal, code) in [("-INT", Some(130)), ("-KILL", None)] {
        let tree = sleeping();
        let mut child = tree.command("build").stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts");
        wait_until("the step starts", || tree.at("pid").exists());
        let (step, tool) = (tree.read("pid"), child.id().to_string());
        assert!(is_running(&step));
        let sent = std::process::Command::new("sh").args(["-c", &format!("kill {signal} {tool}")]).status();
        assert!(sent.expect("a shell").success());
        assert_eq!(child.wait().expect("it ends").code(), code, "{signal}");
        wait_until("the step's own child ends", || !is_running(&step));
        std::fs::write(tree.at("slow.sh"), "exit 3\n").expect("written");
        tree.run("build").code(1).says(&["Not built"]);
    }
}

#[test]
fn a_generator_that_reads_what_it_does_not_declare_is_named() {
    let board = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.text]\nkind = \"generated\"\n\
                 command = [\"sh\", \"-c\", \"cat words.txt hidden.txt > ${step:output}\"]\n\
                 reads = [\"words.txt\"]\noutput = [\"text.h\"]\n";
    let tree = Scratch::with(&[("boltboard.toml", board), ("words.txt", "int a;\n"), ("hidden.txt", "int b;\n")]);
    let told = tree.run("build --check-reads");
    if told.err.contains("this kernel cannot keep a process from reading") {
        return;
    }
    told.code(1).complains(&["it reads hidden.txt, which it does not declare: add it to its `reads`"]);
    assert_eq!(
        tree.read("boltboard-work/builds/mine/made/text.h"),
        "int a;\nint b;\n",
        "the build itself is as it was"
    );
    tree.edit("boltboard.toml", "[\"words.txt\"]", "[\"words.txt\", \"hidden.txt\"]");
    tree.run("build --check-reads").code(0).says(&["byte for byte"]);
    tree.run("build --verify").code(0).says(&["byte for byte"]);
}

#[test]
fn a_new_option_need_or_macro_runs_only_what_can_see_it() {
    let tree = Scratch::with(MINI);
    tree.edit("src/depth.c", "#include", "#ifdef MINI_GONG\nint gong;\n#endif\n#include");
    tree.run("build").code(0);
    let definitions = tree.read("boltboard.toml");
    let with = |more: &str| tree.write("boltboard.toml", &format!("{definitions}\n{more}"));
    // The header itself is written anew, which takes no time.
    let runs = || tree.previewed("run").into_iter().filter(|step| !step.starts_with("write ")).collect::<Vec<_>>();
    for (what, more) in [
        ("an option that nothing names", "[option.bell]\nkind = \"switch\"\ndefault = \"on\"\n"),
        ("a pick that nothing names", "[option.tone]\nkind = \"pick\"\nvalues = [\"high\", \"low\"]\n"),
        ("a need of nothing", "[need.stdio]\nheader = \"stdio.h\"\n"),
        ("a section", "[section.loud]\ntitle = \"Loud\"\n"),
        ("another header", "[header.more]\noutput = \"mini/more.h\"\nprefix = \"MORE_\"\n"),
    ] {
        with(more);
        assert_eq!(runs(), Vec::<String>::new(), "{what}");
        assert_eq!(tree.previewed("follow"), Vec::<String>::new(), "{what}");
    }
    with("[option.gong]\nkind = \"switch\"\ndefault = \"on\"\n");
    assert_eq!(runs(), ["compile src/depth.c"]);
    tree.run("build").code(0);
    tree.equals_clean();
    tree.write("boltboard.toml", &definitions);
    assert_eq!(runs(), Vec::<String>::new(), "what was made before it came is still there");
    tree.run("build").code(0);
    tree.equals_clean();
}
