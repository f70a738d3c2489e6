//! What runs now is not taken away by an installation.

use std::process::{Command, Stdio};

use crate::harness::Scratch;

#[test]
fn what_runs_now_is_not_taken_away_by_what_comes() {
    let tree = Scratch::with(&[
        (
            "boltboard.toml",
            "format = 1\n[tree]\nname = \"watch\"\nversion = \"1\"\n[option.prefix]\nkind = \"path\"\ndefault = \"/opt/watch\"\n\
             [part.watchd]\nkind = \"program\"\nsources = [\"main.c\"]\ninstall = \"${prefix}/bin\"\ninstall-as = \"watchd-1\"\n\
             [part.note]\nkind = \"data\"\nsources = [\"note-1.txt\"]\noutput = \"share\"\ninstall = \"${prefix}/share\"\n",
        ),
        ("main.c", "#include <stdio.h>\nint main(void) { puts(\"up\"); fflush(stdout); return getchar() == EOF; }\n"),
        ("note-1.txt", "one\n"),
    ]);
    tree.run(&format!("set prefix={}", tree.at("to").display())).code(0);
    tree.run("build").code(0);
    tree.run("install").code(0);
    let (old, new) = (tree.at("to/bin/watchd-1"), tree.at("to/bin/watchd-2"));
    let mut daemon = Command::new(&old).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("it runs");
    let mut up = [0; 3];
    std::io::Read::read_exact(daemon.stdout.as_mut().expect("its output"), &mut up).expect("it is up");
    tree.edit("boltboard.toml", "install-as = \"watchd-1\"", "install-as = \"watchd-2\"");
    tree.edit("boltboard.toml", "note-1.txt", "note-2.txt");
    tree.write("note-2.txt", "two\n");
    let process = format!("process {} uses it", daemon.id());
    tree.run("install --preview").code(0).says(&["stays for now:", "bin/watchd-1", &process, "share/note-1.txt"]);
    tree.run("install").code(0).says(&["2 files written", "1 removed", "stays for now:", &process]);
    assert!(old.is_file() && new.is_file() && !tree.at("to/share/note-1.txt").exists());
    // Going back takes away what nobody uses, and no more.
    tree.run("back 1").code(0).says(&["1 file written, 2 removed"]);
    assert!(old.is_file() && !new.exists());
    tree.run("back 2").code(0).says(&["2 files written, 1 removed"]);
    assert!(old.is_file() && new.is_file());
    daemon.kill().expect("it ends");
    daemon.wait().expect("it ended");
    tree.run("install --preview").code(0).says(&["no longer part of it, would be removed:", "watchd-1"]);
    tree.run("install").code(0).says(&["1 removed"]);
    assert!(!old.exists() && new.is_file());
    tree.run("uninstall").code(0);
    assert!(!tree.at("to/bin").exists());
}
