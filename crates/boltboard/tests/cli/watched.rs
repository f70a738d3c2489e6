//! What steps stand on is what they are seen to do, and what the rules of their language say; where that is not known, they run.

use crate::harness::{Scratch, usual_path};

const HEAD: &str = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n";

/// A generator that runs a command of the shell.
fn generator(command: &str) -> String {
    format!(
        "{HEAD}[part.g]\nkind = \"generated\"\ncommand = [\"sh\", \"-c\", \"{command} > ${{step:output}}\"]\noutput = [\"g.txt\"]\n"
    )
}

/// Builds, changes something, sees that the generator runs once and what it makes is as in a clean build.
fn runs_after(command: &str, files: &[(&str, &str)], change: impl FnOnce(&Scratch)) {
    let tree = Scratch::with(files);
    tree.write("boltboard.toml", &generator(command));
    tree.run("build").code(0);
    tree.run("build").code(0).steps(0);
    change(&tree);
    tree.run("build --verify").code(0).steps(1).says(&["Verified:"]);
    tree.run("build").code(0).steps(0);
}

#[test]
fn a_generator_runs_again_when_anything_changes_that_it_looked_at() {
    let data = [("d/a.txt", "one\n"), ("d/b.txt", "two\n")];
    runs_after("cat d/a.txt", &data, |tree| tree.write("d/a.txt", "three\n"));
    let tree = Scratch::with(&data);
    tree.write("boltboard.toml", &generator("cat d/a.txt d/*.txt"));
    tree.run("build").code(0);
    tree.run("lint").code(0).says(&["part g reads d/b.txt, and does not declare it"]);
    tree.run("build --check-reads").code(1).complains(&["which it does not declare: add it to its `reads`"]);
    runs_after("ls -a d", &data, |tree| tree.write("d/.hidden", ""));
    runs_after("cat d/*.txt", &data, |tree| tree.write("d/gone.txt", "x\n"));
    runs_after("if test -x d/a.txt; then r=yes; else r=no; fi; echo $r", &data, |tree| tree.set_mode("d/a.txt", 0o755));
    runs_after("stat -c %s d/a.txt", &data, |tree| tree.write("d/a.txt", "longer\n"));
    runs_after("test -e d/link; echo $?", &data, |tree| {
        std::os::unix::fs::symlink("a.txt", tree.at("d/link")).expect("a link");
    });
}

#[test]
fn programs_that_a_generator_finds_in_the_search_path_count() {
    let tree = Scratch::with(&[("tools/none", ""), ("first/none", "")]);
    tree.write("boltboard.toml", &generator("say"));
    let path = format!("{}:{}:{}", tree.at("first").display(), tree.at("tools").display(), usual_path());
    let run = |words: &str| tree.run_with(words, "PATH", &path).code(0);
    tree.script("tools/say", "echo one");
    run("build");
    run("build").steps(0);
    tree.script("tools/say", "echo two");
    run("build --verify").steps(1).says(&["Verified:"]);
    tree.script("first/say", "echo three");
    run("build --verify").steps(1).says(&["Verified:"]);
    assert_eq!(tree.read("boltboard-work/builds/mine/made/g.txt"), "three\n");
}

#[test]
fn another_search_path_counts_where_programs_are_found_in_other_places() {
    let tree = objects("", "int a;\n");
    tree.run("build").code(0);
    tree.script("none/unrelated", "exit 0");
    tree.script("wrap/as", "exec /usr/bin/as \"$@\"");
    let with = |folder: &str| format!("{}:{}", tree.at(folder).display(), usual_path());
    tree.run_with("preview", "PATH", &with("none")).code(0).says(&["Nothing to do"]);
    tree.run_with("build", "PATH", &with("none")).code(0).steps(0);
    // An assembler that comes first is another one; and back.
    tree.run_with("build", "PATH", &with("wrap")).code(0).steps(1);
    tree.run_with("build", "PATH", &with("wrap")).code(0).steps(0);
    tree.run("build").code(0).steps(0);
}

#[test]
fn a_generator_that_reads_what_it_does_not_wait_for_is_told() {
    let tree = Scratch::with(&[]);
    tree.write(
        "boltboard.toml",
        &format!(
            "{HEAD}[part.late]\nkind = \"generated\"\ncommand = [\"sh\", \"-c\", \"echo 1 > ${{step:output}}\"]\noutput = [\"late.txt\"]\n\
             [part.g]\nkind = \"generated\"\ncommand = [\"sh\", \"-c\", \"cat ${{path:made}}/late.txt > ${{step:output}}\"]\noutput = [\"g.txt\"]\n"
        ),
    );
    tree.run("build --jobs 1");
    tree.run("build --jobs 1").code(1).complains(&["it reads made/late.txt, which part `late` makes"]);
}

