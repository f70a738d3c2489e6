//! Looking: overview, options, show, why, survey; from anywhere in the tree, writing nothing.

use crate::harness::{MINI, Scratch};

#[test]
fn reading_commands_write_nothing_and_run_nothing_of_the_tree() {
    let tree = Scratch::with(MINI);
    tree.edit("tools/names.sh", "echo", "touch WAS-RUN; echo");
    for words in [
        "",
        "overview",
        "options",
        "show horn",
        "why horn",
        "survey",
        "preview",
        "profile list",
        "ledger",
        "export compile-commands",
    ] {
        tree.run(words).code(0);
    }
    assert!(!tree.at("boltboard-work").exists(), "no work folder");
    assert!(!tree.at("WAS-RUN").exists() && !tree.at("src/WAS-RUN").exists(), "no generator ran");
}

#[test]
fn overview_tells_what_the_tree_is() {
    let tree = Scratch::with(MINI);
    tree.run("").code(0).says(&[
        "mini 1.0  a tiny tree",
        "5: 3 switches, 1 number, 1 path",
        "2 of 2 made",
        "needs    1, not met: nowhere",
        "boltboard survey",
    ]);
}

#[test]
fn options_are_found_filtered_and_counted() {
    let tree = Scratch::with(MINI);
    for (words, holds, lacks) in [
        ("options", "horn", "radio"),
        ("options --level expert", "radio", "banana"),
        ("options --section sound", "air", "depth"),
        ("options --find WATER", "depth", "horn"),
        ("options --find mini_depth", "depth", "horn"),
        ("options --blocked", "radio", "horn"),
        ("options --changed --try depth=4", "depth", "horn"),
        ("options --table", "horn", "Sound"),
    ] {
        let ran = tree.run(words).code(0);
        assert!(ran.out.contains(holds) && !ran.out.contains(&format!("{lacks} ")), "{words}:\n{}", ran.out);
    }
    assert_eq!(tree.run("options --count --level expert").code(0).out, "5\n");
    tree.run("options --find banana").code(1).says(&["No option matches"]);
    tree.run("options --section sond").code(2).complains(&["there is no section `sond`", "did you mean `sound`?"]);
}

#[test]
fn why_tells_the_chain_down_to_its_ground() {
    let tree = Scratch::with(MINI);
    tree.run("why horn").code(0).says(&[
        "horn is off: off unless something requires it",
        "horn requires air (boltboard.toml:29)",
        "air is off",
        "boltboard set horn=on",
    ]);
    tree.run("why radio").code(0).says(&[
        "radio is off: blocked; by default it would be on",
        "radio needs nowhere",
        "the need nowhere (a library that no host has) is missing",
    ]);
    tree.run("set horn=on").code(0);
    tree.run("why air")
        .code(0)
        .says(&["air is on: horn requires it", "horn is on: chosen in the profile mine (mine.toml, line 6)"]);
    tree.run("why hron").code(2).complains(&["did you mean `horn`?"]);
}

#[test]
fn show_tells_all_about_an_option() {
    let tree = Scratch::with(MINI);
    tree.run("show air").code(0).says(&[
        "Have an air tank",
        "`off` or `on`",
        "required by  horn",
        "MINI_AIR",
        "boltboard.toml:31",
    ]);
    tree.run("show depth").code(0).says(&["a whole number from 1 to 9"]);
}

#[test]
fn survey_shows_what_was_tried() {
    let tree = Scratch::with(MINI);
    tree.run("survey").code(0).says(&[
        "nowhere  missing",
        "without it radio is off instead of on",
        "boltboard survey nowhere",
    ]);
    tree.run("survey nowhere").code(0).says(&[
        "the metadata file surely-nowhere.pc",
        "the header <surely/nowhere.h>",
        "not found",
    ]);
    tree.edit("boltboard.toml", "[need.nowhere]\n", "[need.nowhere]\nrequired = true\n");
    tree.run("survey").code(4).says(&["Stops every build (1 need)", "nowhere  missing"]);
    tree.run("build").code(4).complains(&[
        "nothing of this tree can be built while the need `nowhere` is not met",
        "boltboard survey nowhere",
    ]);
}

#[test]
fn a_library_of_the_host_is_found_judged_and_used() {
    let tree = Scratch::with(MINI);
    tree.write(
        "host/surely-nowhere.pc",
        &format!(
            "prefix={}/host\nName: x\nVersion: 2.1\nCflags: -I${{prefix}}/include\nLibs:\n",
            tree.path().display()
        ),
    );
    let with_host = |words: &str| {
        let mut command = tree.command(words);
        command.env("BOLTBOARD_METADATA_PATH", tree.at("host"));
        tree.ran(&mut command)
    };
    with_host("survey").code(0).says(&["nowhere  cannot be used: its header <surely/nowhere.h> was not found"]);
    tree.write("host/include/surely/nowhere.h", "#define NOWHERE 1\n");
    with_host("survey").code(0).says(&["found, version 2.1", "This host has everything"]);
    with_host("options --level expert").code(0).says(&["radio   on          default"]);
    tree.edit(
        "boltboard.toml",
        "header = \"surely/nowhere.h\"\n",
        "header = \"surely/nowhere.h\"\nversion = \">= 3\"\n",
    );
    with_host("survey").code(0).says(&["nowhere  does not fit: version 2.1 is there, wanted >= 3"]);
    tree.write("host/include/surely/nowhere.h", "#error not for you\n");
    tree.edit("boltboard.toml", "version = \">= 3\"\n", "");
    with_host("survey nowhere").code(0).says(&["cannot be used", "not for you"]);
}

