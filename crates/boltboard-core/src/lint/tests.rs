use super::*;
use crate::logic::encode;
use crate::testing::TestTree;

/// Findings as `kind@line` of the definitions, or `kind@file:line`.
fn found(tree: &TestTree) -> Vec<String> {
    let board = tree.board();
    let lint = lint(&board, &encode(&board), &Listing::of(tree.root()), &Journal::open(tree.root()).expect("none"));
    let shown = |finding: &Finding| match &finding.at {
        Spot::Definition(place) => format!("{}@{}", finding.kind.name(), board.files.excerpt(*place).line - 4),
        Spot::Source(file, line) => format!("{}@{file}:{line}", finding.kind.name()),
        Spot::Tree => finding.kind.name().to_string(),
    };
    lint.findings.iter().map(shown).collect()
}

/// Every option and need has a summary here, so that only what a case is about is found.
fn of_board(lines: &str) -> Vec<String> {
    let text = lines
        .replace("switch;", "kind = \"switch\"\nsummary = \"s\"")
        .replace("module;", "kind = \"module\"\nsummary = \"s\"");
    found(&TestTree::new(&text, &[]))
}

#[test]
fn what_can_never_be_is_found() {
    for (case, board, want) in [
        ("nothing is wrong", "[option.a]\nswitch;\nrequires = \"b\"\n[option.b]\nswitch;", vec![]),
        (
            "requirements that exclude each other",
            "[option.a]\nswitch;\nrequires = [\"b\", \"not b\"]\n[option.b]\nswitch;",
            vec!["contradiction@1"],
        ),
        (
            "through a chain",
            "[option.a]\nswitch;\nrequires = \"b and c\"\n[option.b]\nswitch;\nconflicts = \"c\"\n[option.c]\nswitch;",
            vec!["never-on@1"],
        ),
        (
            "a need is no reason: another host may have it",
            "[option.a]\nswitch;\nneeds = \"n\"\n[need.n]\nsummary = \"s\"\nheader = \"zlib.h\"",
            vec![],
        ),
        (
            "a value of a pick",
            "[option.a]\nswitch;\nrequires = \"p = y\"\n[option.p]\nkind = \"pick\"\nsummary = \"s\"\nvalues = [\"x\", { name = \"y\", requires = \"not a\" }]",
            vec!["never-on@1"],
        ),
        (
            "a value that asks for what excludes it",
            "[option.p]\nkind = \"pick\"\nsummary = \"s\"\nvalues = [\"x\", { name = \"y\", requires = [\"b\", \"not b\"] }]\n[option.b]\nswitch;",
            vec!["value-never@1"],
        ),
        (
            "a pick without a possible value",
            "[option.p]\nkind = \"pick\"\nsummary = \"s\"\nvalues = [{ name = \"y\", requires = [\"b\", \"not b\"] }]\n[option.b]\nswitch;",
            vec!["no-way"],
        ),
        (
            "always on",
            "[option.p]\nkind = \"pick\"\nsummary = \"s\"\nvalues = [{ name = \"y\", requires = \"b\" }]\n[option.b]\nswitch;",
            vec!["always-on@5"],
        ),
    ] {
        assert_eq!(of_board(board), want, "{case}");
    }
}

#[test]
fn defaults_that_never_count_are_found() {
    let board = |default: &str| {
        format!(
            "[option.a]\nswitch;\nconflicts = \"c\"\ndefault = {default}\n[option.b]\nswitch;\n[option.c]\nswitch;\nrequires = \"b\""
        )
    };
    for (case, default, want) in [
        ("a plain one", "\"on\"", vec![]),
        ("one that another may come before", "[{ when = \"b\", value = \"on\" }, { value = \"off\" }]", vec![]),
        (
            "one after one without a condition",
            "[{ value = \"off\" }, { when = \"b\", value = \"on\" }]",
            vec!["default-never@5"],
        ),
        ("one whose condition can never hold", "[{ when = \"c and not b\", value = \"on\" }]", vec!["default-never@5"]),
        (
            "one that an earlier one always covers",
            "[{ when = \"b\", value = \"off\" }, { when = \"c\", value = \"off\" }]",
            vec!["default-never@5"],
        ),
        ("one that can never be had while it counts", "[{ when = \"c\", value = \"on\" }]", vec!["default-never@5"]),
    ] {
        assert_eq!(of_board(&board(default)), want, "{case}");
    }
    let ring =
        "[option.a]\nswitch;\ndefault = [{ when = \"b\", value = \"on\" }]\n[option.b]\nswitch;\nrequires = \"a\"";
    assert_eq!(of_board(ring), ["depends-on-itself@4"]);
}

#[test]
fn words_and_unused_things_are_found_and_can_be_accepted() {
    let board = "[section.s]\ntitle = \"S\"\n[option.a]\nkind = \"switch\"\n[need.n]\nheader = \"nobody-has-this.h\"\n";
    let all = ["need-unused@5", "section-empty@1", "no-summary@3", "no-packages@5", "no-summary@5"];
    assert_eq!(found(&TestTree::new(board, &[])), all);
    let accepting = board.replace(
        "header =",
        "accept = { need-unused = \"for the next version\", no-packages = \"ours alone\", never-on = \"?\" }\nheader =",
    );
    let left = ["accepted-nothing@6", "section-empty@1", "no-summary@3", "no-summary@5"];
    assert_eq!(found(&TestTree::new(&accepting, &[])), left);
}

#[test]
fn definitions_are_held_against_the_sources() {
    let board = "[header.o]\noutput = \"o.h\"\nprefix = \"SK_\"\n[option.horn]\nkind = \"switch\"\nsummary = \"s\"\n\
                 [option.bell]\nkind = \"switch\"\nsummary = \"s\"\n[option.gong]\nkind = \"switch\"\nsummary = \"s\"\n\
                 [part.p]\nkind = \"program\"\nsummary = \"s\"\nsources = [\"main.c\", { when = \"gong\", add = [\"gong.c\"] }]\n";
    let files = [
        ("main.c", "#include <o.h>\n#ifdef SK_HORN\n#endif\n#if defined SK_SIREN && SK_OWN\n#endif\n"),
        ("gong.c", "#define SK_OWN 1\n"),
        ("old.c", "int old; // SK_BELL is only spoken of\n"),
    ];
    let want = ["macro-unread@7", "macro-unknown@main.c:4", "loose-source@old.c:1"];
    let mut got = found(&TestTree::new(board, &files));
    got.sort();
    let mut sorted = want;
    sorted.sort();
    assert_eq!(got, sorted);
    let accepting =
        format!("[[accept]]\nfinding = \"loose-source\"\nfiles = [\"old.c\"]\nreason = \"kept to read\"\n{board}");
    assert!(!found(&TestTree::new(&accepting, &files)).iter().any(|one| one.starts_with("loose-source")));
}
