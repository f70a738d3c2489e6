//! Lists: what a folder gives for which option, one line for each, built in or loadable, in a stated order.

use std::process::Command;

use crate::harness::Scratch;

const ROOT: &str = r#"format = 1
[tree]
name = "t"
version = "1"
more = ["*/boltboard.toml", "drivers/*/boltboard.toml"]
[header.options]
output = "options.h"
prefix = "T_"
modules = { builtin = "*", loadable = "*_MODULE" }
[option.net]
kind = "switch"
default = "on"
[option.tun]
kind = "module"
default = "builtin"
[option.eth]
kind = "module"
[option.eth-debug]
kind = "switch"
[option.trace]
kind = "switch"
macro = { name = "TRACE_ON", parts = ["core"] }
[set.house]
defines = ["UNIT=\"${source:module}\""]
[part.core]
kind = "program"
sources = ["main.c"]
sets = ["house"]
lists = ["kernel", "drivers"]
link-flags = ["-rdynamic"]
exports = "dynamic"
[part.core.modules]
output = "mods/{folder}/{module}.so"
flags = ["-DLOADABLE"]
builtin-flags = ["-DBUILT_IN"]
stub = "stub.c.in"
install = "${prefix}/mods"
[option.prefix]
kind = "path"
default = "/usr/local"
"#;

const DRIVERS: &str = r#"[folder]
flags = ["-DIN_DRIVERS"]
[list]
always = ["bus.c", "misc/"]
net = ["core.c"]
tun = "tun.c"
eth = ["eth.c", "ring.c"]
"net and not tun" = { sources = ["spare.c"], flags = ["-DSPARE=1"] }
"#;

const MISC: &str = r#"[list]
always = "late.c"
"#;

/// Leaves its name in a table that is in the order of the link.
fn unit(name: &str) -> String {
    format!(
        "__attribute__((section(\"names\"), used)) static const char *{name}_name = \"{name}\";\nconst char *{name}_unit(void) {{ return UNIT; }}\n"
    )
}

fn tree() -> Scratch {
    let main = "#include <stdio.h>\nextern const char *__start_names[], *__stop_names[];\nint shared_count;\nint main(void) {\n    const char **at;\n#ifdef TRACE_ON\n    printf(\"traced \");\n#endif\n    for (at = __start_names; at < __stop_names; at++) printf(\"%s \", *at);\n    return 0;\n}\n";
    let tree = Scratch::with(&[("boltboard.toml", ROOT), ("main.c", main)]);
    tree.write("kernel/boltboard.toml", "[list]\nalways = [\"zero.c\", \"alpha.c\"]\n");
    tree.write("drivers/boltboard.toml", DRIVERS);
    tree.write("drivers/misc/boltboard.toml", MISC);
    tree.write("stub.c.in", "const char *stub_name = \"@module:name@ of @module:folder@ in @tree:name@\";\n");
    for name in ["kernel/zero", "kernel/alpha", "drivers/bus", "drivers/core", "drivers/misc/late", "drivers/spare"] {
        tree.write(&format!("{name}.c"), &unit(name.rsplit('/').next().expect("a name")));
    }
    tree.write(
        "drivers/tun.c",
        &format!(
            "#if !defined(LOADABLE) == !defined(BUILT_IN) || !defined(IN_DRIVERS)\n#error\n#endif\n{}",
            unit("tun")
        ),
    );
    tree.write(
        "drivers/eth.c",
        "extern int shared_count;\nint ring(void);\nint eth(void) { return ring() + shared_count; }\n",
    );
    tree.write("drivers/ring.c", "int ring(void) { return 3; }\nconst char *ring_unit = UNIT;\n");
    tree
}

fn says(tree: &Scratch) -> String {
    let ran = Command::new(tree.at("boltboard-work/builds/mine/out/bin/core")).output().expect("it runs");
    String::from_utf8_lossy(&ran.stdout).trim().to_string()
}

