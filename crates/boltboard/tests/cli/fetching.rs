//! What the tree uses and does not carry: it is told before a build, got, checked, kept once, and built like all else.

use std::process::{Command, Stdio};
use std::time::Duration;

use crate::harness::web::{Web, Wrong};
use crate::harness::{Scratch, usual_path};

const BOARD: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[header.options]
output = "options.h"
prefix = "T_"
[option.tides]
kind = "switch"
summary = "tides"
[option.loud]
kind = "switch"
summary = "loud"
[fetch.squash]
summary = "the compression library"
from = ["ADDRESS/squash-1.2.tar.gz"]
size = SIZE
sha256 = "DIGEST"
folder = "squash-1.2"
into = "third/squash"
[fetch.tides]
summary = "tides of the north coast"
when = "tides"
from = ["ADDRESS/tides.dat"]
size = 6
sha256 = "1def07dbe06eeb097aafec8a40329937cd20c93a83634b8221ea2b41a894310c"
into = "data/tides.dat"
[part.squash]
kind = "static-library"
sources = ["third/squash/*.c"]
public-include = ["third/squash"]
[part.p]
kind = "program"
sources = ["a.c"]
uses = ["squash"]
[part.tides]
kind = "data"
when = "tides"
sources = ["data/*.dat"]
output = "data"
"#;

fn done(command: &mut Command) -> String {
    let output = command.output().expect("it runs");
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).expect("text")
}

const ARCHIVE: &str = "squash-1.2.tar.gz";

/// Makes the archive and lays it there, with the tides; returns its size and digest.
fn archive(web: &Web, body: &str) -> (usize, String) {
    let folder = tempfile::tempdir().expect("a folder");
    let library = folder.path().join("squash-1.2");
    std::fs::create_dir_all(&library).expect("a folder");
    std::fs::write(library.join("squash.c"), body).expect("written");
    std::fs::write(library.join("squash.h"), "int squash(int);\n").expect("written");
    done(Command::new("tar").current_dir(&folder).args(["czf", ARCHIVE, "squash-1.2"]));
    let file = folder.path().join(ARCHIVE);
    let digest = done(Command::new("sha256sum").arg(&file));
    let content = std::fs::read(file).expect("there");
    let size = content.len();
    web.lay(ARCHIVE, content);
    web.lay("tides.dat", b"1 2 3\n".to_vec());
    (size, digest.split(' ').next().expect("a digest").to_string())
}

const BODY: &str = "#include \"options.h\"\n#include \"squash.h\"\n#ifdef T_LOUD\nint squash(int x) { return x * 3; }\n#else\nint squash(int x) { return x * 3; }\nint quiet;\n#endif\n";

fn tree(address: &str, size: usize, digest: &str) -> Scratch {
    let board = BOARD.replace("ADDRESS", address).replace("SIZE", &size.to_string()).replace("DIGEST", digest);
    Scratch::with(&[
        ("boltboard.toml", &board),
        ("a.c", "#include \"squash.h\"\nint main(void) { return squash(2) != 6; }\n"),
    ])
}

#[test]
fn what_is_not_there_is_told_before_a_build_and_built_like_all_else_once_it_is() {
    let server = Web::new();
    let (size, digest) = archive(&server, BODY);
    let tree = tree(&server.address, size, &digest);
    // All that only looks goes on.
    tree.run("overview").code(0).says(&["to fetch", "1 file"]);
    tree.run("lint").code(0);
    tree.run("set loud=off").code(0);
    for command in ["preview", "build", "test"] {
        tree.run(command).code(4).complains(&["must be fetched first: squash", "→ boltboard fetch "]);
    }
    assert_eq!(server.counts().0, 0, "nobody is asked unless told so");
    tree.run("fetch --preview").code(0).says(&["squash", "to get", "not wanted: tides is off", "get 1 file"]);
    let told = tree.run("fetch --json").code(0).json();
    assert_eq!(told["files"][0]["state"], "fetched");
    assert_eq!(told["files"][0]["fetched-from"], format!("{}/squash-1.2.tar.gz", server.address));
    assert_eq!((&told["files"][1]["state"], &told["files"][1]["wanted"]), (&"absent".into(), &false.into()));
    tree.run("fetch").code(0).says(&["1 of 1 file was there already"]);
    assert_eq!(server.counts().0, 1);
    tree.run("build").code(0).steps(4);
    tree.run("build").code(0).says(&["Nothing to do"]);
    assert!(!tree.at("third").exists(), "the sources stay as they are");
    // Options are seen in what was fetched, and by nothing else.
    tree.run("set loud=on").code(0);
    assert_eq!(tree.previewed("run")[..2], ["write made/options.h", "compile third/squash/squash.c"]);
    tree.run("build").code(0);
    tree.equals_clean();
    // What is wanted from now on is told from now on.
    tree.run("set tides=on").code(0);
    tree.run("build").code(4).complains(&["must be fetched first: tides"]);
    tree.run("fetch tides").code(0).says(&["Fetched: tides"]);
    tree.run("build").code(0);
    assert_eq!(tree.read("boltboard-work/builds/mine/out/data/tides.dat"), "1 2 3\n");
    tree.run("lint").code(0).says(&["No findings"]);
}

