//! After a sealed build only what a change touches is planned, and what comes out equals a clean build all the same.

use std::time::Duration;

use crate::harness::Scratch;

const BOARD: &str = r#"format = 1
[tree]
name = "touched"
version = "1"
[toolchain]
c-flags = ["-O1", { when = "fast", add = ["-O2"] }]
[header.options]
output = "touched/options.h"
prefix = "T_"
[option.fast]
kind = "switch"
[option.horn]
kind = "switch"
[option.bell]
kind = "switch"
[option.chime]
kind = "module"
default = "builtin"
[part.words]
kind = "generated"
command = ["sh", "-c", "sed s/TIDE/tide/ words.txt > ${step:output}"]
reads = ["words.txt"]
output = ["words.h"]
[part.low]
kind = "static-library"
sources = ["low/*.c", { when = "horn", add = ["horn/*.c"] }]
public-include = ["low"]
[part.high]
kind = "static-library"
sources = ["high/*.c"]
uses = ["low", "words"]
include = ["first", "common"]
[part.far]
kind = "static-library"
sources = ["far/*.c"]
include = ["common"]
[part.chime]
kind = "module"
option = "chime"
program = "prog"
symbol = "chime"
sources = ["chime/*.c"]
include = ["common"]
[part.prog]
kind = "program"
sources = ["main.c"]
uses = ["high", "far"]
"#;

fn tree() -> Scratch {
    let tree = Scratch::with(&[
        ("boltboard.toml", BOARD),
        ("words.txt", "#define WORD \"TIDE\"\n"),
        ("common/common.h", "#define COMMON 1\n"),
        ("first/none.h", ""),
        ("low/low.h", "int low(void);\n"),
        ("low/low.c", "#include \"low.h\"\nint low(void) { return 1; }\n"),
        ("horn/horn.c", "int horn(void) { return 2; }\n"),
        (
            "high/high.c",
            "#include <words.h>\n#include <low.h>\n#include <common.h>\nint high(void) { return low() + WORD[0] + COMMON; }\n",
        ),
        (
            "far/far.c",
            "#include <touched/options.h>\n#include <common.h>\n#ifdef T_BELL\nint bell = 1;\n#endif\nint far(void) { return COMMON; }\n",
        ),
        ("far/off.c", "int off(void) { return 4; }\n"),
        ("chime/chime.c", "#include <common.h>\nint chime(void) { return COMMON; }\n"),
        ("main.c", "int high(void);\nint far(void);\nint main(void) { return high() + far() > 1000; }\n"),
    ]);
    settle(&tree);
    tree
}

fn append(tree: &Scratch, file: &str, text: &str) {
    tree.write(file, &format!("{}{text}", tree.read(file)));
}

/// Builds until the build is sealed: what was written shortly before is not.
fn settle(tree: &Scratch) {
    std::thread::sleep(Duration::from_millis(80));
    tree.run("build").code(0);
}

/// Which share of the plan was looked at, or `None` when all of it was; the build must equal a clean one.
fn looked_at(tree: &Scratch) -> Option<(usize, usize)> {
    let ran = tree.run("build --verbose --verify");
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    let line = ran.out.lines().find_map(|line| line.strip_prefix("Checking "))?;
    let mut words = line.split(' ');
    let mut number = || words.find_map(|word| word.parse().ok()).expect("a number");
    Some((number(), number()))
}

/// What would be done and why, without guesses of times.
fn previewed(tree: &Scratch) -> serde_json::Value {
    let mut told = tree.run("preview --json").code(0).json();
    let fields = told.as_object_mut().expect("an object");
    fields.retain(|name, _| name != "expected-work-ms" && name != "most-work-ms" && name != "expected-ms");
    for step in fields["steps"].as_array_mut().expect("steps") {
        step.as_object_mut().expect("a step").retain(|name, _| !name.ends_with("ms") && name != "guess");
    }
    told
}

/// The same without the seal.
fn previewed_in_full(tree: &Scratch) -> serde_json::Value {
    let [seal, aside] = ["seal", "seal-aside"].map(|name| tree.at("boltboard-work/builds/mine").join(name));
    std::fs::rename(&seal, &aside).expect("there is a seal");
    let told = previewed(tree);
    std::fs::rename(&aside, &seal).expect("back again");
    told
}

