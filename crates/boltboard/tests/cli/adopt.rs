//! Trees without a description, adopted from one watched build by a plain script.

use std::path::PathBuf;

use crate::harness::{Ran, Scratch};

/// A tree with its own build script, in a folder of its own beside which descriptions can lie.
struct Yard {
    scratch: Scratch,
    name: &'static str,
}

/// What the quay is built with: a tool of the tree that writes a table, texts that are generated in three ways, an archive, a shared library,
/// sources that are compiled twice, one within a link, and one in its own folder.
const BUILD: &str = r#"
set -e
mkdir -p out/gen
cc -c -O2 -Wall -Iinclude -o out/maketab.o tools/maketab.c
cc -o out/maketab out/maketab.o
out/maketab < data/depths.txt > out/gen/depths.h
sed -e 's/.*/#define NAME "&"/' data/name.txt > out/gen/name.h
echo '#define BERTHS 4' > out/gen/berths.h
for name in rope bollard fender; do
    cc -c -O2 -Wall -Iinclude -Iout/gen -DQUAY -o out/$name.o lib/$name.c
    cc -c -O2 -Wall -Iinclude -Iout/gen -DQUAY -fPIC -o out/$name.lo lib/$name.c
done
ar rc out/libquay.a out/rope.o out/bollard.o out/fender.o
cc -shared -Wl,-soname,libquay.so.2 -o out/libquay.so.2 out/rope.lo out/bollard.lo out/fender.lo
(cd src && cc -c -O2 -Wall -I../include -I../out/gen -DLOUD=1 -DSILENT -USILENT -o ../out/main.o main.c)
cc -o out/quay out/main.o out/libquay.a -lm
cc -O2 -Wall -Iinclude -Iout/gen -o out/check src/check.c out/libquay.a
"#;

/// What makes a build hard to read: it asks about the host, recurses, runs a compiler through a script, at once and from files of arguments,
/// copies and links headers, writes texts from itself, compiles a source twice, links partially, strips, renames, installs.
const HARD: &str = r#"
set -e
mkdir -p out/inc out/obj
t=$(mktemp -d); echo 'int main(void){return 0;}' > $t/try.c; cc -o $t/try $t/try.c; $t/try
cc -c -fno-such-flag -o $t/x.o $t/try.c 2>/dev/null || true; rm -rf $t
echo 'int main(void){return 0;}' > conftest.c; cc -o conftest conftest.c -lm; ./conftest; rm -f conftest conftest.c
cc -dumpmachine > out/machine
cat > out/inc/config.h <<EOF
#define PIERS 3
EOF
echo 'echo \#define SLIPS $1 > $2' > out/status; sh out/status 2 out/inc/slips.h
cp inc/pier.h out/inc/; ln -s ../../inc/tide.h out/inc/tide.h
for f in pier tide; do tools/wrap -O1 -g -Iout/inc -DDATE='"2026-11-29 10:11:12"' -c src/$f.c -o out/obj/$f.o & done; wait
echo "-O1 -g -Iout/inc" > out/args
cc @out/args -c src/main.c -o out/obj/main.o
ld -r -o out/obj/both.o out/obj/pier.o out/obj/tide.o
ar qc out/libharbour.a out/obj/both.o; ranlib out/libharbour.a
(cd sub; sh build.sh)
cc -o out/harbour.tmp out/obj/main.o -Lout -lharbour out/sub.a
strip -o out/harbour out/harbour.tmp
mv out/harbour.tmp out/harbour.full
install -d out/inst; install -m 755 out/harbour out/inst/harbour
"#;

