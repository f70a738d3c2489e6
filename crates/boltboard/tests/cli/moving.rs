//! Files that come, go, move, and lead elsewhere: just what reads them is made again, and what comes out equals a clean build.

use std::os::unix::fs::symlink;
use std::process::Command;

use crate::harness::Scratch;

const BOARD: &str = r#"format = 1
[tree]
name = "reef"
version = "1"
[toolchain]
flags = ["-O1"]
[part.kit]
kind = "static-library"
sources = ["kit/**/*.c"]
include = ["first", "second", "third"]
[part.reef]
kind = "program"
sources = ["main.c"]
uses = ["kit"]
include = ["second"]
"#;

fn built() -> Scratch {
    let tree = Scratch::with(&[
        ("boltboard.toml", BOARD),
        ("main.c", "#include \"swell.h\"\nint tide(void);\nint main(void) { return tide() - SWELL; }\n"),
        ("kit/tide.c", "#include <swell.h>\nint tide(void) { return SWELL; }\n"),
        ("kit/ebb.c", "int ebb(void) { return 1; }\n"),
        ("first/none.h", ""),
        ("second/swell.h", "#define SWELL 2\n"),
        ("third/none.h", ""),
    ]);
    tree.run("build").code(0);
    tree
}

/// Builds; checks which compiles ran, that nothing is left to do, and that the result equals a clean build.
#[track_caller]
fn compiles(tree: &Scratch, case: &str, want: &[&str]) {
    let foretold = tree.previewed("run");
    let told = tree.run("build --verbose").code(0).err;
    let mut ran: Vec<&str> =
        told.lines().filter_map(|line| line.strip_prefix("compile")?.split_whitespace().next()).collect();
    ran.sort_unstable();
    assert_eq!(ran, want, "{case}: {told}");
    let mut of_compiles: Vec<&str> = foretold.iter().filter_map(|step| step.strip_prefix("compile ")).collect();
    of_compiles.sort_unstable();
    assert_eq!(of_compiles, ran, "{case}: the preview said {foretold:?}");
    tree.run("preview").code(0).says(&["Nothing to do"]);
    tree.equals_clean();
}

fn rename(tree: &Scratch, from: &str, to: &str) {
    std::fs::create_dir_all(tree.at(to).parent().expect("a folder")).expect("made");
    std::fs::rename(tree.at(from), tree.at(to)).expect("renamed");
}

fn lead(tree: &Scratch, link: &str, target: &str) {
    let _ = std::fs::remove_file(tree.at(link));
    symlink(target, tree.at(link)).expect("linked");
}

#[test]
fn sources_of_a_pattern_come_and_go_and_move() {
    let tree = built();
    tree.write("kit/rip.c", "int rip(void) { return 3; }\n");
    compiles(&tree, "one comes", &["kit/rip.c"]);
    rename(&tree, "kit/rip.c", "kit/race.c");
    compiles(&tree, "it gets another name", &["kit/race.c"]);
    rename(&tree, "kit/race.c", "kit/far/out/race.c");
    compiles(&tree, "it moves to a folder below", &["kit/far/out/race.c"]);
    let made: Vec<String> = tree.outputs("mine").into_iter().map(|(name, _)| name).collect();
    assert_eq!(made.iter().filter(|name| name.contains("ra") || name.contains("rip")).count(), 1, "{made:?}");
    tree.write("kit/far/notes.txt", "no source");
    compiles(&tree, "something else comes", &[]);
    rename(&tree, "kit/far", "far");
    compiles(&tree, "its folder leaves the pattern", &[]);
    rename(&tree, "far", "kit/far");
    tree.run("build").code(0).says(&["reused"]);
    tree.equals_clean();
    std::fs::remove_dir_all(tree.at("kit/far")).expect("removed");
    compiles(&tree, "its folder is removed", &[]);
    std::fs::create_dir(tree.at("kit/race.c")).expect("made");
    compiles(&tree, "a folder has a source's name", &[]);
}

