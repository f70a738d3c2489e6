//! Small trees made to fool a builder: each is built, changed in one place, built again, and held against a clean build. What is
//! looked at here is that nothing goes stale; that no more runs than must is looked at elsewhere.

use std::os::unix::fs::{PermissionsExt, symlink};

use crate::harness::Scratch;

const OPTIONS: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[header.options]
output = "t/options.h"
prefix = "T_"
[option.fog]
kind = "switch"
summary = "fog"
[option.depth]
kind = "number"
range = [1, 99]
default = 3
summary = "depth"
"#;

/// A library of all C files of a folder.
const LIBRARY: &str = "[part.p]\nkind = \"static-library\"\nsources = [\"s/*.c\"]\n";
/// The same of assembly that goes through the preprocessor.
const ASSEMBLY: &str = "[part.p]\nkind = \"static-library\"\nsources = [\"s/*.S\"]\n";
/// A program of these files with a shared library.
const WITH_LIBRARY: &str = "[part.l]\nkind = \"shared-library\"\nsources = [\"l/*.c\"]\n\
    [part.p]\nkind = \"program\"\nsources = [\"s/*.c\"]\nuses = [\"l\"]\n";
/// A library of a header that a script makes.
const MADE: &str = "[part.g]\nkind = \"generated\"\ncommand = [\"sh\", \"m.sh\"]\nstdout = \"g.h\"\nreads = [\"m.sh\"]\n\
    [part.p]\nkind = \"static-library\"\nsources = [\"s/*.c\"]\nuses = [\"g\"]\n";

/// What is told of the case, the parts, the files, and what changes.
type Trap<'t> = (&'t str, String, &'t [(&'t str, &'t str)], &'t dyn Fn(&Scratch));

/// Options come to other values.
fn set(words: &'static str) -> impl Fn(&Scratch) {
    move |tree| drop(tree.run(&format!("set {words}")).code(0))
}

/// A file comes to hold something else, or comes to be there.
fn write(file: &'static str, text: &'static str) -> impl Fn(&Scratch) {
    move |tree| tree.write(file, text)
}

fn with(part: &str, more: &str) -> String {
    format!("{part}{more}")
}

