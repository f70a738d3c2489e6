//! Options between two watched builds, and macros that look like some.

use super::{BUILD, Yard};

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