#[test]
fn headers_that_go_and_move_are_followed() {
    let tree = built();
    rename(&tree, "second/swell.h", "first/swell.h");
    tree.run("build").code(1).complains(&["failed: compile main.c", "swell.h: No such file"]);
    rename(&tree, "first/swell.h", "second/swell.h");
    tree.run("build").code(0).steps(0);
    tree.equals_clean();
    tree.write("third/swell.h", "#define SWELL 9\n");
    compiles(&tree, "one comes that is found later", &[]);
    tree.write("first/swell.h", "#define SWELL 4\n");
    compiles(&tree, "one comes that is found first", &["kit/tide.c"]);
    tree.write("swell.h", "#define SWELL 5\n");
    compiles(&tree, "one comes beside a source that asks for it in quotes", &["main.c"]);
    rename(&tree, "first/swell.h", "third/swell.h");
    tree.run("build").code(0).says(&["reused"]);
    tree.equals_clean();
    rename(&tree, "second/swell.h", "second/surge.h");
    tree.write("kit/tide.c", "#include <surge.h>\nint tide(void) { return SWELL; }\n");
    compiles(&tree, "one gets another name, and who asks for it follows", &["kit/tide.c"]);
    std::fs::remove_file(tree.at("second/surge.h")).expect("removed");
    let gone = tree.run("build --keep-going").code(1);
    gone.complains(&["failed: compile kit/tide.c of part kit", "first error: kit/tide.c:1:10: surge.h: No such file"]);
    tree.run("preview").code(0).says(&["compile   kit/tide.c", "second/surge.h is gone"]);
    tree.write("second/surge.h", "#define SWELL 2\n");
    tree.run("build").code(0).steps(0);
    tree.equals_clean();
}

#[test]
fn links_that_lead_elsewhere_are_followed() {
    let tree = built();
    tree.write("kinds/low.h", "#define SWELL 1\n");
    tree.write("kinds/high.h", "#define SWELL 7\n");
    lead(&tree, "second/swell.h", "../kinds/low.h");
    compiles(&tree, "a header becomes a link", &["kit/tide.c", "main.c"]);
    lead(&tree, "second/swell.h", "../kinds/high.h");
    compiles(&tree, "it leads elsewhere", &["kit/tide.c", "main.c"]);
    tree.write("kinds/high.h", "#define SWELL 8\n");
    compiles(&tree, "what it leads to is edited", &["kit/tide.c", "main.c"]);
    lead(&tree, "second/swell.h", "../kinds/low.h");
    tree.run("build").code(0).steps(0).says(&["reused"]);
    tree.equals_clean();

    tree.write("north/inner.h", "#define INNER 1\n");
    tree.write("south/inner.h", "#define INNER 2\n");
    lead(&tree, "third/coast", "../north");
    tree.write("kit/ebb.c", "#include <coast/inner.h>\nint ebb(void) { return INNER; }\n");
    compiles(&tree, "a folder is a link", &["kit/ebb.c"]);
    lead(&tree, "third/coast", "../south");
    compiles(&tree, "the folder leads elsewhere", &["kit/ebb.c"]);
    lead(&tree, "kit/rip.c", "../sources/rip.txt");
    tree.write("sources/rip.txt", "int rip(void) { return 3; }\n");
    compiles(&tree, "a source is a link", &["kit/rip.c"]);
    tree.write("sources/rip.txt", "int rip(void) { return 4; }\n");
    compiles(&tree, "the source that it leads to is edited", &["kit/rip.c"]);

    lead(&tree, "second/swell.h", "swell.h");
    let ring = tree.run("build").code(1);
    ring.complains(&["swell.h: Too many levels of symbolic links"]);
    lead(&tree, "second/swell.h", "../nowhere.h");
    tree.run("build").code(1).complains(&["swell.h: No such file"]);
    lead(&tree, "second/swell.h", "../kinds/low.h");
    tree.run("build").code(0).steps(0);
    tree.equals_clean();
}

/// A macro as many trees have it: the assembler gets a name that no text spells out.
const TAKE: &str = r#"#define TEXT(x) #x
#define TAKE(name, file) __asm__(".data\n" #name ": .incbin \"" TEXT(file) "\"\n")
"#;

