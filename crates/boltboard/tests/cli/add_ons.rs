//! Folders outside of the tree that bring more to its board.

use std::path::Path;
use std::process::Command;

use crate::harness::Scratch;

const BOARD: &str = r#"format = 1
[tree]
name = "station"
version = "2.4"
[header.options]
output = "options.h"
prefix = "S_"
[option.prefix]
kind = "path"
default = "/usr/local"
summary = "Where it goes"
macro = []
[option.radio]
kind = "switch"
summary = "Radio"
[part.core]
kind = "static-library"
sources = ["src/core.c"]
public-include = ["src"]
[part.stationd]
kind = "program"
sources = ["src/main.c"]
uses = ["core"]
install = "${prefix}/bin"
"#;

const ADD_ON: &str = r#"format = 1
[add-on]
name = "clock"
version = "1.0"
summary = "A clock"
tree = "station"
tree-versions = ">= 2.4, < 4"
requires = "radio"
more = ["*/boltboard.toml"]
[option.hands]
kind = "number"
range = [1, 3]
default = 2
summary = "Hands"
[part.clock]
kind = "program"
sources = ["src/*.c"]
include = ["src"]
uses = ["core"]
install = "${prefix}/bin"
[test.clock]
command = ["${part:clock}"]
"#;

/// A tree in the folder `station`, and an add-on beside it.
struct Pair {
    scratch: Scratch,
}

fn pair() -> Pair {
    let scratch = Scratch::with(&[
        ("station/boltboard.toml", BOARD),
        ("station/src/core.h", "int core(void);\n"),
        ("station/src/core.c", "int core(void) { return 3; }\n"),
        (
            "station/src/main.c",
            "#include \"core.h\"\n#include \"options.h\"\n#ifdef S_RADIO\nint radio;\n#endif\nint main(void) { return core() - 3; }\n",
        ),
        ("clock/boltboard.toml", ADD_ON),
        ("clock/src/hands.h", "#define HANDS 2\n"),
        (
            "clock/src/clock.c",
            "#include \"core.h\"\n#include \"options.h\"\n#include \"hands.h\"\nint main(void) { return core() + HANDS - S_HANDS - 3; }\n",
        ),
        (
            "clock/face/boltboard.toml",
            "[section.dial]\ntitle = \"The dial\"\n[option.face]\nsection = \"dial\"\nkind = \"switch\"\nsummary = \"A face\"\nmacro = []\n",
        ),
    ]);
    Pair { scratch }
}

impl Pair {
    fn run(&self, words: &str) -> crate::harness::Ran {
        self.run_in("station", words)
    }

    fn run_in(&self, folder: &str, words: &str) -> crate::harness::Ran {
        self.scratch.ran(self.scratch.command(words).current_dir(self.scratch.at(folder)))
    }

    fn reads(&self) -> usize {
        self.run("options --count").code(0).out.trim().parse().expect("a number")
    }
}

#[test]
fn an_add_on_comes_with_its_options_parts_and_tests_and_goes_without_a_trace() {
    let pair = pair();
    pair.run("build").code(0).steps(4);
    // From anywhere, by a path from there.
    pair.run_in("station/src", "add-on add ../../clock").code(0).says(&[
        "Added: clock 1.0",
        "3 options, 1 part, 1 test",
        "is off",
    ]);
    pair.run("overview").code(0).says(&["add-ons", "clock 1.0", "not made: clock"]);
    pair.run("why clock").code(0).says(&["clock requires radio", "TREE/clock/boltboard.toml:8"]);
    // What is blocked costs nothing.
    pair.run("build").code(0).steps(0);
    pair.run("set clock=on").code(0).says(&["radio", "for clock"]);
    pair.run("options in:clock").code(0).says(&["hands", "face"]);
    pair.run("build").code(0).steps(4);
    pair.run("test").code(0).says(&["1 test passed"]);
    pair.run("build").code(0).says(&["Nothing to do"]);
    let told = pair.run("inspect boltboard-work/builds/mine/out/bin/clock").code(0);
    told.says(&["add-ons: clock 1.0"]);
    // Edits, new files and values reach just what sees them.
    pair.run("set hands=3").code(0);
    pair.run("build").code(0).steps(2);
    pair.run("test").code(1);
    pair.scratch.edit("clock/src/hands.h", "HANDS 2", "HANDS 3");
    // The code comes out as it was at first, and so does the program.
    pair.run("build").code(0).steps(1);
    pair.run("test").code(0);
    // What fails in it is told with where it lies.
    pair.scratch.write("clock/src/more.c", "int more = nothing_here;\n");
    let failed = pair.run("build").code(1);
    failed.complains(&["first error: add-ons/clock/src/more.c:1:12", "this file lies in TREE/clock/src"]);
    pair.scratch.write("clock/src/more.c", "int more;\n");
    pair.run("build").code(0).steps(2);
    pair.run("build --verify").code(0);
    pair.run("lint --severity error").code(0);
    // So do definitions.
    pair.scratch.edit("clock/face/boltboard.toml", "[option.face]", "[option.face-of-it]");
    pair.run("options in:clock").code(0).says(&["face-of-it"]);
    assert_eq!(pair.reads(), 5);
    pair.scratch
        .write("clock/bell/boltboard.toml", "[option.bell]\nkind = \"switch\"\nsummary = \"A bell\"\nmacro = []\n");
    assert_eq!(pair.reads(), 6);
    // It installs, and its files go when it goes.
    let prefix = pair.scratch.at("installed");
    pair.run(&format!("set prefix={} clock=on", prefix.display())).code(0);
    pair.run("install").code(0);
    assert!(prefix.join("bin/clock").exists());
    let gone = pair.run("add-on remove clock").code(0);
    gone.says(&["Removed: clock", "Taken out of the profile mine: clock=on, hands=3"]);
    pair.run("install").code(0);
    assert!(!prefix.join("bin/clock").exists() && prefix.join("bin/stationd").exists());
    pair.run("overview").code(0).says(&["2 of 2 made"]);
    assert!(!pair.scratch.at("station/boltboard-work/builds/mine/tree").exists());
    assert!(!pair.scratch.at("station/boltboard-work/add-ons.toml").exists());
    assert!(!pair.scratch.at("station/add-ons").exists());
    pair.run("build --verify").code(0);
    assert!(!pair.scratch.read("station/boltboard-work/profiles/mine.toml").contains("hands"));
}

