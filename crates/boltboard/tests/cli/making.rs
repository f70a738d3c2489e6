//! How parts are made: what links read, names of shared libraries, generators with habits of their own, state of another version.

use std::process::Command;

use crate::harness::Scratch;

const SHARED: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[part.tide]
kind = "shared-library"
sources = ["lib/*.c"]
abi = "2"
link-flags = ["-Wl,--version-script=exports.map"]
link-reads = ["exports.map"]
[part.prog]
kind = "program"
sources = ["main.c"]
uses = ["tide"]
[part.other]
kind = "program"
sources = ["other.c"]
"#;

const EXPORTS: &str = "TIDE_1 { global: tide; local: *; };\n";

fn shared() -> Scratch {
    let tree = Scratch::with(&[
        ("boltboard.toml", SHARED),
        ("exports.map", EXPORTS),
        ("lib/tide.c", "int ebb(void) { return 3; }\nint tide(void) { return ebb() + 1; }\n"),
        ("main.c", "int tide(void);\nint main(void) { return tide(); }\n"),
        ("other.c", "int main(void) { return 9; }\n"),
    ]);
    tree.run("build").code(0);
    tree
}

fn exit_code(tree: &Scratch, program: &str) -> Option<i32> {
    Command::new(tree.at("boltboard-work/builds/mine/out/bin").join(program)).status().expect("it runs").code()
}

#[test]
fn a_shared_library_has_its_names_and_is_found_from_anywhere() {
    let tree = shared();
    let library = tree.at("boltboard-work/builds/mine/out/lib");
    assert_eq!(std::fs::read_link(library.join("libtide.so")).expect("a link").display().to_string(), "libtide.so.2");
    assert!(library.join("libtide.so.2").is_file());
    assert_eq!(exit_code(&tree, "prog"), Some(4));
    // The whole build may be moved: programs find the library beside them.
    let moved = Scratch::new();
    let copied = Command::new("cp").arg("-a").arg(tree.at("boltboard-work/builds/mine/out")).arg(moved.path()).status();
    assert!(copied.expect("cp runs").success());
    std::fs::remove_file(library.join("libtide.so.2")).expect("removed");
    assert_eq!(Command::new(moved.at("out/bin/prog")).status().expect("it runs").code(), Some(4));
}

#[test]
fn what_a_link_reads_links_again_just_what_reads_it() {
    let tree = shared();
    tree.write("exports.map", "TIDE_1 { global: tide; ebb; local: *; };\n");
    assert_eq!(tree.previewed("run"), ["link out/lib/libtide.so.2"]);
    // The interface has changed, so what uses it follows; what does not use it stands.
    tree.run("build --verify").code(0).steps(2);
    tree.write("exports.map", &format!("/* said again */ {}", "TIDE_1 { global: tide; ebb; local: *; };\n"));
    tree.run("build --verify").code(0).steps(1);
    tree.edit("lib/tide.c", "return 3", "return 5");
    tree.run("build --verify").code(0).steps(2);
    assert_eq!(exit_code(&tree, "prog"), Some(6), "its code is that of the new library");
    tree.write("exports.map", "{ nonsense\n");
    tree.run("build").code(1).complains(&["failed: link out/lib/libtide.so.2"]);
    tree.write("exports.map", EXPORTS);
    tree.run("build --verify").code(0);
}

const GENERATED: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[part.maker]
kind = "program"
sources = ["maker.c"]
[part.second-maker]
kind = "program"
sources = ["second.c"]
uses = ["table"]
[part.table]
kind = "generated"
command = ["sh", "-c", "cd $(dirname ${step:output}) && ${part:maker} ${step:reads}"]
reads = ["words.txt"]
output = ["table.h"]
success = [3]
[part.names]
kind = "generated"
command = ["${part:second-maker}", "${step:output}"]
output = ["names.h", "names.c"]
[part.prog]
kind = "program"
sources = ["main.c", { add = [], made = ["names.c"] }]
uses = ["table", "names"]
"#;

/// Ends with 3 when all is well, and writes `table.h` where it stands.
const MAKER: &str = r##"#include <stdio.h>
int main(int count, char **words) {
    FILE *from = fopen(words[1], "r"), *to = fopen("table.h", "w");
    int size = 0, c;
    if (count != 2 || !from || !to) return 1;
    while ((c = getc(from)) != EOF) size += c == '\n';
    fprintf(to, "#define TABLE %d\n", size);
    return fclose(to) ? 1 : 3;
}
"##;

const SECOND: &str = r##"#include <stdio.h>
#include "table.h"
int main(int count, char **words) {
    FILE *header = fopen(words[1], "w"), *source = fopen(words[2], "w");
    if (count != 3 || !header || !source) return 1;
    fprintf(header, "extern int names[%d];\n", TABLE);
    fprintf(source, "#include \"names.h\"\nint names[%d] = { %d };\n", TABLE, TABLE);
    return fclose(header) || fclose(source);
}
"##;

fn generated() -> Scratch {
    let tree = Scratch::with(&[
        ("boltboard.toml", GENERATED),
        ("words.txt", "one\ntwo\n"),
        ("maker.c", MAKER),
        ("second.c", SECOND),
        ("main.c", "#include \"table.h\"\n#include \"names.h\"\nint main(void) { return names[0] * 10 + TABLE; }\n"),
    ]);
    tree.run("build").code(0);
    tree
}

