//! What libraries tell those who build on them: a program is compiled from outside with nothing but the flags of the metadata file.

use std::path::Path;
use std::process::Command;

use crate::harness::Scratch;

const BOARD: &str = r#"format = 1
[tree]
name = "light"
version = "4.2"
homepage = "https://light.example"
[option.prefix]
kind = "path"
default = "/usr/local"
macro = []
[option.beam]
kind = "switch"
macro = []
[need.maths]
header = "math.h"
link = "m"
[need.loading]
header = "dlfcn.h"
link = "dl"
[part.light]
kind = "KIND"
sources = ["light.c"]
include = ["include"]
uses = ["inner"]
needs = ["maths"]
install = "${prefix}/lib"
[part.inner]
kind = "objects"
sources = ["inner.c"]
needs = ["loading"]
[part.headers]
kind = "data"
sources = ["include/light/*.h"]
output = "include/light"
install = "${prefix}/include/light"
[metadata.light]
summary = "light that is seen from far away"
libraries = ["light"]
include = ["${prefix}/include", { when = "beam", add = ["/opt/with room/include"] }]
flags = ["-DLIGHT_USED=1"]
"#;

fn installed(kind: &str) -> Scratch {
    let tree = Scratch::with(&[
        ("boltboard.toml", &BOARD.replace("KIND", kind)),
        (
            "light.c",
            "#define LIGHT_USED 1\n#include <light/light.h>\n#include <math.h>\nint inner(void);\ndouble light(double x) { return pow(x, 0.5) + inner(); }\n",
        ),
        ("inner.c", "#include <dlfcn.h>\nint inner(void) { return dlsym(0, \"nothing-of-this-name\") != 0; }\n"),
        ("include/light/light.h", "#include <light/unit.h>\ndouble light(double x);\n"),
        ("include/light/unit.h", "#ifndef LIGHT_USED\n#error \"the flags are not used\"\n#endif\n#define UNIT 4.0\n"),
    ]);
    tree.run(&format!("set prefix={}", tree.at("inst").display())).code(0);
    tree.run("install").code(0);
    tree
}

fn field(text: &str, prefix: &Path, name: &str) -> Vec<String> {
    let line = text.lines().find_map(|line| line.strip_prefix(&format!("{name}: "))).unwrap_or_default();
    line.replace("${prefix}", &prefix.display().to_string()).split_whitespace().map(str::to_string).collect()
}

/// Compiles and runs a program elsewhere with these fields of the metadata file.
fn built_on(tree: &Scratch, fields: &[&str], more: &[&str]) -> (bool, String) {
    let elsewhere = Scratch::with(&[(
        "main.c",
        "#include <light/light.h>\n#include <stdio.h>\nint main(void) { printf(\"%.0f\\n\", light(UNIT)); return 0; }\n",
    )]);
    let prefix = tree.at("inst");
    let text = tree.read("inst/lib/pkgconfig/light.pc");
    let flags = |names: &[&str]| names.iter().flat_map(|name| field(&text, &prefix, name)).collect::<Vec<_>>();
    let mut compiler = Command::new("cc");
    compiler.current_dir(elsewhere.path()).args(flags(&["Cflags"])).args(["main.c", "-o", "main"]);
    let built = compiler.args(flags(fields)).args(more).output().expect("a compiler");
    if !built.status.success() {
        return (false, String::from_utf8_lossy(&built.stderr).into_owned());
    }
    let ran = Command::new(elsewhere.at("main")).env("LD_LIBRARY_PATH", prefix.join("lib")).output().expect("it runs");
    (ran.status.success(), String::from_utf8_lossy(&ran.stdout).into_owned())
}

