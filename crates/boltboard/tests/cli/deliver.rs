//! Installing: preview, what is kept, what is removed, staging.

use crate::harness::{MINI, Scratch};

fn installed() -> Scratch {
    let tree = Scratch::with(MINI);
    tree.write("mini.conf", "depth = 3\n");
    tree.edit("boltboard.toml", "[part.mini]", "[part.conf]\nkind = \"data\"\nsources = [\"mini.conf\"]\ninstall = \"${prefix}/etc\"\nrole = \"config\"\n\n[part.mini]");
    tree.run(&format!("set prefix={}/to", tree.path().display())).code(0);
    tree.run("install").code(0).says(&["Installed: 2 files written"]);
    tree
}

#[test]
fn what_is_installed_can_be_previewed_run_and_removed() {
    let tree = Scratch::with(MINI);
    tree.run(&format!("set prefix={}/to", tree.path().display())).code(0);
    tree.run("install --preview").code(0).says(&["mini  755  new  TREE/to/bin/mini"]);
    assert!(!tree.at("to").exists(), "a preview installs nothing");
    tree.run("install").code(0);
    let program = std::process::Command::new(tree.at("to/bin/mini")).output().expect("it runs");
    assert_eq!(String::from_utf8_lossy(&program.stdout), "depth 3, wind north-wester\n");
    tree.run("install").code(0).says(&["0 files written, 1 unchanged"]);
    tree.run("uninstall").code(0).says(&["Removed: 1 file"]);
    assert!(!tree.at("to").exists(), "the folders that were made are gone too");
    tree.run("uninstall").code(1).complains(&["mini is not installed below TREE/to"]);
}

#[test]
fn an_edited_configuration_file_is_kept() {
    let tree = installed();
    tree.write("to/etc/mini.conf", "depth = 9 # mine\n");
    tree.write("mini.conf", "depth = 4\n");
    tree.run("install").code(0).says(&["yours is kept; the other is TREE/to/etc/mini.conf.from-1.0"]);
    assert_eq!(tree.read("to/etc/mini.conf"), "depth = 9 # mine\n");
    assert_eq!(tree.read("to/etc/mini.conf.from-1.0"), "depth = 4\n");
    tree.run("uninstall").code(0).says(&["TREE/to/etc/mini.conf was changed since it was installed"]);
    assert!(tree.at("to/etc/mini.conf").exists() && !tree.at("to/bin").exists());
}

#[test]
fn an_untouched_configuration_file_is_brought_up_to_date() {
    let tree = installed();
    tree.write("mini.conf", "depth = 4\n");
    tree.run("install").code(0).says(&["1 file written"]);
    assert_eq!(tree.read("to/etc/mini.conf"), "depth = 4\n");
}

#[test]
fn files_of_others_are_never_touched() {
    let tree = Scratch::with(MINI);
    tree.write("to/bin/mini", "someone else's\n");
    tree.write("to/bin/other", "x");
    tree.run(&format!("set prefix={}/to", tree.path().display())).code(0);
    tree.run("install --preview").code(0).says(&["in the way: TREE/to/bin/mini is not installed by this tree"]);
    tree.run("install").code(1).complains(&[
        "files that are not this tree's are in the way: TREE/to/bin/mini is not installed by this tree",
        "Nothing was installed.",
    ]);
    assert_eq!(tree.read("to/bin/mini"), "someone else's\n");
    std::fs::remove_file(tree.at("to/bin/mini")).expect("removed");
    tree.run("install").code(0);
    tree.run("uninstall").code(0);
    assert_eq!(tree.read("to/bin/other"), "x", "a stranger keeps its folder");
}

#[test]
fn what_is_no_longer_made_is_removed_by_the_next_installation() {
    let tree = installed();
    tree.edit("boltboard.toml", "[part.conf]\n", "[part.conf]\nwhen = \"horn\"\n");
    tree.run("install").code(0).says(&["1 removed"]);
    assert!(!tree.at("to/etc/mini.conf").exists() && tree.at("to/bin/mini").exists());
}

#[test]
fn staging_is_for_packagers() {
    let tree = Scratch::with(MINI);
    tree.run("install --staging stage").code(0);
    assert!(tree.at("stage/usr/local/bin/mini").is_file());
    assert!(!tree.at("stage/usr/local/share").exists(), "no record of ours in the package");
}

