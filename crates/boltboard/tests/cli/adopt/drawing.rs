//! What becomes of watched builds.

use std::os::unix::fs::PermissionsExt;

use super::{BUILD, Yard};

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
fn a_build_that_is_hard_to_read_is_understood_and_what_is_not_is_told() {
    let yard = Yard::harbour();
    yard.watched().code(0).says(&["5 compiles", "4 links and archives", "5 generated parts", "about the host"]);
    yard.run(&["adopt", "seen"]).code(0).says(&[
        "config.h: the build wrote this text itself",
        "slips.h: the build wrote this text itself",
        "macro DATE: its value looks like a date",
        "out/inst/harbour: copied there by the build",
    ]);
    yard.run(&["adopt", "draw"]).code(0);
    let text = yard.scratch.read("harbour-board/boltboard.toml");
    // Headers that were copied and linked are read where they lie.
    for line in [
        "\"-Iinc\"",
        "kind = \"partial-link\"",
        "defines = [\"AGAIN\"]",
        "command = [\"sed\", \"s/^/int /\", \"inc/ferry.in\"]\nstdout = \"ferry.h\"",
        "command = [\"sh\", \"${path:tree}/sub/gen.sh\"",
        "command = [\"strip\", \"-o\", \"${step:output}\", \"${part:harbour",
    ] {
        assert!(text.contains(line), "no {line} in\n{text}");
    }
    assert!(!text.contains("conftest") && !text.contains("out/args"), "{text}");
    std::fs::remove_dir_all(yard.tree().join("out")).expect("it is removed");
    yard.run(&["adopt", "prove"]).code(0).says(&["All 5 objects are the same (5 but for debug information"]);
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
fn what_a_build_installs_tries_and_makes_of_its_results_is_drawn_as_well() {
    let yard = Yard::quay();
    yard.scratch.write("quay/man/quay.1", "quay\n");
    yard.scratch.write("quay/etc/quay.conf", "berths 4\n");
    yard.scratch.script("quay/tools/quay-start", "exec quay");
    yard.also(
        r#"
strip -o out/quay.small out/quay
out/check
out/quay data/depths.txt > out/quay.log
to=$PWD/../lib/stage
mkdir -p $to/bin $to/lib $to/share/man/man1 $to/etc
cp out/quay.small $to/bin/
cp out/quay $to/bin/quay-full
cp out/libquay.so.2 $to/lib/; ln -s libquay.so.2 $to/lib/libquay.so
install -m 644 man/quay.1 $to/share/man/man1/; install -m 644 etc/quay.conf $to/etc/; install -m 755 tools/quay-start $to/bin/
"#,
    );
    yard.watched().code(0);
    let seen = yard.run(&["adopt", "seen"]).code(0);
    assert!(!seen.out.contains("not understood") && !seen.out.contains("left out"), "{}", seen.out);
    yard.run(&["adopt", "draw"]).code(0);
    let proof = yard.run(&["adopt", "prove", "--json"]).code(0).json();
    assert_eq!(proof["outputs"], 6, "{proof}");
    let text = yard.scratch.read("quay-board/boltboard.toml");
    for part in [
        "command = [\"strip\", \"-o\", \"${step:output}\", \"${part:quay}\"]",
        "install = \"${prefix}/bin\"\ninstall-as = \"quay-full\"",
        "install = \"${prefix}/share/man/man1\"",
        "[test.check]\ncommand = [\"${part:check}\"]",
        "[test.quay]\ncommand = [\"${part:quay}\", \"${path:tree}/data/depths.txt\"]",
    ] {
        assert!(text.contains(part), "no {part} in\n{text}");
    }
    yard.run(&["test"]).code(0).says(&["2 tests passed"]);
    let stage = yard.scratch.at("stage");
    yard.run(&["set", &format!("prefix={}", stage.display())]).code(0);
    yard.run(&["install"]).code(0);
    for (file, mode) in [
        ("bin/quay.small", 0o755),
        ("bin/quay-full", 0o755),
        ("bin/quay-start", 0o755),
        ("lib/libquay.so.2", 0o755),
        ("share/man/man1/quay.1", 0o644),
        ("etc/quay.conf", 0o644),
    ] {
        let there = std::fs::metadata(stage.join(file)).unwrap_or_else(|e| panic!("{file}: {e}"));
        assert_eq!(there.permissions().mode() & 0o777, mode, "{file}");
    }
    assert_eq!(std::fs::read_to_string(stage.join("etc/quay.conf")).expect("a text"), "berths 4\n");
    assert!(stage.join("lib/libquay.so").exists(), "a library is found by those who link with it");
}

#[test]
fn what_changes_a_result_in_its_place_is_told() {
    let yard = Yard::quay();
    yard.also("strip out/quay\n");
    yard.watched().code(0);
    let told = yard.run(&["adopt", "seen"]).code(0);
    told.says(&["strip out/quay", "it changed out/quay after this was linked"]);
}

#[test]
fn what_only_a_person_knows_is_asked_once() {
    let yard = Yard::quay();
    yard.watched().code(0);
    let asked = |yard: &Yard| yard.run(&["adopt", "seen", "--json"]).code(0).json()["questions"].clone();
    let question = |question: &str, usual: &str| serde_json::json!({ "question": question, "usual": usual });
    assert_eq!(asked(&yard), serde_json::json!([question("version", "0"), question("flags", "fixed")]));
    yard.run(&["adopt", "draw", "--answer", "flags=some"]).code(2).complains(&["write `options` or `fixed`"]);
    yard.run(&["adopt", "draw", "--answer", "title=some"]).code(2).complains(&["nothing called `title` is asked"]);
    yard.run(&["adopt", "draw", "--answer", "version=2.4", "--answer", "flags=options"]).code(0);
    // They are kept.
    assert_eq!(asked(&yard), serde_json::json!([]));
    let text = yard.scratch.read("quay-board/boltboard.toml");
    assert!(text.contains("version = \"2.4\"\n") && !text.contains("flags -O2: people"), "{text}");
    assert!(text.contains("{ when = \"optimise = speed\", add = [\"-O2\"] }"), "{text}");
    yard.run(&["adopt", "prove"]).code(0).says(&["All 8 objects are the same"]);
    yard.run(&["set", "optimise=size"]).code(0);
    let built = yard.run(&["export", "compile-commands"]).code(0);
    assert!(built.out.contains("-Os") && !built.out.contains("-O2"), "{}", built.out);
}

#[test]
fn names_of_files_in_messages_are_as_the_build_called_them() {
    let yard = Yard::quay();
    yard.scratch.write(
        "quay/deep/low/shout.h",
        "#define SHOUT __FILE__\nstatic inline const char *where(void) { return __FILE__; }\n",
    );
    yard.scratch.write(
        "quay/deep/called.c",
        "#include <assert.h>\n#include \"low/shout.h\"\nconst char *called(int x) { assert(x > 1); return SHOUT; }\n",
    );
    yard.scratch.write("quay/src/far.c", "#include <low/shout.h>\nconst char *far_away(void) { return where(); }\n");
    yard.also("(cd deep && cc -O2 -c called.c -o ../out/called.o)\n(cd src && cc -O2 -I../deep -c ../src/far.c -o ../out/far.o)\nar rc out/libnames.a out/called.o out/far.o\n");
    yard.watched().code(0);
    yard.run(&["adopt", "draw"]).code(0);
    let told = yard.run(&["adopt", "prove"]).code(0);
    told.says(&["All 10 objects are the same."]);
    // What holds no name is written without it.
    let text = yard.scratch.read("quay-board/boltboard.toml");
    assert_eq!(text.matches("-fmacro-prefix-map").count(), 3, "{text}");
}