#[test]
fn generators_in_stages_follow_what_they_read_and_stop_where_nothing_changes() {
    let tree = generated();
    assert_eq!(exit_code(&tree, "prog"), Some(22));
    // Other words, the same number of them: what the first generator writes is the same.
    tree.write("words.txt", "ebb\nflow\n");
    tree.run("build --verify").code(0).steps(1);
    tree.write("words.txt", "ebb\nflow\nslack\n");
    tree.run("build --verify").code(0);
    assert_eq!(exit_code(&tree, "prog"), Some(33));
    // A generator whose code changes and whose result does not.
    tree.edit("maker.c", "int size = 0, c;", "int size = 0, c, more = 0;\n    (void)more;");
    let told = tree.run("build --verbose").code(0).err;
    assert!(told.contains("compile   maker.c") && !told.contains("compile   main.c"), "{told}");
    tree.run("build --verify").code(0).steps(0);
}

#[test]
fn a_generator_that_ends_otherwise_than_declared_fails_and_leaves_the_old_results() {
    let tree = generated();
    let before = tree.read("boltboard-work/builds/mine/made/table.h");
    tree.edit("maker.c", "? 1 : 3", "? 1 : 0");
    tree.run("build").code(1).complains(&["failed: generate made/table.h", "exit code 0"]);
    assert_eq!(tree.read("boltboard-work/builds/mine/made/table.h"), before);
    tree.edit("boltboard.toml", "success = [3]", "success = [0, 3]");
    tree.run("build --verify").code(0);
    tree.edit("boltboard.toml", "success = [0, 3]", "success = [0, 3]\nfolder = \"nowhere\"");
    tree.run("build")
        .code(1)
        .complains(&["cannot start it: its folder TREE/nowhere is not there: make it, or correct the part's `folder`"]);
}

#[test]
fn state_of_another_version_costs_work_and_nothing_else() {
    let tree = shared();
    for (file, text) in [
        ("builds/mine/journal", "boltboard journal 1\nof long ago"),
        ("builds/mine/records", "boltboard records 1\nof long ago"),
        ("builds/mine/seal", "boltboard seal 99\nof a time to come"),
        ("status", "boltboard status 0\n"),
    ] {
        let path = format!("boltboard-work/{file}");
        assert!(tree.at(&path).exists() || file.ends_with("records"), "{file} is where state is kept");
        tree.write(&path, text);
        let ran = tree.run("build --verify").code(0);
        assert!(ran.err.lines().count() <= 1, "one line at most: {}", ran.err);
        tree.run("build").code(0).steps(0);
    }
    tree.equals_clean();
}

const NAMED: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[toolchain]
flags = ["-O1", "@flags.rsp"]
[part.prog]
kind = "program"
sources = ["main.c", { add = ["low.c"], flags = ["-include", "forced.h"] }]
link-flags = ["more.ld", "@link.rsp"]
"#;

#[test]
fn files_that_flags_name_count_though_nobody_declares_them() {
    let tree = Scratch::with(&[
        ("boltboard.toml", NAMED),
        ("flags.rsp", "-DDEPTH=4\n@deeper.rsp\n"),
        ("deeper.rsp", "-fno-common"),
        ("link.rsp", "-Wl,--version-script=exports.map"),
        ("exports.map", "{ global: main; };\n"),
        ("more.ld", "low_mark = 1;\n"),
        ("forced.h", "#define LOW 0\n"),
        ("main.c", "int low(void);\nint main(void) { return DEPTH + low(); }\n"),
        ("low.c", "int low(void) { return LOW; }\n"),
    ]);
    tree.run("build").code(0);
    tree.run("build").steps(0);
    let (both, link) = (["compile main.c", "compile low.c"], ["link out/bin/prog"]);
    for (file, text, want) in [
        ("flags.rsp", "-DDEPTH=5\n@deeper.rsp\n", &both[..]),
        ("deeper.rsp", "-fcommon", &both),
        ("exports.map", "{ global: *; };\n", &link),
        ("more.ld", "low_mark = 2;\n", &link),
        ("link.rsp", "-Wl,--version-script=exports.map -Wl,--defsym=high_mark=3", &link),
        ("forced.h", "#define LOW 3\n", &both[1..]),
    ] {
        tree.write(file, text);
        assert_eq!(tree.previewed("run"), want, "{file}");
        tree.run("preview").says(&[&format!("{file} has changed")]);
        tree.run("build --verify").code(0).says(&["Verified:"]);
        tree.run("build").steps(0);
    }
    assert_eq!(exit_code(&tree, "prog"), Some(8));
    std::fs::remove_file(tree.at("deeper.rsp")).expect("removed");
    tree.run("build").code(1).complains(&["deeper.rsp"]);
}

const MADE: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[part.words]
kind = "generated"
command = ["sh", "-c", "cat ${step:reads} > ${step:output}"]
reads = ["more.in"]
output = ["more.ld"]
[part.prog]
kind = "program"
sources = ["main.c"]
uses = ["words"]
link-flags = ["-Wl,${path:made}/more.ld,--no-undefined"]
"#;

#[test]
fn generated_files_that_flags_of_a_link_name_come_before_it() {
    let tree = Scratch::with(&[
        ("boltboard.toml", MADE),
        ("more.in", "low_mark = 1;\n"),
        ("main.c", "extern char low_mark[];\nint main(void) { return (int)(long)low_mark; }\n"),
    ]);
    // The mark is a number, not a place that moves with the program.
    tree.edit("boltboard.toml", "[part.prog]\n", "[part.prog]\nflags = [\"-fno-pie\"]\n");
    tree.edit("boltboard.toml", "--no-undefined\"", "--no-undefined\", \"-no-pie\"");
    tree.run("build --jobs 4").code(0);
    assert_eq!(exit_code(&tree, "prog"), Some(1));
    tree.write("more.in", "low_mark = 2;\n");
    assert_eq!(tree.previewed("follows"), ["link out/bin/prog"]);
    tree.run("build --verify").code(0).steps(2).says(&["Verified:"]);
    assert_eq!(exit_code(&tree, "prog"), Some(2));
    tree.run("build").steps(0);
}
