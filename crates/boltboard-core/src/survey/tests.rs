use std::path::PathBuf;
use std::time::Duration;

use super::*;
use crate::launch::{Exit, Job, Outcome, ScriptedLaunch};
use crate::testing::TestTree;

const NEEDS: &str = r#"
[need.tool]
tool = "sounding-lead"
[need.header]
header = "buoy.h"
[need.library]
library = "buoy"
header = "buoy.h"
link = "buoy"
version = ">= 2"
[need.metadata]
library = "buoy"
[need.link]
link = ["buoy", "chain"]
[need.bundled]
header = "nowhere.h"
bundled = "copy"
[part.copy]
kind = "static-library"
sources = ["c.c"]
"#;

struct Bench {
    tree: TestTree,
    host: Host,
    compiler: Compiler,
}

impl Bench {
    fn new() -> Bench {
        let tree = TestTree::new(NEEDS, &[("scratch/x", ""), ("bin/x", ""), ("include/x", ""), ("pc/x", "")]);
        let at = |path: &str| tree.root().join(path);
        let host = Host {
            search_path: at("bin").display().to_string(),
            metadata_folders: vec![at("pc")],
            scratch: at("scratch"),
        };
        let compiler = Compiler {
            path: "/usr/bin/cc".into(),
            version: "cc version 1".into(),
            identity: crate::base::Digest::of(b"cc"),
            include_folders: vec![at("include")],
        };
        Bench { tree, host, compiler }
    }

    fn states(&self, answer: impl Fn(&Job) -> Outcome + Sync, memo: &ProbeMemo) -> (Vec<FactState>, Vec<Job>) {
        let launch = ScriptedLaunch::new(answer);
        let board = self.tree.board();
        let prober = Prober { host: &self.host, compiler: Some(&self.compiler), launch: &launch, memo };
        let facts = survey(&board, prober);
        (facts.iter().map(|fact| fact.state.clone()).collect(), launch.asked())
    }
}

fn links(_: &Job) -> Outcome {
    Outcome { exit: Exit::Code(0), stdout: vec![], stderr: vec![], wall: Duration::ZERO }
}

fn fails(_: &Job) -> Outcome {
    let stderr = b"In file x:\nld: cannot find -lchain: No such file\n".to_vec();
    Outcome { exit: Exit::Code(1), stdout: vec![], stderr, wall: Duration::ZERO }
}

#[test]
fn on_a_bare_host_everything_is_absent_and_the_bundled_copy_stands_in() {
    let bench = Bench::new();
    let (states, asked) = bench.states(fails, &ProbeMemo::default());
    let absent = FactState::Missing(Missing::Absent);
    let unusable = FactState::Missing(Missing::Unusable { reason: "ld: cannot find -lchain: No such file".into() });
    let copy = bench.tree.board().part("copy").expect("the part");
    let want = [absent.clone(), absent.clone(), absent.clone(), absent, unusable, FactState::Bundled(copy)];
    assert_eq!(states, want);
    assert_eq!(asked.len(), 1, "only the link is tried; the rest is looked up");
}

#[test]
fn what_is_there_is_found_with_its_version_and_flags() {
    let bench = Bench::new();
    bench.tree.write("pc/buoy.pc", "Version: 2.5\nCflags: -DBUOY\nLibs: -lbuoy2\n");
    bench.tree.write("include/buoy.h", "");
    bench.tree.write("bin/sounding-lead", "");
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(bench.tree.root().join("bin/sounding-lead"), mode).expect("permissions");
    let (states, asked) = bench.states(links, &ProbeMemo::default());
    let found =
        Found { version: Some("2.5".into()), compile_flags: vec!["-DBUOY".into()], link_flags: vec!["-lbuoy2".into()] };
    assert_eq!(states[0], FactState::Found(Found::default()));
    assert_eq!(states[2], FactState::Found(found.clone()));
    assert_eq!(states[3], FactState::Found(found));
    let plain = Found { version: None, compile_flags: vec![], link_flags: vec!["-lbuoy".into(), "-lchain".into()] };
    assert_eq!(states[4], FactState::Found(plain));
    let words = asked.iter().map(|job| job.arguments.join(" ")).find(|w| w.contains("library.c")).expect("asked");
    assert!(words.starts_with("-DBUOY ") && words.contains(" -lbuoy2 "), "{words}");
}

