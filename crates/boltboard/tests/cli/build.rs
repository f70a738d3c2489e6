//! Building: only what a change affects, the same bytes as a clean build, the reasons beforehand.

use crate::harness::{MINI, Scratch, usual_path};

fn built() -> Scratch {
    let tree = Scratch::with(MINI);
    tree.run("build").code(0).steps(4);
    tree
}

#[test]
fn without_a_change_nothing_runs() {
    let tree = built();
    tree.run("preview").code(0).says(&["Nothing to do: all 5 steps are current."]);
    tree.run("build").code(0).says(&["Nothing to do: all 5 steps are current"]);
}

#[test]
fn an_option_reaches_the_files_that_name_it_and_no_others() {
    let tree = built();
    tree.run("set depth=4").code(0);
    assert_eq!(tree.previewed("run"), ["write made/mini/options.h", "compile src/depth.c"]);
    tree.run("preview").code(0).says(&["option depth: MINI_DEPTH 3 → 4", "compile   src/depth.c"]);
    tree.run("build").code(0).says(&["2 steps ran, 1 file written, 2 current"]);
    tree.equals_clean();
    tree.run("set depth=3").code(0);
    assert_eq!(tree.previewed("reused"), ["compile src/depth.c", "link out/bin/mini"], "going back costs nothing");
    tree.run("build").code(0).says(&[": 2 reused"]);
    tree.equals_clean();
}

#[test]
fn a_source_comes_and_goes_with_its_option() {
    let tree = built();
    tree.run("set horn=on").code(0);
    assert_eq!(
        tree.previewed("run"),
        ["write made/mini/options.h", "compile src/main.c", "compile src/horn.c", "link out/bin/mini"]
    );
    tree.run("build").code(0);
    assert!(tree.at("boltboard-work/builds/mine/objects/mini/src/horn.c.o").exists());
    tree.equals_clean();
    tree.run("unset horn").code(0);
    tree.run("preview").code(0).says(&["1 file no longer made", "objects/mini/src/horn.c.o"]);
    tree.run("build").code(0).says(&["1 stale file removed"]);
    assert!(!tree.at("boltboard-work/builds/mine/objects/mini/src/horn.c.o").exists());
    tree.equals_clean();
}

#[test]
fn edits_reach_what_reads_them() {
    let tree = built();
    tree.edit("src/mini.h", "int depth(void);", "int depth(void);\nint tide(void);");
    assert_eq!(tree.previewed("run"), ["compile src/main.c", "compile src/depth.c"]);
    tree.run("build").code(0);
    tree.equals_clean();
    tree.edit("src/depth.c", "{ return", "{ /* sounded */ return");
    tree.run("build").code(0);
    tree.equals_clean();
}

#[test]
fn what_comes_out_the_same_stops_there() {
    let tree = built();
    tree.edit("tools/names.sh", "# writes", "# a comment\n# writes");
    assert_eq!(tree.previewed("follows"), ["compile src/main.c", "link out/bin/mini"]);
    tree.run("build").code(0).says(&["1 step ran, 4 current"]);
    tree.edit("src/main.c", "int main(void)", "int  main(void)");
    tree.run("build").code(0);
    tree.equals_clean();
}

#[test]
fn an_edit_that_is_taken_back_runs_nothing() {
    let tree = built();
    let text = tree.read("src/depth.c");
    tree.write("src/depth.c", "int depth(void) { return 1; }\n");
    tree.write("src/depth.c", &text);
    tree.run("preview").code(0).says(&["Nothing to do"]);
}

#[test]
fn a_header_that_comes_first_is_noticed() {
    let tree = built();
    // Sources look beside themselves before they look among the generated files.
    tree.write("src/mini/names.h", "#define NAME_OF_WIND \"breeze\"\n");
    tree.edit("src/main.c", "<mini/names.h>", "\"mini/names.h\"");
    tree.run("build").code(0);
    tree.equals_clean();
    std::fs::remove_file(tree.at("src/mini/names.h")).expect("removed");
    assert_eq!(tree.previewed("run"), ["compile src/main.c"]);
    tree.run("build").code(0);
    tree.equals_clean();
    tree.write("src/mini/names.h", "#define NAME_OF_WIND \"gale\"\n");
    tree.run("preview").code(0).says(&["src/mini/names.h is new and comes first"]);
    tree.run("build").code(0);
    tree.equals_clean();
}