#[test]
fn a_prefix_must_be_absolute() {
    let tree = Scratch::with(MINI);
    tree.run("set prefix=here").code(2).complains(&[
        "prefix must be an absolute path, and `here` is none",
        "Nothing was changed.",
        "→ boltboard set prefix=TREE/here ",
    ]);
    tree.run("set prefix=").code(2).complains(&["prefix must be an absolute path, and an empty text is none"]);
    tree.run("install --try prefix=here").code(2).complains(&["`here/bin`, which is not an absolute path"]);
}

/// Runs the program as someone who may not write everywhere.
fn as_nobody(tree: &Scratch, words: &str) -> crate::harness::Ran {
    let program = env!("CARGO_BIN_EXE_boltboard");
    let is_root = std::fs::metadata("/proc/self").is_ok_and(|status| std::os::unix::fs::MetadataExt::uid(&status) == 0);
    let mut command = std::process::Command::new(if is_root { "setpriv" } else { program });
    if is_root {
        command.args(["--reuid=65534", "--regid=65534", "--clear-groups", program]);
    }
    let path = std::env::var("PATH").unwrap_or_default();
    command.args(words.split(' ')).current_dir(tree.path()).env_clear().env("PATH", path).env("HOME", "/home/someone");
    tree.ran(command.env("COLUMNS", "200"))
}

#[test]
fn what_may_not_be_written_is_told_before_anything_is_built() {
    let tree = Scratch::with(MINI);
    tree.set_mode("", 0o777);
    std::fs::create_dir(tree.at("locked")).expect("a folder");
    tree.set_mode("locked", 0o555);
    let prefix = format!("prefix={}/locked/here", tree.path().display());
    let told = as_nobody(&tree, &format!("install --try {prefix}"));
    if told.err.contains("Permission denied") && !told.err.contains("you may not write") {
        // The program itself, or the folder of temporary files, is not open to others here.
        return;
    }
    told.code(5).complains(&[
        "you may not write to TREE/locked",
        "Nothing was built or installed.",
        "→ boltboard set prefix=/home/someone/.local ",
        "boltboard build && sudo env PATH",
        "→ boltboard install --staging ",
    ]);
    assert!(
        !tree.at("boltboard-work/tried").exists() && !tree.at("boltboard-work/builds").exists(),
        "nothing was built"
    );
    tree.set_mode("locked", 0o755);
}

#[test]
fn what_replaced_our_file_or_is_no_file_is_named_and_left() {
    let tree = installed();
    tree.write("to/bin/mini", "someone's own build\n");
    tree.edit("src/main.c", "depth %d", "depth is %d");
    tree.run("install").code(1).complains(&["TREE/to/bin/mini is not as this tree installed it"]);
    assert_eq!(tree.read("to/bin/mini"), "someone's own build\n");
    std::fs::remove_file(tree.at("to/bin/mini")).expect("removed");
    for (make, what) in [("mkdir", "a folder"), ("mkfifo", "a FIFO")] {
        let place = tree.at("to/bin/mini");
        assert!(std::process::Command::new(make).arg(&place).status().expect("it runs").success());
        tree.run("install --preview").code(0).says(&[&format!("TREE/to/bin/mini is {what}")]);
        tree.run("install").code(1).complains(&[&format!("TREE/to/bin/mini is {what}"), "Nothing was installed."]);
        tree.run("uninstall --preview").code(0);
        let removed = if what == "a folder" { std::fs::remove_dir(&place) } else { std::fs::remove_file(&place) };
        removed.expect("it is still there");
    }
    tree.run("install").code(0);
}

#[test]
fn a_record_that_was_not_written_from_here_removes_only_what_this_tree_installs() {
    let tree = installed();
    tree.write("to/bin/victim", "dear\n");
    let record = tree.at("to/share/boltboard/mini.json");
    let text = std::fs::read_to_string(&record).expect("there");
    let mini = text.find("{\n      \"path\"").expect("a file");
    let end = text[mini..].find('}').expect("its end") + mini + 1;
    let digest = blake3_of("dear\n");
    let victim = format!(
        "{{\"path\": \"{}\", \"digest\": \"{digest}\", \"link\": null, \"config\": false}},\n    ",
        tree.at("to/bin/victim").display()
    );
    std::fs::write(&record, format!("{}{victim}{}{}", &text[..mini], &text[mini..end], &text[end..])).expect("written");
    tree.run("install").code(0);
    assert!(tree.at("to/bin/victim").exists(), "an installation takes nothing away that the record only claims");
    let forged = std::fs::read_to_string(&record).expect("there");
    assert!(forged.contains("victim"), "it is still claimed:\n{forged}");
    std::fs::remove_file(tree.at("boltboard-work/installed")).expect("known no more");
    tree.run("uninstall").code(0).says(&["Removed: 2 files", "left: TREE/to/bin/victim stands in the record"]);
    assert_eq!(tree.read("to/bin/victim"), "dear\n");
}

