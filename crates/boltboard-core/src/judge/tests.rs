use super::*;
use crate::base::Digest;
use crate::board::Board;
use crate::journal::{Journal, StepRecord};
use crate::reading::TokenMemo;
use crate::step::{Location, Look};
use crate::store::{Note, Output, Store};
use crate::testing::{Planner, TREE, TestTree, step, tree};
use crate::work::StatusMemo;

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
            TokenMemo::default(),
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
                    let form = Look::Form(header.at.clone());
                    (form.kept(), judge.form(&header.at).expect("a header"))
                }))
                .collect(),
            absent: vec!["tree:include/own.h".into()],
            macros: judge.seen_macros(main, &named, &crate::judge::Forms::All),
            macro_names: judge.names_digest(main),
            outputs: vec![Output { location: object.kept(), digest: Digest::of(b"object"), mode: 0o644 }],
            said: String::new(),
            work_ms: 7,
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
        let (status, store, tokens) =
            (StatusMemo::default(), Store::at(&self.tree.root().join("store")), TokenMemo::default());
        let was = step(&first, "objects/prog/main.c.o").1;
        let record = StepRecord {
            part: String::new(),
            step: was.name.clone(),
            base_key: was.base_key(),
            command: was.command(),
            tool: was.tool_identity(),
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
        "boltboard.toml",
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
    done.tree.write("boltboard.toml", &more);
    assert_eq!(done.reasons(&done.tree.board()), ["new main None Some(\"1\")"]);
}

#[test]
fn a_preview_follows_what_earlier_steps_would_make() {
    let tree = tree();
    let plan = Planner::new(&tree, "", true).plan();
    let (journal, store) = (Journal::open(&plan.folders.build).expect("empty"), Store::at(&tree.root().join("store")));
    let (status, tokens) = (StatusMemo::default(), TokenMemo::default());
    let judge = Judge::new(&plan, &journal, &store, &status, &tokens);
    let preview = preview(&judge);
    assert_eq!((preview.steps.len(), preview.current, preview.work().known), (6, 0, WorkKnown::Unknown));
    assert!(preview.steps.iter().all(|s| s.verdict == Verdict::Run && s.reasons[0] == Reason::New));
}
