use std::sync::Mutex;
use std::time::Duration;

use super::*;
use crate::launch::{Exit, Job, Launch, Outcome, ScriptedLaunch};
use crate::plan::Plan;

use crate::reading::TokenMemo;
use crate::step::{Step, StepId};
use crate::work::StatusMemo;

use crate::store::Store;
use crate::testing::{Planner, TestTree};

const TREE: &str = r#"
[part.low]
kind = "static-library"
sources = ["low/*.c"]
[part.a]
kind = "program"
sources = ["a.c"]
uses = ["low"]
[part.b]
kind = "program"
sources = ["b.c"]
"#;

fn tree() -> TestTree {
    TestTree::new(
        TREE,
        &[("low/one.c", "int one;\n"), ("low/two.c", "int two;\n"), ("a.c", "int a;\n"), ("b.c", "int b;\n")],
    )
}

/// Writes what was asked for with `-o` (or after `qcDs`), with the content of all other files among the words, so that
/// results follow from inputs as those of real tools do.
fn pretend(job: &Job) -> Outcome {
    let mut content = String::new();
    let mut output = None;
    let mut words = job.arguments.iter();
    while let Some(word) = words.next() {
        match word.as_str() {
            "-o" | "qcDs" => output = words.next(),
            "-MF" => {
                let file = words.next().expect("a file");
                let source = job.arguments.iter().find(|w| w.ends_with(".c")).expect("a source");
                std::fs::write(file, format!("x: {source}\n")).expect("written");
            }
            word => content += &std::fs::read_to_string(job.folder.join(word)).unwrap_or_default(),
        }
    }
    std::fs::write(output.expect("an output"), content).expect("written");
    ended(Exit::Code(0), "")
}

fn ended(exit: Exit, stderr: &str) -> Outcome {
    Outcome {
        exit,
        stdout: vec![],
        stderr: stderr.into(),
        wall: Duration::from_millis(3),
        used: Default::default(),
        sight: None,
    }
}

#[derive(Default)]
struct Seen {
    started: Vec<String>,
    ended: Vec<String>,
    failed: Vec<String>,
}

impl Watch for Seen {
    fn begins(&mut self, _steps: usize) {}
    fn starts(&mut self, _id: StepId, step: &Step) {
        self.started.push(step.name.clone());
    }
    fn ends(&mut self, _id: StepId, step: &Step, _ran: &Ran, _work_left_ms: u64) {
        self.ended.push(step.name.clone());
    }
    fn fails(&mut self, failure: &Failure, step: &Step) {
        self.failed.push(format!("{}: {}", step.name, failure.cause));
    }
}

struct Built {
    report: BuildReport,
    seen: Seen,
}

fn build_with(
    tree: &TestTree,
    plan: &Plan,
    planner: &Planner,
    launch: &dyn Launch,
    after_failure: AfterFailure,
    stopped: &(dyn Fn() -> bool + Sync),
) -> Built {
    // What was written within the same step of the clock of files may have been written while a step ran.
    std::thread::sleep(Duration::from_millis(12));
    let (store, status, tokens) = (Store::at(&tree.root().join("store")), StatusMemo::default(), TokenMemo::default());
    let input = BuildInput {
        only: None,
        crew: None,
        since: None,
        plan,
        store: &store,
        status: &status,
        tokens: &tokens,
        launch,
        tools: &planner.tools,
        logs: tree.root().join("logs"),
        jobs: Jobs::of(1),
        reads: Reads::Free,
        watching: Watching::Some { seed: 1 },
        after_failure,
        seal: None,
        stopped,
    };
    let mut seen = Seen::default();
    let report = build(&input, &mut seen).unwrap_or_else(|fault| panic!("{fault}"));
    Built { report, seen }
}

fn built(tree: &TestTree, answer: impl Fn(&Job) -> Outcome + Sync, after_failure: AfterFailure) -> Built {
    let planner = Planner::new(tree, "", true);
    let launch = ScriptedLaunch::new(answer);
    build_with(tree, &planner.plan(), &planner, &launch, after_failure, &|| false)
}

#[test]
#[should_panic(expected = "boltboard itself is at fault at objects/")]
fn a_worker_that_breaks_ends_the_build_with_a_word() {
    built(&tree(), |_| panic!("a wrong turn"), AfterFailure::Stop);
}