#[test]
fn flags_of_parts_and_files_rekey_just_those() {
    let tree = built();
    tree.edit("boltboard.toml", "\"src/depth.c\"", "{ add = [\"src/depth.c\"], flags = [\"-O2\"] }");
    assert_eq!(tree.previewed("run"), ["compile src/depth.c"]);
    tree.run("preview").code(0).says(&["command: added -O2"]);
    tree.run("build").code(0);
    tree.edit(
        "boltboard.toml",
        "summary = \"the program\"",
        "summary = \"the program\"\nlink-flags = [\"-Wl,--as-needed\"]",
    );
    assert_eq!(tree.previewed("run"), ["link out/bin/mini"]);
    tree.run("build").code(0);
    tree.equals_clean();
}

#[test]
fn macros_given_as_flags_reach_files_that_name_them() {
    let tree = Scratch::with(MINI);
    tree.edit("boltboard.toml", "uses = [\"names\"]", "uses = [\"names\"]\ndefines = [\"SPEED=${depth}\"]");
    tree.edit("src/depth.c", "return MINI_DEPTH;", "return SPEED;");
    tree.run("build").code(0);
    tree.run("set depth=8").code(0);
    assert_eq!(tree.previewed("run"), ["write made/mini/options.h", "compile src/depth.c"]);
    tree.run("build").code(0);
    tree.equals_clean();
}

#[test]
fn outputs_that_were_edited_or_removed_come_back() {
    let tree = built();
    let before = tree.outputs("mine");
    tree.write("boltboard-work/builds/mine/parts/bin/mini", "edited");
    std::fs::remove_file(tree.at("boltboard-work/builds/mine/objects/mini/src/depth.c.o")).expect("removed");
    tree.run("preview").code(0).says(&["out/bin/mini was changed by hand", "objects/mini/src/depth.c.o is missing"]);
    tree.run("build").code(0).says(&[": 2 reused"]);
    assert!(before == tree.outputs("mine"));
    // What people get is put right without a step.
    tree.write("boltboard-work/builds/mine/out/bin/mini", "edited");
    tree.run("preview").code(0).says(&["No step to run", "1 file to put right", "out/bin/mini was changed by hand"]);
    tree.run("build").code(0).steps(0).says(&["Put right: out/bin/mini, which was changed or gone."]);
    std::fs::remove_file(tree.at("boltboard-work/builds/mine/out/bin/mini")).expect("removed");
    tree.run("preview").code(0).says(&["out/bin/mini is missing"]);
    tree.run("build").code(0).steps(0).says(&["Put right: out/bin/mini"]);
    assert!(before == tree.outputs("mine"));
    tree.run("build").code(0).says(&["Nothing to do:"]);
}

#[test]
fn another_compiler_rekeys_everything_it_compiles() {
    let tree = Scratch::with(MINI);
    tree.script("wrap/cc", "exec /usr/bin/cc \"$@\"");
    let with = |words: &str| {
        let mut command = tree.command(words);
        command.env("PATH", format!("{}/wrap:{}", tree.path().display(), usual_path()));
        tree.ran(&mut command)
    };
    with("build").code(0);
    with("build").code(0).steps(0);
    tree.script("wrap/cc", "exec /usr/bin/cc -DOTHER \"$@\"");
    with("preview").code(0).says(&["wrap/cc has changed", "cc, or a program behind it, has changed"]);
    with("build").code(0).steps(3);
}