#[test]
fn what_a_version_control_writes_for_itself_is_no_source() {
    let tree = Scratch::with(&[(".git/index", "one\n"), ("f", "1\n")]);
    // As one does that is asked how things stand: it looks at the files, and puts down what it knows under a lock.
    tree.script(
        "tools/describe",
        "stat -c %s f; cat .git/index; cat .git/index > .git/index.lock; mv .git/index.lock .git/index",
    );
    tree.write("boltboard.toml", &generator("tools/describe"));
    tree.run("build").code(0).steps(1);
    tree.run("build --verify").code(0).steps(0).says(&["Verified:"]);
    tree.write("f", "12\n");
    tree.run("build").code(0).steps(1);
    tree.write(".git/index", "two\n");
    tree.run("build --verify").code(0).steps(1).says(&["Verified:"]);
    tree.run("build").code(0).steps(0);
}

#[test]
fn what_lies_among_the_results_and_nobody_makes_is_never_taken_in() {
    let tree = objects("include = [\"b\"]\n", "#include <x.h>\nint a = A;\n");
    tree.write("b/x.h", "#define A 1\n");
    tree.run("build").code(0);
    tree.write("boltboard-work/builds/mine/made/x.h", "#define A 2\n");
    tree.run("build").code(1).complains(&["it reads made/x.h, which no step makes", "remove it"]);
    std::fs::remove_file(tree.at("boltboard-work/builds/mine/made/x.h")).expect("removed");
    tree.run("build --verify").code(0).says(&["Verified:"]);
    tree.write("s/a.c", "#if __has_include(<x.h>) && __has_include(<y.h>)\nint b;\n#endif\nint a;\n");
    tree.write("boltboard-work/builds/mine/made/y.h", "");
    tree.run("build").code(1).complains(&["it reads made/y.h, which no step makes"]);
}

#[test]
fn a_generator_that_writes_to_the_sources_is_refused() {
    let tree = Scratch::with(&[("d/a.txt", "")]);
    tree.write("boltboard.toml", &generator("echo 1 > d/a.txt; echo 2"));
    tree.run("build").code(1).complains(&["it writes to d/a.txt, a file of the sources"]);
    let tree = Scratch::with(&[]);
    tree.write("boltboard.toml", &generator("mkdir -p ${step:output}; true").replace(" > ${step:output}", ""));
    tree.run("build").code(1).complains(&["it made a folder or a link where its file made/g.txt is to be"]);
}

#[test]
fn tests_of_the_tree_run_again_when_what_they_read_changes() {
    let tree = Scratch::with(&[("t/say.sh", ". ./t/words.sh\n"), ("t/words.sh", "true\n")]);
    tree.write(
        "boltboard.toml",
        &format!("{HEAD}[part.all]\nkind = \"objects\"\nsources = [\"a.c\"]\n[part.p]\nkind = \"program\"\nsources = [\"m.c\"]\n[test.say]\ncommand = [\"sh\", \"{}/t/say.sh\"]\n", tree.path().display()),
    );
    tree.write("a.c", "int a;\n");
    tree.write("m.c", "int main(void) { return 0; }\n");
    tree.write("t/say.sh", &format!(". {}/t/words.sh\n", tree.path().display()));
    tree.run("test").code(0).says(&["1 test passed"]);
    tree.run("test").code(0).says(&["unchanged"]);
    tree.write("t/words.sh", "true; true\n");
    tree.run("test").code(0).says(&["1 test passed"]);
    tree.write("t/words.sh", "false\n");
    tree.run("test").code(1).says(&["1 failed"]);
}

/// A part of C files with an option whose macro is `T_DEPTH`.
fn objects(more: &str, source: &str) -> Scratch {
    let tree = Scratch::with(&[("s/a.c", source)]);
    tree.write(
        "boltboard.toml",
        &format!(
            "{HEAD}[header.h]\noutput = \"t/options.h\"\nprefix = \"T_\"\n[option.depth]\nkind = \"number\"\ndefault = 3\nrange = [0, 99]\n\
             [part.all]\nkind = \"objects\"\nsources = [\"s/*.c\"]\n{more}"
        ),
    );
    tree
}