#[test]
fn steps_run_once_after_those_that_they_read_from() {
    let tree = tree();
    let first = built(&tree, pretend, AfterFailure::Stop);
    assert_eq!((first.report.ran.len(), first.report.current, first.report.left), (7, 0, 0));
    let at = |name: &str| first.seen.started.iter().position(|n| n == name).expect("it ran");
    assert!(at("objects/low/low/one.c.o") < at("out/lib/liblow.a") && at("out/lib/liblow.a") < at("out/bin/a"));
    assert_eq!(
        std::fs::read_to_string(tree.root().join("build/parts/bin/a")).expect("made"),
        "int a;\nint one;\nint two;\n"
    );
    let again = built(&tree, |_| ended(Exit::Code(1), "nothing may run"), AfterFailure::Stop);
    assert_eq!((again.report.ran.len(), again.report.current), (0, 7));
    assert_eq!(again.seen.started, Vec::<String>::new());
}

#[test]
fn an_edit_runs_what_reads_it_and_what_follows() {
    let tree = tree();
    built(&tree, pretend, AfterFailure::Stop);
    tree.write("low/two.c", "int other;\n");
    let next = built(&tree, pretend, AfterFailure::Stop);
    assert_eq!(next.seen.started, ["objects/low/low/two.c.o", "out/lib/liblow.a", "out/bin/a"]);
    tree.write("low/two.c", "int two;\n");
    let back = built(&tree, |_| ended(Exit::Code(1), ""), AfterFailure::Stop);
    assert_eq!((back.report.ran.len(), back.report.from_store.len()), (0, 3));
}

#[test]
fn a_result_that_comes_out_the_same_stops_there() {
    let tree = tree();
    let constant = |job: &Job| {
        let outcome = pretend(job);
        let output = job.arguments.iter().skip_while(|w| *w != "-o").nth(1);
        if let Some(output) = output.filter(|o| o.ends_with("two.c.o")) {
            std::fs::write(output, "always the same").expect("written");
        }
        outcome
    };
    built(&tree, constant, AfterFailure::Stop);
    tree.write("low/two.c", "int other;\n");
    let next = built(&tree, constant, AfterFailure::Stop);
    assert_eq!(next.seen.started, ["objects/low/low/two.c.o"]);
}

#[test]
fn the_longest_way_goes_first() {
    let tree = tree();
    let slow = |job: &Job| {
        let slow = job.arguments.iter().any(|w| w.ends_with("low/two.c"));
        Outcome { wall: Duration::from_millis(if slow { 900 } else { 3 }), ..pretend(job) }
    };
    built(&tree, slow, AfterFailure::Stop);
    for file in ["low/one.c", "low/two.c", "a.c", "b.c"] {
        tree.write(file, "int changed;\n");
    }
    let next = built(&tree, slow, AfterFailure::Stop);
    assert_eq!(next.seen.started[0], "objects/low/low/two.c.o", "{:?}", next.seen.started);
}

#[test]
fn what_is_killed_runs_again_alone_and_is_called_unsteady() {
    let tree = tree();
    let (killed, beside) = (Mutex::new(0), Mutex::new(Vec::new()));
    let running = std::sync::atomic::AtomicUsize::new(0);
    let answer = |job: &Job| {
        use std::sync::atomic::Ordering;
        let others = running.fetch_add(1, Ordering::SeqCst);
        let is_two = job.arguments.iter().any(|word| word.ends_with("two.c"));
        let mut times = killed.lock().expect("unpoisoned");
        let outcome = if is_two && *times == 0 {
            *times += 1;
            ended(Exit::Signal(9), "")
        } else {
            if is_two {
                beside.lock().expect("unpoisoned").push(others);
            }
            pretend(job)
        };
        drop(times);
        running.fetch_sub(1, Ordering::SeqCst);
        outcome
    };
    let built = built(&tree, answer, AfterFailure::Stop);
    assert!(built.report.failures.is_empty() && built.seen.failed.is_empty());
    assert_eq!((built.report.ran.len(), built.report.unsteady.len()), (7, 1));
    assert_eq!(*beside.lock().expect("unpoisoned"), [0], "it had the machine to itself");
}

#[test]
fn what_is_killed_twice_has_failed() {
    let tree = tree();
    let answer = |job: &Job| {
        let is_two = job.arguments.iter().any(|word| word.ends_with("two.c"));
        if is_two { ended(Exit::Code(1), "cc1: out of memory allocating 99 bytes") } else { pretend(job) }
    };
    let built = built(&tree, answer, AfterFailure::Stop);
    assert_eq!((built.report.failures.len(), built.report.unsteady.len()), (1, 0));
    assert_eq!(built.seen.started.iter().filter(|name| name.ends_with("two.c.o")).count(), 2);
}