#[test]
fn what_does_not_fit_or_clashes_is_told_and_not_kept() {
    let pair = pair();
    let board = pair.scratch.read("clock/boltboard.toml");
    let with = |old: &str, new: &str| pair.scratch.write("clock/boltboard.toml", &board.replacen(old, new, 1));
    let refused = |texts: &[&str]| {
        pair.run("add-on add ../clock").code(3).complains(texts).complains(&["Nothing was changed."]);
        assert!(!pair.scratch.at("station/boltboard-work/add-ons.toml").exists());
        assert_eq!(pair.reads(), 2);
    };
    with(">= 2.4, < 4", ">= 3.1");
    refused(&["the add-on `clock` is for station >= 3.1, and this is station 2.4", "TREE/clock/boltboard.toml:7:18"]);
    with("\"station\"", "\"harbour\"");
    refused(&["is for harbour, and this is station 2.4", "→ take another version of clock, one that fits this tree"]);
    with(">= 2.4, < 4", "new ones");
    refused(&["new ones"]);
    with("[option.hands]", "[option.radio]");
    refused(&["option `radio` is defined twice", "TREE/clock/boltboard.toml:10:9", "first here: boltboard.toml:13:9"]);
    with("[part.clock]", "[part.core]");
    refused(&["part `core` is defined twice"]);
    with("requires = \"radio\"", "requires = \"wireless\"");
    refused(&["there is no option `wireless`"]);
    with("format = 1", "format = 9");
    refused(&["9"]);
    with("[option.hands]", "[tree]\nname = \"x\"\n[option.hands]");
    refused(&["`tree`"]);
    with("[add-on]", "[other]");
    pair.run("add-on add ../clock").code(2).complains(&["is no add-on"]);
    pair.run("add-on add ../nowhere").code(2).complains(&["../nowhere is not there"]);
    pair.run("add-on remove clock").code(2).complains(&["there is no add-on `clock`"]);
    pair.run("add-on add ../nowhere").code(2).complains(&["a path begins where you are"]);
    // What fits is there once.
    pair.scratch.write("clock/boltboard.toml", &board);
    pair.run("add-on add ../clock").code(0);
    pair.run("add-on add ../clock").code(2).complains(&["there is an add-on `clock` already"]);
}

#[test]
fn one_that_fits_no_more_or_is_gone_is_told_with_what_helps() {
    let pair = pair();
    pair.run("add-on add ../clock").code(0);
    pair.run("set hands=1").code(0);
    pair.scratch.edit("station/boltboard.toml", "version = \"2.4\"", "version = \"4.0\"");
    pair.run("build").code(3).complains(&["and this is station 4.0", "→ boltboard add-on remove clock"]);
    pair.scratch.edit("station/boltboard.toml", "version = \"4.0\"", "version = \"2.5\"");
    pair.run("overview").code(0);
    std::fs::rename(pair.scratch.at("clock"), pair.scratch.at("elsewhere")).expect("moved");
    pair.run("build").code(3).complains(&[
        "the add-on `clock` cannot be read: TREE/clock/boltboard.toml",
        "→ boltboard add-on remove clock",
    ]);
    pair.run("add-on remove clock").code(0).says(&["Taken out of the profile mine: hands=1"]);
    pair.run("add-on add ../elsewhere").code(0);
    pair.run("build").code(0);
}