#[test]
fn an_option_counts_however_a_text_comes_to_name_it() {
    for (case, more, source, want) in [
        ("a value of a flag", "flags = [\"-DFOO=T_DEPTH\"]\n", "int x = FOO;", 1),
        ("pieces in a flag", "flags = [\"-DP(x)=T_##x\"]\n", "int x = P(DEPTH);", 1),
        (
            "a value of a define",
            "defines = [\"PRE=T_\"]\n",
            "#define C_(a, b) a##b\n#define C(a, b) C_(a, b)\nint x = C(PRE, DEPTH);",
            1,
        ),
        (
            "a pragma",
            "flags = [\"-fopenmp\"]\n",
            "void f(int *); void g(void) { _Pragma(\"omp parallel for num_threads(T_DEPTH)\") for (int i = 0; i < 9; i++) f(&i); }",
            1,
        ),
        ("a joined line", "", "int x = T_DE\\ \nPTH;", 1),
        ("trigraphs", "flags = [\"-std=c99\"]\n", "??=define C(a, b) a??=??=b\nint x = C(T_, DEPTH);", 1),
        ("not at all", "", "int x; // T_DEPTH", 0),
    ] {
        let tree = objects(more, &format!("#include <t/options.h>\n{source}\n"));
        tree.run("build").code(0);
        tree.run("set depth=7").code(0);
        let built = tree.run("build --verify").code(0);
        assert!(built.ran() == want && built.out.contains("Verified:"), "{case}: {}{}", built.out, built.err);
    }
}

#[test]
fn two_options_that_give_one_macro_are_refused() {
    let tree = objects("", "int a;\n");
    tree.edit("boltboard.toml", "[part.all]", "[option.deep]\nkind = \"switch\"\nmacro = \"T_DEPTH\"\n[part.all]");
    tree.run("overview").code(3).complains(&["options `depth` and `deep` both give the macro T_DEPTH"]);
}

#[test]
fn a_header_asked_for_in_a_way_of_its_own_is_looked_out_for() {
    let tree = objects("", "#define HI(x) __has_include(x)\n#if HI(\"late.h\")\nint late;\n#endif\nint x;\n");
    tree.run("build").code(0);
    tree.run("build").code(0).steps(0);
    tree.write("s/late.h", "");
    tree.run("preview").code(0).says(&["s/late.h is new and comes first"]);
    tree.run("build --verify").code(0).steps(1).says(&["Verified:"]);
}

#[test]
fn installing_what_no_file_asks_for_runs_nothing() {
    let tree =
        objects("include = [\"i\", \"j\"]\n", "#if 0\n#include <other.h>\n#endif\n#include <own.h>\nint x = OWN;\n");
    tree.write("j/own.h", "#define OWN 1\n");
    tree.write("i/none", "");
    tree.run("build").code(0);
    tree.write("i/other.h", "");
    tree.run("build --verify").code(0).steps(0).says(&["Verified:"]);
    tree.write("i/own.h", "#define OWN 2\n");
    tree.run("build --verify").code(0).steps(1).says(&["Verified:"]);
    // What is asked for before it is switched off, so that it may lie there compiled before.
    tree.write("i/own.h.gch", "");
    assert_eq!(tree.previewed("run"), ["compile s/a.c"]);
}

#[test]
fn everything_that_a_compile_makes_is_a_result() {
    let tree = Scratch::with(&[("s/a.c", "int main(void) { return 0; }\n")]);
    tree.write(
        "boltboard.toml",
        &format!(
            "{HEAD}[part.p]\nkind = \"program\"\nsources = [\"s/*.c\"]\nflags = [\"--coverage\", \"-fstack-usage\", \"-save-temps\"]\n\
             link-flags = [\"--coverage\"]\n[test.p]\ncommand = [\"${{part:p}}\"]\n"
        ),
    );
    tree.run("build --verify").code(0).says(&["Verified:"]);
    let made = |ending: &str| tree.at(&format!("boltboard-work/builds/mine/objects/p/s/a.c.{ending}"));
    for ending in ["o", "gcno", "su", "i", "s"] {
        assert!(made(ending).exists(), "{ending}");
    }
    assert!(!tree.at("a.i").exists() && !tree.at("s/a.i").exists());
    tree.run("test").code(0).says(&["1 test passed"]);
    assert!(made("gcda").exists(), "profiles lie beside the objects");
    std::fs::remove_file(made("gcno")).expect("removed");
    tree.run("build --verify").code(0).says(&["reused", "Verified:"]);
    assert!(made("gcno").exists());
    tree.edit("boltboard.toml", "\"-fstack-usage\", ", "");
    tree.run("build --verify").code(0).says(&["Verified:"]);
    assert!(!made("su").exists(), "what it no longer makes is gone");
    tree.write("s/a.c", "int main(void) { return wrong; }\n");
    let told = tree.run("build").code(1);
    let command = told.err.lines().find(|line| line.trim_start().starts_with("command:")).expect("the command");
    assert!(command.contains("/mine/again/objects/p/s/a.c.o") && !command.contains("/proc/"), "{command}");
    assert!(!command.contains("coverage"), "nothing is left beside it: {command}");
}