fn failing(job: &Job) -> Outcome {
    if job.arguments.iter().any(|w| w == "low/one.c") {
        return ended(Exit::Code(1), "low/one.c:1:5: error: no such thing\n");
    }
    pretend(job)
}

#[test]
fn a_failure_stops_or_lets_the_rest_go_on() {
    for (after, done, left) in [(AfterFailure::Stop, 0, 6), (AfterFailure::GoOn, 4, 2)] {
        let tree = tree();
        let next = built(&tree, failing, after);
        let report = &next.report;
        assert_eq!(next.seen.failed, ["objects/low/low/one.c.o: it ended with exit code 1"]);
        assert!(report.ran.len() >= done && report.left <= left && report.ran.len() + report.left == 6, "{after:?}");
        let failure = &report.failures[0];
        assert_eq!(failure.first.as_ref().map(|f| f.message.as_str()), Some("no such thing"));
        assert!(
            failure.command.starts_with("mkdir -p ")
                && failure.command.contains("/again/one.c.o")
                && !failure.command.contains("-MD")
        );
        let log = std::fs::read_to_string(failure.log.as_ref().expect("a log")).expect("readable");
        assert!(log.contains("no such thing"));
        let mended = built(&tree, pretend, AfterFailure::Stop);
        assert_eq!(mended.report.ran.len(), 7 - report.ran.len(), "what was done is not done again");
    }
}

#[test]
fn nothing_of_a_failed_step_is_in_place() {
    let tree = tree();
    let half = |job: &Job| {
        pretend(job);
        ended(Exit::Signal(11), "")
    };
    let next = built(&tree, half, AfterFailure::GoOn);
    assert!(next.seen.failed[0].ends_with("it crashed (SIGSEGV)"));
    assert!(!tree.root().join("build/objects").exists() && !tree.root().join("build/aside").join("0").exists());
}

#[test]
fn what_is_not_written_or_not_started_is_told() {
    let tree = tree();
    let idle = built(&tree, |_| ended(Exit::Code(0), ""), AfterFailure::Stop);
    assert!(idle.seen.failed[0].contains("it succeeded but did not write objects/"), "{:?}", idle.seen.failed);
    let silent = |job: &Job| {
        let ended = pretend(job);
        let list = job.arguments.iter().skip_while(|word| *word != "-MF").nth(1);
        list.map(std::fs::remove_file);
        ended
    };
    let unsure = built(&tree, silent, AfterFailure::Stop);
    assert!(unsure.seen.failed[0].contains("did not write the list of the files"), "{:?}", unsure.seen.failed);
    assert!(!tree.root().join("build/objects").exists(), "nothing is in place that could not be judged later");
    let mut planner = Planner::new(&tree, "", true);
    planner.tools = crate::testing::no_tools();
    let launch = ScriptedLaunch::new(pretend);
    let none = build_with(&tree, &planner.plan(), &planner, &launch, AfterFailure::Stop, &|| false);
    assert!(matches!(&none.report.failures[0].cause, Cause::NoTool(why) if why.contains("cc is not")));
    assert!(launch.asked().is_empty());
}

#[test]
fn a_stop_starts_nothing_more() {
    let tree = tree();
    let planner = Planner::new(&tree, "", true);
    let count = Mutex::new(0);
    let launch = ScriptedLaunch::new(|job: &Job| {
        *count.lock().expect("unpoisoned") += 1;
        pretend(job)
    });
    let stopped = || *count.lock().expect("unpoisoned") >= 2;
    let half = build_with(&tree, &planner.plan(), &planner, &launch, AfterFailure::Stop, &stopped);
    assert!(half.report.interrupted && half.report.ran.len() == 2 && half.report.left == 5);
    let rest = built(&tree, pretend, AfterFailure::Stop);
    assert_eq!((rest.report.ran.len(), rest.report.current), (5, 2));
}

#[test]
fn what_is_no_longer_made_is_removed() {
    let tree = tree();
    built(&tree, pretend, AfterFailure::Stop);
    let head = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n";
    tree.write("boltboard.toml", &format!("{head}{}", TREE.split("[part.b]").next().expect("the first parts")));
    let next = built(&tree, pretend, AfterFailure::Stop);
    assert_eq!(next.report.removed, ["objects/b/b.c.o", "out/bin/b"]);
    assert!(!tree.root().join("build/objects/b").exists() && tree.root().join("build/parts/bin/a").exists());
}
