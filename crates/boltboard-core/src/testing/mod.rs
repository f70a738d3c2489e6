//! Trees in temporary folders, for the tests of this crate.

pub mod sessions;

use std::collections::BTreeMap;
use std::path::Path;

use crate::base::{Digest, Epoch, Id};
use crate::board::Board;
use crate::definitions::{Listing, Outside, Reading, read_tree};
use crate::logic::encode;
use crate::plan::{MacroTable, Plan, PlanInput, PlanProblem, lower, macro_table};
use crate::profile::{Choices, Layer, ProfileSource};
use crate::reading::UnitsMemo;
use crate::resolve::{Resolution, resolve};
use crate::step::{Step, StepId};
use crate::store::Note;
use crate::survey::{
    Compiler, CompilerFault, Compilers, Fact, FactSource, FactState, Facts, Family, Found, LibrarySearch, Missing,
    Tools,
};
use crate::work::Folders;

/// The root table that every test tree begins with.
const HEAD: &str = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n";

/// A tree with its build folder; both are removed when it is dropped.
pub struct TestTree {
    folder: tempfile::TempDir,
}

impl TestTree {
    /// Makes a tree; `boltboard.toml` gets its head.
    pub fn new(board: &str, files: &[(&str, &str)]) -> TestTree {
        let tree = TestTree { folder: tempfile::tempdir().expect("a folder") };
        tree.write("boltboard.toml", &format!("{HEAD}{board}"));
        files.iter().for_each(|(path, text)| tree.write(path, text));
        tree
    }

    /// Reads a board that needs no other files.
    pub fn board_only(board: &str) -> Board {
        TestTree::new(board, &[]).board()
    }

    pub fn root(&self) -> &Path {
        self.folder.path()
    }

    pub fn write(&self, path: &str, text: &str) {
        let path = self.root().join(path);
        std::fs::create_dir_all(path.parent().expect("a parent")).expect("folders");
        std::fs::write(path, text).expect("written");
    }

    pub fn reading(&self) -> Reading {
        read_tree(self.root(), None, &Outside::default())
    }

    #[track_caller]
    pub fn board(&self) -> Board {
        let reading = self.reading();
        assert!(reading.problems.is_empty(), "{:?}", reading.problems);
        reading.board.expect("a board")
    }

    pub fn folders(&self) -> Folders {
        Folders { tree: self.root().canonicalize().expect("a tree"), build: self.root().join("build") }
    }
}

/// A board with everything that a plan needs.
pub struct Planner {
    pub board: Board,
    pub resolution: Resolution,
    pub facts: Facts,
    pub listing: Listing,
    pub tools: Tools,
    pub folders: Folders,
    pub units: UnitsMemo,
    pub choices: Choices,
}

impl Planner {
    /// Resolves a tree with these choices; every need is there when `has` is.
    pub fn new(tree: &TestTree, chosen: &str, has: bool) -> Planner {
        let board = tree.board();
        let facts = facts(&vec![has; board.needs.len()]);
        let choices = choices(&board, chosen);
        let resolution = resolve(&board, &encode(&board), &choices, &facts).expect("it resolves");
        let listing = Listing::of(tree.root());
        Planner {
            board,
            resolution,
            facts,
            listing,
            tools: tools(),
            folders: tree.folders(),
            units: UnitsMemo::at(tree.root().join("units")),
            choices,
        }
    }

    pub fn input(&self) -> PlanInput<'_> {
        PlanInput {
            board: &self.board,
            resolution: &self.resolution,
            facts: &self.facts,
            listing: &self.listing,
            tools: &self.tools,
            folders: &self.folders,
            units: &self.units,
            choices: &self.choices,
            profile: self.choices.profile().unwrap_or("mine"),
        }
    }

    pub fn lowered(&self) -> Result<Plan, Vec<PlanProblem>> {
        lower(self.input())
    }

    #[track_caller]
    pub fn plan(&self) -> Plan {
        self.lowered().expect("a plan")
    }

    pub fn macros(&self) -> MacroTable {
        macro_table(&self.board, &self.resolution, &self.facts)
    }
}

/// Tools that are found but never run.
pub fn tools() -> Tools {
    let compiler = |name: &str| Compiler {
        path: format!("/usr/bin/{name}").into(),
        real_path: format!("/usr/bin/{name}").into(),
        version: format!("{name} version 1"),
        family: Family::Gcc,
        target: String::new(),
        identity: Digest::of(name.as_bytes()),
        include_folders: vec![],
        header_search: vec![],
        library_folders: vec![],
        library_search: LibrarySearch::Partly,
        wrapper: None,
    };
    Tools {
        target: Compilers { c: Ok(compiler("cc")), cxx: Ok(compiler("c++")), fortran: Ok(compiler("gfortran")) },
        host: None,
        environment: BTreeMap::new(),
        search_path: "/usr/bin:/bin".into(),
        variables: BTreeMap::new(),
        epoch: Epoch::default(),
        processor: Digest::default(),
    }
}

/// Tools of a machine without compilers.
pub fn no_tools() -> Tools {
    let absent = |name: &str| CompilerFault::Absent { name: name.into() };
    let target = Compilers { c: Err(absent("cc")), cxx: Err(absent("c++")), fortran: Err(absent("gfortran")) };
    Tools { target, search_path: String::new(), ..tools() }
}

/// Facts that say of each need whether it is there.
pub fn facts(has: &[bool]) -> Facts {
    let state = |has: bool| if has { FactState::Found(Found::default()) } else { FactState::Missing(Missing::Absent) };
    let fact = |(index, has): (usize, &bool)| Fact::plain(Id::new(index), state(*has), FactSource::Looked);
    Facts::new(has.iter().enumerate().map(fact).collect())
}

/// Choices as a person types them, separated by blanks.
pub fn choices(board: &Board, text: &str) -> Choices {
    let mut choices = Choices::default();
    choices.layers.add(Layer { name: "p".into(), source: ProfileSource::Own });
    let words: Vec<String> = text.split_whitespace().map(str::to_string).collect();
    choices.with_tried(board, &words).expect("choices")
}

/// The definitions of a tree with a part of each sort.
pub const TREE: &str = r#"
[toolchain]
flags = ["-O1"]
[header.h]
output = "t/options.h"
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
output = "table.c"
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

/// That tree.
pub fn tree() -> TestTree {
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

/// A step by its name.
pub fn step<'a>(plan: &'a Plan, name: &str) -> (StepId, &'a Step) {
    plan.steps.iter().find(|(_, step)| step.name == name).expect("the step")
}

/// What a step saw that read one file.
pub fn note(input: &str, work_ms: u64) -> Note {
    Note {
        inputs: vec![(format!("tree:{input}"), Digest::of(input.as_bytes()))],
        absent: vec![],
        macros: vec![("A".into(), Some("1".into())), ("B".into(), None)],
        macro_names: Digest::of(b"names"),
        outputs: vec![],
        said: "a warning".into(),
        work_ms,
        memory: 0,
        text: None,
        closely: false,
    }
}
