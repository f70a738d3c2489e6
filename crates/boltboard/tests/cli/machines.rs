//! Trees that build for one machine on another: programs of generators, and everything else. What several parts share is written once.

use std::process::Command;

use crate::harness::Scratch;

fn tree(parts: &str, files: &[(&str, &str)]) -> Scratch {
    let board = format!("format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n{parts}");
    let tree = Scratch::with(&[("boltboard.toml", board.as_str())]);
    files.iter().for_each(|(name, text)| tree.write(name, text));
    tree
}

const CROSS: &str = r#"
[toolchain]
flags = ["-DFOR_TARGET", "-O1"]
link-flags = ["-Wl,--defsym=for_target=1"]
[host-toolchain]
flags = ["-DFOR_HOST"]
[option.wide]
kind = "switch"
[header.options]
output = "options.h"
prefix = "T_"
[need.math]
for = "host"
header = "math.h"
link = ["m"]
[need.own]
header = "stdio.h"
[part.mktable]
kind = "program"
for = "host"
sources = ["mktable.c", "shared.c"]
needs = ["math"]
[part.table]
kind = "generated"
command = ["${part:mktable}"]
stdout = "table.h"
[part.prog]
kind = "program"
sources = ["main.c", "shared.c"]
uses = ["table"]
needs = ["own"]
"#;

#[test]
fn what_runs_while_building_is_made_for_the_machine_that_builds() {
    let shared =
        "int shared(void) {\n#ifdef FOR_TARGET\n    return 2;\n#endif\n#ifdef FOR_HOST\n    return 5;\n#endif\n}\n";
    let mktable = "#include <math.h>\n#include <stdio.h>\nint shared(void);\nint main(void) { printf(\"#define FROM_HOST %d\\n\", shared() + (int)floor(1.5)); return 0; }\n";
    let main = "#include <table.h>\nint shared(void);\nextern char for_target;\nint main(void) { return FROM_HOST * 10 + shared(); }\n";
    let tree = tree(CROSS, &[("shared.c", shared), ("mktable.c", mktable), ("main.c", main)]);
    tree.run("build --verify").code(0);
    let out = tree.at("boltboard-work/builds/mine/out");
    assert_eq!(Command::new(out.join("bin/prog")).status().expect("it runs").code(), Some(62));
    assert!(out.join("host/bin/mktable").is_file() && !out.join("bin/mktable").exists());
    tree.run("survey").code(0).says(&["for the machine that builds"]);
    // Flags of one machine run nothing of the other, but for what is made with its programs.
    tree.edit("boltboard.toml", "[\"-DFOR_TARGET\", \"-O1\"]", "[\"-DFOR_TARGET\", \"-O2\"]");
    assert_eq!(tree.previewed("run"), ["compile main.c", "compile shared.c"]);
    tree.run("build --verify").code(0);
    tree.edit("boltboard.toml", "flags = [\"-DFOR_HOST\"]", "flags = [\"-DFOR_HOST\", \"-O2\"]");
    assert_eq!(tree.previewed("run"), ["compile mktable.c", "compile shared.c"]);
    tree.run("build --verify").code(0);
}

#[test]
fn parts_of_two_machines_are_not_linked_and_their_needs_are_told_apart() {
    let files = [("shared.c", ""), ("mktable.c", ""), ("main.c", "")];
    let tree = tree(CROSS, &files);
    tree.edit("boltboard.toml", "needs = [\"own\"]", "needs = [\"math\"]");
    tree.run("options").code(3).complains(&["`prog` is for the target, and its need `math` is asked of the host"]);
    tree.edit(
        "boltboard.toml",
        "needs = [\"math\"]\n[part.table]",
        "[part.low]\nkind = \"objects\"\nfor = \"hots\"\nsources = [\"shared.c\"]\n[part.table]",
    );
    tree.run("options").code(3).complains(&["`for` is `target` or `host`, not `hots`"]);
    tree.edit("boltboard.toml", "for = \"hots\"", "for = \"host\"");
    tree.edit("boltboard.toml", "uses = [\"table\"]\nneeds = [\"math\"]", "uses = [\"table\", \"low\"]");
    tree.run("options").code(3).complains(&["`prog` is for the target and links `low`, which is for the host"]);
}

const SETS: &str = r#"
[option.fast]
kind = "switch"
[set.house]
flags = ["-O1", { when = "fast", add = ["-O2"] }]
defines = ["DEPTH=3", "STEM=${source:stem}", "UNIT=\"${source:part}\""]
include = ["include"]
[set.rare]
defines = ["RARE=4"]
[part.prog]
kind = "program"
sets = ["house", { when = "fast", add = ["rare"] }]
sources = ["main.c", { add = ["other.c"], without = ["-O1"], flags = ["-DOWN_${source:stem}=1"] }]
"#;

