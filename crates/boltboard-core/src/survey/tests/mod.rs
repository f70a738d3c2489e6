mod kinds;
mod providers;

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;

use super::*;
use crate::base::Epoch;
use crate::launch::{Exit, Job, Outcome, RealLaunch, ScriptedLaunch};
use crate::testing::TestTree;

/// A made-up host below a temporary folder, with the real C compiler of this machine unless told otherwise.
struct Bench {
    tree: TestTree,
    host: Host,
    tools: Tools,
    memo: ProbeMemo,
}

impl Bench {
    fn new(needs: &str) -> Bench {
        let head = "[part.copy]\nkind = \"static-library\"\nsources = [\"c.c\"]\n";
        let tree =
            TestTree::new(&format!("{needs}\n{head}"), &[("c.c", ""), ("bin/x", ""), ("include/x", ""), ("pc/x", "")]);
        let at = |path: &str| tree.root().join(path);
        std::fs::create_dir_all(at("scratch")).expect("a folder");
        let search_path = "/usr/local/bin:/usr/bin:/bin";
        let host = Host {
            search_path: format!("{}:{search_path}", at("bin").display()),
            metadata_folders: vec![at("pc")],
            sysroot: None,
            aside: at("opt"),
            never_below: vec![at("tree")],
            environment: BTreeMap::new(),
            scratch: at("scratch"),
            jobs: 2,
        };
        let memo = ProbeMemo::default();
        let cxx = Err(CompilerFault::Absent { name: "c++".into() });
        let tools = Tools {
            target: Compilers { c: cxx.clone(), fortran: cxx.clone(), cxx },
            host: None,
            environment: BTreeMap::new(),
            search_path: host.search_path.clone(),
            variables: BTreeMap::new(),
            epoch: Epoch::default(),
            processor: Digest::default(),
        };
        let mut bench = Bench { tree, host, tools, memo };
        // The machine's compiler, with one more folder of headers.
        bench.program("bench-cc", &format!("exec cc -isystem {} \"$@\"", bench.tree.root().join("include").display()));
        bench.take_compiler("bench-cc");
        bench
    }

    fn take_compiler(&mut self, name: &str) {
        let (path, launch) = (&self.host.search_path, RealLaunch::default());
        let memo = ProbeMemo::default();
        let search = CompilerSearch {
            search_path: path,
            sysroot: None,
            never_below: &[],
            environment: &BTreeMap::new(),
            launch: &launch,
            memo: &memo,
        };
        let found = identify(name, Language::C, search);
        self.tools.target.c = Ok(found.expect("a C compiler"));
    }

    fn run(&self, wishes: &Wishes, joining: Joining, launch: &dyn Launch) -> Facts {
        let (host, tools, memo) = (&self.host, &self.tools, &self.memo);
        survey(
            &self.tree.board(),
            wishes,
            Prober { host, own_host: host, machine: Machine::Target, tools, launch, memo, joining },
        )
    }

    /// Counts the processes that a survey starts.
    fn counted(&self, joining: Joining) -> (Facts, usize) {
        let launch = ScriptedLaunch::new(|job: &Job| RealLaunch::default().run(job).expect("it starts"));
        let facts = self.run(&Wishes::default(), joining, &launch);
        (facts, launch.asked().len())
    }

    fn facts(&self) -> Facts {
        self.run(&Wishes::default(), Joining::Together, &RealLaunch::default())
    }

    fn state(&self, facts: &Facts, name: &str) -> String {
        let fact = facts.get(self.tree.board().need(name).expect("a need")).expect("a fact");
        match &fact.state {
            FactState::Found(found) => format!("found {}", found.version.as_deref().unwrap_or("-")),
            FactState::Bundled(_) => "bundled".into(),
            FactState::Missing(missing) => format!("{missing:?}").replace(&self.tree.root().display().to_string(), "R"),
        }
    }

    fn program(&self, name: &str, script: &str) {
        self.tree.write(&format!("bin/{name}"), &format!("#!/bin/sh\n{script}\n"));
        let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        std::fs::set_permissions(self.tree.root().join(format!("bin/{name}")), mode).expect("permissions");
    }

