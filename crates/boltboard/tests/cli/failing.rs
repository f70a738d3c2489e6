//! What failed builds tell: the linker's words first, then what they lead to.

use crate::harness::{Scratch, usual_path};

const BOARD: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[toolchain]
flags = [{ when = "strict", add = ["-Wall", "-Werror"] }, "${extra}"]
[header.h]
output = "t.h"
prefix = "T_"
[option.strict]
kind = "switch"
[option.fog]
kind = "switch"
default = "on"
[option.extra]
kind = "words"
[need.maths]
link = "m"
[part.bell]
kind = "static-library"
sources = ["bell.c"]
[part.prog]
kind = "program"
sources = ["main.c", { when = "fog", add = ["fog.c"] }]
"#;

fn tree(main: &str) -> Scratch {
    let main = format!("#include \"all.h\"\n{main}");
    Scratch::with(&[
        ("boltboard.toml", BOARD),
        ("main.c", &main),
        ("all.h", "int bell_ring(int);\nint fog_rise(int);\nint fog_lower(int);\n"),
        ("bell.c", "#include \"all.h\"\nint bell_ring(int n) { return n; }\n"),
        ("fog.c", "#include \"all.h\"\nint fog_rise(int n) { return n; }\n"),
    ])
}

#[test]
fn a_symbol_of_a_part_that_is_not_linked_leads_to_it() {
    tree("int main(void) { return bell_ring(1); }\n").run("build -k").code(1).complains(&[
        "undefined reference to `bell_ring'",
        "nothing that is linked here defines bell_ring (used by main.c)",
        "part bell defines it: add \"bell\" to `uses` of part prog",
    ]);
}

#[test]
fn a_symbol_of_a_source_that_is_left_out_leads_to_its_option() {
    let tree = tree("int main(void) { return fog_rise(1); }\n");
    tree.run("build").code(0);
    tree.run("set fog=off").code(0);
    tree.run("build").code(1).complains(&[
        "fog.c defines it, and is not built: part prog has it only while fog",
        "→ boltboard preview --why fog.c   why it is not built",
        "part of it the last time, and not any more: objects/prog/fog.c",
    ]);
    tree.run("preview --why fog.c").code(0).says(&[
        "not built: fog.c",
        "only while fog",
        "fog is off",
        "→ boltboard why fog",
    ]);
}

#[test]
fn what_was_there_at_the_last_build_is_told() {
    let tree = tree("int main(void) { return fog_rise(1); }\n");
    tree.edit("boltboard.toml", "\"fog.c\"]", "\"fog*.c\"]");
    tree.write("fog_more.c", "int more(void) { return fog_rise(2); }\nint fog_rise(int);\n");
    tree.run("build").code(0);
    let fog = tree.read("fog.c");
    std::fs::remove_file(tree.at("fog.c")).unwrap();
    let told = ["fog.c defined it in the last build, and is gone from the tree"];
    tree.run("build").code(1).complains(&told);
    assert!(!tree.run("build").code(1).complains(&told).err.contains("fog_more.c defines it"), "it only calls it");
    // A header that breaks what reads it is named, wherever the compiler stumbles.
    tree.write("fog.c", &fog);
    tree.run("build").code(0);
    tree.edit("all.h", "int bell_ring(int);", "#include <stddef.h>");
    tree.write("broken.h", "int half(\n");
    tree.edit("all.h", "#include <stddef.h>", "#include \"broken.h\"\n#include <stddef.h>");
    let ran = tree.run("build -k -j1").code(1).complains(&["it ran because all.h has changed"]);
    ran.complains(&["/stddef.h:", " broke 3 files; all.h has changed."]);
}

#[test]
fn a_long_command_is_repeated_by_a_file() {
    let tree = Scratch::with(&[(
        "boltboard.toml",
        "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.p]\nkind = \"program\"\nsources = [\"*.c\"]\n",
    )]);
    tree.write("main.c", "int nobody(void);\nint main(void) { return nobody(); }\n");
    for number in 0..40 {
        tree.write(&format!("a_source_of_a_long_name_{number}.c"), &format!("int f{number};\n"));
    }
    let ran = tree.run("build").code(1).complains(&["undefined reference to `nobody'", "  command: sh "]);
    let command = ran.err.lines().find_map(|line| line.trim().strip_prefix("command: sh ")).expect("a command");
    let again = std::process::Command::new("sh")
        .arg(command.replace("TREE", &tree.at("").display().to_string()))
        .output()
        .expect("it starts");
    let said = String::from_utf8_lossy(&again.stderr).into_owned();
    assert!(!again.status.success() && said.contains("undefined reference to `nobody'"), "{said}");
    assert!(!tree.at("boltboard-work/builds/mine/out/bin/p").exists());
}

#[test]
fn a_symbol_of_a_need_and_one_that_is_nearly_right_lead_on() {
    let lgamma = "double lgamma(double); int main(int n, char **v) { (void)v; return (int)lgamma(n); }\n";
    let tree = tree(lgamma);
    tree.edit("boltboard.toml", "[toolchain]", "[toolchain]\nlink-flags = [\"-Wl,--no-as-needed\"]");
    tree.run("build -k").code(1).complains(&["the need maths brings it: add \"maths\" to `needs` of part prog"]);
    let near = self::tree("int fog_rice(int); int main(void) { return fog_rice(1); }\n");
    near.run("build").code(1).complains(&["did you mean `fog_rise`?"]);
}