#[test]
fn what_an_assembler_takes_in_is_followed() {
    let tree = built();
    tree.edit("boltboard.toml", "\"kit/**/*.c\"", "\"kit/**/*.c\", \"kit/*.S\", \"kit/*.s\"");
    for (file, text) in [
        ("kit/logo.S", "#include \"place.h\"\n.data\n.globl logo\nlogo: .incbin LOGO\n"),
        ("kit/place.h", "#define LOGO \"kit/logo.bin\"\n"),
        ("kit/logo.bin", "a lamp"),
        ("kit/far.s", ".data\n.globl far\nfar: .incbin \"far.bin\"\n.include \"words.inc\"\n"),
        ("third/far.bin", "far away"),
        ("third/words.inc", ".ascii \"words\"\n"),
        ("second/take.h", TAKE),
        ("kit/lamp.c", "#include <take.h>\nTAKE(lamp, far.bin);\n"),
        ("kit/none.c", "#include <take.h>\nint none;\n"),
    ] {
        tree.write(file, text);
    }
    compiles(&tree, "assembly comes", &["kit/far.s", "kit/lamp.c", "kit/logo.S", "kit/none.c"]);
    let time = std::fs::metadata(tree.at("third/far.bin")).and_then(|status| status.modified()).expect("a time");
    tree.write("third/far.bin", "far aw@y");
    tree.set_time("third/far.bin", time);
    compiles(&tree, "another content, as long and as old", &["kit/far.s", "kit/lamp.c"]);
    tree.write("third/words.inc", ".ascii \"other words\"\n");
    compiles(&tree, "text that is taken in", &["kit/far.s"]);
    tree.write("second/far.bin", "nearer");
    compiles(&tree, "one comes that is found first", &["kit/far.s", "kit/lamp.c"]);
    tree.write("far.bin", "nearest");
    compiles(&tree, "one comes where the assembler begins", &["kit/far.s", "kit/lamp.c"]);
    tree.write("kit/place.h", "#define LOGO \"kit/lamp.bin\"\n");
    tree.write("kit/lamp.bin", "a lantern");
    compiles(&tree, "a header names another one", &["kit/logo.S"]);
    std::fs::remove_file(tree.at("kit/logo.bin")).expect("removed");
    compiles(&tree, "one that is no longer named goes", &[]);
    std::fs::remove_file(tree.at("kit/lamp.bin")).expect("removed");
    tree.run("build").code(1).complains(&["failed: compile kit/logo.S", "kit/lamp.bin"]);
}

const OUTSIDE: &str = r#"format = 1
[tree]
name = "t"
version = "1"
sources = "../code"
[part.config]
kind = "generated"
template = "beside:config.h.in"
output = "config.h"
[part.names]
kind = "generated"
command = ["sh", "${beside:tools/names.sh}"]
stdin = "beside:names.txt"
stdout = "names.h"
[part.prog]
kind = "program"
sources = ["main.c", "beside:shim.c"]
uses = ["config", "names"]
"#;

#[test]
fn sources_templates_and_scripts_may_lie_beside_definitions_outside_of_the_tree() {
    let tree = Scratch::with(&[
        ("board/boltboard.toml", OUTSIDE),
        ("board/config.h.in", "#define VERSION \"@tree:version@\"\n"),
        ("board/tools/names.sh", "while read name; do echo \"#define $name 3\"; done\n"),
        ("board/names.txt", "DEPTH\n"),
        ("board/shim.c", "int shim(void) { return 4; }\n"),
        (
            "code/main.c",
            "#include <config.h>\n#include <names.h>\nint shim(void);\nint main(void) { return VERSION[0] - '0' + DEPTH + shim(); }\n",
        ),
    ]);
    let run = |tree: &Scratch, line: &str| {
        tree.run(&format!("{line} --tree {} --work {}", tree.at("board").display(), tree.at("work").display()))
    };
    run(&tree, "build --verify").code(0);
    let code =
        |tree: &Scratch| Command::new(tree.at("work/builds/mine/out/bin/prog")).status().expect("it runs").code();
    assert_eq!(code(&tree), Some(8));
    run(&tree, "build").code(0).steps(0);
    tree.edit("board/shim.c", "4", "5");
    run(&tree, "build --verify").code(0);
    assert_eq!(code(&tree), Some(9));
    tree.edit("board/tools/names.sh", "3", "6");
    run(&tree, "build --verify").code(0);
    assert_eq!(code(&tree), Some(12));
    tree.edit("board/config.h.in", "@tree:version@", "2");
    run(&tree, "build --verify").code(0);
    assert_eq!(code(&tree), Some(13));
    tree.edit("board/boltboard.toml", "beside:shim.c", "beside:shin.c");
    run(&tree, "build").code(3).complains(&["`beside:shin.c` matches no file"]);
}