#[test]
fn what_folders_give_is_linked_in_their_order_and_follows_from_options() {
    let tree = tree();
    tree.run("build --verify").code(0);
    assert_eq!(says(&tree), "zero alpha bus late core tun");
    tree.run("build").code(0).steps(0);
    // Another order in the list is another order in the program.
    tree.edit("kernel/boltboard.toml", "[\"zero.c\", \"alpha.c\"]", "[\"alpha.c\", \"zero.c\"]");
    tree.run("build --verify").code(0).steps(1);
    assert_eq!(says(&tree), "alpha zero bus late core tun");
    // A module that becomes loadable is compiled again, linked by itself with its stub, and leaves the program.
    tree.run("set tun=loadable").code(0);
    tree.run("build --verify").code(0);
    assert_eq!(says(&tree), "alpha zero bus late core");
    let module = std::fs::read(tree.at("boltboard-work/builds/mine/out/mods/drivers/tun.so")).expect("a module");
    assert!(String::from_utf8_lossy(&module).contains("tun of drivers in t"));
    tree.run("set tun=off").code(0);
    tree.run("build --verify").code(0);
    assert_eq!(says(&tree), "alpha zero bus late core spare");
    assert!(!tree.at("boltboard-work/builds/mine/out/mods/drivers/tun.so").exists());
    tree.run("set net=off").code(0);
    tree.run("build --verify").code(0);
    assert_eq!(says(&tree), "alpha zero bus late");
}

#[test]
fn several_sources_make_one_module_with_its_name() {
    let tree = tree();
    tree.run("set eth=loadable").code(0);
    tree.run("build --verify").code(0);
    let module = std::fs::read(tree.at("boltboard-work/builds/mine/out/mods/drivers/eth.so")).expect("a module");
    assert!(String::from_utf8_lossy(&module).contains("eth of drivers in t"));
    tree.edit(
        "drivers/boltboard.toml",
        "eth = [\"eth.c\", \"ring.c\"]",
        "eth = { name = \"ether\", sources = [\"eth.c\", { when = \"eth-debug\", add = [\"ring.c\"] }] }",
    );
    tree.run("set eth-debug=on").code(0);
    tree.run("build --verify").code(0);
    assert!(tree.at("boltboard-work/builds/mine/out/mods/drivers/ether.so").is_file());
}

#[test]
fn a_macro_is_given_to_some_parts_alone_and_known_all_the_same() {
    let tree = tree();
    tree.run("build").code(0);
    tree.run("set trace=on").code(0);
    assert_eq!(tree.previewed("run"), ["compile main.c"]);
    tree.run("build --verify").code(0);
    assert!(says(&tree).starts_with("traced "));
    tree.run("show trace").code(0).says(&["TRACE_ON"]);
    let lint = tree.run("lint");
    assert!(!lint.out.contains("TRACE_ON"), "{}", lint.out);
}

#[test]
fn wrong_lists_are_told_with_what_they_want() {
    let tree = tree();
    for (from, to, said) in [
        ("\"misc/\"", "\"mist/\"", "there is no list for `drivers/mist/`"),
        ("tun = \"tun.c\"", "tune = \"tun.c\"", "there is no option `tune`"),
        ("tun = \"tun.c\"", "tun = [{ sources = [\"tun.c\", \"bus.c\"] }, \"core.c\"]", "says its name"),
        ("\"misc/\"", "\"misc/\", \"misc/\"", "the list of `drivers/misc/` is taken twice"),
        ("\"bus.c\"", "\"buzz.c\"", "`drivers/buzz.c` matches no file"),
    ] {
        tree.edit("drivers/boltboard.toml", from, to);
        tree.run("preview").code(3).complains(&[said]);
        tree.edit("drivers/boltboard.toml", to, from);
    }
    tree.edit("boltboard.toml", "lists = [\"kernel\", \"drivers\"]", "lists = [\"drivers\"]");
    tree.run("preview").code(3).complains(&["no part takes the list of `kernel/`"]);
}
