use super::*;
use crate::base::Digest;
use crate::board::Board;
use crate::store::{Journal, Note, Output, StatusMemo, StepRecord, Store};
use crate::testing::{Planner, TestTree, no_tools};

const TREE: &str = r#"
[toolchain]
flags = ["-O1"]
[header.h]
path = "t/options.h"
prefix = "T_"
[option.fog]
kind = "switch"
[option.depth]
kind = "number"
range = [1, 9]
default = 3
[option.speed]
kind = "words"
default = ["-ffast", "-funroll"]
macro = []
[option.m]
kind = "module"
[part.low]
kind = "static-library"
sources = ["low.c"]
public-include = ["include"]
[part.prog]
kind = "program"
sources = ["main.c", { when = "fog", add = ["fog.c"], flags = ["-O3"] }]
uses = ["low", "table"]
flags = ["${speed}"]
defines = ["LEVEL=${depth}"]
libraries = ["m"]
[part.table]
kind = "generated"
[part.table.module-table]
program = "prog"
to = "table.c"
head = "/* head */"
declare = "int {symbol};"
entry = "{module}"
[part.mod]
kind = "module"
option = "m"
program = "prog"
symbol = "mod_s"
sources = ["mod.c"]
"#;

fn tree() -> TestTree {
    let main = "#include <t/options.h>\n#include \"own.h\"\n#ifdef T_FOG\n#endif\nint main(void) { return LEVEL; }\n";
    TestTree::new(
        TREE,
        &[
            ("main.c", main),
            ("own.h", "int own;\n"),
            ("fog.c", "int f;\n"),
            ("low.c", "int l;\n"),
            ("mod.c", "int m;\n"),
            ("include/low.h", ""),
        ],
    )
}

fn names(plan: &Plan) -> Vec<&str> {
    plan.steps.iter().map(|(_, step)| step.name.as_str()).collect()
}

fn step<'a>(plan: &'a Plan, name: &str) -> (StepId, &'a Step) {
    plan.steps.iter().find(|(_, step)| step.name == name).expect("the step")
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
    let Action::Write { content } = &step(&plan, "made/table.c").1.action else { panic!("written") };
    assert_eq!(content, "/* head */\nint mod_s;\nmod\n");
}

#[test]
fn macros_stand_for_values_as_their_form_says() {
    let forms = r#"
[header.h]
path = "h.h"
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
        let Action::Write { content } = step(&plan, "made/t/options.h").1.action.clone() else { panic!("written") };
        content
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
            "the tree cannot be built without `lib`, which this host lacks",
            "part `prog` uses `off`, which is not made with these options (fog does not hold)",
            "part `prog` needs `lib`, which this host lacks",
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
    assert_eq!(step(&plan, "objects/prog/main.c.o").1.absent_tool(), Some("there is no `cc` in the search path"));
    assert_eq!(step(&plan, "made/table.c").1.absent_tool(), None);
}

#[test]
fn locations_are_kept_and_read_back() {
    let tree = tree();
    let folders = tree.folders();
    for (path, kept, shown) in [
        (folders.tree.join("a/b.c"), "tree:a/b.c", "a/b.c"),
        (folders.made().join("x.h"), "made:x.h", "made/x.h"),
        (folders.objects().join("p/x.o"), "object:p/x.o", "objects/p/x.o"),
        (folders.outputs().join("bin/p"), "out:bin/p", "out/bin/p"),
        ("/usr/include/stdio.h".into(), "system:/usr/include/stdio.h", "/usr/include/stdio.h"),
    ] {
        let location = Location::of(&path, &folders);
        assert_eq!((location.kept().as_str(), location.to_string().as_str()), (kept, shown));
        assert_eq!(kept.parse::<Location>(), Ok(location.clone()));
        assert_eq!(location.path(&folders), path);
    }
    assert!("nowhere:x".parse::<Location>().is_err() && "tree:../x".parse::<Location>().is_err());
}

/// A build folder in which the compile of `main.c` was done, and judges what has become of it.
struct Done {
    tree: TestTree,
    chosen: &'static str,
    note: Note,
}

impl Done {
    fn new() -> Done {
        let tree = tree();
        let planner = Planner::new(&tree, "", true);
        let plan = planner.plan();
        let object = Location::Object(crate::base::RelPath::parse("prog/main.c.o").expect("a path"));
        let path = object.path(&plan.folders);
        std::fs::create_dir_all(path.parent().expect("a parent")).expect("folders");
        std::fs::write(&path, "object").expect("written");
        let (_, main) = step(&plan, "objects/prog/main.c.o");
        let status = StatusMemo::default();
        let (journal, store, tokens) = (
            Journal::open(&plan.folders.build).expect("empty"),
            Store::at(&tree.root().join("store")),
            crate::reading::TokenMemo::default(),
        );
        let judge = Judge::new(&plan, &journal, &store, &status, &tokens);
        let read: Vec<Location> =
            ["main.c", "own.h"].map(|f| Location::Tree(crate::base::RelPath::parse(f).expect("a path"))).to_vec();
        let texts = read.iter().map(|l| std::fs::read(l.path(&plan.folders)).expect("there"));
        let named: Vec<_> = texts
            .map(|text| std::sync::Arc::new(crate::reading::Tokens::of(&text, &crate::reading::Dialects::default())))
            .collect();
        let note = Note {
            inputs: read
                .iter()
                .map(|l| (l.kept(), status.digest(&l.path(&plan.folders)).expect("there")))
                .chain(plan.headers.iter().map(|header| {
                    let form = crate::plan::Look::Form(header.at.clone());
                    (form.kept(), judge.form(&header.at).expect("a header"))
                }))
                .collect(),
            absent: vec!["tree:include/own.h".into()],
            macros: judge.seen_macros(main, &named, &crate::plan::Forms::All),
            macro_names: judge.names_digest(main),
            outputs: vec![Output { location: object.kept(), digest: Digest::of(b"object"), mode: 0o644 }],
            said: String::new(),
            wall_ms: 7,
            memory: 0,
            text: None,
            closely: false,
        };
        Done { tree, chosen: "", note }
    }

