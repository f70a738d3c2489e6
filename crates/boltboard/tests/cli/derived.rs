//! Options that nobody chooses, names that begin with a digit, and how a header calls modules.

use crate::harness::Scratch;

const BOARD: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[header.config]
output = "config.h"
prefix = "CONFIG_"
modules = { builtin = "*", loadable = "*_MODULE" }
[option.64bit]
kind = "switch"
[option.3c509]
kind = "module"
requires = "64bit"
[option.bus]
kind = "switch"
[option.wide-bus]
kind = "switch"
derived = true
summary = "both together"
default = [{ when = "bus and 64bit", value = "on" }]
requires = "bus and 64bit"
[option.helper]
kind = "module"
derived = true
[option.driver]
kind = "module"
requires = "helper"
[option.base-address]
kind = "number"
default = 4096
macro = { name = "CONFIG_BASE", form = "hexadecimal" }
[part.p]
kind = "program"
sources = ["main.c"]
"#;

fn tree() -> Scratch {
    Scratch::with(&[("boltboard.toml", BOARD), ("main.c", "int main(void) { return 0; }\n")])
}

fn header(tree: &Scratch) -> String {
    tree.run("build").code(0);
    let text = std::fs::read_to_string(tree.at("boltboard-work/builds/mine/made/config.h")).expect("a header");
    text.lines().filter(|line| line.starts_with("#define CONFIG_")).map(|line| format!("{line}\n")).collect()
}

#[test]
fn what_nobody_chooses_follows_from_others() {
    let tree = tree();
    assert_eq!(header(&tree), "#define CONFIG_BASE 0x1000\n");
    tree.run("set bus=on 64bit=on 3c509=loadable").code(0);
    assert_eq!(
        header(&tree),
        "#define CONFIG_3C509_MODULE 1\n#define CONFIG_64BIT 1\n#define CONFIG_BASE 0x1000\n#define CONFIG_BUS 1\n#define CONFIG_WIDE_BUS 1\n"
    );
    tree.run("why wide-bus").code(0).says(&["bus", "64bit"]);
    tree.run("set 64bit=off").code(3);
    tree.run("unset 3c509").code(0);
    tree.run("set 64bit=off driver=builtin").code(0);
    assert_eq!(
        header(&tree),
        "#define CONFIG_BASE 0x1000\n#define CONFIG_BUS 1\n#define CONFIG_DRIVER 1\n#define CONFIG_HELPER 1\n"
    );
    tree.run("show CONFIG_DRIVER_MODULE");
}

#[test]
fn choosing_it_is_refused_with_the_way_to_what_it_follows_from() {
    let tree = tree();
    tree.run("set wide-bus=on")
        .code(2)
        .complains(&["nobody chooses wide-bus: its value follows from others", "boltboard why wide-bus"]);
    tree.run("ways helper=loadable").code(2).complains(&["nobody chooses helper"]);
    let why = tree.run("why wide-bus").code(0);
    assert!(!why.out.contains("boltboard set") && why.out.contains("boltboard show wide-bus"), "{}", why.out);
    assert!(!tree.run("options").code(0).out.contains("wide-bus"), "it is for experts");
    tree.run("options level:expert").code(0).says(&["wide-bus", "helper"]);
    tree.run("show wide-bus").code(0).says(&["no choice: its value follows from others"]);
    assert_eq!(tree.run("show wide-bus --json").json()["derived"], true);
    tree.run("profile new other").code(0);
    tree.write("boltboard-work/profiles/other.toml", "format = 1\ntree = \"t\"\n[choose]\nhelper = \"loadable\"\n");
    tree.run("options").code(3).complains(&["nobody chooses helper", "choose what requires it"]);
}

#[test]
fn names_may_begin_with_a_digit_but_are_no_numbers() {
    let tree = tree();
    tree.edit("boltboard.toml", "requires = \"64bit\"", "requires = \"not 64bit or base-address = 64\"");
    tree.run("options").code(0);
    tree.edit("boltboard.toml", "[option.bus]", "[option.64]\nkind = \"switch\"\n[option.bus]");
    tree.run("options").code(3).complains(&["`64`"]);
}