    /// Makes a real shared library that has these functions.
    fn shared_library(&self, path: &str, functions: &[&str]) {
        let source: String = functions.iter().map(|name| format!("int {name}(void) {{ return 1; }}\n")).collect();
        self.tree.write("made.c", &source);
        let at = |path: &str| self.tree.root().join(path);
        std::fs::create_dir_all(at(path).parent().expect("a folder")).expect("made");
        let status = std::process::Command::new("cc")
            .args(["-shared", "-fPIC", "-o"])
            .args([at(path), at("made.c")])
            .status()
            .expect("the compiler runs");
        assert!(status.success());
    }
}

#[test]
fn the_four_kinds_of_not_seen_are_told_apart() {
    let bench = Bench::new(
        r#"
[need.tool]
tool = "sounding-lead"
[need.library]
library = "buoy"
header = "buoy.h"
link = "buoy"
version = ">= 2, != 2.3"
[need.metadata]
library = "nowhere"
[need.loose]
header = "loose.h"
link = "loose"
[need.bundled]
header = "surely/nowhere.h"
bundled = "copy"
[need.lacks]
library = "buoy"
function = "buoy_light"
"#,
    );
    let libs = bench.tree.root().join("lib");
    let pc = |version: &str| {
        let text = format!("Version: {version}\nCflags: -DBUOY\nLibs: -L{} -lbuoy\n", libs.display());
        bench.tree.write("pc/buoy.pc", &text);
    };
    let library = || bench.state(&bench.facts(), "library");
    let facts = bench.facts();
    let absent = |name: &str| assert_eq!(bench.state(&facts, name), "Absent", "{name}");
    ["tool", "library", "metadata", "loose"].iter().for_each(|name| absent(name));
    assert_eq!(bench.state(&facts, "bundled"), "bundled");
    pc("1.9");
    assert_eq!(library(), "WrongVersion { found: \"1.9\" }");
    pc("2.3");
    assert_eq!(library(), "WrongVersion { found: \"2.3\" }");
    pc("2.5");
    assert_eq!(library(), "Unusable { reason: \"its header <buoy.h> was not found\" }");
    bench.tree.write("include/buoy.h", "int buoy(void);\n");
    let state = library();
    assert!(state.starts_with("Unusable") && state.contains("its library buoy was not found"), "{state}");
    bench.shared_library("lib/libbuoy.so", &["buoy"]);
    bench.tree.write("include/buoy.h", "#include <surely/gone.h>\n");
    let state = library();
    assert!(state.contains("cannot be read") && state.contains("surely/gone.h"), "{state}");
    bench.tree.write("include/buoy.h", "int buoy(void);\n");
    assert_eq!(library(), "found 2.5");
    assert_eq!(bench.state(&bench.facts(), "lacks"), "Unusable { reason: \"it has no function buoy_light\" }");
    // An upgrade is noticed although the answer was kept.
    bench.shared_library("lib/libbuoy.so", &["buoy", "buoy_light"]);
    assert_eq!(bench.state(&bench.facts(), "lacks"), "found 2.5");
    // A header without its library.
    bench.tree.write("include/loose.h", "");
    let state = bench.state(&bench.facts(), "loose");
    assert!(state.starts_with("Unusable") && state.contains("its library loose was not found"), "{state}");
    bench.tree.write("pc/buoy.pc", "Version: 2.5\nLibs: ${nothing}\n");
    assert!(library().contains("`nothing` is not set"));
}

#[test]
fn only_what_an_installed_package_touches_is_asked_again() {
    let bench = Bench::new(
        "[need.a]\nheader = \"stdio.h\"\nfunction = \"puts\"\n[need.b]\nheader = \"new.h\"\ntype = \"struct fresh\"\n[need.c]\nlink = \"m\"\n",
    );
    assert_eq!(bench.state(&bench.facts(), "b"), "Absent");
    bench.tree.write("include/new.h", "struct fresh { int x; };\n");
    let (facts, runs) = bench.counted(Joining::Together);
    assert_eq!(bench.state(&facts, "b"), "found -");
    assert!(runs <= 3, "the new header is read, and its type looked for; nothing else");
}