#[test]
fn only_what_a_change_touches_is_planned() {
    type Change = fn(&Scratch);
    // Of the steps of all parts, generated parts and the option header are always among those that are looked at.
    let cases: [(&str, Change, Option<usize>); 14] = [
        (
            "a result that was edited",
            |tree| tree.write("boltboard-work/builds/mine/parts/lib/libfar.a", "none"),
            Some(7),
        ),
        ("a source", |tree| append(tree, "far/off.c", "int more;\n"), Some(7)),
        (
            "a source that is saved by another name",
            |tree| {
                tree.write("far/.off.new", "int off(void) { return 5; }\n");
                std::fs::rename(tree.at("far/.off.new"), tree.at("far/off.c")).expect("renamed");
            },
            Some(7),
        ),
        ("a header of some", |tree| append(tree, "low/low.h", "#define LOW 1\n"), Some(8)),
        ("a header of many", |tree| append(tree, "common/common.h", "#undef COMMON\n#define COMMON 2\n"), Some(10)),
        ("what a generator reads", |tree| tree.write("words.txt", "#define WORD \"TIDES\"\n"), Some(6)),
        ("a header that comes first", |tree| tree.write("first/common.h", "#define COMMON 3\n"), None),
        ("an option that is named in code", |tree| drop(tree.run("set bell=on").code(0)), Some(7)),
        ("an option that adds a source", |tree| drop(tree.run("set horn=on").code(0)), Some(9)),
        ("a module that is made another way", |tree| drop(tree.run("set chime=loadable").code(0)), Some(7)),
        ("a flag of all", |tree| drop(tree.run("set fast=on").code(0)), None),
        ("a new source", |tree| tree.write("far/new.c", "int new_one;\n"), None),
        ("a definition", |tree| append(tree, "boltboard.toml", "\n# a remark\n"), None),
        ("what people get was edited", |tree| tree.write("boltboard-work/builds/mine/out/lib/libfar.a", "none"), None),
    ];
    let tree = tree();
    for (case, change, want) in cases {
        settle(&tree);
        assert_eq!(tree.run("build --verbose").code(0).out.lines().count(), 1, "{case}: the build is sealed");
        std::thread::sleep(Duration::from_millis(80));
        change(&tree);
        std::thread::sleep(Duration::from_millis(80));
        let (quick, whole) = (previewed(&tree), previewed_in_full(&tree));
        assert_eq!(quick, whole, "{case}");
        let looked = looked_at(&tree);
        assert_eq!(looked.map(|(some, _)| some), want, "{case}: {looked:?}");
        let again = tree.run("build").code(0).out;
        assert!(again.starts_with("Nothing to do:"), "{case}: {again}");
    }
}

#[test]
fn after_a_failure_what_is_open_is_looked_at_again() {
    let tree = tree();
    settle(&tree);
    // An option's new source is made, another one fails; then the option is taken back.
    let before = tree.read("high/high.c");
    tree.write("high/high.c", &format!("{before}#error not yet\n"));
    tree.run("set horn=on").code(0);
    tree.run("build --keep-going").code(1);
    assert!(tree.at("boltboard-work/builds/mine/objects/low/horn/horn.c.o").exists());
    tree.run("set horn=off").code(0);
    std::thread::sleep(Duration::from_millis(80));
    tree.run("build").code(1).complains(&["not yet"]);
    tree.write("high/high.c", &before);
    std::thread::sleep(Duration::from_millis(80));
    let looked = looked_at(&tree);
    assert!(looked.is_some_and(|(some, all)| some < all), "{looked:?}");
    assert!(!tree.at("boltboard-work/builds/mine/objects/low/horn/horn.c.o").exists());
    assert!(tree.run("build").code(0).out.starts_with("Nothing to do:"));
}

#[test]
fn one_failure_after_the_other_stays_quick() {
    let tree = tree();
    let whole = tree.read("far/off.c");
    for text in ["int off(void) { return 1 }\n", "int off(void) { return nothing; }\n"] {
        settle(&tree);
        tree.write("far/off.c", text);
        tree.run("build").code(1).complains(&["far/off.c"]);
        tree.run("build --verbose").code(1).says(&["Checking"]);
        tree.write("far/off.c", &whole);
    }
    std::thread::sleep(Duration::from_millis(80));
    assert!(looked_at(&tree).is_some());
}
