use std::time::Duration;

use super::*;
use crate::testing::TestTree;

fn place(tree: &TestTree, program: &str) -> KeptPlace {
    std::fs::create_dir_all(tree.root().join("work")).expect("a folder");
    KeptPlace {
        file: tree.root().join("work/board"),
        program: program.into(),
        work: WorkFolder::at(&tree.root().join("work")),
    }
}

/// A tree that was left alone long enough for its files' times to count.
fn settled() -> TestTree {
    let board =
        "more = [\"*/boltboard.toml\"]\n[option.horn]\nkind = \"switch\"\nrequires = \"air\"\nhelp = \"loud\"\n";
    let tree = TestTree::new(board, &[("air/boltboard.toml", "[option.air]\nkind = \"switch\"\n")]);
    place(&tree, "p");
    std::thread::sleep(Duration::from_millis(120));
    tree
}

fn loaded(tree: &TestTree, program: &str) -> Loaded {
    load(tree.root(), None, &Outside::default(), Some(&place(tree, program))).expect("a sound board")
}

#[test]
fn what_was_kept_is_the_same_board() {
    let tree = settled();
    let first = loaded(&tree, "p");
    let second = loaded(&tree, "p");
    assert_eq!((first.source, second.source), (LoadedFrom::Definitions, LoadedFrom::Kept));
    let names = |loaded: &Loaded| format!("{:?} {:?}", loaded.board.options, loaded.board.tree);
    second.board.options.iter().for_each(|_| {});
    for (id, option) in first.board.options.iter() {
        assert_eq!(format!("{option:?}"), format!("{:?}", second.board.options[id]));
        let place = |loaded: &Loaded| loaded.board.files.excerpt(loaded.board.options[id].place);
        assert_eq!(place(&first), place(&second), "places are shown from files that are read when they are wanted");
    }
    assert!(names(&first).contains("horn"));
    assert_eq!(format!("{:?}", first.logic), format!("{:?}", second.logic));
    assert_eq!(
        first.search.of(&first.board).find(&first.board, "loud"),
        second.search.of(&second.board).find(&second.board, "loud")
    );
    assert_eq!(second.board.option("air"), first.board.option("air"));
}

#[test]
fn whatever_changes_the_board_is_read_anew() {
    type Change = fn(&TestTree);
    let changes: [(&str, Change, LoadedFrom); 6] = [
        (
            "a file is edited",
            |t| t.write("air/boltboard.toml", "[option.wind]\nkind = \"switch\"\n[option.air]\nkind = \"switch\"\n"),
            LoadedFrom::Definitions,
        ),
        (
            "a file appears",
            |t| t.write("bell/boltboard.toml", "[option.bell]\nkind = \"switch\"\n"),
            LoadedFrom::Definitions,
        ),
        ("a file that is no definition appears", |t| t.write("air/air.c", "int air;\n"), LoadedFrom::Kept),
        (
            "the kept form is damaged",
            |t| {
                let file = t.root().join("work/board");
                let mut bytes = std::fs::read(&file).expect("kept");
                let middle = bytes.len() / 2;
                bytes[middle] ^= 1;
                std::fs::write(file, bytes).expect("written");
            },
            LoadedFrom::Definitions,
        ),
        (
            "the kept form is cut off",
            |t| {
                let file = t.root().join("work/board");
                let bytes = std::fs::read(&file).expect("kept");
                std::fs::write(file, &bytes[..bytes.len() - 9]).expect("written");
            },
            LoadedFrom::Definitions,
        ),
        ("the kept form is empty", |t| t.write("work/board", ""), LoadedFrom::Definitions),
    ];
    for (case, change, want) in changes {
        let tree = settled();
        loaded(&tree, "p");
        assert_eq!(loaded(&tree, "p").source, LoadedFrom::Kept, "{case}: before");
        change(&tree);
        let after = loaded(&tree, "p");
        assert_eq!(after.source, want, "{case}");
        let fresh = load(tree.root(), None, &Outside::default(), None).expect("a sound board");
        assert!(after.board.option_names.iter().eq(fresh.board.option_names.iter()), "{case}");
    }
    let tree = settled();
    loaded(&tree, "p");
    assert_eq!(loaded(&tree, "another program").source, LoadedFrom::Definitions);
}

#[test]
fn what_was_just_written_is_not_trusted() {
    let tree = settled();
    tree.write("air/boltboard.toml", "[option.air]\nkind = \"module\"\n");
    loaded(&tree, "p");
    assert_eq!(loaded(&tree, "p").source, LoadedFrom::Definitions);
}