#[test]
fn a_list_of_add_ons_that_is_none_is_told_with_what_helps() {
    let pair = pair();
    pair.run("add-on add ../clock").code(0);
    pair.scratch.write("station/boltboard-work/add-ons.toml", "format = 1\n[add-on.clock]\n");
    for command in ["overview", "build", "add-on remove clock"] {
        pair.run(command)
            .code(3)
            .complains(&["read which add-ons there are", "→ remove that file, and add them again"]);
    }
    std::fs::remove_file(pair.scratch.at("station/boltboard-work/add-ons.toml")).expect("removed");
    pair.run("add-on add ../clock").code(0);
}

#[test]
fn an_archive_is_unpacked_into_the_work_folder_and_goes_with_it() {
    let pair = pair();
    let tar = |words: &[&str]| {
        let ran = Command::new("tar").current_dir(pair.scratch.path()).args(words).status().expect("tar runs");
        assert!(ran.success());
    };
    tar(&["czf", "clock-1.0.tar.gz", "clock"]);
    tar(&["cf", "evil.tar", "--transform", "s,clock/src,../out,", "-P", "clock"]);
    std::fs::remove_dir_all(pair.scratch.at("clock")).expect("removed");
    pair.run("add-on add ../evil.tar").code(2).complains(&["leads out of the archive", "Nothing was changed."]);
    assert!(!pair.scratch.at("station/boltboard-work/add-ons/out").exists());
    pair.run("add-on add ../clock-1.0.tar.gz").code(0).says(&["Added: clock 1.0"]);
    let own = pair.scratch.at("station/boltboard-work/add-ons");
    let kept: Vec<_> = std::fs::read_dir(&own).expect("there").map(|entry| entry.expect("read").file_name()).collect();
    assert_eq!(kept, ["clock"]);
    pair.run("set clock=on").code(0);
    pair.run("build").code(0);
    pair.run("test").code(0);
    pair.run("add-on remove clock").code(0);
    assert!(!own.exists());
    pair.run("add-on add boltboard.toml").code(2).complains(&["is no add-on"]);
}

#[test]
fn a_recipe_brings_its_add_ons_along() {
    let pair = pair();
    pair.run("add-on add ../clock").code(0);
    pair.run("set clock=on hands=2").code(0);
    pair.run("export recipe --into ../handed").code(0);
    let fresh = self::pair();
    std::fs::remove_dir_all(fresh.scratch.at("clock")).expect("removed");
    let own = Path::new(env!("CARGO_BIN_EXE_boltboard")).parent().expect("a folder").display();
    let prefix = fresh.scratch.at("there");
    for _ in 0..2 {
        let mut script = Command::new("sh");
        script.arg(pair.scratch.at("handed/recipe.sh")).arg(fresh.scratch.at("station"));
        script.env("PATH", format!("{own}:{}", crate::harness::usual_path())).env("PREFIX", &prefix);
        let ran = fresh.scratch.ran(&mut script).code(0);
        assert!(ran.out.contains("== Add-on clock"), "{}", ran.out);
        assert!(prefix.join("bin/clock").exists());
    }
}

#[test]
fn a_folder_of_that_name_in_the_tree_is_nothing_special() {
    let pair = pair();
    pair.scratch.write(
        "station/add-ons/mine/boltboard.toml",
        "[option.own]\nkind = \"switch\"\nsummary = \"Own\"\nmacro = []\n",
    );
    pair.scratch.edit(
        "station/boltboard.toml",
        "version = \"2.4\"",
        "version = \"2.4\"\nmore = [\"**/boltboard.toml\"]",
    );
    pair.run("options --count").code(0).says(&["3"]);
    pair.run("add-on add ../clock").code(0);
    pair.run("options --count").code(0).says(&["6"]);
    pair.run("set clock=on own=on").code(0);
    pair.run("build").code(0);
}

#[test]
fn skerry_is_built_with_an_add_on_beside_it() {
    let tree = Scratch::skerry();
    let add_ons = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/add-ons");
    tree.run(&format!("add-on add {}", add_ons.join("foghorn-choir").display()))
        .code(3)
        .complains(&["is for skerry >= 3.1"]);
    tree.run(&format!("add-on add {}", add_ons.join("aurora").display())).code(0);
    tree.run("build skerryd sense-aurora test-glow").code(0);
    let skerryd = tree.at("boltboard-work/builds/mine/out/bin/skerryd");
    let says = |seed: &str| {
        let ran = Command::new(&skerryd).args(["--seed", seed, "--minutes", "700"]).current_dir(tree.path()).output();
        String::from_utf8(ran.expect("it runs").stdout).expect("text")
    };
    assert!((1..9).any(|seed| says(&seed.to_string()).contains("aurora")), "{}", says("1"));
    tree.run("test glow").code(0).says(&["1 test passed"]);
    // Built in, it stands in the tree's own table.
    tree.run("set sense-aurora=builtin").code(0);
    tree.run("build skerryd").code(0);
    let table = tree.read("boltboard-work/builds/mine/made/skerry/builtin_modules.c");
    assert!(table.contains("&sk_module_sense_aurora"), "{table}");
}