#[test]
fn programs_are_asked_within_limits() {
    let bench = Bench::new(
        r#"
[need.good]
tool = ["chart-ng", "chart"]
version = ">= 1.2"
[need.old]
tool = "old"
version = ">= 1.2"
[need.quiet]
tool = "quiet"
version = ">= 1"
[need.stderr]
tool = "stderr"
version = "= 3.1"
[need.pattern]
tool = "pattern"
version-arguments = "-V"
version-pattern = 'release ([0-9.]+)'
version = ">= 7"
[need.reads]
tool = "reads"
version = ">= 1"
[need.hangs]
tool = "hangs"
version = ">= 1"
[need.there]
tool = "hangs"
[need.perl-module]
interpreter-module = { program = "perl", module = "Tide::Tables" }
"#,
    );
    bench.program("chart", "echo chart 1.4.2");
    bench.program("old", "echo old 1.1");
    bench.program("quiet", "exit 0");
    bench.program("stderr", "echo stderr 3.1 >&2");
    bench.program("pattern", "[ \"$1\" = -V ] && echo 'built 1.0, release 7.5'");
    bench.program("reads", "read x; echo \"reads 1.$x\"");
    bench.program("hangs", "sleep 60");
    bench.program("perl", "echo 'bolt-looked-in /nowhere'; echo 'bolt-loaded 2.1'");
    let facts = bench.facts();
    for (need, want) in [
        ("good", "found 1.4.2"),
        ("old", "WrongVersion { found: \"1.1\" }"),
        ("quiet", "Unusable { reason: \"`quiet --version` says nothing\" }"),
        ("stderr", "found 3.1"),
        ("pattern", "found 7.5"),
        ("reads", "found 1"),
        ("hangs", "Unusable { reason: \"`hangs --version` cannot be asked: it did not end within 5 s\" }"),
        ("there", "found -"),
        ("perl-module", "found 2.1"),
    ] {
        assert_eq!(bench.state(&facts, need), want, "{need}");
    }
}

#[test]
fn a_compiler_that_fails_on_everything_is_said_once() {
    let mut bench = Bench::new(kinds::KINDS);
    let who = "case \"$*\" in *-print-search-dirs*|*/dev/null*) exec cc \"$@\";; esac";
    bench.program("cc-broken", &format!("{who}; echo 'cc-broken: internal error: no licence' >&2; exit 1"));
    bench.take_compiler("cc-broken");
    let facts = bench.facts();
    let fault = facts.compiler_fault.clone().unwrap_or_default();
    assert!(fault.contains("fails on the plainest program: cc-broken: internal error: no licence"), "{fault}");
    for name in ["function", "no-type", "flag", "link", "header"] {
        assert_eq!(bench.state(&facts, name), "NotAsked", "{name}");
    }
    assert_eq!(bench.state(&facts, "file"), "found -", "what needs no compiler is answered all the same");
    assert_eq!(bench.state(&facts, "no-header"), "Absent");
}

#[test]
fn one_that_only_cannot_link_still_answers_what_it_can() {
    let mut bench = Bench::new(kinds::KINDS);
    let compiles = "for a; do case \"$a\" in -E|-c|-fsyntax-only|-print-*) exec cc \"$@\";; esac; done";
    bench.program("cc-half", &format!("{compiles}; echo 'ld: cannot find crt1.o' >&2; exit 1"));
    bench.take_compiler("cc-half");
    let facts = bench.facts();
    assert!(
        facts
            .compiler_fault
            .as_ref()
            .is_some_and(|f| f.contains("cannot link the plainest program: ld: cannot find crt1.o"))
    );
    assert_eq!(bench.state(&facts, "type"), "found -");
    assert_eq!(bench.state(&facts, "function"), "NotAsked");
}

#[test]
fn evidence_names_the_places_the_command_the_program_and_the_words() {
    let bench = Bench::new(
        "[need.tool]\ntool = \"sounding-lead\"\n[need.type]\nheader = \"time.h\"\ntype = \"struct surely_nothing\"\n",
    );
    let facts = bench.run(&Wishes::default(), Joining::Alone, &RealLaunch::default());
    let board = bench.tree.board();
    let told = |name: &str| facts.get(board.need(name).expect("a need")).expect("a fact").evidence.clone();
    let tool = &told("tool")[0];
    assert!(tool.tried.starts_with("the program `sounding-lead` in ") && tool.found == "not found", "{tool:?}");
    let asked = told("type").pop().expect("evidence");
    assert_eq!(asked.tried, "the type struct surely_nothing in <time.h>");
    assert!(asked.command.is_some_and(|command| command.ends_with("-fsyntax-only check.c")));
    let program = "#include <time.h>\nstatic void bolt_answer_0(void) { (void) sizeof(struct surely_nothing); }\n";
    assert_eq!(asked.program.as_deref(), Some(program));
    assert!(asked.words.iter().any(|line| line.contains("incomplete type")), "{:?}", asked.words);
}

