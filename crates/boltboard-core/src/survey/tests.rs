use std::path::PathBuf;
use std::time::Duration;

use super::*;
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
        let tree = TestTree::new(&format!("{needs}\n{head}"), &[("c.c", ""), ("bin/x", ""), ("include/x", ""), ("pc/x", "")]);
        let at = |path: &str| tree.root().join(path);
        std::fs::create_dir_all(at("scratch")).expect("a folder");
        let search_path = "/usr/local/bin:/usr/bin:/bin";
        let host = Host {
            search_path: format!("{}:{search_path}", at("bin").display()),
            metadata_folders: vec![at("pc")],
            sysroot: None,
            aside: at("opt"),
            never_below: vec![at("tree")],
            scratch: at("scratch"),
            jobs: 2,
        };
        let memo = ProbeMemo::default();
        let cxx = Err(CompilerFault::Absent { name: "c++".into() });
        let tools = Tools { c: cxx.clone(), cxx, search_path: host.search_path.clone() };
        let mut bench = Bench { tree, host, tools, memo };
        // The machine's compiler, with one more folder of headers.
        bench.program("bench-cc", &format!("exec cc -isystem {} \"$@\"", bench.tree.root().join("include").display()));
        bench.take_compiler("bench-cc");
        bench
    }

    fn take_compiler(&mut self, name: &str) {
        let (path, launch) = (&self.host.search_path, RealLaunch::default());
        let memo = ProbeMemo::default();
        let search = CompilerSearch { search_path: path, sysroot: None, never_below: &[], launch: &launch, memo: &memo };
        let found = identify(name, Language::C, search);
        self.tools.c = Ok(found.expect("a C compiler"));
    }

    fn run(&self, wishes: &Wishes, joining: Joining, launch: &dyn Launch) -> Facts {
        let (host, tools, memo) = (&self.host, &self.tools, &self.memo);
        survey(&self.tree.board(), wishes, Prober { host, tools, launch, memo, joining })
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

/// One of each kind that every machine can answer, most of them twice: once yes, once no.
const KINDS: &str = r#"
[need.header]
header = "stdio.h"
[need.no-header]
header = "surely/nowhere.h"
[need.function]
function = ["printf", "fopen"]
[need.no-function]
function = "surely_no_function"
[need.declared]
header = "string.h"
function = "strlen"
[need.no-declared]
header = "string.h"
function = "surely_no_function"
[need.type]
header = "time.h"
type = "struct tm"
[need.no-type]
header = "time.h"
type = "struct surely_nothing"
[need.no-type-either]
header = "time.h"
type = "surely_nothing_t"
[need.own-headers-only]
header = "stddef.h"
type = "FILE"
[need.member]
header = "time.h"
member = "struct tm.tm_year"
[need.no-member]
header = "time.h"
member = "struct tm.surely_nothing"
[need.macro]
header = "limits.h"
macro = "INT_MAX"
[need.no-macro]
header = "limits.h"
macro = "SURELY_NOTHING"
[need.value]
header = "limits.h"
macro = { name = "CHAR_BIT", value = "= 8" }
[need.no-value]
header = "limits.h"
macro = { name = "CHAR_BIT", value = "> 8" }
[need.size]
size = { of = "long long", value = ">= 8" }
[need.no-size]
size = [{ of = "char", value = "= 1" }, { of = "char", value = "= 2" }]
[need.alignment]
alignment = { of = "char", value = "= 1" }
[need.flag]
flag = ["-O2", "-fno-common", "-Wno-unused"]
[need.no-flag]
flag = "-fsurely-nothing"
[need.no-warning]
flag = "-Wno-surely-nothing"
[need.standard]
standard = "c11"
[need.no-standard]
standard = "c77"
[need.link-flag]
link-flag = "-rdynamic"
[need.no-link-flag]
link-flag = "-Wl,--surely-nothing"
[need.code]
code = "static int twice(int x) { return 2 * x; } int use(void) { return twice(2); }"
[need.no-code]
code = "int broken( { }"
[need.link]
link = "m"
[need.no-link]
link = "surely_nothing"
[need.file]
file = "/etc/passwd"
[need.no-file]
file = "/surely/nowhere"
[need.device]
device = "/dev/null"
[need.no-device]
device = "/etc/passwd"
[need.any]
any-of = ["no-header", "header", "link"]
[need.no-any]
any-of = ["no-header", "no-link"]
[need.all]
all-of = ["header", "any"]
[need.no-all]
all-of = ["header", "no-link", "no-header"]
"#;

#[test]
fn each_kind_is_answered_joined_as_alone_and_a_second_time_by_nobody() {
    let bench = Bench::new(KINDS);
    let (joined, joined_runs) = bench.counted(Joining::Together);
    let other = Bench::new(KINDS);
    let (alone, alone_runs) = other.counted(Joining::Alone);
    for (_, need) in bench.tree.board().needs.iter() {
        let state = bench.state(&joined, &need.name);
        let first = if need.name.starts_with("no-") || need.name == "own-headers-only" { "found" } else { "Absent" };
        assert!(!state.starts_with(first), "{}: {state}", need.name);
        let kind = |state: &str| state.split([' ', '{']).next().unwrap_or_default().to_string();
        assert_eq!(kind(&state), kind(&other.state(&alone, &need.name)), "{}", need.name);
    }
    assert!(joined_runs * 2 < alone_runs, "{joined_runs} runs joined, {alone_runs} alone");
    let (again, runs) = bench.counted(Joining::Together);
    assert_eq!(runs, 0, "a second survey runs nothing");
    for (_, need) in bench.tree.board().needs.iter() {
        assert_eq!(bench.state(&again, &need.name), bench.state(&joined, &need.name));
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
    assert_eq!(library(), "Unusable { reason: \"its header <buoy.h> is not there\" }");
    bench.tree.write("include/buoy.h", "#include <surely/gone.h>\n");
    let state = library();
    assert!(state.contains("cannot be read") && state.contains("surely/gone.h"), "{state}");
    bench.tree.write("include/buoy.h", "int buoy(void);\n");
    let state = library();
    assert!(state.starts_with("Unusable") && state.contains("cannot find -lbuoy"), "{state}");
    bench.shared_library("lib/libbuoy.so", &["buoy"]);
    assert_eq!(library(), "found 2.5");
    assert_eq!(bench.state(&bench.facts(), "lacks"), "Unusable { reason: \"it has no function buoy_light\" }");
    // An upgrade is noticed although the answer was kept.
    bench.shared_library("lib/libbuoy.so", &["buoy", "buoy_light"]);
    assert_eq!(bench.state(&bench.facts(), "lacks"), "found 2.5");
    // A header without its library.
    bench.tree.write("include/loose.h", "");
    let state = bench.state(&bench.facts(), "loose");
    assert!(state.starts_with("Unusable") && state.contains("cannot find -lloose"), "{state}");
    bench.tree.write("pc/buoy.pc", "Version: 2.5\nLibs: ${nothing}\n");
    assert!(library().contains("`nothing` is not set"));
}

#[test]
fn only_what_an_installed_package_touches_is_asked_again() {
    let bench = Bench::new("[need.a]\nheader = \"stdio.h\"\nfunction = \"puts\"\n[need.b]\nheader = \"new.h\"\ntype = \"struct fresh\"\n[need.c]\nlink = \"m\"\n");
    assert_eq!(bench.state(&bench.facts(), "b"), "Absent");
    bench.tree.write("include/new.h", "struct fresh { int x; };\n");
    let (facts, runs) = bench.counted(Joining::Together);
    assert_eq!(bench.state(&facts, "b"), "found -");
    assert_eq!(runs, 2, "the new header is read, and its type looked for; nothing else");
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
    let mut bench = Bench::new(KINDS);
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
    let mut bench = Bench::new(KINDS);
    let compiles = "for a; do case \"$a\" in -E|-c|-fsyntax-only|-print-*) exec cc \"$@\";; esac; done";
    bench.program("cc-half", &format!("{compiles}; echo 'ld: cannot find crt1.o' >&2; exit 1"));
    bench.take_compiler("cc-half");
    let facts = bench.facts();
    assert!(facts.compiler_fault.as_ref().is_some_and(|f| f.contains("cannot link the plainest program: ld: cannot find crt1.o")));
    assert_eq!(bench.state(&facts, "type"), "found -");
    assert_eq!(bench.state(&facts, "function"), "NotAsked");
}

#[test]
fn a_person_can_name_the_provider() {
    let bench = Bench::new(
        r#"
[need.buoy]
library = "buoy"
header = "buoy.h"
version = ">= 2"
bundled = "copy"
[need.chain]
header = "stdio.h"
[need.moor]
any-of = ["chain", "buoy"]
"#,
    );
    let at = |path: &str| bench.tree.root().join(path);
    let pc = |folder: &str, version: &str| {
        let libs = at(folder).join("lib");
        bench.tree.write(&format!("{folder}/lib/pkgconfig/buoy.pc"), &format!("prefix={}\nVersion: {version}\nLibs: -L{} -lbuoy\nCflags: -I${{prefix}}/include\n", at(folder).display(), libs.display()));
        bench.tree.write(&format!("{folder}/include/buoy.h"), "");
        bench.shared_library(&format!("{folder}/lib/libbuoy.so"), &["buoy"]);
    };
    pc("opt/own", "2.5");
    let board = bench.tree.board();
    let need = |name: &str| board.need(name).expect("a need");
    let with = |name: &str, text: &str| {
        let provider = Provider::read(&board, need(name), text).expect("a provider");
        let wishes = Wishes { providers: [(need(name), provider)].into(), ..Wishes::default() };
        bench.run(&wishes, Joining::Together, &RealLaunch::default())
    };
    assert_eq!(bench.state(&bench.facts(), "buoy"), "bundled");
    assert_eq!(bench.state(&with("buoy", "system"), "buoy"), "Absent");
    assert_eq!(bench.state(&with("moor", "buoy"), "moor"), "bundled");
    assert_eq!(bench.state(&with("chain", "off"), "chain"), "SwitchedOff { there: There(None) }");
    let own = at("opt/own").display().to_string();
    let facts = with("buoy", &own);
    assert_eq!(bench.state(&facts, "buoy"), "found 2.5");
    let found = facts.get(need("buoy")).and_then(Fact::found).expect("found");
    assert!(found.link_flags.contains(&format!("-Wl,-rpath,{own}/lib")), "{:?}", found.link_flags);
    assert!(matches!(with("buoy", "/surely/nowhere").get(need("buoy")).map(|f| &f.state), Some(FactState::Missing(Missing::Unusable { .. }))));
    // A copy where nobody looks by default is listed; one that comes first wins over a later one.
    bench.tree.write("pc/buoy.pc", "Version: 1.0\n");
    let facts = bench.facts();
    let fact = facts.get(need("buoy")).expect("a fact");
    let ranks: Vec<(Option<&str>, CopyRank)> = fact.copies.iter().map(|c| (c.version.as_deref(), c.rank)).collect();
    assert_eq!(ranks, [(Some("1.0"), CopyRank::InUse), (Some("2.5"), CopyRank::Aside)]);
    assert!(Provider::read(&board, need("chain"), "bundled").is_err());
    assert!(Provider::read(&board, need("moor"), "chain").is_ok());
}

#[test]
fn facts_can_be_assumed_saved_and_compared() {
    let bench = Bench::new("[need.gone]\nlibrary = \"surely-gone\"\nlink = \"gone\"\nversion = \">= 2\"\n[need.here]\nheader = \"stdio.h\"\n");
    let board = bench.tree.board();
    let gone = board.need("gone").expect("a need");
    let assume = |assumption| Wishes { assumed: [(gone, assumption)].into(), ..Wishes::default() };
    let run = |wishes: &Wishes| bench.run(wishes, Joining::Together, &RealLaunch::default());
    let there = run(&assume(Assumption::There(Some("2.1".into()))));
    assert_eq!(bench.state(&there, "gone"), "found 2.1");
    assert!(there.any_not_looked_for());
    assert_eq!(bench.state(&run(&assume(Assumption::There(None))), "gone"), "found -");
    assert_eq!(bench.state(&run(&assume(Assumption::There(Some("1".into())))), "gone"), "WrongVersion { found: \"1\" }");
    let path = bench.tree.root().join("host.toml");
    let traits = HostTraits { distribution: "Reef 1".into(), ..HostTraits::default() };
    let record = HostRecord::of(&board, &there, traits.clone());
    record.save(&path).expect("saved");
    let read = HostRecord::load(&path, "t").expect("read back");
    assert_eq!(read, record);
    assert_eq!(bench.state(&read.facts(&board), "gone"), "found 2.1");
    let now = HostRecord::of(&board, &bench.facts(), traits);
    let list = differences(&record, &now);
    let told: Vec<(&Differing, &str, &str)> = list.iter().map(|d| (&d.what, d.before.as_str(), d.after.as_str())).collect();
    assert_eq!(told, [(&Differing::Need("gone".into()), "version 2.1", "missing")]);
    assert_eq!(differences(&now, &now), []);
    std::fs::write(&path, "format = 1\ntree = \"t\"\nbogus = 1\n").expect("written");
    let fault = HostRecord::load(&path, "t").expect_err("wrong").to_string();
    assert!(fault.contains("host.toml:3: unknown field `bogus`"), "{fault}");
    assert!(matches!(HostRecord::load(&bench.tree.root().join("none.toml"), "t"), Err(RecordFault::Absent(_))));
}

#[test]
fn evidence_names_the_places_the_command_the_program_and_the_words() {
    let bench = Bench::new("[need.tool]\ntool = \"sounding-lead\"\n[need.type]\nheader = \"time.h\"\ntype = \"struct surely_nothing\"\n");
    let facts = bench.run(&Wishes::default(), Joining::Alone, &RealLaunch::default());
    let board = bench.tree.board();
    let told = |name: &str| facts.get(board.need(name).expect("a need")).expect("a fact").evidence.clone();
    let tool = &told("tool")[0];
    assert!(tool.tried.starts_with("the program `sounding-lead` in ") && tool.found == "not there", "{tool:?}");
    let asked = told("type").pop().expect("evidence");
    assert_eq!(asked.tried, "the type struct surely_nothing in <time.h>");
    assert!(asked.command.is_some_and(|command| command.ends_with("-fsyntax-only check.c")));
    let program = "#include <time.h>\ntypedef char bolt_answer_0[sizeof(struct surely_nothing) ? 1 : -1];\n";
    assert_eq!(asked.program.as_deref(), Some(program));
    assert!(asked.words.iter().any(|line| line.contains("incomplete type")), "{:?}", asked.words);
}

fn links(_: &Job) -> Outcome {
    Outcome { exit: Exit::Code(0), stdout: vec![], stderr: vec![], wall: Duration::ZERO }
}

fn fails(_: &Job) -> Outcome {
    let stderr = b"In file x:\nld: cannot find -lchain: No such file\n".to_vec();
    Outcome { exit: Exit::Code(1), stdout: vec![], stderr, wall: Duration::ZERO }
}

#[test]
fn compilers_say_who_they_are() {
    let answer = |job: &Job| {
        let text = b"Target: x86_64-pc-linux-gnu\ngcc version 12.2.0 (made up)\nignoring nonexistent directory \"/surely/nowhere\"\n#include \"...\" search starts here:\n#include <...> search starts here:\n /usr/include\nEnd of search list.\n";
        let folders = b"install: /x\nlibraries: =/usr/lib/:/usr/lib/../lib/:/surely/nowhere\n".to_vec();
        let stdout = if job.arguments.contains(&"-print-search-dirs".to_string()) { folders } else { vec![] };
        Outcome { stderr: text.to_vec(), stdout, ..links(job) }
    };
    let launch = ScriptedLaunch::new(answer);
    let memo = ProbeMemo::default();
    let search = CompilerSearch {
        search_path: "/bin:/usr/bin",
        sysroot: None,
        never_below: &["/srv/tree".into()],
        launch: &launch,
        memo: &memo,
    };
    let ask = || identify("sh", Language::C, search).expect("found");
    let found = ask();
    assert_eq!((found.version.as_str(), found.short_version().as_str()), ("gcc version 12.2.0 (made up)", "gcc 12.2.0"));
    assert_eq!((found.family, found.target.as_str()), (Family::Gcc, "x86_64-linux-gnu"));
    assert_eq!(found.include_folders, [PathBuf::from("/usr/include").canonicalize().expect("real")]);
    assert_eq!(found.library_folders, [PathBuf::from("/usr/lib").canonicalize().expect("real")]);
    ask();
    assert_eq!(launch.asked().len(), 2, "asked once, for headers and for libraries");
    let root = Some(std::path::Path::new("/srv/target"));
    let other = identify("sh", Language::C, CompilerSearch { sysroot: root, ..search }).expect("found");
    assert_ne!(other.identity, found.identity, "another sysroot makes other programs");
    assert!(launch.asked().last().is_some_and(|job| job.arguments[0] == "--sysroot=/srv/target"));
    let absent = identify("surely-no-compiler", Language::C, search).expect_err("absent");
    assert_eq!(absent.to_string(), "there is no `surely-no-compiler` in the search path");
    let broken = ScriptedLaunch::new(fails);
    let silent = identify("sh", Language::Cxx, CompilerSearch { launch: &broken, ..search }).expect_err("broken");
    assert!(silent.to_string().starts_with("`sh` does not work as a compiler: ld: cannot find"), "{silent}");
    let of_tree = CompilerSearch { never_below: &["/bin".into(), "/usr/bin".into()], ..search };
    let fault = identify("/bin/sh", Language::C, of_tree).expect_err("of the tree").to_string();
    assert!(fault.starts_with("`/bin/sh` lies within the tree"), "{fault}");
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