#[test]
fn a_shared_library_is_linked_without_what_it_needs_itself() {
    let tree = installed("shared-library");
    let text = tree.read("inst/lib/pkgconfig/light.pc");
    let prefix = tree.at("inst").display().to_string();
    let wanted = format!(
        "# Made by light 4.2 from the values that it was built with.\nprefix={prefix}\n\nName: light\n\
         Description: light that is seen from far away\nURL: https://light.example\nVersion: 4.2\n\
         Cflags: -I${{prefix}}/include -DLIGHT_USED=1\nLibs: -L${{prefix}}/lib -llight\nLibs.private: -lm -ldl\n"
    );
    assert_eq!(text, wanted);
    assert_eq!(built_on(&tree, &["Libs"], &[]), (true, "2\n".to_string()));
    // Who builds by our own descriptions finds it as any other library.
    let user = Scratch::with(&[
        (
            "boltboard.toml",
            "format = 1\n[tree]\nname = \"user\"\nversion = \"1\"\n[need.light]\nlibrary = \"light\"\nversion = \">= 4\"\n\
             [part.main]\nkind = \"program\"\nsources = [\"main.c\"]\nneeds = [\"light\"]\n",
        ),
        ("main.c", "#include <light/light.h>\nint main(void) { return light(UNIT) != 2.0; }\n"),
    ]);
    user.run(&format!("set need:light={prefix}")).code(0);
    user.run("build").code(0);
    let told = user.run("survey light").code(0).out;
    assert!(told.contains("4.2"), "{told}");
    // A word with a blank in it stays one.
    tree.run("set beam=on").code(0);
    tree.run("install").code(0);
    let text = tree.read("inst/lib/pkgconfig/light.pc");
    assert!(text.contains("Cflags: -I${prefix}/include -I/opt/with\\ room/include -DLIGHT_USED=1\n"), "{text}");
}

#[test]
fn a_static_library_is_linked_with_all_that_it_takes_in() {
    let tree = installed("static-library");
    let (built, said) = built_on(&tree, &["Libs"], &["-static"]);
    assert!(!built && said.contains("pow"), "{said}");
    let (built, said) = built_on(&tree, &["Libs", "Libs.private"], &[]);
    assert_eq!((built, said.as_str()), (true, "2\n"));
}

#[test]
fn metadata_that_would_mislead_are_told() {
    let tree = installed("static-library");
    tree.edit("boltboard.toml", "kind = \"objects\"", "kind = \"static-library\"");
    tree.run("preview")
        .code(3)
        .complains(&["`light`, which uses `inner`, and that is not installed", "[metadata.light]"]);
    tree.edit("boltboard.toml", "libraries = [\"light\"]", "libraries = [\"headers\", \"lihgt\"]");
    tree.run("preview").code(3).complains(&["there is no part `lihgt`", "`headers` is told to those who build on it"]);
    // Needs that the headers have as well are for all who use them.
    let tree = installed("shared-library");
    tree.edit("boltboard.toml", "flags = [\"-DLIGHT", "public-needs = [\"maths\"]\nflags = [\"-DLIGHT");
    tree.run("install").code(0);
    let text = tree.read("inst/lib/pkgconfig/light.pc");
    assert!(text.ends_with("Libs: -L${prefix}/lib -llight -lm\nLibs.private: -ldl\n"), "{text}");
}

#[test]
fn each_public_header_is_compiled_alone() {
    let tree = installed("shared-library");
    let runs = |ran: &crate::harness::Ran| ran.json()["smoke"].as_array().expect("runs").clone();
    let check = |code: i32| tree.run("install --check --json").code(code);
    let told = &runs(&check(0))[0];
    assert_eq!((&told["name"], &told["works"]), (&"headers of light".into(), &true.into()), "{told}");
    // One that works only behind another one.
    tree.write("include/light/late.h", "static inline double late(void) { return UNIT * later; }\n");
    tree.run("install").code(0);
    let told = &runs(&check(1))[0];
    assert_eq!(told["works"], false);
    let said = told["said"].as_str().expect("words");
    assert!(said.contains("inst/include/light/late.h") && said.contains("UNIT"), "{said}");
    // The command that it tells is the one that was run.
    let command = told["command"].as_str().expect("a command").replace("TREE", &tree.path().display().to_string());
    let by_hand = Command::new("sh").args(["-c", &command]).output().expect("it runs");
    assert!(!by_hand.status.success());
    tree.write(
        "include/light/late.h",
        "#include <light/unit.h>\nextern double later;\nstatic inline double late(void) { return UNIT * later; }\n",
    );
    tree.run("install").code(0);
    assert_eq!(runs(&check(0))[0]["works"], true);
    // What is not public is nobody's business, and what was unpacked elsewhere is looked at there.
    let staging = tree.at("staging");
    tree.run(&format!("install --staging {}", staging.display())).code(0);
    let ran = tree.run(&format!("install --check --json --staging {}", staging.display())).code(0);
    let command = runs(&ran)[0]["command"].as_str().expect("a command").to_string();
    assert!(command.contains("TREE/stagingTREE/inst/include/light/unit.h"), "{command}");
}