#[test]
fn builds_do_not_depend_on_the_folder_or_the_day() {
    let (a, b) = (Scratch::with(MINI), Scratch::with(MINI));
    for tree in [&a, &b] {
        tree.edit("src/main.c", "printf(", "printf(__FILE__ __DATE__ __TIME__ \"\\n\"); printf(");
    }
    a.run("build").code(0);
    b.run("build --work elsewhere").code(0);
    let program =
        |tree: &Scratch, work: &str| std::fs::read(tree.at(work).join("builds/mine/out/bin/mini")).expect("built");
    assert!(program(&a, "boltboard-work") == program(&b, "elsewhere"));
}

#[test]
fn all_kinds_of_parts_and_languages_are_built() {
    let board = r#"format = 1
[tree]
name = "kinds"
version = "3.1"
[header.h]
output = "kinds/options.h"
prefix = "K_"
[option.extra]
kind = "module"
default = "loadable"
[option.names]
kind = "words"
default = ["fore", "aft"]
[part.asm]
kind = "objects"
sources = ["value.S"]
[part.low]
kind = "static-library"
sources = ["a/same.c", "b/same.c"]
public-include = ["include"]
[part.shared]
kind = "shared-library"
abi = "4"
sources = ["shared.cpp"]
uses = ["low"]
link-flags = ["-Wl,--version-script=${path:tree}/shared.map"]
link-reads = ["shared.map"]
[part.maker]
kind = "program"
sources = ["maker.c"]
[part.text]
kind = "generated"
template = "text.in"
output = "text.txt"
[part.table]
kind = "generated"
command = ["${part:maker}", "${step:output}"]
output = ["kinds/table.c"]
success = [0, 3]
[part.modules]
kind = "generated"
[part.modules.module-table]
program = "main"
output = "kinds/modules.c"
declare = "extern int {symbol}(void);"
open = "int (*const modules[])(void) = {"
entry = "  {symbol},"
close = "  0 };"
[part.extra]
kind = "module"
option = "extra"
program = "main"
symbol = "extra_module"
sources = ["extra.c"]
[part.main]
kind = "program"
sources = ["main.c", { add = [], made = ["kinds/table.c", "kinds/modules.c"] }]
uses = ["shared", "asm", "table", "modules"]
[test.adds-up]
command = ["${part:main}", "15"]
"#;
    let tree = Scratch::with(&[
        ("boltboard.toml", board),
        (
            "value.S",
            "#include <kinds/options.h>\n.globl value\nvalue: .byte 1\n.incbin \"blob.bin\"\n.section .note.GNU-stack,\"\",%progbits\n",
        ),
        ("blob.bin", "x"),
        ("a/same.c", "int from_a(void) { return 2; }\n"),
        ("b/same.c", "int from_b(void) { return 4; }\n"),
        ("include/low.h", "int from_a(void); int from_b(void);\n"),
        ("shared.cpp", "extern \"C\" {\n#include <low.h>\nint shared(void) { return from_a() + from_b(); } }\n"),
        ("shared.map", "{ global: shared; local: *; };\n"),
        ("text.in", "@tree:name@ @tree:version@ is @names@, mail x@y.z\n"),
        (
            "maker.c",
            "#include <stdio.h>\nint main(int n, char **v) { FILE *f = fopen(v[n - 1], \"w\"); fputs(\"int table = 8;\\n\", f); fclose(f); return 3; }\n",
        ),
        ("extra.c", "int extra_module(void) { return 100; }\n"),
        (
            "main.c",
            "#include <stdlib.h>\nextern char value; extern int table; int shared(void); extern int (*const modules[])(void);\nint main(int n, char **v) { int sum = value + shared() + table; for (int i = 0; modules[i]; i++) sum += modules[i](); return n < 2 || sum != atoi(v[1]); }\n",
        ),
    ]);
    tree.run("build").code(0);
    let made = |path: &str| tree.at("boltboard-work/builds/mine").join(path);
    assert!(made("out/lib/kinds/extra.so").is_file());
    assert_eq!(
        std::fs::read_link(made("out/lib/libshared.so")).expect("a link").display().to_string(),
        "libshared.so.4"
    );
    assert_eq!(std::fs::read_to_string(made("made/text.txt")).expect("made"), "kinds 3.1 is fore aft, mail x@y.z\n");
    tree.run("test").code(0).says(&["passed    adds-up"]);
    tree.run("set extra=builtin").code(0);
    tree.run("test").code(1).says(&["failed    adds-up", "exit code 1"]);
    tree.run("test --report reports/tests.xml").code(1);
    let report = tree.read("reports/tests.xml");
    for piece in ["<testcase name=\"adds-up\"", "failures=\"1\"", "<failure message=\"exit code 1\""] {
        assert!(report.contains(piece), "no {piece} in {report}");
    }
    assert!(!made("out/lib/kinds/extra.so").exists(), "a built-in module has no file of its own");
    tree.edit("boltboard.toml", "\"15\"", "\"115\"");
    tree.run("test").code(0);
    tree.write("blob.bin", "y");
    assert_eq!(tree.previewed("run"), ["compile value.S"]);
    tree.run("build").code(0);
    tree.edit("shared.map", "local: *", "local : *");
    assert_eq!(tree.previewed("run"), ["link out/lib/libshared.so.4"]);
    tree.run("build").code(0);
    tree.equals_clean();
}

