use super::*;
use crate::testing::{Planner, TREE, TestTree, no_tools, step, tree};

fn names(plan: &Plan) -> Vec<&str> {
    plan.steps.iter().map(|(_, step)| step.name.as_str()).collect()
}

#[test]
fn parts_become_steps_after_those_that_they_use() {
    let tree = tree();
    let plan = Planner::new(&tree, "", true).plan();
    let want = [
        "made/t/options.h",
        "objects/low/low.c.o",
        "out/lib/liblow.a",
        "made/table.c",
        "objects/prog/main.c.o",
        "out/bin/prog",
    ];
    assert_eq!(names(&plan), want);
    let (_, compile) = step(&plan, "objects/prog/main.c.o");
    let words = compile.command().join(" ");
    assert_eq!(
        words,
        "cc -O1 -ffast -funroll -ffile-prefix-map=.=. -ffile-prefix-map=made/.=made -Imade/. -Iinclude main.c -c -o objects/prog/main.c.o"
    );
    let before: Vec<&str> = compile.after.iter().map(|id| plan.steps[*id].name.as_str()).collect();
    assert_eq!(before, ["made/t/options.h", "made/table.c"]);
    let (_, link) = step(&plan, "out/bin/prog");
    assert_eq!(link.command().join(" "), "cc -o out/bin/prog objects/prog/main.c.o out/lib/liblow.a -lm");
    assert_eq!((link.verb(), plan.owner(link)), ("link", "prog"));
    let (_, archive) = step(&plan, "out/lib/liblow.a");
    assert_eq!(
        (archive.verb(), archive.command().join(" ").as_str()),
        ("archive", "ar qcDs out/lib/liblow.a objects/low/low.c.o")
    );
}

#[test]
fn options_bring_sources_flags_and_modules() {
    let tree = tree();
    let plan = Planner::new(&tree, "fog=on m=loadable", true).plan();
    let (_, fog) = step(&plan, "objects/prog/fog.c.o");
    assert!(fog.command().contains(&"-O3".to_string()) && fog.brought_by.is_some());
    let (_, module) = step(&plan, "out/lib/t/mod.so");
    assert_eq!(module.command().join(" "), "cc -shared -o out/lib/t/mod.so objects/mod/mod.c.o");
    assert!(step(&plan, "objects/mod/mod.c.o").1.command().contains(&"-fPIC".to_string()));
    let plan = Planner::new(&tree, "m=builtin", true).plan();
    assert!(!names(&plan).contains(&"out/lib/t/mod.so"));
    assert!(!step(&plan, "objects/mod/mod.c.o").1.command().contains(&"-fPIC".to_string()));
    assert!(step(&plan, "out/bin/prog").1.reads.iter().any(|r| r.to_string() == "objects/mod/mod.c.o"));
    let content = step(&plan, "made/table.c").1.text().expect("written");
    assert_eq!(content, "/* head */\nint mod_s;\nmod\n");
}

#[test]
fn macros_stand_for_values_as_their_form_says() {
    let forms = r#"
[header.h]
output = "h.h"
[option.on]
kind = "switch"
default = "on"
macro = ["A", { name = "B", form = "one-or-zero" }]
[option.off]
kind = "switch"
macro = ["C", { name = "D", form = "one-or-zero" }]
[option.m]
kind = "module"
default = "loadable"
macro = [{ name = "E", form = "loadable" }, { name = "F", form = "builtin" }, { name = "G", when = "off" }]
[option.size]
kind = "size"
default = "5GiB"
macro = "H"
[option.text]
kind = "text"
default = 'a "b" \c'
macro = ["I", { name = "J", form = "plain" }]
[option.pick]
kind = "pick"
values = ["x", "y"]
macro = "K"
[option.idle]
kind = "number"
default = 4
requires = "off"
macro = "L"
"#;
    let tree = TestTree::new(forms, &[]);
    let table = Planner::new(&tree, "", true).macros();
    let shown: Vec<String> = table
        .entries
        .iter()
        .map(|(name, entry)| format!("{name}={}", entry.stands_for.as_deref().unwrap_or("absent")))
        .collect();
    let want = [
        "A=1",
        "B=1",
        "C=absent",
        "D=0",
        "E=1",
        "F=absent",
        "G=absent",
        "H=5368709120ULL",
        "I=\"a \\\"b\\\" \\\\c\"",
        "J=a \"b\" \\c",
        "K_X=1",
        "K_Y=absent",
        "L=absent",
    ];
    assert_eq!(shown, want);
}

#[test]
fn the_option_header_has_a_line_for_each_macro() {
    let tree = tree();
    let lines = |chosen: &str| {
        let plan = Planner::new(&tree, chosen, true).plan();
        step(&plan, "made/t/options.h").1.text().expect("written").to_string()
    };
    let (off, on) = (lines(""), lines("fog=on"));
    assert!(off.contains("/* T_FOG is not defined: fog is off. */") && on.contains("#define T_FOG 1"));
    assert_eq!(off.lines().count(), on.lines().count(), "line numbers stay the same");
    assert!(on.contains("#ifndef MADE_T_OPTIONS_H\n#define MADE_T_OPTIONS_H\n"));
}

#[test]
fn what_stands_against_a_plan_is_all_told() {
    let wrong = TREE.replace("uses = [\"low\", \"table\"]", "uses = [\"low\", \"table\", \"off\"]\nneeds = [\"lib\"]")
        + "[need.lib]\nheader = \"x.h\"\nrequired = true\n[part.off]\nkind = \"objects\"\nwhen = \"fog\"\nsources = [\"fog.c\"]\n[part.twin]\nkind = \"program\"\nwhen = \"depth = 3\"\nsources = [\"low.c\"]\noutput = \"bin/prog\"\n[part.none]\nkind = \"program\"\nsources = [{ when = \"fog\", add = [\"fog.c\"] }]\n";
    let tree = TestTree::new(&wrong, &[("main.c", ""), ("fog.c", ""), ("low.c", ""), ("mod.c", "")]);
    let problems = Planner::new(&tree, "", false).lowered().expect_err("no plan");
    let told: Vec<String> = problems.iter().map(|p| p.fault.to_string()).collect();
    assert_eq!(
        told,
        [
            "nothing of this tree can be built while the need `lib` is not met",
            "part `prog` uses `off`, which is not made with these options (fog does not hold)",
            "part `prog` cannot be built while the need `lib` is not met",
            "out/bin/prog would be made twice: by part `prog` and by part `twin`",
            "part `none` has no sources with these options",
        ]
    );
    assert!(problems.iter().all(|p| p.place.is_some()));
}

#[test]
fn without_a_compiler_there_is_a_plan_that_says_so() {
    let tree = tree();
    let mut planner = Planner::new(&tree, "", true);
    planner.tools = no_tools();
    let plan = planner.plan();
    assert_eq!(step(&plan, "objects/prog/main.c.o").1.absent_tool(), Some("cc is not in the search path"));
    assert_eq!(step(&plan, "made/table.c").1.absent_tool(), None);
}