/// The digest of a text, as records spell it: that of the same text installed by us.
fn blake3_of(text: &str) -> String {
    let tree = installed();
    tree.write("to/etc/mini.conf", text);
    tree.write("mini.conf", text);
    tree.run("uninstall").code(0);
    std::fs::remove_file(tree.at("to/etc/mini.conf")).expect("removed");
    tree.run("install").code(0);
    let record: serde_json::Value = serde_json::from_str(&tree.read("to/share/boltboard/mini.json")).expect("a record");
    let files = record["files"].as_array().expect("a list");
    let conf = files.iter().find(|file| file["config"] == true).expect("the configuration");
    conf["digest"].as_str().expect("a digest").to_string()
}

#[test]
fn a_damaged_record_has_a_way_back() {
    let tree = installed();
    tree.write("to/share/boltboard/mini.json", "{");
    tree.run("install").code(0).says(&["0 files written, 2 unchanged"]);
    tree.write("to/share/boltboard/mini.json", "{");
    tree.write("to/share/boltboard/mini.copy.json", "{");
    tree.run("uninstall")
        .code(1)
        .complains(&["the record of what is installed is damaged", "mv TREE/to/share/boltboard/mini.json"]);
    assert!(tree.at("to/bin/mini").exists());
}

#[test]
fn a_staging_folder_is_never_left() {
    let tree = Scratch::with(MINI);
    tree.run("set prefix=/usr").code(0);
    std::fs::create_dir_all(tree.at("stage")).expect("made");
    std::fs::create_dir_all(tree.at("outside")).expect("made");
    std::os::unix::fs::symlink(tree.at("outside"), tree.at("stage/usr")).expect("linked");
    tree.run("install --staging stage").code(1).complains(&["which is outside of the staging folder"]);
    assert_eq!(std::fs::read_dir(tree.at("outside")).expect("there").count(), 0);
    tree.run("set prefix=/usr/../etc").code(0);
    tree.run("install --staging clean").code(3).complains(&["a place to install to has no `..` in it"]);
    assert!(!tree.at("clean").exists());
}

#[test]
fn empty_folders_are_made_with_their_mode_and_told_where_they_cannot_be_given_away() {
    let tree = Scratch::with(&[("seed", "s\n")]);
    let prefix = tree.at("to").display().to_string();
    let owner = |owner: &str| {
        let board = format!(
            "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[option.prefix]\nkind = \"path\"\ndefault = \"{prefix}\"\n[option.user]\nkind = \"text\"\ndefault = \"{owner}\"\n[part.state]\nkind = \"data\"\nsources = [\"seed\"]\ninstall = \"${{prefix}}/var\"\nempty-folders = [\"out\", {{ folder = \"spool/in\", mode = \"750\", owner = \"${{user}}\" }}]\n"
        );
        tree.write("boltboard.toml", &board);
    };
    owner("-R keeper");
    tree.run("install").code(3).complains(&["would belong to `-R keeper`", "USER:GROUP"]);
    owner("no-such-keeper");
    tree.run("install --preview").code(0).says(&["new, of no-such-keeper", "750", "/to/var/spool/in/"]);
    let answer = tree.run("install --preview --json").code(0).json();
    let spool = serde_json::json!({
        "path": "TREE/to/var/spool/in", "part": "state", "mode": "750", "owner": "no-such-keeper", "step": "new",
    });
    assert_eq!(answer["folders"][1], spool);
    let said = "sudo chown no-such-keeper TREE/to/var/spool/in";
    tree.run("install").code(0).says(&["2 empty folders made", "is to belong to no-such-keeper", said]);
    let mode = |path: &str| {
        use std::os::unix::fs::PermissionsExt;
        std::fs::metadata(tree.at(path)).expect("made").permissions().mode() & 0o7777
    };
    assert_eq!((mode("to/var/spool/in"), mode("to/var/out")), (0o750, 0o755));
    // What a person made of it since stays, and what is in it keeps it.
    tree.set_mode("to/var/out", 0o700);
    tree.write("to/var/out/letter", "x");
    let again = tree.run("install").code(0);
    assert!(!again.out.contains("empty folder"), "{}", again.out);
    assert_eq!(mode("to/var/out"), 0o700);
    tree.run("uninstall").code(0);
    assert!(tree.at("to/var/out/letter").exists() && !tree.at("to/var/spool").exists());
    // Something else in its place is not touched.
    tree.write("to/var/spool", "not ours");
    tree.run("install").code(1).complains(&["are in the way", "to/var/spool"]);
    assert_eq!(tree.read("to/var/spool"), "not ours");
}

