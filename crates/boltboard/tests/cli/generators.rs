//! What generators can be told: standard input and output, pipes, folders of their own, phases of the compiler, values.

use crate::harness::Scratch;

fn tree(parts: &str, files: &[(&str, &str)]) -> Scratch {
    let board = format!("format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n{parts}");
    let tree = Scratch::with(&[("boltboard.toml", board.as_str())]);
    files.iter().for_each(|(name, text)| tree.write(name, text));
    tree
}

fn made(tree: &Scratch, name: &str) -> String {
    std::fs::read_to_string(tree.at("boltboard-work/builds/mine/made").join(name)).expect("it is made")
}

const PIPED: &str = r#"
[option.loud]
kind = "switch"
[part.words]
kind = "generated"
command = ["sort", { when = "loud", add = ["-r"] }]
stdin = "words.txt"
pipe = [["uniq", "-c"], ["tr", "-d", " "]]
stdout = "words.out"
"#;

#[test]
fn commands_are_joined_by_pipes_without_a_shell() {
    let tree = tree(PIPED, &[("words.txt", "b\na\nb\n")]);
    tree.run("build --verify").code(0);
    assert_eq!(made(&tree, "words.out"), "1a\n2b\n");
    tree.run("build").code(0).steps(0);
    tree.run("set loud=on").code(0);
    tree.run("build --verify").code(0).steps(1);
    assert_eq!(made(&tree, "words.out"), "2b\n1a\n");
    tree.write("words.txt", "c\n");
    tree.run("build --verify").code(0).steps(1);
    assert_eq!(made(&tree, "words.out"), "1c\n");
}

#[test]
fn a_pipe_fails_with_the_first_of_its_commands_and_can_be_repeated() {
    let parts = "[part.x]\nkind = \"generated\"\ncommand = [\"cat\"]\nstdin = \"in.txt\"\npipe = [[\"false\"], [\"cat\"]]\nstdout = \"x.txt\"\n";
    let tree = tree(parts, &[("in.txt", "x\n")]);
    let ran = tree.run("build").code(1);
    assert!(!tree.at("boltboard-work/builds/mine/made/x.txt").exists());
    let line = ran.err.lines().find(|line| line.contains("mkdir -p")).expect("a command to repeat");
    assert!(line.contains("| ") && line.contains("< ") && line.contains("> "), "{line}");
}

const SCRATCH: &str = r#"
[part.tool]
kind = "program"
sources = ["tool.c"]
[part.grammar]
kind = "generated"
command = ["${part:tool}", "rules.y"]
scratch = ["grammar/rules.y", { file = "grammar/frame.c", as = "frame.in" }]
output = ["parse/rules.c", { file = "parse/tokens.h", left = "y.tab.h" }]
[part.prog]
kind = "program"
sources = ["main.c", { made = ["parse/rules.c"] }]
uses = ["grammar"]
"#;

/// Writes `rules.c` beside its input, as some tools do, and `y.tab.h` where it runs.
const TOOL: &str = r##"#include <stdio.h>
int main(int n, char **v) {
    FILE *in = fopen(v[1], "r"), *frame = fopen("frame.in", "r"), *out = fopen("rules.c", "w"), *head = fopen("y.tab.h", "w");
    int c;
    if (!in || !frame || !out || !head || n != 2) return 3;
    while ((c = fgetc(frame)) != EOF) fputc(c, out);
    while ((c = fgetc(in)) != EOF) fputc(c, out);
    fputs("#define TOKENS 4\n", head);
    return 0;
}
"##;

#[test]
fn a_tool_that_writes_beside_its_input_has_a_folder_of_its_own() {
    let files = [
        ("tool.c", TOOL),
        ("grammar/rules.y", "int rules(void) { return 3; }\n"),
        ("grammar/frame.c", "/* frame */\n"),
        ("main.c", "#include <parse/tokens.h>\nint rules(void);\nint main(void) { return rules() + TOKENS; }\n"),
    ];
    let tree = tree(SCRATCH, &files);
    tree.run("build --verify").code(0);
    assert_eq!(made(&tree, "parse/rules.c"), "/* frame */\nint rules(void) { return 3; }\n");
    assert!(!tree.at("grammar/rules.c").exists() && !tree.at("grammar/y.tab.h").exists());
    tree.run("build").code(0).steps(0);
    tree.edit("grammar/frame.c", "frame", "another frame");
    let ran = tree.run("build --verify").code(0);
    assert!(made(&tree, "parse/rules.c").starts_with("/* another frame */") && ran.ran() >= 1);
    tree.edit("boltboard.toml", "as = \"frame.in\"", "as = \"rules.y\"");
    tree.run("build").code(3).complains(&["two files of `scratch` have the name `rules.y`"]);
}

