//! Habits of real trees: one source in several parts, options as `-D` flags, as several sorts of generated headers and templates,
//! one header that everything includes. After each flip, just the compiles run whose text the compiler itself finds changed.

use std::collections::BTreeMap;

use crate::harness::Scratch;

const BOARD: &str = r#"format = 1
[tree]
name = "reef"
version = "3"
[toolchain]
flags = ["-O1", "-DREEF_BUILD=1", { when = "trace", add = ["-DREEF_TRACE"] }]
[header.config]
output = "config.h"
guard = "REEF_CONFIG_H"
prefix = "HAVE_"
[header.features]
output = "reef/features.h"
prefix = "REEF_WITH_"
style = "one-or-zero"

[option.signals]
kind = "switch"
macro = [{ name = "HAVE_SIGNALS", header = "config" }]
[option.zone]
kind = "switch"
macro = [{ name = "REEF_WITH_ZONE", form = "one-or-zero", header = "features" }]
[option.depth]
kind = "number"
range = [1, 99]
default = 4
macro = [{ name = "REEF_DEPTH", form = "plain", header = "config" }]
[option.greeting]
kind = "text"
default = "ahoy"
macro = [{ name = "REEF_GREETING", form = "quoted", header = "config" }]
[option.drive]
kind = "pick"
values = ["oil", "arc"]
macro = []
[option.trace]
kind = "switch"
macro = []
[option.lanes]
kind = "number"
range = [1, 8]
default = 2
macro = []
[option.swell]
kind = "number"
range = [0, 9]
default = 1
macro = []
[option.nowhere]
kind = "switch"
macro = [{ name = "HAVE_NOWHERE", header = "config" }]
[option.pasted]
kind = "switch"
macro = [{ name = "HAVE_PASTED", header = "config" }]
[option.extra]
kind = "switch"
macro = [{ name = "HAVE_EXTRA", header = "config" }]
[option.size]
kind = "switch"
macro = []

[part.kit]
kind = "generated"
template = "kit.h.in"
output = "reef/kit.h"
[part.core]
kind = "static-library"
sources = ["core/*.c", "core/*.S", { when = "drive = oil", add = ["drives/oil.c"] }, { when = "drive = arc", add = ["drives/arc.c"] },
  { when = "extra", add = ["extra/util.c"] }]
include = ["."]
uses = ["kit"]
[part.kernel-narrow]
kind = "objects"
sources = ["shared/kernel.c", "shared/plain.c"]
include = ["core"]
uses = ["kit"]
defines = ["LANES=1"]
[part.kernel-wide]
kind = "objects"
sources = ["shared/kernel.c", "shared/plain.c"]
include = ["core"]
uses = ["kit"]
flags = ["-O2", { when = "size", add = ["-Os"] }]
defines = ["LANES=${lanes}"]
[part.forced]
kind = "objects"
sources = ["forced/*.c"]
include = ["."]
flags = ["-include", "core/forced.h"]
"#;

const ALL: &str = "#ifndef ALL_H\n#define ALL_H\n#include <config.h>\n#include <reef/features.h>\n#include <reef/kit.h>\n\
                   #ifdef HAVE_SIGNALS\n#define SIGNALLED(x) ((x) + 1)\n#else\n#define SIGNALLED(x) (x)\n#endif\n\
                   #if REEF_WITH_ZONE\n#define ZONED(x) ((x) * 2)\n#else\n#define ZONED(x) (x)\n#endif\n\
                   #ifdef REEF_TRACE\n#define TRACED 1\n#else\n#define TRACED 0\n#endif\n\
                   #define CAT_(a, b) a##b\n#define CAT(a, b) CAT_(a, b)\n#define WITH(x) CAT(HAVE_, x)\n#endif\n";

/// Sources, and what stands in each after the header that all include.
const SOURCES: &[(&str, &str)] = &[
    ("core/signal.c", "#include \"all.h\"\nint signal_(void) { return SIGNALLED(3); }\n"),
    ("core/zone.c", "#include \"../core/all.h\"\nint zone(void) { return ZONED(3); }\n"),
    ("core/both.c", "#include \"core/./all.h\"\nint both(void) { return ZONED(SIGNALLED(3)); }\n"),
    ("core/deep.c", "#include \"all.h\"\nint deep(void) { return REEF_DEPTH; }\n"),
    ("core/hail.c", "#include \"all.h\"\nconst char *hail(void) { return REEF_GREETING; }\n"),
    ("core/trace.c", "#include \"all.h\"\nint trace(void) { return TRACED; }\n"),
    ("core/direct.c", "#ifdef REEF_TRACE\nint direct = 1;\n#endif\nint direct_;\n"),
    ("core/swell.c", "#include \"all.h\"\nint swell(void) { return REEF_SWELL; }\n"),
    ("core/swell2.c", "#include \"all.h\"\n#if REEF_SWELL > 5\nint high;\n#endif\nint swell2;\n"),
    (
        "core/paste.c",
        "#include \"all.h\"\n#define HAVE_NO 5\nint paste = WITH(NO);\n#ifdef HAVE_PASTED\nint pasted = 1;\n#endif\n",
    ),
    (
        "core/pasted.c",
        "#include \"all.h\"\n#undef HAVE_SIGNALS\nint none = 1;\nint pasted_(int HAVE_none) { return CAT(HAVE_, none); }\n",
    ),
    ("core/util.c", "#include \"all.h\"\nint util(void) { return 1; }\n"),
    ("core/plain.c", "int plain(void) { return 1; } /* HAVE_SIGNALS */\n"),
    ("core/said.c", "#include \"all.h\"\nconst char *said = \"HAVE_SIGNALS REEF_DEPTH\";\n"),
    ("core/start.S", "#include \"config.h\"\n#ifdef HAVE_SIGNALS\n.byte 1\n#endif\n.byte REEF_DEPTH\n"),
    ("drives/oil.c", "#include \"core/all.h\"\nint drive(void) { return 1; }\n"),
    ("drives/arc.c", "#include \"core/all.h\"\nint drive(void) { return 2; }\n"),
    ("extra/util.c", "#include \"core/all.h\"\nint extra_util(void) { return SIGNALLED(1); }\n"),
    ("shared/kernel.c", "#include \"all.h\"\nint KERNEL(void);\nint kernel(void) { return LANES + TRACED; }\n"),
    ("shared/plain.c", "#include \"all.h\"\nint shared(void) { return 1; }\n"),
    ("forced/one.c", "int one(void) { return FORCED; }\n"),
    ("forced/two.c", "int two(void) { return 2; }\n"),
];