fn links(_: &Job) -> Outcome {
    Outcome {
        exit: Exit::Code(0),
        stdout: vec![],
        stderr: vec![],
        wall: Duration::ZERO,
        used: Default::default(),
        sight: None,
    }
}

fn fails(_: &Job) -> Outcome {
    let stderr = b"In file x:\nld: cannot find -lchain: No such file\n".to_vec();
    Outcome { exit: Exit::Code(1), stdout: vec![], stderr, wall: Duration::ZERO, used: Default::default(), sight: None }
}

#[test]
fn compilers_say_who_they_are() {
    let answer = |job: &Job| {
        let text = b"Target: x86_64-pc-linux-gnu\ngcc version 12.2.0 (made up)\nignoring nonexistent directory \"/surely/nowhere\"\n#include \"...\" search starts here:\n#include <...> search starts here:\n /usr/include\nEnd of search list.\n";
        let folders = b"install: /x\nlibraries: =/usr/lib/:/usr/lib/../lib/:/surely/nowhere/../x\n".to_vec();
        let stdout = if job.arguments.contains(&"-print-search-dirs".to_string()) { folders } else { vec![] };
        Outcome { stderr: text.to_vec(), stdout, ..links(job) }
    };
    let launch = ScriptedLaunch::new(answer);
    let memo = ProbeMemo::default();
    let search = CompilerSearch {
        search_path: "/bin:/usr/bin",
        sysroot: None,
        never_below: &["/srv/tree".into()],
        environment: &BTreeMap::new(),
        launch: &launch,
        memo: &memo,
    };
    let ask = || identify("sh", Language::C, search).expect("found");
    let found = ask();
    assert_eq!(
        (found.version.as_str(), found.short_version().as_str()),
        ("gcc version 12.2.0 (made up)", "gcc 12.2.0")
    );
    assert_eq!((found.family, found.target.as_str()), (Family::Gcc, "x86_64-linux-gnu"));
    assert_eq!(found.include_folders, [PathBuf::from("/usr/include").canonicalize().expect("real")]);
    assert_eq!(found.library_folders, [PathBuf::from("/usr/lib").canonicalize().expect("real")]);
    ask();
    assert_eq!(launch.asked().len(), 3, "asked once, for headers, libraries and the linker");
    let root = Some(std::path::Path::new("/srv/target"));
    let other = identify("sh", Language::C, CompilerSearch { sysroot: root, ..search }).expect("found");
    assert_ne!(other.identity, found.identity, "another sysroot makes other programs");
    assert!(launch.asked().last().is_some_and(|job| job.arguments[0] == "--sysroot=/srv/target"));
    let absent = identify("surely-no-compiler", Language::C, search).expect_err("absent");
    assert_eq!(absent.to_string(), "surely-no-compiler is not in the search path");
    let broken = ScriptedLaunch::new(fails);
    let silent = identify("sh", Language::Cxx, CompilerSearch { launch: &broken, ..search }).expect_err("broken");
    assert!(silent.to_string().starts_with("sh does not work as a compiler: ld: cannot find"), "{silent}");
    let of_tree = CompilerSearch { never_below: &["/bin".into(), "/usr/bin".into()], ..search };
    let fault = identify("/bin/sh", Language::C, of_tree).expect_err("of the tree").to_string();
    assert!(fault.starts_with("/bin/sh is inside the tree"), "{fault}");
}

#[test]
fn no_program_of_the_tree_is_run() {
    let bench = Bench::new("[need.lead]\ntool = \"lead\"\nversion = \">= 1\"\n[need.only]\ntool = \"lead\"\n");
    bench.program("../tree/bin/lead", "touch \"$0.ran\"; echo lead 2.0");
    let board = bench.tree.board();
    let folder = bench.tree.root().join("tree");
    let pinned = board.needs.ids().map(|need| (need, Provider::Folder(folder.clone()))).collect();
    let wishes = Wishes { providers: pinned, ..Wishes::default() };
    let facts = bench.run(&wishes, Joining::Together, &RealLaunch::default());
    assert!(bench.state(&facts, "lead").contains("a survey runs no program of the tree"));
    assert_eq!(bench.state(&facts, "only"), "found -");
    assert!(!bench.tree.root().join("tree/bin/lead.ran").exists());
}