const PHASES: &str = r#"
[option.depth]
kind = "number"
range = [1, 9]
default = 3
[option.other]
kind = "switch"
[header.options]
output = "options.h"
prefix = "T_"
[part.script]
kind = "generated"
preprocess = "prog.lds.S"
output = "prog.lds"
flags = ["-DBASE=16"]
[part.list]
kind = "generated"
preprocess = "list.in"
output = "list.txt"
[part.numbers-asm]
kind = "generated"
assembly = "numbers.c"
output = "numbers.s"
[part.numbers]
kind = "generated"
command = ["sed", "-n", "s/.*=>\\([A-Z]*\\) [$]*\\([0-9]*\\).*/#define \\1 \\2/p"]
stdin = "${part:numbers-asm}"
stdout = "numbers.h"
[part.prog]
kind = "program"
sources = ["main.c"]
uses = ["numbers"]
"#;

#[test]
fn what_goes_through_a_phase_of_the_compiler_is_judged_as_a_compile_is() {
    let files = [
        ("prog.lds.S", "#include \"options.h\"\nSECTIONS { at T_DEPTH of BASE }\n"),
        ("list.in", "#include \"options.h\"\n#ifdef T_OTHER\nother\n#endif\nline // stays\n"),
        (
            "numbers.c",
            "#include \"options.h\"\nstruct s { char a[T_DEPTH]; int b; };\nvoid f(void) { __asm__ volatile(\"\\n=>SIZE %0\" : : \"i\"(sizeof(struct s))); }\n",
        ),
        ("main.c", "#include <numbers.h>\nint main(void) { return SIZE; }\n"),
    ];
    let tree = tree(PHASES, &files);
    tree.run("build --verify").code(0);
    assert!(made(&tree, "prog.lds").contains("SECTIONS { at 3 of 16 }"), "{}", made(&tree, "prog.lds"));
    assert!(made(&tree, "numbers.h").contains("#define SIZE 8"));
    tree.run("build").code(0).steps(0);
    // An option that only one of them names runs that one.
    tree.run("set other=on").code(0);
    assert_eq!(tree.previewed("run"), ["write made/options.h", "preprocess list.in"]);
    tree.run("build --verify").code(0);
    assert!(made(&tree, "list.txt").contains("other"));
    // What is read off the assembly stays the same for four, so what stands on it does not run.
    tree.run("set depth=4").code(0);
    tree.run("build --verify").code(0);
    assert!(made(&tree, "prog.lds").contains("at 4"));
    tree.run("set depth=9").code(0);
    let ran = tree.run("build --verify").code(0);
    assert!(made(&tree, "numbers.h").contains("#define SIZE 16"), "{}", ran.out);
}

const VALUES: &str = r#"
[option.fast]
kind = "switch"
[part.page]
kind = "generated"
template = "page.in"
output = "page.txt"
values = { speed = [{ when = "fast", value = "quick" }, "slow"], where = "${path:tree}" }
[part.said]
kind = "generated"
command = ["printf", "%s\\n", "${value:speed}", "$${HOME}"]
stdout = "said.txt"
values = { speed = [{ when = "fast", value = "1" }, { value = "0" }] }
"#;

#[test]
fn values_of_their_own_follow_from_conditions_and_no_person_sees_them() {
    let tree = tree(VALUES, &[("page.in", "It is @speed@.\n")]);
    tree.run("build --verify").code(0);
    assert_eq!((made(&tree, "page.txt"), made(&tree, "said.txt")), ("It is slow.\n".into(), "0\n${HOME}\n".into()));
    tree.run("set fast=on").code(0);
    tree.run("build --verify").code(0).steps(1);
    assert_eq!((made(&tree, "page.txt"), made(&tree, "said.txt")), ("It is quick.\n".into(), "1\n${HOME}\n".into()));
    assert!(!tree.run("options").code(0).out.contains("speed"));
    tree.edit("boltboard.toml", "${value:speed}", "${value:sped}");
    tree.run("build").code(3).complains(&["sped", "speed"]);
}

#[test]
fn everything_below_a_folder_is_declared_with_hidden_names_too() {
    let parts = "[part.pack]\nkind = \"generated\"\ncommand = [\"sh\", \"pack.sh\"]\nreads = [\"pack.sh\", \"data/**\"]\nstdout = \"pack.txt\"\n";
    let script = "cat data/* data/.hidden\n";
    let tree = tree(parts, &[("pack.sh", script), ("data/a", "1\n"), ("data/.hidden", "2\n")]);
    tree.run("build --verify --check-reads").code(0);
    assert_eq!(made(&tree, "pack.txt"), "1\n2\n");
    tree.write("data/.hidden", "3\n");
    tree.run("build --verify").code(0).steps(1);
    assert_eq!(made(&tree, "pack.txt"), "1\n3\n");
}