fn none_goes_stale(traps: &[Trap<'_>]) {
    for (case, parts, files, change) in traps {
        let board = format!("{OPTIONS}{parts}");
        let tree = Scratch::with(files);
        tree.write("boltboard.toml", &board);
        let built = tree.run("build");
        assert_eq!(built.code, 0, "{case}: {}{}", built.out, built.err);
        let compiled = || {
            let mut files = tree.outputs("mine");
            files.retain(|(name, _)| !name.starts_with("made/"));
            files
        };
        let before = compiled();
        change(&tree);
        let built = tree.run("build");
        assert_eq!(built.code, 0, "{case}: {}{}", built.out, built.err);
        assert!(compiled() != before, "{case}: the trap changes nothing, so it catches nothing");
        let verified = tree.run("build --verify");
        assert_eq!(verified.code, 0, "{case}: {}{}", verified.out, verified.err);
        assert!(verified.out.contains("Verified:"), "{case}: {}", verified.out);
    }
}

#[test]
fn texts_are_read_as_compilers_read_them() {
    let (depth, fog, header) = (set("depth=8"), set("fog=on"), write("s/x.h", "#define X 2\n"));
    let flags = |flags: &str| with(LIBRARY, &format!("flags = [{flags}]\n"));
    let plain = || LIBRARY.to_string();
    none_goes_stale(&[
        ("digraphs", plain(), &[("s/a.c", "%:include \"x.h\"\nint a = X;\n"), ("s/x.h", "%:define X 1\n")], &header),
        (
            "a condition in digraphs",
            plain(),
            &[("s/a.c", "%:include \"t/options.h\"\n%:ifdef T_FOG\nint a = 1;\n%:endif\nint b;\n")],
            &fog,
        ),
        (
            "trigraphs",
            flags("\"-trigraphs\""),
            &[("s/a.c", "??=include \"x.h\"\nint a = X;\n"), ("s/x.h", "#define X 1\n")],
            &header,
        ),
        (
            "a name over two lines that end as elsewhere",
            plain(),
            &[("s/a.c", "#include \"t/options.h\"\n#if defined(T_\\\r\nFOG)\nint a = 1;\n#endif\nint b;\n")],
            &fog,
        ),
        (
            "comments within a directive, and before one",
            plain(),
            &[
                ("s/a.c", "/* a\n */ #/**/include/**/\"x.h\"\n#define Y /* \n */ X\nint a = Y;\n"),
                ("s/x.h", "#define X 1\n"),
            ],
            &header,
        ),
        (
            "a comment that old compilers do not have",
            flags("\"-ansi\""),
            &[("s/a.c", "#include \"t/options.h\"\nint a = 99 //**/ T_DEPTH\n;\n")],
            &depth,
        ),
        (
            "an apostrophe in what is left out",
            plain(),
            &[("s/a.c", "#include \"t/options.h\"\n#if 0\ndon't\n#endif\nint a = T_DEPTH; // don't\n")],
            &depth,
        ),
        (
            "comments in texts",
            plain(),
            &[(
                "s/a.c",
                "#include \"t/options.h\"\nconst char *s = \"/*\"; int a = T_DEPTH; const char *e = \"*/\";\n",
            )],
            &depth,
        ),
        (
            "a name that is pasted",
            plain(),
            &[(
                "s/a.c",
                "#include \"t/options.h\"\n#define C_(a, b) a##b\n#define C(a, b) C_(a, b)\n#define IS(x) C(T_, x)\n#if IS(DEPTH) > 5\nint a = 1;\n#endif\nint b;\n",
            )],
            &depth,
        ),
        (
            "a header that an option names",
            plain(),
            &[
                (
                    "s/a.c",
                    "#include \"t/options.h\"\n#define S_(x) #x\n#define S(x) S_(x)\n#define J_(a, b) a##b\n#define J(a, b) J_(a, b)\n#include S(J(x, T_DEPTH).h)\nint a = X;\n",
                ),
                ("s/x3.h", "#define X 3\n"),
                ("s/x8.h", "#define X 9\n"),
            ],
            &depth,
        ),
        (
            "a value that becomes a text",
            plain(),
            &[("s/a.c", "#include \"t/options.h\"\n#define V(x) W(x)\n#define W(x) #x\nconst char *a = V(T_DEPTH);\n")],
            &depth,
        ),
        (
            "a macro that is laid aside and taken back",
            plain(),
            &[(
                "s/a.c",
                "#include \"t/options.h\"\n#pragma push_macro(\"T_DEPTH\")\n#undef T_DEPTH\n#define T_DEPTH 1\n#pragma pop_macro(\"T_DEPTH\")\nint a = T_DEPTH;\n",
            )],
            &depth,
        ),
        (
            "a count of what came before",
            plain(),
            &[
                ("s/a.c", "#include \"t/options.h\"\n#include \"c.h\"\nint a = __COUNTER__;\n"),
                ("s/c.h", "#ifdef T_FOG\nenum { c = __COUNTER__ };\n#endif\n"),
            ],
            &fog,
        ),
        (
            "a value in a define of the description",
            with(LIBRARY, "defines = [\"V=T_DEPTH\"]\n"),
            &[("s/a.c", "#include \"t/options.h\"\nint a = V;\n")],
            &depth,
        ),
        (
            "assembly behind a word that is no directive",
            ASSEMBLY.into(),
            &[("s/a.S", "#include \"t/options.h\"\n# it is\n#if T_DEPTH > 5\n.data\n.long 1\n#endif\n")],
            &depth,
        ),
        (
            "assembly between quotes that stand alone",
            ASSEMBLY.into(),
            &[("s/a.S", "#include \"t/options.h\"\n.data\n.byte 'a\n.long T_DEPTH\n.byte 'b\n")],
            &depth,
        ),
        (
            "a number that assembly adds to",
            ASSEMBLY.into(),
            &[("s/a.S", "#include \"t/options.h\"\n.data\n.long 0x10+T_DEPTH\n")],
            &depth,
        ),
    ]);
}

#[test]
fn what_comes_to_lie_first_is_found_first() {
    let flags = |flags: &str| with(LIBRARY, &format!("flags = [{flags}]\n"));
    let asks: &[(&str, &str)] = &[("s/a.c", "#include <x.h>\nint a = X;\n"), ("b/x.h", "#define X 1\n"), ("a/y.h", "")];
    let first = write("a/x.h", "#define X 2\n");
    none_goes_stale(&[
        ("a folder that was not there", flags("\"-Ia\", \"-Ib\""), &asks[..2], &first),
        (
            "folders of the system and those after them",
            flags("\"-idirafter\", \"b\", \"-isystem\", \"a\""),
            asks,
            &first,
        ),
        (
            "folders below a prefix",
            flags("\"-iprefix\", \"./\", \"-iwithprefixbefore\", \"a\", \"-iwithprefixbefore\", \"b\""),
            asks,
            &first,
        ),
        ("folders that the preprocessor is handed", flags("\"-Wp,-Ia,-Ib\""), asks, &first),
        ("the same word by word", flags("\"-Xpreprocessor\", \"-Ia\", \"-Xpreprocessor\", \"-Ib\""), asks, &first),
        (
            "folders in a file of words",
            flags("\"@words\""),
            &[asks[0], asks[1], asks[2], ("words", "-Ia -Ib\n")],
            &first,
        ),
        (
            "folders for names in quotes",
            flags("\"-iquote\", \"a\", \"-iquote\", \"b\""),
            &[("s/a.c", "#include \"x.h\"\nint a = X;\n"), ("b/x.h", "#define X 1\n"), ("a/y.h", "")],
            &first,
        ),
        (
            "the folder of the source",
            flags("\"-Ib\""),
            &[("s/a.c", "#include \"x.h\"\nint a = X;\n"), ("b/x.h", "#define X 1\n")],
            &write("s/x.h", "#define X 2\n"),
        ),
        (
            "what is only asked for",
            LIBRARY.into(),
            &[("s/a.c", "#if __has_include(\"opt.h\")\n#include \"opt.h\"\n#else\n#define X 1\n#endif\nint a = X;\n")],
            &write("s/opt.h", "#define X 2\n"),
        ),
        (
            "a header that a compiler leaves out because it knows its like",
            LIBRARY.into(),
            &[
                ("s/a.c", "#include \"x.h\"\n#include \"y.h\"\nint a = X;\n"),
                ("s/x.h", "#pragma once\n#define X 1\n"),
                ("s/y.h", "#pragma once\n#define X 1\n"),
            ],
            &write("s/y.h", "#pragma once\n#undef X\n#define X 2\n"),
        ),
        (
            "a header within one that is read twice",
            LIBRARY.into(),
            &[
                ("s/a.c", "#include \"x.h\"\n#include \"x.h\"\nint a = X;\n"),
                ("s/x.h", "#ifndef G\n#define G\n#define X 1\n#else\n#include \"z.h\"\n#endif\n"),
                ("s/z.h", "\n"),
            ],
            &write("s/z.h", "#undef X\n#define X 3\n"),
        ),
        (
            "a header that an assembler takes in by a macro of its own",
            ASSEMBLY.into(),
            &[("s/a.S", ".macro inc f\n.include \"\\f\"\n.endm\ninc x.inc\n"), ("x.inc", ".data\n.long 7\n")],
            &write("x.inc", ".data\n.long 8\n"),
        ),
        (
            "data that a header takes in",
            LIBRARY.into(),
            &[
                ("s/a.c", "#include \"e.h\"\nint a(void) { return d[0]; }\n"),
                ("s/e.h", "__asm__(\".data\\n.globl d\\nd: .incbin \\\"data.bin\\\"\\n.text\");\nextern char d[];\n"),
                ("data.bin", "a"),
            ],
            &write("data.bin", "b"),
        ),
        (
            "a source that becomes a link",
            LIBRARY.into(),
            &[("s/a.c", "int a = 1;\n"), ("other.c", "int a = 3;\n")],
            &|tree| {
                std::fs::remove_file(tree.at("s/a.c")).expect("removed");
                symlink("../other.c", tree.at("s/a.c")).expect("linked");
            },
        ),
        ("a source that goes", LIBRARY.into(), &[("s/a.c", "int a;\n"), ("s/b.c", "int b;\n")], &|tree| {
            std::fs::remove_file(tree.at("s/b.c")).expect("removed");
        }),
        ("an edit of the same length and time", LIBRARY.into(), &[("s/a.c", "int a = 1;\n")], &|tree| {
            let time = std::fs::metadata(tree.at("s/a.c")).and_then(|status| status.modified()).expect("a time");
            tree.write("s/a.c", "int a = 2;\n");
            let file = std::fs::File::options().write(true).open(tree.at("s/a.c")).expect("opened");
            file.set_modified(time).expect("set");
        }),
    ]);
}

#[test]
fn names_of_files_may_be_odd() {
    for name in ["a b", "a$b", "a#b", "a:b", "ü", "a%b", "a'b", "a\\\\b"] {
        let source = format!("#include \"{name}.h\"\nint a = X;\n");
        let file = format!("s/{name}.h");
        let edit = |tree: &Scratch| tree.write(&file, "#define X 2\n");
        none_goes_stale(&[(name, LIBRARY.into(), &[("s/a.c", &source), (&file, "#define X 1\n")], &edit)]);
    }
}

#[test]
fn generators_stand_on_all_that_they_look_at() {
    let source: (&str, &str) = ("s/a.c", "#include \"g.h\"\nint a = G;\n");
    let made = || MADE.to_string();
    none_goes_stale(&[
        (
            "whether a file is there",
            made(),
            &[source, ("m.sh", "if [ -f extra ]; then echo '#define G 2'; else echo '#define G 1'; fi\n")],
            &write("extra", ""),
        ),
        (
            "whether a file can be run",
            made(),
            &[source, ("tool", ""), ("m.sh", "if [ -x tool ]; then echo '#define G 2'; else echo '#define G 1'; fi\n")],
            &|tree| {
                let runs = std::fs::Permissions::from_mode(0o755);
                std::fs::set_permissions(tree.at("tool"), runs).expect("set");
            },
        ),
        (
            "how long a file is",
            made(),
            &[source, ("f", "abc"), ("m.sh", "echo \"#define G $(stat -c %s f)\"\n")],
            &write("f", "longer"),
        ),
        (
            "which files a folder has",
            made(),
            &[source, ("d/1", ""), ("m.sh", "echo \"#define G $(ls d | wc -l)\"\n")],
            &write("d/2", ""),
        ),
        (
            "which files there are further below",
            made(),
            &[source, ("d/1/x", ""), ("m.sh", "echo \"#define G $(find d -type f | wc -l)\"\n")],
            &write("d/2/3/y", ""),
        ),
        (
            "what a pattern finds in folders that come",
            made(),
            &[source, ("d/e/1", ""), ("m.sh", "echo \"#define G $(cat d/*/* | wc -l)\"\n")],
            &write("d/f/2", "x\n"),
        ),
        (
            "what is taken in where it is there",
            made(),
            &[("s/a.c", "#include \"g.h\"\nint a = H;\n"), ("m.sh", "cat late.h 2>/dev/null || echo '#define H 1'\n")],
            &write("late.h", "#define H 2\n"),
        ),
        (
            "a script that its script takes in",
            made(),
            &[source, ("m.sh", ". ./lib.sh; val\n"), ("lib.sh", "val() { echo '#define G 1'; }\n")],
            &write("lib.sh", "val() { echo '#define G 2'; }\n"),
        ),
        ("itself", made(), &[source, ("m.sh", "echo \"#define G $(wc -l < \"$0\")\"\n")], &|tree| {
            tree.write("m.sh", &format!("{}# more\n", tree.read("m.sh")));
        }),
        (
            "folders that change places",
            made(),
            &[source, ("one/v", "1\n"), ("two/v", "2\n"), ("m.sh", "echo \"#define G $(cat one/v)\"\n")],
            &|tree| {
                for (from, to) in [("one", "aside"), ("two", "one"), ("aside", "two")] {
                    std::fs::rename(tree.at(from), tree.at(to)).expect("renamed");
                }
            },
        ),
        (
            "a file with an older time",
            made(),
            &[source, ("v", "1\n"), ("m.sh", "echo \"#define G $(cat v)\"\n")],
            &|tree| {
                tree.write("v", "2\n");
                let file = std::fs::File::options().write(true).open(tree.at("v")).expect("opened");
                file.set_modified(std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_000_000_000)).expect("set");
            },
        ),
    ]);
}