#[test]
fn a_library_that_is_not_found_leads_to_its_need() {
    let tree = tree("int main(void) { return 0; }\n");
    tree.edit("boltboard.toml", "link = \"m\"", "link = \"surely-nowhere\"");
    tree.edit("boltboard.toml", "[toolchain]", "[toolchain]\nlink-flags = [\"-lsurely-nowhere\"]");
    tree.run("build").code(1).complains(&[
        "the library surely-nowhere is what the need maths looks for",
        "→ boltboard survey maths   how it is met",
    ]);
}

#[test]
fn flags_lead_to_the_option_or_line_that_they_come_from() {
    let tree = tree("int main(void) { int unused; return 0; }\n");
    tree.run("set strict=on").code(0);
    tree.run("build").code(1).complains(&[
        "warnings are errors by -Werror (boltboard.toml:6), which the option strict brings",
        "→ boltboard show strict",
    ]);
    tree.run("unset strict").code(0);
    let mut set = tree.command("set");
    tree.ran(set.arg("extra=-fsurely-nowhere")).code(0);
    tree.run("build").code(1).complains(&["the compiler refuses -fsurely-nowhere, which the option extra brings"]);
}

#[test]
fn a_header_that_breaks_many_is_told_once() {
    let tree = tree("int main(void) { return 0; }\n");
    tree.write("all.h", "int broken\nint bell_ring(int);\n");
    let told = tree.run("build -k").code(1);
    assert_eq!(told.err.matches("first error: all.h:1:11").count(), 1, "{}", told.err);
    told.complains(&["error: all.h:1:11 broke 3 files."]).says(&["3 steps failed"]);
}

#[test]
fn a_compiler_that_crashes_is_called_that() {
    let tree = tree("int main(void) { return 0; }\n");
    let crash = "case \"$*\" in *main.c*-c*) echo 'main.c: internal compiler error: Aborted' >&2; exit 1;; esac";
    tree.script("first/cc", &format!("{crash}\nexec /usr/bin/cc \"$@\""));
    tree.run_with("build", "PATH", &format!("TREE/first:{}", usual_path()))
        .code(1)
        .complains(&["cc itself crashed: that is a fault of cc, not of the source"]);
}

#[test]
fn the_command_that_repeats_a_step_harms_nothing() {
    let tree = tree("int main(void) { return wrong; }\n");
    let told = tree.run("build").code(1);
    let command = told.err.lines().find_map(|line| line.trim().strip_prefix("command: ")).expect("a command");
    assert!(!command.contains("/dev/null"), "{command}");
    tree.write("main.c", "int main(void) { return 0; }\n");
    let before = tree.outputs("mine");
    let command = command.replace("TREE", &tree.path().display().to_string());
    let ran = std::process::Command::new("sh").args(["-c", &command]).current_dir("/").status().expect("a shell");
    assert!(ran.success() && tree.at("boltboard-work/builds/mine/again/main.c.o").is_file());
    assert!(before == tree.outputs("mine"), "nothing of the build has changed");
}

#[test]
fn a_failed_test_tells_its_log_its_signal_and_how_to_run_it_again() {
    let tree = tree("#include <stdlib.h>\nint main(void) { abort(); }\n");
    tree.write("boltboard.toml", &format!("{BOARD}[test.falls]\ncommand = [\"${{part:prog}}\"]\n"));
    let told = tree.run("test").code(1).says(&[
        "failed    falls",
        "it crashed (SIGABRT)",
        "log: TREE/boltboard-work/logs/test-falls.log",
    ]);
    assert!(told.out.contains("command: cd TREE/boltboard-work/builds/mine/parts && TREE/"), "{}", told.out);
    assert!(tree.read("boltboard-work/logs/test-falls.log").contains("it crashed (SIGABRT)"));
    told.says(&["0 tests passed, 1 failed"]).complains(&[]);
}

#[test]
fn what_is_only_tried_is_built_aside() {
    let tree = tree("int main(void) { return fog_rise(0); }\n");
    tree.run("build").code(0);
    let before = tree.outputs("mine");
    tree.edit("main.c", "return fog_rise(0)", "\n#ifdef T_FOG\nreturn 1;\n#else\nreturn 2;\n#endif\n");
    tree.run("build --try fog=off").code(0).says(&["into boltboard-work/tried/mine/out"]);
    assert!(before == tree.outputs("mine"), "the profile's own outputs stay");
    assert!(tree.at("boltboard-work/tried/mine/out/bin/prog").is_file());
    tree.run("build").code(0).says(&["into boltboard-work/builds/mine/out"]);
    tree.run("build").code(0).says(&["Nothing to do:"]);
}

#[test]
fn one_part_is_built_with_what_it_needs() {
    let tree = tree("int main(void) { return 0; }\n");
    tree.run("preview bell").code(0).says(&["2 steps to run"]);
    tree.run("build bell").code(0).steps(2).says(&["Built bell into"]);
    assert!(tree.at("boltboard-work/builds/mine/out/lib/libbell.a").is_file());
    assert!(!tree.at("boltboard-work/builds/mine/out/bin/prog").exists());
    tree.run("build bell").code(0).says(&["Nothing to do: all 3 steps are current"]);
    tree.run("build").code(0).steps(3);
    tree.run("build --verify").code(0).says(&["Verified:"]);
    tree.run("build bel").code(2).complains(&["there is no part `bel`", "did you mean `bell`?"]);
    // What other parts have left behind stays while one is built alone.
    tree.edit("bell.c", "return n", "return n + 1");
    tree.edit("main.c", "return 0", "return 1");
    tree.run("build bell").code(0).steps(2);
    tree.run("build").code(0).steps(2);
    tree.equals_clean();
}