fn reef() -> Scratch {
    let tree = Scratch::with(&[
        ("boltboard.toml", BOARD),
        ("core/all.h", ALL),
        (
            "core/forced.h",
            "#include <config.h>\n#ifdef HAVE_SIGNALS\n#define FORCED 1\n#else\n#define FORCED 0\n#endif\n",
        ),
        ("kit.h.in", "/* swell: @swell@ */\n#define REEF_SWELL @swell@\n"),
    ]);
    SOURCES.iter().for_each(|(file, text)| tree.write(file, text));
    tree.run("build").code(0);
    tree
}

/// How many compiles of each source.
type Counts = BTreeMap<String, usize>;

/// Builds and returns the compiles that ran and were not spared.
fn compiled(tree: &Scratch) -> Counts {
    let ran = tree.run("build --verbose").code(0);
    let mut compiled = Counts::new();
    let file_of = |line: &str, verb: &str| {
        let rest = line.strip_prefix(verb)?;
        rest.split_whitespace().next().map(str::to_string)
    };
    for line in ran.err.lines() {
        if let Some(file) = file_of(line, "compile ") {
            *compiled.entry(file).or_default() += 1;
        }
        if let Some(count) = file_of(line, "same text ").and_then(|file| compiled.get_mut(&file)) {
            *count -= 1;
        }
    }
    compiled.retain(|_, count| *count > 0);
    compiled
}

/// Flips one option, builds, and returns the compiles that ran and those whose text or flags changed.
fn flip(tree: &Scratch, choice: &str) -> (Counts, Counts) {
    let before = tree.texts();
    tree.run(&format!("set {choice}")).code(0);
    let compiled = compiled(tree);
    let mut changed = Counts::new();
    for ((file, object), text) in tree.texts() {
        if before.get(&(file.clone(), object)) != Some(&text) {
            *changed.entry(file).or_default() += 1;
        }
    }
    (compiled, changed)
}

#[test]
fn each_flip_compiles_just_what_the_compiler_finds_changed() {
    let tree = reef();
    for (choice, files) in [
        ("signals=on", 4),
        ("zone=on", 2),
        ("depth=7", 2),
        ("greeting=hello", 1),
        ("trace=on", 4),
        ("lanes=4", 1),
        ("swell=2", 1),
        ("swell=8", 2),
        ("drive=arc", 1),
        ("nowhere=on", 0),
        ("pasted=on", 1),
        ("extra=on", 1),
        ("size=on", 2),
    ] {
        let (compiled, changed) = flip(&tree, choice);
        assert_eq!(compiled, changed, "{choice}");
        assert_eq!(changed.values().sum::<usize>(), files, "{choice}: {changed:?}");
    }
    tree.run("build --verify").code(0).says(&["Verified:"]);
}

#[test]
fn what_was_once_compiled_is_taken_from_the_store_and_equals_a_clean_build() {
    let tree = reef();
    for choice in ["signals=on", "depth=7", "lanes=4", "trace=on", "drive=arc"] {
        tree.run(&format!("set {choice}")).code(0);
        tree.run("build").code(0);
    }
    for option in ["trace", "lanes", "depth", "drive", "signals"] {
        tree.run(&format!("unset {option}")).code(0);
        assert_eq!(compiled(&tree), Counts::new(), "{option}");
    }
    tree.run("build --verify").code(0).says(&["Verified:"]);
}

#[test]
fn a_shipped_copy_with_the_guard_of_ours_is_kept_without_effect() {
    let tree = reef();
    tree.edit("boltboard.toml", "prefix = \"HAVE_\"", "prefix = \"HAVE_\"\nfirst = true");
    tree.write("core/config.h", "#ifndef REEF_CONFIG_H\n#define REEF_CONFIG_H\n#define REEF_DEPTH 77\n#endif\n");
    tree.run("build --verify").code(0);
    let (compiled, changed) = flip(&tree, "depth=9");
    assert_eq!(compiled, changed);
    assert!(changed.contains_key("core/deep.c"), "{changed:?}");
    tree.run("build --verify").code(0);
}