#[test]
fn the_compilation_database_has_every_compile() {
    let tree = Scratch::with(MINI);
    let entries = tree.run("export compile-commands --try horn=on").code(0).json();
    let entries = entries.as_array().expect("a list").clone();
    let files: Vec<&str> = entries.iter().filter_map(|e| e["file"].as_str()).collect();
    assert_eq!(files, ["src/main.c", "src/depth.c", "src/horn.c"]);
    assert_eq!(entries[0]["directory"], "TREE");
    let arguments = entries[0]["arguments"].as_array().expect("words");
    assert!(arguments.iter().any(|a| a == "-ITREE/boltboard-work/builds/mine/made"), "{arguments:?}");
}

#[test]
fn clean_removes_and_the_next_build_is_the_same() {
    let tree = built();
    let before = tree.outputs("mine");
    tree.run("clean").code(0).says(&["Removed"]);
    assert!(tree.outputs("mine").is_empty());
    tree.run("build").code(0).says(&[": 4 reused"]);
    assert!(before == tree.outputs("mine"));
    tree.run("clean --all --store").code(0);
    tree.run("build").code(0).steps(4);
    assert!(before == tree.outputs("mine"));
    tree.run("ledger").code(0).says(&["mine", "done"]);
}

#[test]
fn profiles_share_what_they_have_in_common() {
    let tree = built();
    tree.run("profile new other").code(0);
    tree.run("set horn=on").code(0);
    tree.run("build").code(0).says(&["3 steps ran, 2 reused"]);
    tree.run("compare mine other").code(1).says(&[
        "horn",
        "1 step only for other",
        "compile   src/horn.c",
        "the same for both",
    ]);
    tree.run("compare mine mine").code(0).says(&["a profile does not differ from itself"]);
    tree.run("profile use mine").code(0);
    tree.run("build").code(0).says(&["Nothing to do: all 5 steps are current"]);
}