#[test]
fn present_but_unfit_is_told_apart() {
    let bench = Bench::new();
    bench.tree.write("pc/buoy.pc", "Version: 1.9\n");
    let state = |bench: &Bench| bench.states(links, &ProbeMemo::default()).0[2].clone();
    assert_eq!(state(&bench), FactState::Missing(Missing::WrongVersion { found: "1.9".into() }));
    bench.tree.write("pc/buoy.pc", "Version: 2.0\n");
    let reason = "its header <buoy.h> is not there".to_string();
    assert_eq!(state(&bench), FactState::Missing(Missing::Unusable { reason }));
    bench.tree.write("pc/buoy.pc", "Version: 2.0\nLibs: ${nothing}\n");
    assert!(
        matches!(state(&bench), FactState::Missing(Missing::Unusable { reason }) if reason.contains("`nothing` is not set"))
    );
    std::fs::remove_file(bench.tree.root().join("pc/buoy.pc")).expect("removed");
    bench.tree.write("include/buoy.h", "");
    let reason = "its version cannot be told without its metadata file".to_string();
    assert_eq!(state(&bench), FactState::Missing(Missing::Unusable { reason }));
}

#[test]
fn the_same_question_is_asked_once() {
    let bench = Bench::new();
    let library = bench.tree.root().join("libchain.so");
    std::fs::write(&library, "elf").expect("written");
    let traced = |_: &Job| Outcome { stdout: format!("{}\n", library.display()).into_bytes(), ..links(&job()) };
    let memo = ProbeMemo::default();
    let first = bench.states(traced, &memo);
    let second = bench.states(fails, &memo);
    assert_eq!((first.1.len(), second.1.len()), (1, 0));
    assert_eq!(first.0, second.0);
    std::fs::write(&library, "another").expect("upgraded");
    assert_eq!(bench.states(fails, &memo).1.len(), 1, "a library that the link read has changed");
}

fn job() -> Job {
    Job { program: PathBuf::new(), arguments: vec![], folder: PathBuf::new(), environment: [].into(), limit: None }
}

#[test]
fn evidence_names_the_places_the_command_and_the_words() {
    let bench = Bench::new();
    let launch = ScriptedLaunch::new(fails);
    let board = bench.tree.board();
    let prober =
        Prober { host: &bench.host, compiler: Some(&bench.compiler), launch: &launch, memo: &ProbeMemo::default() };
    let facts = survey(&board, prober);
    let told = |name: &str| -> Vec<(String, String)> {
        let fact = facts.get(board.need(name).expect("a need")).expect("a fact");
        let root = bench.tree.root().display().to_string();
        fact.evidence.iter().map(|e| (e.tried.replace(&root, "R"), e.found.clone())).collect()
    };
    let not_there = "not there".to_string();
    assert_eq!(told("tool"), [("the program `sounding-lead` in R/bin".into(), not_there.clone())]);
    assert_eq!(told("header"), [("the header <buoy.h> in R/include".into(), not_there)]);
    let words = "ld: cannot find -lchain: No such file".to_string();
    assert_eq!(told("link"), [("/usr/bin/cc link.c -o link.out -lbuoy -lchain".into(), words)]);
}

#[test]
fn compilers_say_who_they_are() {
    let answer = |_: &Job| {
        let text = b"Using built-in specs.\ngcc version 12.2.0 (made up)\n#include \"...\" search starts here:\n#include <...> search starts here:\n /usr/include\nEnd of search list.\n";
        Outcome { exit: Exit::Code(0), stdout: vec![], stderr: text.to_vec(), wall: Duration::ZERO }
    };
    let launch = ScriptedLaunch::new(answer);
    let memo = ProbeMemo::default();
    let found = identify("sh", Language::C, "/bin:/usr/bin", &launch, &memo).expect("found");
    assert_eq!(found.version, "gcc version 12.2.0 (made up)");
    assert_eq!(found.include_folders, [PathBuf::from("/usr/include").canonicalize().expect("real")]);
    identify("sh", Language::C, "/bin:/usr/bin", &launch, &memo).expect("found");
    assert_eq!(launch.asked().len(), 1, "asked once");
    let absent = identify("surely-no-compiler", Language::C, "/bin", &launch, &memo).expect_err("absent");
    assert_eq!(absent.to_string(), "there is no `surely-no-compiler` in the search path");
    let broken = ScriptedLaunch::new(fails);
    let silent = identify("sh", Language::Cxx, "/bin:/usr/bin", &broken, &memo).expect_err("broken");
    assert!(silent.to_string().starts_with("`sh` does not work as a compiler: ld: cannot find"), "{silent}");
}