#[test]
fn commands_work_from_any_folder_of_the_tree() {
    let tree = Scratch::with(MINI);
    tree.run("set horn=on").code(0);
    let mut inside = tree.command("why air");
    inside.current_dir(tree.at("src"));
    tree.ran(&mut inside).code(0).says(&["horn requires it"]);
    let mut build = tree.command("build");
    build.current_dir(tree.at("tools"));
    tree.ran(&mut build).code(0);
    assert!(tree.at("boltboard-work/builds/mine/out/bin/mini").is_file(), "one work folder for the whole tree");
    assert!(!tree.at("tools/boltboard-work").exists());
}

#[test]
fn another_tree_s_work_folder_is_refused() {
    let tree = Scratch::with(MINI);
    tree.write("w/boltboard-work", "format 1\ntree maxi\n");
    tree.run("options --work w").code(2).complains(&["is the work folder of the tree `maxi`"]);
    tree.write("full/important.txt", "x");
    tree.run("build --work full").code(2).complains(&["holds other files and is not a work folder"]);
    assert_eq!(tree.read("full/important.txt"), "x");
}

/// A tree whose definitions are wrong in ways that build all the same.
const LYING: &str = r#"
format = 1
[tree]
name = "lying"
version = "1"
[header.options]
output = "lying/options.h"
prefix = "LY_"
[need.gps]
summary = "a clock"
library = "libgps"
packages = { debian = "libgps-dev" }
[option.clock]
kind = "switch"
summary = "A clock"
needs = "gps"
[option.colour]
kind = "switch"
summary = "Nothing reads it"
macro = []
[option.quiet]
kind = "switch"
summary = "No noise"
macro = { name = "LY_NOISE", form = "one-when-off" }
[part.p]
kind = "program"
summary = "p"
sources = ["main.c"]
except = ["main_old.c"]
include = ["inc"]
defines = ["LY_DEPTH=3", "LY_DEPHT=3"]
install = "/usr/bin"
"#;

#[test]
fn definitions_that_lie_are_told_of() {
    let tree = Scratch::with(&[
        ("boltboard.toml", LYING),
        (
            "main.c",
            "#include <lying/options.h>\n#include \"table.c\"\n#ifdef LY_NOISE\n#endif\n#ifdef LY_GONE\n#endif\nint main(void) { return LY_DEPTH - 3; }\n",
        ),
        ("table.c", "static int table;\n"),
        ("attic/a.c", "int a;\n"),
    ]);
    tree.run("lint").code(1).says(&[
        "error: part p is installed, and the tree has no option `prefix` of kind path (no-prefix)",
        "warning: options ask for need gps, and no part is linked with it (need-unlinked)",
        "warning: colour reaches no source, and nothing else uses it (option-unused)",
        "warning: part p defines LY_DEPHT, and none of its sources names it (define-unread)",
        "warning: except `main_old.c` of part p matches nothing (pattern-empty)",
        "warning: include `inc` of part p matches nothing (pattern-empty)",
        "warning: LY_GONE is tested and nothing defines it (macro-unknown)",
        "warning: attic/a.c belongs to no part (loose-source)",
    ]);
    let said = tree.run("lint").out;
    assert!(!said.contains("table.c"), "what others include is not loose:\n{said}");
    // The macro for the opposite is there while the option is off.
    tree.run("build").code(0);
    assert!(tree.read("boltboard-work/builds/mine/made/lying/options.h").contains("#define LY_NOISE 1"));
    tree.run("set quiet=on").code(0);
    tree.run("build").code(0);
    assert!(!tree.read("boltboard-work/builds/mine/made/lying/options.h").contains("#define LY_NOISE"));
}

#[test]
fn many_findings_of_a_kind_are_told_as_one_and_can_be_accepted_as_one() {
    let tree = Scratch::with(&[
        (
            "boltboard.toml",
            "format = 1\n[tree]\nname = \"many\"\nversion = \"1\"\n[part.p]\nkind = \"objects\"\nsources = [\"m.c\"]\n",
        ),
        ("m.c", "int m;\n"),
    ]);
    (0..40).for_each(|at| tree.write(&format!("attic/old/o{at}.c"), "int o;\n"));
    tree.write("loft/l.c", "int l;\n");
    let told = tree.run("lint").code(1).says(&[
        "warning: 41 sources belong to no part (loose-source)",
        "attic/old/     40  o0.c, o1.c, o10.c, …",
        "files = [\"attic/old/**\", \"loft/**\"]",
    ]);
    assert!(told.out.lines().count() < 20, "{}", told.out);
    assert_eq!(tree.run("lint --each").code(1).out.matches("(loose-source)").count(), 41);
    let accepted = told
        .out
        .lines()
        .skip_while(|line| line.trim() != "[[accept]]")
        .take(4)
        .map(|line| format!("{}\n", line.trim()));
    let more: String = accepted.collect();
    let definitions = tree.read("boltboard.toml");
    tree.write("boltboard.toml", &format!("{definitions}{more}"));
    tree.run("lint").code(0).says(&["No findings; 41 accepted."]);
}