#[test]
fn programs_are_linked_again_only_when_a_library_s_interface_changes() {
    let board = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.low]\nkind = \"shared-library\"\nsources = [\"low.c\"]\n[part.prog]\nkind = \"program\"\nsources = [\"prog.c\"]\nuses = [\"low\"]\n";
    let prog = "int low(void); extern int table[]; int main(void) { return low() + table[0]; }\n";
    let tree = Scratch::with(&[
        ("boltboard.toml", board),
        ("low.c", "int table[4];\nint low(void) { return 1; }\n"),
        ("prog.c", prog),
    ]);
    tree.run("build").code(0).steps(4);
    for (case, old, new, runs) in [
        ("another body", "return 1", "return 2", 2),
        ("a longer body", "return 2;", "for (volatile int i = 0; i < 3; i++) { table[0]++; } return 2;", 2),
        ("a hidden function more", "int table", "static int more(void) { return 3; }\nint table", 2),
        ("that is called", "return 2", "return more()", 2),
        ("a public function more", "static int more", "int more", 3),
        ("larger data", "table[4]", "table[8]", 3),
        ("data that lies elsewhere", "table[8];", "table[8];\nstatic const char wide[65536] = { 1 };", 2),
        ("and is not thrown away", "return more()", "return more() + wide[table[1]] - 1", 2),
        ("data that is aligned otherwise", "int table[8];", "_Alignas(128) int table[8];", 3),
        ("more data of the public", "table[8];", "table[8];\nint spare;", 3),
    ] {
        tree.edit("low.c", old, new);
        let ran = tree.run("build").code(0);
        assert_eq!(ran.ran(), runs, "{case}: {}", ran.out);
        tree.equals_clean();
    }
    // A program that holds no copy of the data does not see how it lies.
    tree.edit("prog.c", " + table[0]", "");
    tree.run("build").code(0).steps(2);
    tree.edit("low.c", "_Alignas(128) int table[8];", "int table[9];");
    tree.run("build").code(0).steps(2);
    tree.equals_clean();
    tree.edit("prog.c", "low();", "low() + table[0] + 0;");
    tree.run("build").code(0).steps(2);
    let status =
        std::process::Command::new(tree.at("boltboard-work/builds/mine/out/bin/prog")).status().expect("it runs");
    assert_eq!(status.code(), Some(6), "both bodies ran");
}

#[test]
fn macros_among_the_flags_reach_files_that_name_them_and_debug_information_that_holds_all() {
    let tree = Scratch::with(MINI);
    tree.edit("boltboard.toml", "\"-Wall\"]", "\"-Wall\", \"-DSPEED=${depth}\", { when = \"air\", add = [\"-g3\"] }]");
    tree.edit("src/depth.c", "return MINI_DEPTH;", "return SPEED;");
    tree.run("build").code(0);
    tree.run("set depth=8").code(0);
    assert_eq!(tree.previewed("run"), ["write made/mini/options.h", "compile src/depth.c"]);
    tree.run("build").code(0);
    tree.equals_clean();
    tree.run("set air=on").code(0);
    tree.run("build").code(0);
    tree.run("set depth=7").code(0);
    assert_eq!(tree.previewed("run"), ["write made/mini/options.h", "compile src/main.c", "compile src/depth.c"]);
    tree.run("build").code(0);
    tree.equals_clean();
}

#[test]
fn a_library_of_the_host_that_changes_links_again_what_took_it() {
    let host = Scratch::with(&[("tide.c", "int tide(void) { return 1; }\n")]);
    let library = |folder: &str, value: &str| {
        std::fs::create_dir_all(host.at(folder)).expect("a folder");
        host.write("tide.c", &format!("int tide(void) {{ return {value}; }}\n"));
        let script = format!("cc -c tide.c -o tide.o && rm -f {folder}/libtide.a && ar qcD {folder}/libtide.a tide.o");
        let done = std::process::Command::new("sh").arg("-c").arg(script).current_dir(host.path()).status();
        assert!(done.expect("a shell").success());
    };
    library("second", "1");
    std::fs::create_dir_all(host.at("first")).expect("a folder");
    let flags = format!("\"-L{}\", \"-L{}\"", host.at("first").display(), host.at("second").display());
    let board = format!(
        "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.prog]\nkind = \"program\"\nsources = [\"prog.c\"]\n\
         libraries = [\"tide\"]\nlink-flags = [{flags}]\n"
    );
    let tree =
        Scratch::with(&[("boltboard.toml", &board), ("prog.c", "int tide(void); int main(void) { return tide(); }\n")]);
    let answer =
        || std::process::Command::new(tree.at("boltboard-work/builds/mine/out/bin/prog")).status().expect("it runs");
    tree.run("build").code(0).steps(2);
    assert_eq!(answer().code(), Some(1));
    tree.run("build").code(0).steps(0);
    library("second", "2");
    tree.run("preview").code(0).says(&["second/libtide.a"]);
    tree.run("build").code(0).steps(1);
    assert_eq!(answer().code(), Some(2), "the archive has another member");
    library("first", "3");
    tree.run("preview").code(0).says(&["first/libtide.a"]);
    tree.run("build").code(0).steps(1);
    assert_eq!(answer().code(), Some(3), "another one now comes first");
    std::fs::remove_file(host.at("first/libtide.a")).expect("it was there");
    tree.run("build").code(0).says(&[": 1 reused"]);
    assert_eq!(answer().code(), Some(2), "it is gone again");
}

