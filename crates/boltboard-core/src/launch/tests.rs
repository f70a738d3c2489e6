use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use super::*;

fn shell(script: &str) -> Job {
    Job {
        program: "/bin/sh".into(),
        arguments: vec!["-c".into(), script.into()],
        folder: "/".into(),
        environment: [("GIVEN".to_string(), "yes".to_string())].into(),
        limit: None,
        ..Job::default()
    }
}

fn run(job: &Job) -> Outcome {
    RealLaunch::default().run(job).expect("it starts")
}

#[test]
fn output_and_endings_are_told_apart() {
    let outcome = run(&shell("echo out; echo err >&2; exit 3"));
    assert_eq!((outcome.stdout_text().as_str(), outcome.stderr_text().as_str()), ("out\n", "err\n"));
    assert_eq!(outcome.exit, Exit::Code(3));
    assert_eq!(run(&shell("kill -TERM $$")).exit, Exit::Signal(15));
    let error =
        RealLaunch::default().run(&Job { program: "/surely/not/there".into(), ..shell("") }).expect_err("absent");
    assert_eq!(error.to_string(), "cannot start /surely/not/there");
}

#[test]
fn the_environment_is_what_was_given_and_there_is_no_input() {
    let outcome = run(&shell("echo ${GIVEN}-${HOME:-none}; cat; pwd"));
    assert_eq!(outcome.stdout_text(), "yes-none\n/\n");
}

#[test]
fn a_limit_ends_the_process_with_its_children() {
    let started = Instant::now();
    let job = Job { limit: Some(Duration::from_millis(150)), ..shell("sleep 30 & sleep 30; echo never") };
    assert_eq!(run(&job).exit, Exit::TimedOut);
    assert!(started.elapsed() < Duration::from_secs(20), "children that hold the pipes are ended too");
}

#[test]
fn a_stop_ends_what_runs_and_starts_nothing_more() {
    let launch = RealLaunch::default();
    let stopper = launch.stopper();
    let ended = std::thread::scope(|scope| {
        let running = scope.spawn(|| launch.run(&shell("sleep 30")).expect("it starts").exit);
        std::thread::sleep(Duration::from_millis(100));
        stopper.stop();
        running.join().expect("ends")
    });
    assert_eq!(ended, Exit::Stopped);
    assert!(launch.is_stopped());
    assert_eq!(launch.run(&shell("echo x")).expect("answers").exit, Exit::Stopped);
}

fn is_there(pid: &str) -> bool {
    // A process that nobody has waited for yet is over all the same.
    let status = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
    !status.is_empty() && !status.contains(") Z ")
}

#[test]
fn what_a_process_leaves_running_ends_with_it() {
    let outcome = run(&shell("sleep 30 >/dev/null 2>&1 & echo $!"));
    let left = outcome.stdout_text();
    assert_eq!(outcome.exit, Exit::Code(0));
    std::thread::sleep(Duration::from_millis(50));
    assert!(!is_there(left.trim()));
    assert!(outcome.used.memory > 100 * 1024, "a shell takes {} bytes", outcome.used.memory);
}

#[test]
fn a_guard_ends_the_groups_that_are_left_when_the_pipe_closes() {
    let start = || {
        let mut command = std::process::Command::new("sleep");
        std::os::unix::process::CommandExt::process_group(command.arg("30"), 0).spawn().expect("it starts")
    };
    let (mut left, mut done) = (start(), start());
    serve_guard(&b""[..], format!("{:<11}\n           \nnoise\n0\n", left.id()).as_bytes());
    assert!(!left.wait().expect("it ended").success());
    assert!(is_there(&done.id().to_string()), "it is not in the list");
    done.kill().expect("it runs");
    done.wait().expect("it ended");
}

#[test]
fn a_guard_s_list_holds_what_runs() {
    // In the place of the guard: it shows the list once the pipe is closed.
    let folder = tempfile::tempdir().expect("a folder");
    let shown = folder.path().join("shown");
    let script = format!("cat >/dev/null; cat <&1 >{}", shown.display());
    let guard = Guard::start(Path::new("/bin/sh"), &["-c", &script]).expect("it starts");
    for group in [11, 12, 13] {
        guard.started(group);
    }
    guard.ended(12);
    guard.ended(99);
    guard.started(2_000_000_014);
    guard.ended(13);
    drop(guard);
    let shown = std::fs::read_to_string(shown).expect("shown");
    assert_eq!(shown.split_whitespace().collect::<Vec<_>>(), ["11", "2000000014"]);
}

#[test]
fn nobody_waits_for_what_a_process_leaves_running() {
    let started = Instant::now();
    let outcome = run(&shell("sleep 30 & echo said; echo more >&2"));
    assert_eq!((outcome.stdout_text().as_str(), outcome.stderr_text().as_str()), ("said\n", "more\n"));
    assert!(started.elapsed() < Duration::from_secs(20), "it held the pipes");
}

#[test]
fn a_limit_holds_for_a_process_that_says_nothing_more() {
    let started = Instant::now();
    let job = Job { limit: Some(Duration::from_millis(150)), ..shell("exec >/dev/null 2>&1; sleep 30; sleep 30") };
    assert_eq!(run(&job).exit, Exit::TimedOut);
    assert!(started.elapsed() < Duration::from_secs(20));
}

#[test]
fn a_flood_of_output_blocks_nobody() {
    let outcome = run(&shell("i=0; while [ $i -lt 20000 ]; do echo 0123456789; echo x >&2; i=$((i+1)); done"));
    assert_eq!((outcome.stdout.len(), outcome.stderr.len()), (220_000, 40_000));
}

#[test]
fn programs_are_found_as_a_shell_finds_them() {
    let folder = tempfile::tempdir().expect("a folder");
    let at = |path: &str| folder.path().join(path);
    for (name, mode) in [("one/tool", 0o644), ("two/tool", 0o755), ("three/tool", 0o755)] {
        std::fs::create_dir_all(at(name).parent().expect("a parent")).expect("made");
        std::fs::write(at(name), "").expect("written");
        std::fs::set_permissions(at(name), std::os::unix::fs::PermissionsExt::from_mode(mode)).expect("permissions");
    }
    std::fs::create_dir_all(at("zero/tool")).expect("a folder of that name");
    let path: Vec<String> = ["zero", "one", "two", "three"].iter().map(|f| at(f).display().to_string()).collect();
    let path = format!(":{}", path.join(":"));
    assert_eq!(find_program("tool", &path, Path::new("/")), Some(at("two/tool")), "neither folders nor plain files");
    assert_eq!(find_program("none", &path, Path::new("/")), None);
    assert_eq!(find_program("three/tool", "", folder.path()), Some(at("three/tool")));
    assert_eq!(find_program("one/tool", "", folder.path()), None::<PathBuf>);
}
