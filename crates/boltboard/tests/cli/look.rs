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