#[test]
fn data_keeps_the_folders_that_it_lies_in_where_that_is_said() {
    let board = "format = 1\n[tree]\nname = \"charts\"\nversion = \"1\"\n[option.prefix]\nkind = \"path\"\nsummary = \"Where it goes\"\ndefault = \"PREFIX\"\n[part.charts]\nkind = \"data\"\nsummary = \"Charts\"\nsources = [\"data/**/*.dat\"]\noutput = \"charts\"\ninstall = \"${prefix}/share/charts\"\n";
    let tree = Scratch::new();
    let prefix = tree.at("prefix").display().to_string();
    let board = board.replace("PREFIX", &prefix);
    let below = board.replace("output =", "below = \"data\"\noutput =");
    tree.write("boltboard.toml", &board);
    for folder in 0..60 {
        tree.write(&format!("data/d{folder}/tide.dat"), &format!("{folder}\n"));
    }
    // One mistake that shows itself in many places is told once.
    let told = tree.run("build").code(3);
    let told = told.complains(&[
        "59 of the files of part `charts` would take the place of others: data/d0/tide.dat and data/d1/tide.dat would both be out/charts/tide.dat",
        "→ keep the folders that they lie in: below = \"FOLDER\"",
    ]);
    assert_eq!(told.err.matches("error:").count(), 1, "{}", told.err);
    tree.write("boltboard.toml", &below.replace("\"data\"\noutput", "\"data/d1\"\noutput"));
    tree.run("build").code(3).complains(&["keeps the folders below data/d1, and data/d0/tide.dat does not lie there"]);
    tree.write("boltboard.toml", &below.replace("kind = \"data\"", "kind = \"program\""));
    tree.run("options").code(3).complains(&["a part of kind program keeps no folders"]);
    tree.write("boltboard.toml", &below);
    tree.run("build").code(0).says(&["Built 1 part"]);
    assert_eq!(tree.read("boltboard-work/builds/mine/out/charts/d7/tide.dat"), "7\n");
    let preview = tree.run("install --preview").code(0);
    preview
        .says(&["60 files below TREE/prefix/share/charts/", "→ boltboard install --preview --json   each single file"]);
    assert_eq!(tree.run("install --preview --json").code(0).json()["files"].as_array().expect("a list").len(), 60);
    tree.run("install").code(0);
    assert_eq!(tree.read("prefix/share/charts/d7/tide.dat"), "7\n");
    // A folder that comes and one that goes.
    std::fs::remove_dir_all(tree.at("data/d7")).expect("removed");
    tree.write("data/deep/er/tide.dat", "deep\n");
    tree.run("install").code(0);
    assert_eq!(tree.read("prefix/share/charts/deep/er/tide.dat"), "deep\n");
    assert!(!tree.at("prefix/share/charts/d7").exists());
    tree.run("back 1").code(0);
    assert_eq!(tree.read("prefix/share/charts/d7/tide.dat"), "7\n");
    assert!(!tree.at("prefix/share/charts/deep").exists());
    tree.run("uninstall").code(0);
    assert!(!tree.at("prefix/share/charts").exists());
    // One file moves from a folder to another: only that is copied.
    std::fs::rename(tree.at("data/d8/tide.dat"), tree.at("data/d9/ebb.dat")).expect("moved");
    tree.run("build --verify").code(0);
}