#[test]
fn a_clean_build_on_the_side_tells_whether_the_build_can_be_trusted() {
    let tree = built();
    tree.run("set depth=5").code(0);
    tree.run("build --verify").code(0).steps(2).says(&["Verified:", "byte for byte"]);
    tree.write("boltboard-work/builds/mine/out/bin/stray", "left by a person");
    tree.write("boltboard-work/builds/mine/parts/bin/other", "left by a person");
    tree.run("build --verify").code(1).says(&[
        "out/bin/stray would not be there; no step makes it",
        "parts/bin/other would not be there; no step makes it",
    ]);
    assert_eq!(tree.read("boltboard-work/builds/mine/out/bin/stray"), "left by a person", "it only looks");
    let left = std::fs::read_dir(tree.at("boltboard-work/scratch")).map_or(0, Iterator::count);
    assert_eq!(left, 0, "the clean build is gone");
}

#[test]
fn what_a_generator_reads_counts_though_it_does_not_declare_it() {
    let board = |file: &str| {
        format!(
            "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.text]\nkind = \"generated\"\n\
             command = [\"sh\", \"-c\", \"cat {file} > ${{step:output}}\"]\noutput = [\"text.h\"]\n"
        )
    };
    // A tree in memory lies where the kernel has its devices, and a path can lead through what it tells of processes.
    let through = ["hidden.txt", "hidden.txt", "/proc/self/cwd/hidden.txt", "/proc/self/cwd/./hidden.txt"];
    let trees = [Some(Scratch::new()), Scratch::in_memory(), Some(Scratch::new()), Some(Scratch::new())];
    for (file, tree) in through.into_iter().zip(trees).filter_map(|(file, tree)| Some((file, tree?))) {
        tree.write("boltboard.toml", &board(file));
        tree.write("hidden.txt", "int tide = 1;\n");
        tree.run("build --verify").code(0).says(&["Verified:"]);
        tree.write("hidden.txt", "int tide = 2;\n");
        tree.run("preview").code(0).says(&["hidden.txt has changed"]);
        tree.run("build --verify").code(0).steps(1).says(&["Verified:"]);
    }
}

#[test]
fn what_verifying_disproves_is_dropped() {
    let board = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.text]\nkind = \"generated\"\n\
                 command = [\"sh\", \"-c\", \"cat /proc/sys/kernel/random/uuid > ${step:output}\"]\noutput = [\"text.h\"]\n\
                 [part.copy]\nkind = \"generated\"\nuses = [\"text\"]\n\
                 command = [\"cp\", \"${path:made}/text.h\", \"${step:output}\"]\noutput = [\"copy.h\"]\n\
                 [part.other]\nkind = \"generated\"\ncommand = [\"sh\", \"-c\", \"echo 1 > ${step:output}\"]\noutput = [\"other.h\"]\n";
    let tree = Scratch::with(&[("boltboard.toml", board)]);
    tree.run("build").code(0);
    tree.run("build").code(0).steps(0);
    tree.run("build --verify").code(1).says(&[
        "2 files are not as in a clean build, of 3 compared",
        "made/text.h differs from byte ",
        "cause: generate made/text.h reads the same as before",
        "The results of 2 steps were dropped, here and in the store.",
        "boltboard build",
    ]);
    assert!(!tree.at("boltboard-work/builds/mine/made/text.h").exists());
    tree.run("build").code(0).steps(2);
}