#[test]
fn what_parts_share_is_written_once_and_files_can_do_without_some_of_it() {
    let main = "#include \"depth.h\"\n#include <string.h>\nint mainstem(void), other(void);\n#ifndef RARE\n#define RARE 0\n#endif\n#define JOIN(a) a##stem\n#define NAME(a) JOIN(a)\nint NAME(STEM)(void) { return strcmp(UNIT, \"prog\") == 0; }\n#undef main\nint main(void) { return DEPTH * 10 + RARE + mainstem() + other(); }\n";
    let other = "int other(void) {\n#ifdef __OPTIMIZE__\n    return 100;\n#endif\n#ifdef OWN_other\n    return 2;\n#endif\n    return 50;\n}\n";
    let tree = tree(SETS, &[("main.c", main), ("other.c", other), ("include/depth.h", "")]);
    tree.run("build --verify").code(0);
    let code = |tree: &Scratch| {
        Command::new(tree.at("boltboard-work/builds/mine/out/bin/prog")).status().expect("it runs").code()
    };
    assert_eq!(code(&tree), Some(33));
    tree.run("set fast=on").code(0);
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(135));
    tree.edit("boltboard.toml", "add = [\"rare\"]", "add = [\"rar\"]");
    tree.run("options").code(3).complains(&["there is no set `rar`", "rare"]);
}

const ENVIRONMENT: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[toolchain]
environment-from = "ENV"
[part.prog]
kind = "program"
sources = ["main.c"]
[part.said]
kind = "generated"
command = ["tool-of-the-maker"]
stdout = "said.txt"
"#;

#[test]
fn the_environment_of_a_toolchain_is_asked_once_handed_on_and_noticed_when_it_changes() {
    let tree = Scratch::with(&[
        ("main.c", "#include <depth.h>\nint main(void) { return DEPTH; }\n"),
        ("maker/bin/tool-of-the-maker", "#!/bin/sh\necho $MAKER_WORD\n"),
        ("maker/include/depth.h", "#define DEPTH 3\n"),
        ("maker/other/depth.h", "#define DEPTH 5\n"),
        ("maker/more.sh", "export CPATH=$MAKER/include\n"),
    ]);
    let maker = tree.at("maker").display().to_string();
    tree.write("boltboard.toml", &ENVIRONMENT.replace("ENV", &format!("{maker}/env.sh")));
    tree.write(
        "maker/env.sh",
        &format!("MAKER={maker}\nexport PATH=$MAKER/bin:$PATH\nexport MAKER_WORD=tide\n. $MAKER/more.sh\necho talks\n"),
    );
    let tool = tree.at("maker/bin/tool-of-the-maker");
    std::fs::set_permissions(&tool, std::os::unix::fs::PermissionsExt::from_mode(0o755)).expect("set");
    let code = |tree: &Scratch| {
        Command::new(tree.at("boltboard-work/builds/mine/out/bin/prog")).status().expect("it runs").code()
    };
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(3));
    assert_eq!(std::fs::read_to_string(tree.at("boltboard-work/builds/mine/made/said.txt")).expect("made"), "tide\n");
    tree.run("build").code(0).steps(0);
    tree.run("survey").code(0).says(&["env.sh", "CPATH", "MAKER_WORD"]);
    tree.run("survey --save there.toml").code(0);
    tree.run("survey --against there.toml").code(0);
    let prefix = format!(
        "[option.prefix]\nkind = \"path\"\ndefault = \"{}\"\n[part.prog]\ninstall = \"${{prefix}}\"\n",
        tree.at("to").display()
    );
    tree.edit("boltboard.toml", "[part.prog]\n", &prefix);
    tree.run("install").code(0);
    let record = tree.run("uninstall --preview --json").code(0).json();
    assert_eq!(record["environment"]["MAKER_WORD"], "tide");
    assert!(record["compiler"].as_str().is_some_and(|compiler| !compiler.is_empty()));
    // Also what the script reads counts.
    tree.write("maker/more.sh", "export CPATH=$MAKER/other\n");
    tree.run("survey --against there.toml").code(1).says(&["CPATH", "/maker/include", "/maker/other"]);
    tree.run("preview").code(0).complains(&["the host has changed since mine was last built", "CPATH"]);
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(5));
    tree.edit("maker/env.sh", "=tide", "=ebb");
    tree.run("build --verify").code(0);
    assert_eq!(std::fs::read_to_string(tree.at("boltboard-work/builds/mine/made/said.txt")).expect("made"), "ebb\n");
    tree.edit("maker/env.sh", "echo talks", "echo no licence >&2; exit 4");
    tree.run("build").code(4).complains(&["env.sh cannot be had: no licence"]);
    std::fs::remove_file(tree.at("maker/env.sh")).expect("removed");
    tree.run("build").code(4).complains(&["there is no such file"]);
}

#[test]
fn named_modules_of_cxx_are_refused_before_the_compiler_writes_into_the_sources() {
    let board = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.p]\nkind = \"program\"\nsources = [\"main.cc\"]\nflags = [\"-std=c++20\", \"-fmodules-ts\"]\n";
    let tree = Scratch::with(&[("boltboard.toml", board), ("main.cc", "int main() { return 0; }\n")]);
    tree.run("build").code(3).complains(&["named modules of C++20 (`-fmodules-ts`) are not built", "use headers"]);
    assert!(!tree.at("gcm.cache").exists());
}
