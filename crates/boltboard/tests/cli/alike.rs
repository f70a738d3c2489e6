//! Many parts and tests of one definition, and parts with several names.

use std::process::Command;

use crate::harness::Scratch;

const ALIKE: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[option.prefix]
kind = "path"
default = "/usr/local"
[part.low]
kind = "static-library"
sources = ["low.c"]
[each.unit]
files = ["tests/*_test.c"]
except = ["tests/slow_*"]
part = { kind = "program", uses = ["low"], output = "tests/{stem}" }
test = { command = ["${part:{name}}", "{file}"], summary = "of {stem}" }
[part.server]
kind = "program"
sources = ["server.c"]
names = ["server-ctl", "server-log"]
install = "${prefix}/bin"
[part.tool]
kind = "program"
sources = ["server.c"]
install = "${prefix}/bin"
install-as = "t-tool"
"#;

fn tree() -> Scratch {
    let test = "int low(void);\nint main(int n, char **v) { return n == 2 && low() == 3 ? 0 : 1; }\n";
    Scratch::with(&[
        ("boltboard.toml", ALIKE),
        ("low.c", "int low(void) { return 3; }\n"),
        ("tests/a_test.c", test),
        ("tests/b_test.c", test),
        ("tests/slow_c_test.c", test),
        ("server.c", "#include <string.h>\nint main(int n, char **v) { return strstr(v[0], \"-ctl\") ? 7 : 0; }\n"),
    ])
}

#[test]
fn each_file_of_a_pattern_is_a_part_with_its_test() {
    let tree = tree();
    tree.run("test").code(0).says(&["a-test", "b-test", "2 tests passed"]);
    assert!(tree.at("boltboard-work/builds/mine/out/tests/a_test").is_file());
    tree.run("build --verify").code(0).steps(0);
    // A file that comes is one more, a file that goes is one less, and no definition says so.
    let text = std::fs::read_to_string(tree.at("tests/a_test.c")).expect("a test");
    tree.write("tests/d_test.c", &text);
    assert_eq!(tree.previewed("run"), ["compile tests/d_test.c", "link out/tests/d_test"]);
    tree.run("test").code(0).says(&["d-test"]);
    std::fs::remove_file(tree.at("tests/a_test.c")).expect("removed");
    tree.run("build --verify").code(0);
    assert!(!tree.at("boltboard-work/builds/mine/out/tests/a_test").exists());
    tree.edit("boltboard.toml", "uses = [\"low\"]", "uses = [\"lowe\"]");
    tree.run("build").code(3).complains(&["there is no part `lowe`", "low"]);
    tree.edit("boltboard.toml", "uses = [\"lowe\"]", "uses = [\"low\"]");
    tree.edit("boltboard.toml", "tests/*_test.c", "tests/*_tset.c");
    tree.run("build").code(3).complains(&["`tests/*_tset.c` matches no file"]);
}

#[test]
fn one_program_has_several_names_and_is_installed_under_them() {
    let tree = tree();
    tree.run("build --verify").code(0);
    let bin = tree.at("boltboard-work/builds/mine/out/bin");
    assert_eq!(Command::new(bin.join("server-ctl")).status().expect("it runs").code(), Some(7));
    let prefix = tree.at("there");
    tree.run(&format!("set prefix={}", prefix.display())).code(0);
    tree.run("install").code(0);
    assert_eq!(Command::new(prefix.join("bin/server-ctl")).status().expect("it runs").code(), Some(7));
    assert!(prefix.join("bin/t-tool").is_file() && !prefix.join("bin/tool").exists());
    tree.edit("boltboard.toml", "install-as = \"t-tool\"", "install-as = \"t-tool\"\nnames = [\"x\"]");
    tree.run("build").code(3).complains(&["a part with further names is installed under its own"]);
}
