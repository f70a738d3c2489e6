//! How parts are linked: in which order, wholly or partly, with code that can lie anywhere only where something needs it.

use std::process::Command;

use crate::harness::Scratch;

fn tree(parts: &str, files: &[(&str, &str)]) -> Scratch {
    let board = format!("format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n{parts}");
    let tree = Scratch::with(&[("boltboard.toml", board.as_str())]);
    files.iter().for_each(|(name, text)| tree.write(name, text));
    tree
}

fn exit_code(tree: &Scratch, program: &str) -> Option<i32> {
    Command::new(tree.at("boltboard-work/builds/mine/out/bin").join(program)).status().expect("it runs").code()
}

const POSITION: &str = r#"
[option.plug]
kind = "module"
[part.hash]
kind = "objects"
sources = ["hash.c"]
[part.low]
kind = "static-library"
sources = ["low.c"]
uses = ["hash"]
[part.prog]
kind = "program"
sources = ["main.c"]
uses = ["low"]
[part.plug]
kind = "module"
option = "plug"
program = "prog"
symbol = "plug"
sources = ["plug.c"]
uses = ["low"]
[part.own]
kind = "objects"
sources = ["own.c"]
position-independent = true
[part.other]
kind = "program"
sources = ["other.c"]
uses = ["own"]
"#;

#[test]
fn code_can_lie_anywhere_only_where_something_needs_it() {
    let files = [
        ("hash.c", "int hash(void) { return 4; }\n"),
        ("low.c", "int hash(void);\nint low(void) { return hash(); }\n"),
        ("main.c", "int low(void);\nint main(void) { return low(); }\n"),
        ("plug.c", "int low(void);\nint plug(void) { return low(); }\n"),
        ("own.c", "int own(void) { return 1; }\n"),
        ("other.c", "int own(void);\nint main(void) { return own(); }\n"),
    ];
    let tree = tree(POSITION, &files);
    tree.run("build").code(0);
    let independent = |tree: &Scratch, name: &str| {
        let log = tree.run("export compile-commands").out;
        let entries: serde_json::Value = serde_json::from_str(&log).expect("compile commands");
        let entry = entries
            .as_array()
            .expect("a list")
            .iter()
            .find(|entry| entry["file"].as_str().unwrap_or("").ends_with(name));
        entry.unwrap_or_else(|| panic!("{name} in {log}")).to_string().contains("-fPIC")
    };
    let all = |tree: &Scratch| ["hash.c", "low.c", "main.c", "own.c", "other.c"].map(|name| independent(tree, name));
    assert_eq!(all(&tree), [false, false, false, true, false]);
    // The module is loaded now, and takes the library and its objects in.
    tree.run("set plug=loadable").code(0);
    assert_eq!(
        tree.previewed("run"),
        [
            "compile hash.c",
            "compile low.c",
            "compile plug.c",
            "link out/lib/t/plug.so",
            "check objects/prog/modules.names"
        ]
    );
    tree.run("build --verify").code(0);
    assert_eq!(all(&tree), [true, true, false, true, false]);
    tree.run("set plug=builtin").code(0);
    tree.run("build --verify").code(0);
    assert_eq!(all(&tree), [false, false, false, true, false]);
}

const ORDER: &str = r#"
[part.prog]
kind = "program"
sources = ["main.c", "z.c", "a.c"]
uses = ["second", "first"]
[part.second]
kind = "objects"
sources = ["second/z.c", "second/*.c"]
[part.first]
kind = "objects"
sources = ["first/a.c"]
uses = ["deep"]
[part.deep]
kind = "objects"
sources = ["deep/d.c"]
"#;

#[test]
fn objects_are_linked_in_the_order_of_the_lists() {
    let unit = |name: &str| format!("int {name} __attribute__((section(\"table\"))) = 1;\n");
    let main = "#include <stdio.h>\nextern int __start_table[], __stop_table[];\nextern int oz, oa, sz, sa, sm, fa, dd;\nint main(void) {\n    int *all[] = {&oz, &oa, &sz, &sa, &sm, &fa, &dd}, i;\n    if (__stop_table - __start_table != 7) return 90;\n    for (i = 0; i < 7; i++) if (all[i] != __start_table + i) return i + 1;\n    return 0;\n}\n";
    let tree = tree(ORDER, &[("main.c", main)]);
    let names = [
        ("z.c", "oz"),
        ("a.c", "oa"),
        ("second/z.c", "sz"),
        ("second/a.c", "sa"),
        ("second/m.c", "sm"),
        ("first/a.c", "fa"),
        ("deep/d.c", "dd"),
    ];
    names.iter().for_each(|(file, name)| tree.write(file, &unit(name)));
    tree.run("build --verify").code(0);
    assert_eq!(exit_code(&tree, "prog"), Some(0));
    // Another order of the same objects is another program.
    tree.edit("boltboard.toml", "[\"second\", \"first\"]", "[\"first\", \"second\"]");
    tree.run("build --verify").code(0).steps(1);
    assert_eq!(exit_code(&tree, "prog"), Some(3));
}

