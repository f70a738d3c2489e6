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
        ("\"misc/\"", "\"misc/\", \"misc/\"", "the list of `drivers/misc/` is named twice"),
        ("\"bus.c\"", "\"buzz.c\"", "`drivers/buzz.c` matches no file"),
    ] {
        tree.edit("drivers/boltboard.toml", from, to);
        tree.run("preview").code(3).complains(&[said]);
        tree.edit("drivers/boltboard.toml", to, from);
    }
    tree.edit("boltboard.toml", "lists = [\"kernel\", \"drivers\"]", "lists = [\"drivers\"]");
    tree.run("preview").code(3).complains(&["no part names the list of `kernel/`"]);
}

const SERVER: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[option.horn]
kind = "module"
default = "loadable"
[option.fog]
kind = "module"
default = "loadable"
[part.server]
kind = "program"
sources = ["main.c"]
link-flags = ["-rdynamic"]
libraries = ["dl"]
[part.horn]
kind = "module"
option = "horn"
program = "server"
symbol = "horn"
sources = ["horn.c"]
libraries = ["m"]
[part.fog]
kind = "module"
option = "fog"
program = "server"
symbol = "fog"
sources = ["fog.c"]
"#;

#[test]
fn modules_that_nobody_could_load_are_found_when_they_are_linked() {
    let tree = Scratch::with(&[
        ("boltboard.toml", SERVER),
        (
            "main.c",
            "#include <stdio.h>\nint depth(void) { return 3; }\nstatic int own(void) { return 1; }\nint main(void) { printf(\"%d\", own()); return 0; }\n",
        ),
        (
            "horn.c",
            "#include <math.h>\n#include <stdio.h>\nint depth(void);\nint horn(double x) { printf(\"%d\", depth()); return (int)sqrt(x); }\n",
        ),
        (
            "fog.c",
            "int horn(double);\nextern int perhaps(void) __attribute__((weak));\nint fog(void) { return perhaps ? perhaps() : horn(2); }\n",
        ),
    ]);
    // The program's own, the libraries' and other modules' names count; weak ones may stay open.
    tree.run("build --verify").code(0);
    tree.run("build").code(0).steps(0);
    tree.edit("fog.c", "horn(2)", "siren(2)");
    tree.edit("fog.c", "int horn(double)", "int siren(double)");
    tree.run("build").code(1).complains(&["out/lib/t/fog.so cannot be loaded: nobody defines `siren`"]);
    tree.edit("fog.c", "siren(2)", "own()");
    tree.edit("fog.c", "int siren(double)", "int own(void)");
    tree.run("build").code(1).complains(&["out/bin/server defines `own` and does not let modules use it"]);
    tree.edit("boltboard.toml", "libraries = [\"dl\"]", "libraries = [\"dl\"]\nexports = \"unchecked\"");
    tree.run("build --verify").code(0);
}

const KERNEL: &str = r#"format = 1
[tree]
name = "k"
version = "1"
more = ["drivers/boltboard.toml"]
[toolchain]
flags = ["-ffreestanding", "-fno-pic", "-mcmodel=kernel", "-fno-asynchronous-unwind-tables", "-O1"]
[option.tun]
kind = "module"
default = "loadable"
[option.eth]
kind = "module"
default = "loadable"
[part.kernel]
kind = "program"
sources = ["start.S", "init.c"]
lists = ["drivers"]
uses = ["script"]
link-flags = ["-nostdlib", "-static", "-no-pie", "-Wl,-T,${path:made}/kernel.lds", "-Wl,--build-id=none"]
exports = { marked = "__export_" }
output = "kernel"
[part.kernel.modules]
form = "partial"
output = "modules/{folder}/{module}.ko"
flags = ["-DMODULE", "-DNAME=\"${source:module}\""]
builtin-flags = ["-DNAME=\"${source:module}\""]
stub = "stub.c.in"
[part.script]
kind = "generated"
preprocess = "kernel.lds.S"
output = "kernel.lds"
"#;

const EXPORT: &str = "#define EXPORT(name) __attribute__((used, section(\".exports\"))) static const void *__export_##name = (const void *)name;\n";

fn kernel(board: &str) -> Scratch {
    Scratch::with(&[
        ("boltboard.toml", board),
        ("export.h", EXPORT),
        ("start.S", ".globl _start\n_start: mov $60, %eax\n mov $7, %edi\n syscall\n"),
        (
            "init.c",
            "#include \"export.h\"\nint ticks(void) { return 1; }\nEXPORT(ticks)\nint hidden(void) { return 2; }\n",
        ),
        (
            "kernel.lds.S",
            "ENTRY(_start)\nSECTIONS { . = 0x400000; .text : { *(.text) } .data : { *(.rodata .data .exports) } /DISCARD/ : { *(.comment .note*) } }\n",
        ),
        ("stub.c.in", "const char stub_of[] = \"@module:name@\";\n"),
        ("drivers/boltboard.toml", "[list]\ntun = \"tun.c\"\neth = [\"eth.c\", \"ring.c\"]\n"),
        (
            "drivers/tun.c",
            "#include \"../export.h\"\nint ticks(void);\nint tun(void) { return ticks(); }\nEXPORT(tun)\nconst char *tun_name = NAME;\n",
        ),
        (
            "drivers/eth.c",
            "int ring(void), ticks(void), tun(void);\nint eth(void) { return ring() + ticks() + tun(); }\n",
        ),
        ("drivers/ring.c", "int ring(void) { return 3; }\n"),
    ])
}

