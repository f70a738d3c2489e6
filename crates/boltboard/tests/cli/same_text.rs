//! Compiles are spared where their text after preprocessing stays the same.

use crate::harness::Scratch;

const BOARD: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[toolchain]
flags = ["-O1", "-g"]
[header.options]
output = "options.h"
guard = "OPTIONS_H"
prefix = "T_"
[option.beam]
kind = "switch"
summary = "beam"
[option.range]
kind = "number"
range = [1, 99]
default = 5
macro = []
summary = "range"
[option.pace]
kind = "switch"
macro = []
summary = "pace"
[part.conf]
kind = "generated"
template = "conf.h.in"
output = "conf.h"
[part.prog]
kind = "program"
sources = ["*.c"]
uses = ["conf"]
include = ["."]
defines = [{ when = "pace", add = ["T_PACE=2"] }]
"#;

const ALL: &str = "#include <options.h>\n#include <conf.h>\n#include \"hand.h\"\n#ifdef T_BEAM\n#define LIT(x) ((x) + 1)\n#else\n#define LIT(x) (x)\n#endif\n\
                   #ifdef T_PACE\n#define PACED(x) ((x) * T_PACE)\n#else\n#define PACED(x) (x)\n#endif\n";

/// Twelve sources that all see every name; one uses each.
fn tree() -> Scratch {
    let tree = Scratch::with(&[("boltboard.toml", BOARD), ("all.h", ALL)]);
    tree.write("conf.h.in", "#define T_RANGE @range@\nextern int tide;\n");
    tree.write("hand.h", "/* by hand */\n#define BY_HAND 3 /* three */\nextern int ebb;\n");
    for index in 0..8 {
        tree.write(
            &format!("plain{index}.c"),
            &format!("#include \"all.h\"\nint plain{index}(void) {{ return {index}; }}\n"),
        );
    }
    for (name, value) in [("lit", "LIT(1)"), ("far", "T_RANGE"), ("paced", "PACED(3)"), ("hand", "BY_HAND")] {
        tree.write(&format!("{name}.c"), &format!("#include \"all.h\"\nint {name}(void) {{ return {value}; }}\n"));
    }
    tree.write("main.c", "int main(void) { return 0; }\n");
    tree.run("build").code(0).steps(14);
    tree
}

#[test]
fn an_option_that_all_see_compiles_those_whose_text_it_changes() {
    let tree = tree();
    for (change, source) in [("beam=on", "lit.c"), ("range=6", "far.c"), ("pace=on", "paced.c")] {
        tree.run(&format!("set {change}")).code(0);
        let told = tree.run("build --verbose").code(0).steps(2).says(&["11 of the same text"]);
        told.complains(&[&format!("compile   {source}"), "same text plain0.c"]);
        tree.run("build").code(0).says(&["Nothing to do: all 16 steps are current"]);
        tree.equals_clean();
    }
    for change in ["beam=off", "range=5", "pace=off"] {
        tree.run(&format!("set {change}")).code(0);
    }
    tree.run("build").code(0).says(&[": 13 reused"]);
    tree.equals_clean();
}

#[test]
fn a_profile_takes_over_what_another_one_has_made() {
    let tree = tree();
    tree.run("profile new other").code(0);
    tree.run("set beam=on").code(0);
    tree.run("build").code(0).says(&["2 steps ran, 1 reused, 11 of the same text"]);
    tree.run("build --verify").code(0).says(&["byte for byte"]);
}

#[test]
fn a_header_edited_by_hand_counts_where_it_changes_the_text_or_its_columns() {
    let tree = tree();
    tree.edit("hand.h", "#define BY_HAND 3 /* three */", "#define BY_HAND 4 /* four */");
    tree.run("build").code(0).steps(2).says(&["11 of the same text"]);
    tree.equals_clean();
    tree.edit("hand.h", "#define BY_HAND 4 /* four */", "#define BY_HAND 4 /* 4 */");
    tree.run("build").code(0).says(&[": 12 of the same text"]);
    tree.equals_clean();
    tree.edit("hand.h", "extern int ebb;", "/* low */ extern int ebb;");
    tree.run("build").code(0).steps(12);
    tree.equals_clean();
    tree.edit("hand.h", "/* by hand */\n", "/* by hand\n */\n");
    tree.run("build").code(0).steps(12);
    tree.equals_clean();
}

#[test]
fn what_an_assembler_takes_in_counts_although_no_text_shows_it() {
    let tree = tree();
    tree.write("logo.bin", "one");
    tree.write("logo.c", "#include \"all.h\"\n__asm__(\".incbin \\\"logo.bin\\\"\");\n");
    tree.run("build").code(0);
    tree.write("logo.bin", "two");
    tree.run("build").code(0).steps(2);
    tree.equals_clean();
}