#[test]
fn results_touched_by_hand_are_made_right() {
    let tree = Scratch::with(&[("a.c", "int main(void) { return 0; }\n")]);
    tree.write("boltboard.toml", &format!("{HEAD}[part.p]\nkind = \"program\"\nsources = [\"a.c\"]\n"));
    tree.run("build").code(0);
    // Where steps leave it, and where people get it.
    for (place, told, number) in [("parts", "1 reused", 1), ("out", "Put right: out/bin/p", 2)] {
        let program = format!("boltboard-work/builds/mine/{place}/bin/p");
        tree.set_mode(&program, 0o600);
        tree.run("build --verify").code(0).says(&[told, "Verified:"]);
        std::fs::remove_file(tree.at(&program)).expect("removed");
        std::fs::create_dir_all(tree.at(&format!("{program}/x"))).expect("a folder");
        let built = tree.run("build --verify").code(0).says(&[told, "Verified:"]);
        built.complains(&["Something else lay where a result goes. It was moved to"]);
        assert!(tree.at(&format!("boltboard-work/builds/mine/set-aside/p.{number}/x")).is_dir());
    }
}

#[test]
fn names_that_look_like_something_else_are_names() {
    let tree = Scratch::with(&[
        ("-O3.c", "int f(void);\nint main(void) { return f(); }\n"),
        ("@x.c", "int f(void) { return 0; }\n"),
        ("q/tab.c", "#include \"a\tb.h\"\nint tab = T;\n"),
        ("inc/a\tb.h", "#define T 1\n"),
        ("q/back.c", "#include \"c\\d.h\"\nint back = T;\n"),
        ("inc/c\\d.h", "#define T 1\n"),
    ]);
    tree.write(
        "boltboard.toml",
        &format!("{HEAD}[part.p]\nkind = \"program\"\nsources = [\"*.c\"]\n[part.q]\nkind = \"objects\"\nsources = [\"q/*.c\"]\ninclude = [\"inc\"]\n"),
    );
    tree.run("build").code(0);
    tree.run("build").code(0).steps(0);
    for header in ["inc/a\tb.h", "inc/c\\d.h"] {
        tree.write(header, "#define T 2\n");
        tree.run("build --verify").code(0).steps(1).says(&["Verified:"]);
        tree.run("build").code(0).steps(0);
    }
}

#[test]
fn what_is_no_file_is_never_read_as_one() {
    let tree = Scratch::with(&[("a.c", "int a;\n")]);
    tree.write("boltboard.toml", &format!("{HEAD}[part.all]\nkind = \"objects\"\nsources = [\"a.c\"]\n"));
    tree.run("build").code(0);
    let queue = |name: &str| {
        let _ = std::fs::remove_file(tree.at(name));
        let made = std::process::Command::new("mkfifo").arg(tree.at(name)).status();
        assert!(made.is_ok_and(|status| status.success()));
    };
    for file in ["status", "ledger.jsonl", "board", "probes", "builds/mine/journal", "builds/mine/seal"] {
        let file = format!("boltboard-work/{file}");
        queue(&file);
        tree.edit("a.c", "int a", "int b, a");
        tree.run("build --verify").code(0).says(&["Verified:"]);
        let _ = std::fs::remove_file(tree.at(&file));
        let _ = std::fs::remove_dir_all(tree.at(&file));
        std::fs::create_dir_all(tree.at(&file)).expect("a folder");
        tree.edit("a.c", "int b, a", "int a");
        tree.run("build --verify").code(0).says(&["Verified:"]);
    }
    queue("boltboard-work/active");
    tree.run("build").code(7).complains(&["it is not a regular file"]);
    std::fs::remove_file(tree.at("boltboard-work/active")).expect("removed");
    tree.run("build")
        .code(3)
        .complains(&["names the profile in use is gone", "→ boltboard --profile mine profile use mine "]);
    tree.write("boltboard-work/active", "");
    tree.run("build").code(3).complains(&["it names no profile"]);
    tree.run("--profile mine profile use mine").code(0);
    tree.run("build").code(0);
    queue("boltboard.toml");
    tree.run("overview").code(3).complains(&["boltboard.toml", "not a regular file"]);
}