impl Yard {
    fn harbour() -> Yard {
        let scratch = Scratch::new();
        for (path, text) in [
            ("harbour/build.sh", HARD),
            (
                "harbour/sub/build.sh",
                "set -e\nsh gen.sh names.txt ../out/inc/names.h\ncc -c -I../out/inc -O1 -g sub.c -o sub.o\ncc -c -I../out/inc -O1 -g -DAGAIN sub.c -o sub2.o\nar rcs ../out/sub.a sub.o sub2.o\n",
            ),
            ("harbour/sub/gen.sh", "echo \"#define NAMES \\\"$(cat $1)\\\"\" > $2\n"),
            ("harbour/sub/names.txt", "Anna\n"),
            (
                "harbour/sub/sub.c",
                "#include <names.h>\n#ifdef AGAIN\nconst char *again(void) { return NAMES; }\n#else\nconst char *sub(void) { return NAMES; }\n#endif\n",
            ),
            ("harbour/inc/pier.h", "int pier(void);\n"),
            ("harbour/inc/tide.h", "int tide(void);\n"),
            (
                "harbour/src/pier.c",
                "#include <config.h>\n#include <slips.h>\n#include <pier.h>\nint slips = SLIPS;\nconst char *date = DATE;\nint pier(void) { return PIERS; }\n",
            ),
            ("harbour/src/tide.c", "#include <tide.h>\nint tide(void) { return 7; }\n"),
            (
                "harbour/src/main.c",
                "#include <pier.h>\n#include <tide.h>\nconst char *sub(void);\nint main(void) { return pier() + tide() - 10 + sub()[0] - 'A'; }\n",
            ),
        ] {
            scratch.write(path, text);
        }
        scratch.script("harbour/tools/wrap", "exec cc \"$@\"");
        Yard { scratch, name: "harbour" }
    }

    fn quay() -> Yard {
        let scratch = Scratch::new();
        for (path, text) in [
            ("quay/build.sh", BUILD),
            ("quay/data/depths.txt", "3 5 8\n"),
            ("quay/data/name.txt", "North quay\n"),
            ("quay/include/quay.h", "int rope(int length);\nint bollard(void);\nconst char *fender(void);\n"),
            (
                "quay/tools/maketab.c",
                "#include <stdio.h>\nint main(void) { int n; while (scanf(\"%d\", &n) == 1) printf(\"#define DEPTH_%d %d\\n\", n, n * 10); return 0; }\n",
            ),
            (
                "quay/lib/rope.c",
                "#include \"quay.h\"\n#include <depths.h>\nint rope(int length) { return length + DEPTH_5; }\n",
            ),
            (
                "quay/lib/bollard.c",
                "#include \"quay.h\"\n#include \"berths.h\"\nint bollard(void) { return BERTHS; }\n",
            ),
            (
                "quay/lib/fender.c",
                "#include \"quay.h\"\n#include <name.h>\nconst char *fender(void) { return NAME; }\n",
            ),
            (
                "quay/src/main.c",
                "#include <math.h>\n#include <stdio.h>\n#include \"quay.h\"\nint main(int count, char **words) { (void)words; printf(\"%s %d %.0f\\n\", fender(), rope(LOUD), pow(2, count)); return 0; }\n",
            ),
            ("quay/src/check.c", "#include \"quay.h\"\nint main(void) { return bollard() - 4; }\n"),
        ] {
            scratch.write(path, text);
        }
        Yard { scratch, name: "quay" }
    }

    fn tree(&self) -> PathBuf {
        self.scratch.at(self.name)
    }

    fn run(&self, words: &[&str]) -> Ran {
        let mut command = self.scratch.command("");
        command.args(words).current_dir(self.tree());
        self.scratch.ran(&mut command)
    }

    fn watched(&self) -> Ran {
        self.run(&["adopt", "watch", "--", "sh", "build.sh"])
    }
}