    fn judged(&self, note: Option<Note>) -> Judged {
        let planner = Planner::new(&self.tree, self.chosen, true);
        let plan = planner.plan();
        // The record is what the first plan's step left.
        let (first, own) = (Planner::new(&self.first(), "", true).plan(), step(&plan, "objects/prog/main.c.o").1);
        let empty = Journal::open(&plan.folders.build).expect("empty");
        let (status, store, tokens) =
            (StatusMemo::default(), Store::at(&self.tree.root().join("store")), crate::reading::TokenMemo::default());
        let base = Judge::new(&first, &empty, &store, &status, &tokens);
        let was = step(&first, "objects/prog/main.c.o").1;
        let record = StepRecord {
            part: String::new(),
            step: was.name.clone(),
            base_key: base.base_key(was),
            command: was.command(),
            tool: base.tool_identity(was),
            note,
        };
        let mut journal = Journal::open(&plan.folders.build).expect("empty");
        journal.add(&record).expect("written");
        Judge::new(&plan, &journal, &store, &status, &tokens).judge(own, &Ahead::default())
    }

    fn first(&self) -> TestTree {
        tree()
    }

    fn reasons(&self, board: &Board) -> Vec<String> {
        let told = |reason: &Reason| match reason {
            Reason::Macro { name, before, now, option, .. } => {
                let option = option.map_or("flag", |id| board.options[id].name.as_str());
                format!("{option} {name} {before:?} {now:?}")
            }
            Reason::Edited(file) => format!("edited {file}"),
            Reason::Gone(file) => format!("gone {file}"),
            Reason::Appeared(file) => format!("appeared {file}"),
            Reason::OutputEdited(file) => format!("output {file}"),
            Reason::OutputMissing(file) => format!("missing {file}"),
            Reason::Command { added, removed } => format!("command +{added:?} -{removed:?}"),
            other => format!("{other:?}"),
        };
        self.judged(Some(self.note.clone())).reasons.iter().map(told).collect()
    }
}

#[test]
fn a_step_is_current_until_something_that_it_sees_changes() {
    let done = Done::new();
    let board = done.tree.board();
    assert_eq!(done.judged(Some(done.note.clone())), Judged { verdict: Verdict::Current, reasons: vec![] });
    let seen: Vec<&str> = done.note.macros.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!(seen, ["LEVEL", "T_FOG"], "what main.c names, and nothing else");
    let with = |chosen: &'static str| Done { chosen, ..Done::new() }.reasons(&board);
    assert_eq!(with("fog=on"), ["fog T_FOG None Some(\"1\")"]);
    assert_eq!(with("depth=4"), ["flag LEVEL Some(\"3\") Some(\"4\")"]);
    assert_eq!(with("m=loadable"), Vec::<String>::new(), "main.c does not name it");
    let after = |change: &dyn Fn(&TestTree)| {
        let done = Done::new();
        change(&done.tree);
        done.reasons(&board)
    };
    assert_eq!(after(&|t| t.write("own.h", "int other;\n")), ["edited own.h"]);
    assert_eq!(after(&|t| std::fs::remove_file(t.root().join("own.h")).expect("removed")), ["gone own.h"]);
    assert_eq!(after(&|t| t.write("include/own.h", "")), ["appeared include/own.h"]);
    assert_eq!(after(&|t| t.write("build/objects/prog/main.c.o", "edited")), ["output objects/prog/main.c.o"]);
    let missing = |t: &TestTree| std::fs::remove_file(t.root().join("build/objects/prog/main.c.o")).expect("removed");
    assert_eq!(after(&missing), ["missing objects/prog/main.c.o"]);
    assert_eq!(done.judged(None).reasons, [Reason::Unsettled]);
}

#[test]
fn other_flags_are_told_word_by_word() {
    let done = Done::new();
    done.tree.write(
        "board.toml",
        &format!("format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n{}", TREE.replace("-O1", "-O2")),
    );
    let board = done.tree.board();
    assert_eq!(done.reasons(&board), ["command +[\"-O2\"] -[\"-O1\"]"]);
}

#[test]
fn a_macro_that_the_board_gains_counts_when_a_file_names_it() {
    let done = Done::new();
    let more = format!(
        "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n{TREE}[option.new]\nkind = \"switch\"\ndefault = \"on\"\nmacro = \"main\"\n[option.other]\nkind = \"switch\"\ndefault = \"on\"\n"
    );
    done.tree.write("board.toml", &more);
    assert_eq!(done.reasons(&done.tree.board()), ["new main None Some(\"1\")"]);
}

#[test]
fn a_preview_follows_what_earlier_steps_would_make() {
    let tree = tree();
    let plan = Planner::new(&tree, "", true).plan();
    let (journal, store) = (Journal::open(&plan.folders.build).expect("empty"), Store::at(&tree.root().join("store")));
    let (status, tokens) = (StatusMemo::default(), crate::reading::TokenMemo::default());
    let judge = Judge::new(&plan, &journal, &store, &status, &tokens);
    let preview = preview(&judge);
    assert_eq!((preview.steps.len(), preview.current, preview.work()), (6, 0, Work::Unknown));
    assert!(preview.steps.iter().all(|s| s.verdict == Verdict::Run && s.reasons[0] == Reason::New));
}