const WAYS: &str = r#"
[part.prog]
kind = "program"
sources = ["main.c"]
uses = [{ add = ["hooks"], link = "whole" }, { add = ["ping", "pong"], link = "together" }, "lump"]
[part.hooks]
kind = "static-library"
sources = ["hooks.c"]
[part.ping]
kind = "static-library"
sources = ["ping.c", "end.c"]
[part.pong]
kind = "static-library"
sources = ["pong.c"]
[part.lump]
kind = "partial-link"
sources = ["lump.c"]
uses = ["bits"]
[part.bits]
kind = "objects"
sources = ["bits.c"]
"#;

#[test]
fn archives_are_taken_wholly_or_together_and_many_objects_become_one() {
    let files = [
        (
            "main.c",
            "int ping(void), lump(void);\nint count;\nint main(void) { return count * 10 + ping() + lump(); }\n",
        ),
        ("hooks.c", "extern int count;\n__attribute__((constructor)) static void hook(void) { count++; }\n"),
        ("ping.c", "int pong(void);\nint ping(void) { return pong(); }\n"),
        ("pong.c", "int end(void);\nint pong(void) { return end(); }\n"),
        ("end.c", "int end(void) { return 3; }\n"),
        ("lump.c", "int bits(void);\nint lump(void) { return bits(); }\n"),
        ("bits.c", "int bits(void) { return 2; }\n"),
    ];
    let tree = tree(WAYS, &files);
    tree.run("build --verify").code(0);
    assert_eq!(exit_code(&tree, "prog"), Some(15));
    assert!(tree.at("boltboard-work/builds/mine/out/lib/lump.o").is_file());
    tree.edit("bits.c", "2", "4");
    tree.run("build --verify").code(0).steps(3);
    assert_eq!(exit_code(&tree, "prog"), Some(17));
    tree.edit("boltboard.toml", "link = \"whole\"", "link = \"hole\"");
    tree.run("build").code(3).complains(&["`link` is `whole` or `together`, not `hole`"]);
}

const TWICE: &str = r#"
[part.core]
kind = "objects"
sources = ["main.c", "names.c"]
[part.first]
kind = "program"
uses = ["core"]
sources = ["empty.c"]
output = "stage/first"
[part.symbols]
kind = "generated"
command = ["nm", "${part:first}"]
pipe = [["sed", "-n", "s/.* T \\(known_.*\\)/\\\"\\1\\\",/p"]]
stdout = "symbols.inc"
[part.real]
kind = "objects"
sources = ["table.c"]
uses = ["symbols"]
[part.whole]
kind = "program"
uses = ["core", "real"]
[part.stripped]
kind = "generated"
command = ["objcopy", "--strip-all", "${part:whole}", "${step:output}"]
output = "whole.stripped"
"#;

#[test]
fn a_second_link_reads_what_was_computed_from_the_first() {
    let files = [
        ("main.c", "int table(void) __attribute__((weak));\nint main(void) { return table ? table() : 0; }\n"),
        ("names.c", "void known_a(void) {}\nvoid known_b(void) {}\n"),
        ("empty.c", "int unused_here;\n"),
        (
            "table.c",
            "static const char *names[] = {\n#include <symbols.inc>\n};\nint table(void) { return sizeof names / sizeof *names; }\n",
        ),
    ];
    let tree = tree(TWICE, &files);
    tree.run("build --verify").code(0);
    assert_eq!(exit_code(&tree, "whole"), Some(2));
    tree.edit("names.c", "void known_b", "void known_c(void) {}\nvoid known_b");
    tree.run("build --verify").code(0);
    assert_eq!(exit_code(&tree, "whole"), Some(3));
    // The names stay the same, so what is made of them does not run.
    tree.edit("names.c", "known_a(void) {}", "known_a(void) { __asm__ volatile(\"nop\"); }");
    let ran = tree.run("build --verify").code(0);
    assert!(!ran.out.contains("table.c"), "{}", ran.out);
    assert!(tree.at("boltboard-work/builds/mine/made/whole.stripped").is_file());
}