#[test]
fn a_watched_build_becomes_a_description_by_which_the_same_comes_out() {
    let yard = Yard::quay();
    yard.run(&["adopt"]).code(0).says(&["No build of", "boltboard adopt watch"]);
    yard.watched().code(0).says(&["9 compiles", "5 links and archives", "→ boltboard adopt draw"]);
    yard.run(&["adopt"]).code(0).says(&["Watched builds of", "→ boltboard adopt draw"]);
    yard.run(&["adopt", "seen"]).code(0).says(&[
        "quay",
        "shared-library",
        "berths.h: the build wrote this text itself",
    ]);
    yard.run(&["adopt", "draw"]).code(0).says(&["quay-board/boltboard.toml", "→ boltboard adopt prove"]);
    let text = yard.scratch.read("quay-board/boltboard.toml");
    for line in [
        "flags = [\"-O2\", \"-Wall\"]",
        "stdin = \"data/depths.txt\"",
        "stdout = \"depths.h\"",
        "command = [\"${part:maketab}\"]",
        "sources = [\"lib/*.c\"]",
        "defines = [\"QUAY\"]",
        "defines = [\"LOUD=1\"]",
        "libraries = [\"m\"]",
        "abi = \"2\"",
    ] {
        assert!(text.contains(line), "no {line} in\n{text}");
    }
    assert_eq!(yard.scratch.read("quay-board/kept/berths.h"), "#define BERTHS 4\n");
    // What was built before is no help: only the description is gone by.
    std::fs::remove_dir_all(yard.tree().join("out")).expect("it is removed");
    yard.run(&["adopt", "prove"])
        .code(0)
        .says(&["All 8 objects are the same", "5 finished files: 2 the same, 3 made of the same objects"]);
    // It is never written over.
    yard.run(&["adopt", "draw"]).code(2).complains(&["there already is a description"]);
    // And it is an ordinary tree.
    yard.run(&["build"]).code(0).steps(0);
    yard.run(&[]).code(0).says(&["quay"]);
}

#[test]
fn every_answer_has_just_its_documented_fields() {
    let page =
        std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/json.md")).expect("docs/json.md");
    let keys = |answer: &serde_json::Value| -> Vec<String> {
        let keys: Vec<String> = answer.as_object().expect("an object").keys().cloned().collect();
        keys.iter()
            .for_each(|key| assert!(page.contains(&format!("`{key}`")), "docs/json.md does not tell of `{key}`"));
        keys
    };
    let yard = Yard::quay();
    yard.watched().code(0);
    let status = yard.run(&["adopt", "--json"]).code(0).json();
    assert_eq!(keys(&status), ["description", "format", "tree", "watched"]);
    let seen = yard.run(&["adopt", "seen", "--json"]).code(0).json();
    assert_eq!(
        keys(&seen),
        [
            "command",
            "compiles",
            "doubts",
            "exit",
            "format",
            "generated",
            "joins",
            "name",
            "needs",
            "parts",
            "probes",
            "processes",
            "unused"
        ]
    );
    assert_eq!(keys(&seen["parts"][0]), ["kind", "name", "sources"]);
    assert_eq!(keys(&seen["doubts"][0]), ["about", "said"]);
    let drawn = yard.run(&["adopt", "draw", "--json"]).code(0).json();
    assert_eq!(keys(&drawn), ["doubts", "file", "format", "lines", "parts"]);
    // A description that says something else is proved wrong.
    yard.scratch.edit("quay-board/boltboard.toml", "LOUD=1", "LOUD=2");
    let proof = yard.run(&["adopt", "prove", "--json"]).code(1).json();
    assert_eq!(
        keys(&proof),
        [
            "differences",
            "format",
            "gone",
            "objects",
            "objects-alike",
            "objects-same",
            "outputs",
            "outputs-alike",
            "outputs-same"
        ]
    );
    assert_eq!(keys(&proof["differences"][0]), ["command", "ours", "own-command", "theirs", "why"]);
    assert_eq!(proof["differences"][0]["theirs"], "out/main.o");
    yard.run(&["adopt", "prove"]).code(1).says(&[
        "7 of 8 objects are the same, 1 differs",
        "out/main.o differs from",
        "-DLOUD=1",
    ]);
    let tree = Scratch::new();
    let begun = tree.run("init --name beacon --json").code(0).json();
    assert_eq!(keys(&begun), ["files", "format"]);
}

