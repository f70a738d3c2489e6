//! Options between two watched builds, and macros that look like some.

use super::{BUILD, Yard};
use crate::harness::Scratch;

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

/// A build whose settings are variables of its script: what gives the light, how far it steps, how it is compiled, what it is called.
const LIGHT: &str = r##"
set -e
mkdir -p out
{
    echo '#ifndef LIGHT_H'; echo '#define LIGHT_H'
    echo "#define STEP $step"
    echo '#define KEPT 1'
    test $drive = oil || echo "#define WIRED 1"
    echo "#define DRIVE_NAME \"$drive\""
    test $drive != arc || echo 'static inline int sparks(void) { return 3; }'
    echo '#endif'
} > out/light.h
sed -e "s/NAME/$name/" name.in > out/name.h
up=$(echo $drive | tr a-z A-Z)
for source in main lens drive-$drive; do
    cc -c $opt -Wall -Iout -DDEPTH=$depth -DDRIVE_$up -o out/$source.o $source.c
done
cc -o out/light out/main.o out/lens.o out/drive-$drive.o
"##;

fn light() -> Yard {
    let scratch = Scratch::new();
    scratch.write("light/light.sh", LIGHT);
    scratch.write("light/name.in", "#define CALLED \"NAME\"\n");
    scratch.write(
        "light/main.c",
        "#include <light.h>\n#include <name.h>\n#include <stdio.h>\nint drive(void);\nint lens(void);\nint main(void) { printf(\"%s %d %d %s\\n\", DRIVE_NAME, drive(), lens(), CALLED); return 0; }\n",
    );
    scratch.write("light/lens.c", "#include <light.h>\nint lens(void) { return STEP * KEPT + DEPTH; }\n");
    scratch.write("light/drive-led.c", "#include <light.h>\nint drive(void) { return WIRED; }\n");
    scratch.write("light/drive-arc.c", "#include <light.h>\nint drive(void) { return WIRED + sparks(); }\n");
    scratch.write("light/drive-oil.c", "int drive(void) { return 0; }\n");
    Yard { scratch, name: "light" }
}

/// Watches it with one setting changed.
fn watched_with(yard: &Yard, name: &str, setting: &str) {
    let out = yard.tree().join("out");
    if out.exists() {
        std::fs::remove_dir_all(out).expect("it is removed");
    }
    let script = format!("drive=led step=30 opt=-O2 depth=3 name=Skerry; {setting}\n. ./light.sh\n");
    yard.scratch.write(&format!("light/{name}.sh"), &script);
    yard.run(&["adopt", "watch", "--name", name, "--", "sh", &format!("{name}.sh")]).code(0);
}

#[test]
fn each_kind_of_setting_becomes_the_option_that_it_is_and_all_of_them_stay() {
    let yard = light();
    watched_with(&yard, "build", ":");
    yard.run(&["adopt", "draw"]).code(0);
    let differ = |builds: &[&str], option: &str| {
        let words = [&["adopt", "differ"], builds, &["--option", option]].concat();
        yard.run(&words).code(0)
    };
    watched_with(&yard, "arc", "drive=arc");
    watched_with(&yard, "oil", "drive=oil");
    yard.run(&["adopt", "differ", "build", "arc", "oil", "--option", "drive", "--values", "led,arc"])
        .code(2)
        .complains(&["3 builds were named, and 2 values"]);
    let told = yard.run(&["adopt", "differ", "build", "arc", "oil", "--option", "drive", "--values", "led,arc,oil"]);
    told.code(0).says(&[
        "drive=led: All 3 objects are the same",
        "drive=arc: All 3 objects are the same",
        "drive=oil: All 3 objects are the same",
    ]);
    watched_with(&yard, "wide", "step=60");
    differ(&["build", "wide"], "step").says(&["the value of STEP", "step=30: All 3", "step=60: All 3"]);
    watched_with(&yard, "deep", "depth=5");
    differ(&["build", "deep"], "depth").says(&["the value of DEPTH in light", "depth=3: All 3", "depth=5: All 3"]);
    watched_with(&yard, "quick", "opt=-O1");
    differ(&["build", "quick"], "quick").says(&["flags of all parts: -O1", "quick=on: All 3"]);
    watched_with(&yard, "named", "name=Rock");
    differ(&["build", "named"], "rock").says(&["in the command of", "rock=on: All 3"]);
    let text = yard.scratch.read("light-board/boltboard.toml");
    for part in [
        "kind = \"pick\"\nvalues = [\"led\", \"arc\", \"oil\"]\ndefault = \"led\"",
        "{ name = \"DRIVE_ARC\", value = \"arc\", parts = [\"light\"] }",
        "sources = [\"lens.c\", \"main.c\", { when = \"drive = led\", add = [\"drive-led.c\"] }",
        "kind = \"number\"\ndefault = 30",
        "kind = \"number\"\ndefault = 3\n",
        "{ when = \"not quick\", add = [\"-O2\"] }",
        "{ when = \"rock\", add = [",
    ] {
        assert!(text.contains(part), "no {part} in\n{text}");
    }
    // All together: what was said of one option holds beside the others.
    yard.run(&["set", "drive=arc", "step=7", "depth=9", "quick=on", "rock=on"]).code(0);
    yard.run(&["build"]).code(0);
    let program = yard.scratch.at("light-board/boltboard-work/builds/mine/out/bin/light");
    let said = std::process::Command::new(program).output().expect("it runs").stdout;
    assert_eq!(String::from_utf8_lossy(&said), "arc 4 16 Rock\n");
    // A value is compiled where it is named, and nowhere else.
    yard.run(&["set", "step=8"]).code(0);
    let answer = yard.run(&["preview", "--json"]).code(0).json();
    let steps = answer["steps"].as_array().expect("a list");
    let compiles = steps.iter().filter(|step| step["does"] == "compile" && step["verdict"] != "current");
    assert_eq!(compiles.count(), 1, "{answer}");
}