#[test]
fn programs_follow_what_their_libraries_are_to_them() {
    let of_library = || WITH_LIBRARY.to_string();
    let reads: (&str, &str) = ("s/a.c", "extern int two;\nint main(void) { return two; }\n");
    let calls: (&str, &str) = ("s/a.c", "int two(void);\nint main(void) { return two(); }\n");
    let two: (&str, &str) = ("l/l.c", "int two = 5;\n");
    none_goes_stale(&[
        (
            "how large its data is",
            of_library(),
            &[
                ("l/l.c", "int table[4] = {1};\n"),
                ("s/a.c", "extern int table[];\nint main(void) { return table[0]; }\n"),
            ],
            &write("l/l.c", "int table[8] = {1};\n"),
        ),
        ("where its data may lie", of_library(), &[two, reads], &write("l/l.c", "_Alignas(64) int two = 5;\n")),
        ("whether its data stays as it is", of_library(), &[two, reads], &write("l/l.c", "const int two = 5;\n")),
        (
            "one name for two things",
            of_library(),
            &[two, reads],
            &write("l/l.c", "int one = 4;\nextern int two __attribute__((alias(\"one\")));\n"),
        ),
        (
            "a name that gives way",
            of_library(),
            &[("l/l.c", "int two(void) { return 1; }\n"), calls],
            &write("l/l.c", "__attribute__((weak)) int two(void) { return 1; }\n"),
        ),
        (
            "what it takes from the program",
            of_library(),
            &[
                ("l/l.c", "int two(void) { return 1; }\n"),
                ("s/a.c", "int two(void);\nint helper(void) { return 3; }\nint main(void) { return two(); }\n"),
            ],
            &write(
                "l/l.c",
                "int helper(void) __attribute__((weak));\nint two(void) { return helper ? helper() : 2; }\n",
            ),
        ),
        (
            "the versions of its names",
            WITH_LIBRARY.replacen("[part.p]", "link-flags = [\"-Wl,--version-script=v.map\"]\n[part.p]", 1),
            &[("v.map", "V1 { global: two; local: *; };\n"), ("l/l.c", "int two(void) { return 1; }\n"), calls],
            &write("v.map", "V2 { global: two; local: *; };\n"),
        ),
        (
            "the order of its objects",
            "[part.p]\nkind = \"program\"\nsources = [\"s/b.c\", \"s/a.c\"]\n".into(),
            &[("s/a.c", "int a = 1;\nint main(void) { return a; }\n"), ("s/b.c", "int b = 2;\n")],
            &|tree| tree.edit("boltboard.toml", "\"s/b.c\", \"s/a.c\"", "\"s/a.c\", \"s/b.c\""),
        ),
    ]);
}