#[test]
fn a_kernel_has_modules_of_one_object_each_checked_against_what_is_exported() {
    let tree = kernel(KERNEL);
    let ran = tree.run("build --verify").code(0);
    assert!(!ran.err.contains("/aside/"), "results are called by where they will lie: {}", ran.err);
    let out = tree.at("boltboard-work/builds/mine/out");
    let ran = Command::new(out.join("kernel")).status().expect("it runs");
    assert_eq!(ran.code(), Some(7));
    let module = std::fs::read(out.join("modules/drivers/tun.ko")).expect("a module");
    // ET_REL: one relocatable object.
    assert_eq!((&module[..4], module[16]), (&b"\x7fELF"[..], 1));
    assert!(out.join("modules/drivers/eth.ko").is_file());
    let commands = tree.run("export compile-commands").code(0).out;
    assert!(!commands.contains("-fPIC"), "{commands}");
    tree.edit("drivers/ring.c", "return 3", "return hidden()");
    tree.edit("drivers/ring.c", "int ring", "int hidden(void);\nint ring");
    tree.run("build").code(1).complains(&[
        "out/modules/drivers/eth.ko cannot be loaded: out/kernel defines `hidden` and does not let modules use it",
    ]);
    tree.edit("init.c", "int hidden(void) { return 2; }", "int hidden(void) { return 2; }\nEXPORT(hidden)");
    tree.run("build --verify").code(0);
    tree.run("set tun=builtin").code(0);
    tree.run("build --verify").code(0);
    assert!(!out.join("modules/drivers/tun.ko").exists() && out.join("modules/drivers/eth.ko").exists());
}

#[test]
fn what_two_links_take_owns_the_lists_and_its_modules_are_held_to_it() {
    let (kernel_part, whole) = ("[part.kernel]\nkind = \"program\"", "[part.whole]\nkind = \"program\"");
    let link = KERNEL.lines().find(|line| line.starts_with("link-flags")).expect("flags");
    let board = KERNEL.replace(kernel_part, "[part.kernel]\nkind = \"partial-link\"").replace(&format!("{link}\n"), "");
    let board = board.replace("output = \"kernel\"\n", "output = \"stage/kernel.o\"\n");
    let tree = kernel(&format!("{board}{whole}\n{link}\nuses = [\"kernel\", \"script\"]\noutput = \"kernel\"\n"));
    tree.run("build --verify").code(0);
    let out = tree.at("boltboard-work/builds/mine/out");
    assert_eq!(Command::new(out.join("kernel")).status().expect("it runs").code(), Some(7));
    tree.edit(
        "drivers/ring.c",
        "int ring(void) { return 3; }",
        "int hidden(void);\nint ring(void) { return hidden(); }",
    );
    tree.run("build").code(1).complains(&[
        "out/modules/drivers/eth.ko cannot be loaded: out/stage/kernel.o defines `hidden` and does not let modules use it",
    ]);
    tree.edit("init.c", "int hidden(void) { return 2; }", "int hidden(void) { return 2; }\nEXPORT(hidden)");
    tree.run("set tun=builtin").code(0);
    tree.run("build --verify").code(0);
    assert!(!out.join("modules/drivers/tun.ko").exists() && out.join("modules/drivers/eth.ko").exists());
}

#[test]
fn one_file_may_hold_the_lists_of_many_folders() {
    let board = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[option.fog]\nkind = \"switch\"\n[part.p]\nkind = \"program\"\nsources = [\"main.c\"]\nlists = [\"a\"]\n[lists.a]\nalways = [\"one.c\", \"deep/\"]\n[lists.\"a/deep\"]\nfog = \"fog.c\"\nalways = \"two.c\"\n[folders.\"a/deep\"]\ndefines = [\"DEEP=7\"]\n";
    let tree = Scratch::with(&[
        ("boltboard.toml", board),
        ("main.c", "int two(void);\nint main(void) { return two(); }\n"),
        ("a/one.c", "int one;\n"),
        ("a/deep/two.c", "int two(void) { return DEEP; }\n"),
        ("a/deep/fog.c", "int fog;\n"),
    ]);
    tree.run("build --verify").code(0);
    let ran = Command::new(tree.at("boltboard-work/builds/mine/out/bin/p")).status().expect("it runs");
    assert_eq!(ran.code(), Some(7));
    tree.run("set fog=on").code(0);
    assert_eq!(tree.previewed("run"), ["compile a/deep/fog.c", "link out/bin/p"]);
    tree.edit("boltboard.toml", "[folders.\"a/deep\"]", "[folders.\"a/dee\"]");
    tree.run("build").code(3).complains(&["`a/dee` has settings and no list"]);
}