#[test]
fn a_description_that_was_drawn_of_the_other_build_gets_the_option_as_well() {
    let yard = light();
    watched_with(&yard, "arc", "drive=arc");
    watched_with(&yard, "build", ":");
    yard.run(&["adopt", "draw", "--name", "arc"]).code(0);
    let told = yard.run(&["adopt", "differ", "build", "arc", "--option", "arc", "--together"]).code(0);
    told.says(&["without it, the macro DRIVE_LED in light", "arc=off: All 3 objects", "arc=on: All 3 objects"]);
    let text = yard.scratch.read("light-board/boltboard.toml");
    assert!(text.contains("kind = \"switch\"\ndefault = \"on\""), "{text}");
    // A kept text that somebody changed where the builds differ is no longer edited.
    let kept = yard.scratch.read("light-board/kept/light.h").replace("#define STEP 30", "#define STEP 31");
    yard.scratch.write("light-board/kept/light.h", &kept);
    watched_with(&yard, "wide", "step=60");
    let told = yard.run(&["adopt", "differ", "build", "wide", "--option", "step"]).code(2);
    told.complains(&["kept/light.h is no longer as it was drawn where the builds differ"]);
    assert_eq!(yard.scratch.read("light-board/kept/light.h"), kept);
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
fn macros_that_a_person_calls_options_become_options_that_are_off() {
    let scratch = Scratch::new();
    scratch.write("mole/build.sh", "set -e\nmkdir -p out\nfor f in main horn; do cc -c $f.c -o out/$f.o; done\ncc -o out/mole out/main.o out/horn.o\n");
    scratch.write(
        "mole/main.c",
        "#ifdef WITH_BELL\n#include <zlib.h>\nint bell(void) { return 1; }\n#endif\n#ifdef USE_TIDE\nint tide;\n#endif\nint main(void) { return 0; }\n",
    );
    scratch.write(
        "mole/horn.c",
        "#ifdef WITH_HORN\n#error the horn is on\n#endif\n#ifdef USE_FLAG\nint flag;\n#endif\nint horn;\n",
    );
    let yard = Yard { scratch, name: "mole" };
    yard.watched().code(0);
    yard.run(&["adopt", "draw", "--answer", "hints=WITH;"]).code(2).complains(&["is no answer to `hints`"]);
    yard.run(&["adopt", "draw", "--answer", "hints=WITH,NOWHERE"]).code(0);
    let drawn = yard.scratch.read("mole-board/boltboard.toml");
    for part in [
        "# looks like an option: WITH_BELL is tested in main.c:1",
        "[option.with-bell]",
        "[option.with-horn]",
        "macro = { name = \"WITH_HORN\", parts = [\"mole\"] }",
    ] {
        assert!(drawn.contains(part), "no {part} in\n{drawn}");
    }
    assert!(!drawn.contains("use-tide"), "nobody asked for that:\n{drawn}");
    yard.run(&["adopt", "seen"]).says(&["NOWHERE"]);
    // Nothing is built otherwise, until one of them is on.
    yard.run(&["adopt", "prove"]).code(0).says(&["All 2 objects are the same"]);
    yard.run(&["set", "with-horn=on"]).code(0);
    yard.run(&["build"]).code(1).complains(&["the horn is on"]);
}