#[test]
fn a_build_that_fails_or_is_none_is_told() {
    let yard = Yard::quay();
    yard.scratch.write("quay/lib/fender.c", "no C\n");
    yard.watched().code(1).says(&["ended with exit code 1"]);
    yard.run(&["adopt", "seen"]).code(0).says(&["it failed, and is left out"]);
    yard.run(&["adopt", "watch", "--", "true"]).code(0).says(&["No compile was seen"]);
    yard.run(&["adopt", "watch", "--", "no-such-program"])
        .code(7)
        .complains(&["there is no program `no-such-program`"]);
    yard.run(&["adopt", "seen", "--name", "other"])
        .code(2)
        .complains(&["no build called `other`", "watched builds here: build"]);
    yard.run(&["adopt", "seen", "--name", "../x"]).code(2).complains(&["cannot be the name"]);
    std::fs::write(yard.tree().join("boltboard-work/adopt/build"), "damaged").expect("written");
    yard.run(&["adopt", "seen"]).code(2).complains(&["is damaged"]);
}

#[test]
fn a_build_that_is_hard_to_read_is_understood_and_what_is_not_is_told() {
    let yard = Yard::harbour();
    yard.watched().code(0).says(&["5 compiles", "4 links and archives", "3 generated parts", "about the host"]);
    yard.run(&["adopt", "seen"]).code(0).says(&[
        "config.h: the build wrote this text itself",
        "slips.h: the build wrote this text itself",
        "macro DATE: its value looks like a date",
        "strip -o out/harbour out/harbour.tmp: not understood",
        "out/inst/harbour: copied there by the build",
    ]);
    yard.run(&["adopt", "draw"]).code(0);
    let text = yard.scratch.read("harbour-board/boltboard.toml");
    // Headers that were copied and linked are read where they lie.
    for line in [
        "\"-Iinc\"",
        "kind = \"partial-link\"",
        "defines = [\"AGAIN\"]",
        "command = [\"sh\", \"${path:tree}/sub/gen.sh\"",
    ] {
        assert!(text.contains(line), "no {line} in\n{text}");
    }
    assert!(!text.contains("conftest") && !text.contains("out/args"), "{text}");
    std::fs::remove_dir_all(yard.tree().join("out")).expect("it is removed");
    yard.run(&["adopt", "prove"]).code(0).says(&["All 5 objects are the same (5 but for debug information"]);
}