#[test]
fn a_damaged_line_of_the_ledger_is_told_and_the_rest_read() {
    let tree = Scratch::with(&[("a.c", "int a;\n")]);
    tree.write("boltboard.toml", &format!("{HEAD}[part.all]\nkind = \"objects\"\nsources = [\"a.c\"]\n"));
    tree.run("build").code(0);
    let mut ledger = std::fs::read(tree.at("boltboard-work/ledger.jsonl")).expect("a ledger");
    ledger.splice(0..0, *b"\xff\n");
    std::fs::write(tree.at("boltboard-work/ledger.jsonl"), ledger).expect("written");
    tree.run("ledger").code(0).says(&["mine"]).complains(&["1 line of the ledger is damaged and left out."]);
}

/// Texts that name an option in ways that are easily overlooked; each has the option header included before it.
const SPELLINGS: [&str; 17] = [
    "#define A T_DE\\\r\nPTH\r\nint x = A;\r\n",
    "\x0c#if T_DEPTH > 5\nint x;\n\x0b#endif\n",
    "int x = 0xE +T_DEPTH;\n",
    "#if 0\ndon't T_FOG\n#endif\nint x = T_DEPTH;\n",
    "// ends \\\nstill a comment\nint x = T_DEPTH;\n",
    "#define S(x) #x\n#define SS(x) S(x)\nconst char *s = SS(T_DEPTH);\n",
    "#define P(a, b, c) a##b##c\nint x = P(T, _DE, PTH);\n",
    "#define T_3 30\n#define T_8 80\n#define P(a, b) a##b\n#define Q(a, b) P(a, b)\nint x = Q(T_, T_DEPTH);\n",
    "#define D (T_DEPTH > 5)\n#if D\nint x;\n#endif\n",
    "#if T_DEPTH == '\\10'\nint x;\n#endif\n",
    "#pragma push_macro(\"T_DEPTH\")\n#undef T_DEPTH\n#define T_DEPTH 1\n#pragma pop_macro(\"T_DEPTH\")\nint x = T_DEPTH;\n",
    "struct s { int a : T_DEPTH; };\nstruct s v = {1};\nint x __attribute__((aligned(1 << (T_DEPTH - 2))));\n",
    "%: if T_DEPTH > 5\nint x;\n%: endif\n",
    "int x = T_\\ \t \nDEPTH;\n",
    "/\\\n* T_FOG *\\\n/ int x = T_DEPTH;\n",
    "const char *s = \"a\\\n\"; int x = T_DEPTH; const char *t = \"\\\\\";\n",
    "# 12 \"z.c\"\nint x = T_DEPTH;\n",
];

#[test]
fn texts_are_read_by_the_standard_of_their_compile() {
    for standard in ["c99", "gnu99", "gnu2x"] {
        let tree = objects(&format!("flags = [\"-std={standard}\"]\n"), "int a;\n");
        for (number, text) in SPELLINGS.iter().enumerate() {
            tree.write(&format!("s/t{number}.c"), &format!("#include <t/options.h>\n{text}"));
        }
        tree.run("build").code(0).steps(SPELLINGS.len() + 1);
        tree.run("set depth=8").code(0);
        tree.run("build --verify").code(0).steps(SPELLINGS.len()).says(&["Verified:"]);
    }
}

#[test]
fn what_is_only_asked_for_whether_it_is_there_is_nothing_unexpected() {
    let source =
        "#if __has_include(<late.h>) && defined NOT_SO\n#include <late.h>\n#endif\nint main(void) { return 0; }\n";
    let board = format!("{HEAD}[part.p]\nkind = \"program\"\nsources = [\"main.c\"]\ninclude = [\"inc\"]\n");
    let tree = Scratch::with(&[("boltboard.toml", &board), ("main.c", source), ("inc/late.h", "int late;\n")]);
    let built = tree.run("build").code(0);
    assert!(!built.err.contains("did not expect"), "{}", built.err);
    std::fs::remove_file(tree.at("inc/late.h")).expect("removed");
    assert_eq!(tree.previewed("run"), ["compile main.c"]);
    tree.run("build --verify").code(0);
}
