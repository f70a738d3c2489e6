//! Changes to the sources that a profile carries: applied to copies, wholly or not at all.

use std::process::Command;

use crate::harness::{MINI, Scratch};

const BOARD: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[part.prog]
kind = "program"
sources = ["src/*.c"]
include = ["inc"]
[part.other]
kind = "program"
sources = ["other.c"]
"#;

const FIX: &str = "--- a/src/low.c\n+++ b/src/low.c\n@@ -1,4 +1,4 @@\n #include \"low.h\"\n int low(void)\n {\n-    return LOW;\n+    return LOW + 10;\n";

fn tree() -> Scratch {
    let tree = Scratch::with(&[
        ("boltboard.toml", BOARD),
        ("src/main.c", "#include \"low.h\"\nint low(void);\nint main(void) { return low(); }\n"),
        ("src/low.c", "#include \"low.h\"\nint low(void)\n{\n    return LOW;\n}\n"),
        ("src/low.h", "#define LOW 3\n"),
        ("other.c", "int main(void) { return 0; }\n"),
        ("fix.patch", FIX),
        ("other-low.h", "#define LOW 5\n"),
    ]);
    tree.run("build").code(0);
    tree
}

fn code(tree: &Scratch) -> Option<i32> {
    Command::new(tree.at("boltboard-work/builds/mine/out/bin/prog")).status().expect("it runs").code()
}

fn add(tree: &Scratch, patch: &str) -> crate::harness::Ran {
    tree.run(&format!("patch add {}", tree.at(patch).display()))
}

#[test]
fn a_patch_changes_what_is_built_and_never_the_sources() {
    let tree = tree();
    let before = std::fs::read_to_string(tree.at("src/low.c")).expect("a source");
    add(&tree, "fix.patch").code(0).says(&["carries fix.patch (1 file)", "The sources stay as they are"]);
    assert_eq!(tree.previewed("run"), ["compile src/low.c"]);
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(13));
    assert_eq!(std::fs::read_to_string(tree.at("src/low.c")).expect("a source"), before);
    tree.run("build").code(0).steps(0);
    tree.run("preview --why src/low.c").code(0).says(&["src/low.c is read as fix.patch changes it.", "compile"]);
    let other = tree.run("preview --why other.c").code(0);
    assert!(!other.out.contains("fix.patch"), "{}", other.out);
    for (command, said) in [
        ("overview", "1 change to the sources: fix.patch"),
        ("patch list", "src/low.c"),
        ("profile show", "patch:fix.patch"),
    ] {
        tree.run(command).code(0).says(&[said]);
    }
    // An edit of the source goes through the patch; a header beside it counts.
    tree.edit("src/low.h", "3", "4");
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(14));
    tree.write("src/more.c", "int more;\n");
    assert!(tree.previewed("run").contains(&"compile src/more.c".to_string()));
    tree.run("build --verify").code(0);
    tree.run("patch remove fix.patch").code(0);
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(4));
    tree.run("patch list").code(0).says(&["carries no change"]);
}

#[test]
fn whole_files_are_replaced_and_what_reads_them_follows() {
    let tree = tree();
    tree.run(&format!("patch replace src/low.h {} --reason deeper", tree.at("other-low.h").display())).code(0);
    assert_eq!(tree.previewed("run"), ["compile src/low.c", "compile src/main.c"]);
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(5));
    let main = tree.run("preview --why src/main.c").code(0);
    main.says(&["src/low.h is read as the profile replaces it."]);
    add(&tree, "fix.patch").code(0);
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(15));
    tree.run("patch list").code(0).says(&["src/low.h", "deeper", "fix.patch"]);
    tree.run("profile new plain").code(0);
    tree.run("compare plain mine").code(1).says(&["Only mine carries changes to the sources: ", "fix.patch"]);
    let list = tree.run("patch list --json --profile mine").json();
    assert_eq!(list["changes"][0]["replaces"], true);
}

#[test]
fn what_does_not_fit_is_told_with_its_hunk_and_nothing_is_half_done() {
    let tree = tree();
    tree.write("bad.patch", &FIX.replace("-    return LOW;", "-    return DEEP;"));
    add(&tree, "bad.patch").code(3).complains(&["bad.patch does not fit: hunk 1 of src/low.c", "return DEEP;"]);
    tree.run("patch list").code(0).says(&["carries no change"]);
    assert!(!tree.at("boltboard-work/profiles/mine.changes/bad.patch").exists());
    tree.write("no.patch", "nothing\n");
    add(&tree, "no.patch").code(2).complains(&["no.patch:1: this is no patch in the unified format"]);
    add(&tree, "fix.patch").code(0);
    tree.run("build").code(0);
    // The sources move on, and the patch does not fit any more.
    tree.edit("src/low.c", "return LOW;", "return 2 * LOW;");
    tree.run("build").code(3).complains(&["fix.patch does not fit", "boltboard patch list"]);
    assert_eq!(code(&tree), Some(13), "what was built stands");
    tree.run("patch remove fix.patch").code(0);
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(6));
    tree.run("patch remove fix.patch").code(2).complains(&["carries no change `fix.patch`"]);
}

#[test]
fn the_record_of_an_installation_names_them() {
    let tree = tree();
    let prefix = format!("[option.prefix]\nkind = \"path\"\ndefault = \"{}\"\n", tree.at("to").display());
    let other = "[part.other]\nkind = \"program\"\n";
    tree.edit("boltboard.toml", other, &format!("{prefix}{other}install = \"${{prefix}}/bin\"\n"));
    tree.run("install").code(0);
    assert_eq!(tree.run("uninstall --preview --json").json()["patches"].as_array().map(Vec::len), Some(0));
    add(&tree, "fix.patch").code(0);
    tree.run("install").code(0);
    assert_eq!(tree.run("uninstall --preview --json").json()["patches"][0], "fix.patch");
}

#[test]
fn the_first_build_of_a_checkout_can_carry_changes() {
    let tree = Scratch::with(MINI);
    let text = "format = 1\ntree = \"mini\"\npatches = [\"fix.patch\"]\n[choose]\ndepth = 4\n";
    tree.write("mine/station.toml", text);
    let line = tree.read("src/main.c").lines().next().expect("a line").to_string();
    let patch = format!("--- a/src/main.c\n+++ b/src/main.c\n@@ -1 +1,2 @@\n {line}\n+/* ours */\n");
    tree.write("mine/station.changes/fix.patch", &patch);
    tree.run("build --profile mine/station.toml").code(0);
    tree.run("build --profile mine/station.toml").code(0).says(&["Nothing to do"]);
}

#[test]
fn a_patch_brings_folders_of_its_own() {
    let tree = tree();
    let patch = "--- a/src/low.c\n+++ b/src/low.c\n@@ -1 +1,2 @@\n+#include \"deep/er/more.h\"\n #include \"low.h\"\n\
                 --- /dev/null\n+++ b/src/deep/er/more.h\n@@ -0,0 +1 @@\n+#define MORE 1\n";
    tree.write("new.patch", patch);
    tree.run("patch add new.patch").code(0);
    tree.run("build --verify").code(0);
    assert!(!tree.at("src/deep").exists(), "the sources stay as they are");
    tree.run("patch remove new.patch").code(0);
    tree.run("build --verify").code(0);
    assert!(!tree.at("boltboard-work/builds/mine/tree").exists());
}