#[test]
fn the_option_between_two_builds_is_found_and_both_values_are_proved() {
    let yard = Yard::quay();
    yard.watched().code(0);
    yard.run(&["adopt", "draw"]).code(0);
    // A person's own comment stays.
    yard.scratch.edit("quay-board/boltboard.toml", "[toolchain]", "# how we compile\n[toolchain]");
    std::fs::remove_dir_all(yard.tree().join("out")).expect("it is removed");
    yard.scratch.edit(
        "quay/lib/bollard.c",
        "return BERTHS;",
        "\n#ifdef DEEP\nreturn BERTHS + 1;\n#else\nreturn BERTHS;\n#endif\n",
    );
    yard.watched().code(0);
    std::fs::remove_dir_all(yard.tree().join("out")).expect("it is removed");
    let build = BUILD
        .replace("-DQUAY", "-DQUAY -DDEEP")
        .replace("rope bollard fender", "rope bollard fender chain")
        .replace("out/fender.o", "out/fender.o out/chain.o")
        .replace("out/fender.lo", "out/fender.lo out/chain.lo");
    yard.scratch.write("quay/lib/chain.c", "int chain(void) { return 1; }\n");
    yard.scratch.write("quay/deep.sh", &build);
    yard.run(&["adopt", "watch", "--name", "deep", "--", "sh", "deep.sh"]).code(0);
    yard.run(&["adopt", "differ", "build", "build", "--option", "deep"]).code(2).complains(&["do not differ"]);
    let told = yard.run(&["adopt", "differ", "build", "deep", "--option", "deep"]).code(0);
    told.says(&[
        "with it, the macro DEEP in libquay, quay-static",
        "with it, sources of quay-static: lib/chain.c",
        "deep=off: All 8 objects are the same",
        "deep=on: All 10 objects are the same",
    ]);
    let text = yard.scratch.read("quay-board/boltboard.toml");
    assert!(text.contains("# how we compile"), "{text}");
    assert!(text.contains("when = \"deep\", add = [\"lib/chain.c\"]"), "{text}");
    // A flip touches what sees it: two compiles of each kind and what links them; they were made for the proof.
    yard.run(&["build"]).code(0);
    yard.run(&["set", "deep=on"]).code(0);
    yard.run(&["build"]).code(0).says(&["8 reused, 13 current"]);
    yard.run(&["adopt", "differ", "build", "deep", "--option", "deep"])
        .code(2)
        .complains(&["an option `deep` already"]);
    // Two settings at once cannot be told apart.
    std::fs::remove_dir_all(yard.tree().join("out")).expect("it is removed");
    yard.scratch.write("quay/both.sh", &build.replace("-DDEEP", "-DDEEP -DWIDE"));
    yard.run(&["adopt", "watch", "--name", "both", "--", "sh", "both.sh"]).code(0);
    let told = yard.run(&["adopt", "differ", "build", "both", "--option", "wide"]).code(2);
    told.complains(&["cannot be told apart: DEEP, WIDE", "--together"]);
}

#[test]
fn a_tree_that_moved_on_is_drawn_again_and_no_edit_is_lost() {
    let yard = Yard::quay();
    yard.watched().code(0);
    yard.run(&["adopt", "draw", "--again"]).code(2).complains(&["there is no description"]);
    yard.run(&["adopt", "draw"]).code(0);
    yard.scratch.edit("quay-board/boltboard.toml", "version = \"0\"", "version = \"3\"");
    yard.scratch.edit("quay-board/boltboard.toml", "[part.quay]", "# the station itself\n[part.quay]");
    yard.scratch.edit("quay-board/boltboard.toml", "libraries = [\"m\"]", "libraries = [\"m\", \"rt\"]");
    yard.scratch.write("quay-board/kept/berths.h", "#define BERTHS 4 /* my own */\n");
    yard.run(&["adopt", "draw", "--again"]).code(0).says(&["says all that is drawn now"]);
    std::fs::remove_dir_all(yard.tree().join("out")).expect("it is removed");
    let build = BUILD
        .replace("out/libquay.a -lm", "out/libquay.a -lm -lrt -lpthread")
        .replace("-DLOUD=1", "-DLOUD=1 -DTIDE")
        .replace("BERTHS 4", "BERTHS 5");
    yard.scratch.write("quay/build.sh", &build);
    yard.watched().code(0);
    let told = yard.run(&["adopt", "draw", "--again"]).code(1);
    told.says(&["changed: part.quay.defines", "part.quay.libraries: drawn again as", "kept/berths.h.drawn"]);
    let text = yard.scratch.read("quay-board/boltboard.toml");
    for line in [
        "version = \"3\"",
        "# the station itself\n[part.quay]",
        "defines = [\"LOUD=1\", \"TIDE\"]",
        "# drawn again as: [\"m\", \"rt\", \"pthread\"]\nlibraries = [\"m\", \"rt\"]",
    ] {
        assert!(text.contains(line), "no {line} in\n{text}");
    }
    assert!(yard.scratch.read("quay-board/kept/berths.h").contains("my own"));
    assert_eq!(yard.scratch.read("quay-board/kept/berths.h.drawn"), "#define BERTHS 5\n");
    let answer = yard.run(&["adopt", "draw", "--again", "--json"]).code(0).json();
    assert_eq!(answer["conflicts"], serde_json::json!([]));
}