#[test]
fn another_version_is_got_and_builds_what_it_changes() {
    let server = Web::new();
    let (size, digest) = archive(&server, BODY);
    let tree = tree(&server.address, size, &digest);
    tree.run("fetch").code(0);
    tree.run("build").code(0);
    let (later_size, later) = archive(&server, &BODY.replace("x * 3", "x + 4"));
    let board = tree.read("boltboard.toml");
    tree.write(
        "boltboard.toml",
        &board.replace(&digest, &later).replace(&format!("size = {size}"), &format!("size = {later_size}")),
    );
    tree.run("build").code(4).complains(&["must be fetched first"]);
    tree.run("fetch").code(0);
    tree.run("build").code(0).steps(3);
    tree.equals_clean();
    // Both are kept: going back asks nobody.
    let asked = server.counts().0;
    tree.write("boltboard.toml", &board);
    tree.run("build").code(0).steps(0);
    assert_eq!(server.counts().0, asked);
}

#[test]
fn what_the_tree_carries_is_taken_and_a_patch_fits_what_was_fetched() {
    let server = Web::new();
    let (size, digest) = archive(&server, BODY);
    let tree = tree(&server.address, size, &digest);
    tree.run("fetch").code(0);
    tree.write(
        "fix.patch",
        "--- a/third/squash/squash.h\n+++ b/third/squash/squash.h\n@@ -1 +1,2 @@\n int squash(int);\n+int more(void);\n",
    );
    tree.run("patch add fix.patch").code(0);
    tree.run("build").code(0);
    let mirrored = tree.read("boltboard-work/builds/mine/tree/third/squash/squash.h");
    assert_eq!(mirrored, "int squash(int);\nint more(void);\n");
    tree.run("patch remove fix.patch").code(0);
    tree.run("build").code(0);
    tree.write("third/squash/squash.h", "int squash(int);\n");
    tree.write("third/squash/squash.c", "int squash(int x) { return 6 + 0 * x; }\n");
    tree.run("fetch --preview").code(0).says(&["in the tree"]);
    tree.run("build").code(0);
    tree.equals_clean();
    assert!(!tree.at("boltboard-work/builds/mine/tree").exists(), "what stood for it is gone");
}

#[test]
fn a_machine_without_a_network_takes_what_was_carried_to_it() {
    let server = Web::new();
    let (size, digest) = archive(&server, BODY);
    let here = tree(&server.address, size, &digest);
    here.run("fetch --all --copy-to carried").code(0);
    let there = tree("http://127.0.0.1:9", size, &digest);
    let ran = there.run("fetch").code(4);
    ran.complains(&[
        "`squash` could not be fetched",
        "http://127.0.0.1:9/squash-1.2.tar.gz: ",
        "name that folder with --from",
    ]);
    let carried = here.at("carried").display().to_string();
    there.run(&format!("fetch --offline --from {carried}")).code(0).says(&["Fetched: squash"]);
    there.run("build").code(0);
    let mirror = Web::new();
    mirror.lay("tides.dat", here.read("carried/tides.dat").into_bytes());
    there.run(&format!("fetch tides --mirror {}/", mirror.address)).code(0).says(&[&mirror.address]);
    there.run("fetch squas").code(2).complains(&["did you mean `squash`?"]);
}

#[test]
fn what_is_wrong_is_told_with_each_address_and_leaves_nothing() {
    let server = Web::new();
    let (size, digest) = archive(&server, BODY);
    let tree = tree(&server.address, size, &digest.replace('a', "b").replace('1', "2"));
    let ran = tree.run("fetch").code(4);
    ran.complains(&["its content is another one: its SHA-256 digest is", &digest]);
    let answer = tree.run("fetch --json").code(4).json();
    assert_eq!(answer["errors"][0]["kind"], "host");
    server.drop(ARCHIVE);
    tree.run("fetch").code(4).complains(&["the server answers 404"]);
    tree.run("build").code(4);
}

#[test]
fn a_killed_fetch_is_gone_on_with() {
    let server = Web::new();
    server.be(Wrong::Waits(Duration::from_secs(20)));
    let (size, digest) = archive(&server, BODY);
    let tree = tree(&server.address, size, &digest);
    let mut running = Command::new(env!("CARGO_BIN_EXE_boltboard"))
        .arg("fetch")
        .current_dir(tree.path())
        .env_clear()
        .env("PATH", usual_path())
        .stderr(Stdio::null())
        .stdout(Stdio::null())
        .spawn()
        .expect("it starts");
    let begun = tree.at(&format!("boltboard-work/fetched/{digest}.begun"));
    while std::fs::metadata(&begun).map_or(0, |file| file.len()) == 0 {
        assert!(running.try_wait().expect("known").is_none(), "it has ended");
        std::thread::sleep(Duration::from_millis(5));
    }
    running.kill().expect("killed");
    running.wait().expect("gone");
    tree.run("fetch --preview").code(0).says(&["are there"]);
    let other = Web::new();
    other.lay(ARCHIVE, server.files()[ARCHIVE].clone());
    tree.run(&format!("fetch --mirror {}", other.address)).code(0).says(&["Fetched: squash", &other.address]);
    tree.run("build").code(0);
    assert_eq!(server.counts().0, 1);
}