#[test]
fn the_same_build_is_drawn_the_same_whatever_ran_first_and_wherever_it_lies() {
    let one = Yard::quay();
    one.watched().code(0);
    one.run(&["adopt", "draw"]).code(0);
    let other = Yard::quay();
    // All at once, in another order.
    let build = BUILD
        .replace(
            "for name in rope bollard fender; do\n    cc",
            "for name in fender rope bollard; do\n    sleep 0.1 & cc",
        )
        .replace("lib/$name.c\ndone", "lib/$name.c &\ndone\nwait");
    assert_ne!(build, BUILD);
    other.scratch.write("quay/build.sh", &build);
    other.watched().code(0);
    other.run(&["adopt", "draw"]).code(0);
    assert_eq!(one.scratch.read("quay-board/boltboard.toml"), other.scratch.read("quay-board/boltboard.toml"));
}

#[test]
fn macros_of_a_text_that_the_build_writes_become_an_option_header() {
    let yard = Yard::quay();
    yard.scratch.edit(
        "quay/build.sh",
        "echo '#define BERTHS 4'",
        "printf '#define BERTHS 4\\n/* #undef FERRY */\\n#define LAST 1\\n'",
    );
    yard.scratch.edit(
        "quay/lib/bollard.c",
        "return BERTHS;",
        "\n#ifdef FERRY\nreturn BERTHS + 2;\n#else\nreturn BERTHS;\n#endif\n",
    );
    yard.scratch.edit("quay/lib/rope.c", "#include <depths.h>", "#include <depths.h>\n#include <berths.h>");
    yard.watched().code(0);
    yard.run(&["adopt", "draw"]).code(0);
    std::fs::remove_dir_all(yard.tree().join("out")).expect("it is removed");
    let build = yard.scratch.read("quay/build.sh").replace("/* #undef FERRY */", "#define FERRY 1");
    yard.scratch.write("quay/ferry.sh", &build);
    yard.run(&["adopt", "watch", "--name", "ferry", "--", "sh", "ferry.sh"]).code(0);
    let told = yard.run(&["adopt", "differ", "build", "ferry", "--option", "ferry"]).code(0);
    told.says(&[
        "with it, the macro FERRY of berths.h",
        "ferry=off: All 8 objects are the same",
        "ferry=on: All 8 objects are the same",
    ]);
    let kept = yard.scratch.read("quay-board/kept/berths.h");
    assert_eq!(kept, "#define BERTHS 4\n#include \"berths_options.h\"\n#define LAST 1\n");
    // A flip touches what names the macro, not all that reads the text: two compiles of bollard.c, and what is made of them.
    yard.run(&["build"]).code(0);
    yard.run(&["set", "ferry=on"]).code(0);
    let answer = yard.run(&["preview", "--json"]).code(0).json();
    let steps = answer["steps"].as_array().expect("a list");
    let compiles = steps.iter().filter(|step| step["does"] == "compile" && step["verdict"] != "current");
    assert_eq!(compiles.count(), 2, "{answer}");
}

#[test]
fn what_is_generated_among_the_sources_is_told() {
    let yard = Yard::quay();
    let build = yard
        .scratch
        .read("quay/build.sh")
        .replace("> out/gen/name.h", "> lib/name.h")
        .replace("-Iout/gen", "-Iout/gen -Ilib");
    yard.scratch.write("quay/build.sh", &build);
    yard.watched().code(0);
    yard.run(&["adopt", "seen"]).code(0).says(&["lib/name.h: generated among the sources", "remove it"]);
    yard.run(&["adopt", "draw"]).code(0);
    // Without it, the description makes its own.
    std::fs::remove_file(yard.tree().join("lib/name.h")).expect("it is removed");
    yard.run(&["adopt", "prove"]).code(0).says(&["All 8 objects are the same"]);
}

#[test]
fn a_compilation_database_is_a_lesser_source() {
    let yard = Yard::quay();
    let tree = yard.tree().display().to_string();
    let entry = |words: &str, file: &str| format!("{{\"directory\": \"{tree}\", \"file\": \"{file}\", {words}}}");
    let database = format!(
        "[{},\n{}]",
        entry("\"command\": \"cc -c -O1 -Iinclude -DLOUD=1 -o check.o src/check.c\"", "src/check.c"),
        entry(
            "\"arguments\": [\"cc\", \"-c\", \"-O1\", \"-Iinclude\", \"tools/maketab.c\", \"-o\", \"m.o\"], \"output\": \"m.o\"",
            "tools/maketab.c"
        ),
    );
    yard.scratch.write("quay/db.json", &database);
    yard.run(&["adopt", "watch", "--database", "db.json"]).code(0).says(&["2 compiles"]);
    yard.run(&["adopt", "seen"]).code(0).says(&["src-objects", "tools-objects", "links: none is known"]);
    yard.run(&["adopt", "draw"]).code(0);
    let text = yard.scratch.read("quay-board/boltboard.toml");
    assert!(text.contains("sources = [\"src/check.c\"]\ndefines = [\"LOUD=1\"]"), "{text}");
    assert!(text.contains("flags = [\"-O1\", \"-Iinclude\"]"), "{text}");
    yard.run(&["build"]).code(0).steps(2);
    yard.scratch.write("quay/db.json", "[{}]");
    yard.run(&["adopt", "watch", "--database", "db.json"]).code(2).complains(&["is no compilation database"]);
    yard.run(&["adopt", "watch", "--database", "none.json"]).code(2).complains(&["there is no file"]);
    yard.run(&["adopt", "watch"]).code(2);
}

#[test]
fn hints_are_what_files_test_and_nobody_defines() {
    let yard = Yard::quay();
    yard.scratch.write(
        "quay/lib/rope.c",
        "#include \"quay.h\"\n#include <depths.h>\n/* #define WITH_KNOTS 1 */\n#ifdef WITH_KNOTS\n#include <knots.h>\n#endif\n#ifdef _WIN32\n#endif\n#define OWN\n#ifdef OWN\n#endif\nint rope(int length) { return length + DEPTH_5; }\n",
    );
    yard.watched().code(0);
    let told = yard.run(&["adopt", "hints"]).code(0).says(&[
        "WITH_KNOTS",
        "up to 2",
        "offered in a comment",
        "includes <knots.h>",
    ]);
    assert!(!told.out.contains("OWN") && !told.out.contains("_WIN32"), "{}", told.out);
    let answer = yard.run(&["adopt", "hints", "--json"]).code(0).json();
    assert_eq!(answer["hints"][0]["name"], "WITH_KNOTS");
    assert_eq!(answer["hints"][0]["file"], "lib/rope.c");
    assert_eq!(answer["hints"][0]["line"], 4);
}

#[test]
fn a_new_tree_is_begun_and_builds_at_once() {
    let tree = Scratch::new();
    tree.run("").code(2).complains(&["→ boltboard adopt", "→ boltboard init"]);
    tree.run("init --name beacon").code(0).says(&["boltboard.toml and src/main.c"]).complains(&["Version: 0.1"]);
    tree.run("build --verify").code(0);
    tree.run("lint").code(0).says(&["No findings"]);
    tree.run("init").code(2).complains(&["there already is a description"]);
    let tree = Scratch::with(&[("lib/a.c", "int a(void) { return 1; }\n"), ("include/a.h", "int a(void);\n")]);
    tree.run("init --name buoys --kind shared-library").code(0);
    assert!(tree.read("boltboard.toml").contains("sources = [\"lib/*.c\"]\ninclude = [\"include\"]"));
    tree.run("build").code(0);
    Scratch::new().run("init --name 7-").code(2).complains(&["cannot be a name"]);
}
