use super::*;
use crate::board::{DefaultValue, Kind, Level, MacroForm, PartKind, RuleKind, Value};
use crate::testing::TestTree;

fn faults(tree: &TestTree) -> Vec<String> {
    tree.reading().problems.iter().map(|p| p.fault.to_string()).collect()
}

#[test]
fn every_kind_is_read_with_its_range_and_default() {
    let board = TestTree::board_only(
        r#"
[option.switch]
kind = "switch"
default = "on"
[option.module]
kind = "module"
level = "expert"
[option.pick]
kind = "pick"
values = ["led", { name = "arc", summary = "bright" }]
default = "arc"
[option.number]
kind = "number"
range = [-3, 9]
default = 4
[option.size]
kind = "size"
range = ["1KiB", 4096]
default = "2KiB"
[option.text]
kind = "text"
default = "two words"
[option.path]
kind = "path"
default = "${text}/x"
[option.words]
kind = "words"
values = ["a", "b"]
default = ["b", "a"]
"#,
    );
    let shown: Vec<String> = board
        .options
        .iter()
        .map(|(_, option)| {
            let default = match &option.defaults[0].value {
                DefaultValue::Fixed(value) => value.to_string(),
                DefaultValue::Derived(interp) => format!("{} pieces", interp.pieces.len()),
            };
            format!("{} {} {default}", option.name, option.kind.expected())
        })
        .collect();
    assert_eq!(
        shown,
        [
            "switch `off` or `on` on",
            "module `off`, `loadable` or `builtin` off",
            "pick `led` or `arc` arc",
            "number a whole number from -3 to 9 4",
            "size a size from 1KiB to 4KiB 2KiB",
            "text one line of text two words",
            "path a path 2 pieces",
            "words some of `a` or `b` b a",
        ]
    );
    assert_eq!(board.options[board.option("module").unwrap()].level, Level::Expert);
}

#[test]
fn options_without_a_default_take_their_kind_s_own() {
    let board = TestTree::board_only(
        "[option.a]\nkind = \"pick\"\nvalues = [\"x\", \"y\"]\n[option.b]\nkind = \"number\"\nrange = [3, 9]\n[option.c]\nkind = \"size\"\nrange = [\"1KiB\", \"2KiB\"]\n[option.d]\nkind = \"words\"\n",
    );
    let own: Vec<String> = board.options.iter().map(|(_, o)| o.kind.own_default().to_string()).collect();
    assert_eq!(own, ["x", "3", "1KiB", ""]);
    assert!(board.options.iter().all(|(_, o)| o.defaults.len() == 1 && o.defaults[0].place.is_none()));
}

#[test]
fn requirements_of_value_options_say_when_they_count() {
    let board = TestTree::board_only(
        "[need.lib]\nheader = \"x.h\"\n[option.a]\nkind = \"switch\"\nconflicts = \"b\"\nneeds = [\"lib\"]\nrequires = [\"b\", \"c\"]\n[option.b]\nkind = \"switch\"\n[option.c]\nkind = \"switch\"\n[option.n]\nkind = \"number\"\nrequires = \"a\"\nconflicts = \"b\"\n",
    );
    let a = &board.options[board.option("a").unwrap()];
    let rules: Vec<(RuleKind, String)> =
        a.rules.iter().map(|r| (board.rules[*r].kind, board.print(&board.rules[*r].must))).collect();
    assert_eq!(
        rules,
        [
            (RuleKind::Requires, "b".to_string()),
            (RuleKind::Requires, "c".into()),
            (RuleKind::Conflicts, "not b".into()),
            (RuleKind::Needs, "need:lib".into()),
        ]
    );
    let n = &board.options[board.option("n").unwrap()];
    assert!(n.rules.is_empty());
    assert_eq!(n.applies_while.as_ref().map(|w| board.print(&w.expr)).as_deref(), Some("a and not b"));
}

#[test]
fn values_of_picks_have_requirements_of_their_own() {
    let board = TestTree::board_only(
        "[option.p]\nkind = \"pick\"\nvalues = [\"x\", { name = \"y\", requires = \"a\" }]\n[option.a]\nkind = \"switch\"\n",
    );
    let rule = &board.rules[board.options[board.option("p").unwrap()].rules[0]];
    assert_eq!((rule.value.as_deref(), board.print(&rule.must).as_str()), (Some("y"), "a"));
}

#[test]
fn macros_follow_the_header_s_habit_unless_told_otherwise() {
    let board = TestTree::board_only(
        r#"
[header.h]
output = "h.h"
prefix = "X_"
style = "one-or-zero"
[option.fog-horn]
kind = "switch"
[option.drive]
kind = "pick"
values = ["led", "2d"]
[option.depth]
kind = "number"
[option.name]
kind = "text"
[option.plain]
kind = "text"
macro = { name = "PLAIN", form = "plain" }
[option.module]
kind = "module"
macro = [{ name = "M_IN", form = "builtin" }, { name = "M_LOAD", form = "loadable" }, "M_ANY"]
[option.quiet]
kind = "switch"
macro = []
[option.one]
kind = "pick"
values = ["a", "b"]
macro = { name = "ONLY_B", value = "b" }
"#,
    );
    let macros = |name: &str| -> Vec<(String, MacroForm)> {
        let option = &board.options[board.option(name).unwrap()];
        option.macros.iter().map(|m| (m.name.clone(), m.form.clone())).collect()
    };
    assert_eq!(macros("fog-horn"), [("X_FOG_HORN".into(), MacroForm::OneOrZero)]);
    let picks = [
        ("X_DRIVE_LED".into(), MacroForm::PickIs("led".into())),
        ("X_DRIVE_2D".into(), MacroForm::PickIs("2d".into())),
    ];
    assert_eq!(macros("drive"), picks);
    assert_eq!(macros("depth"), [("X_DEPTH".into(), MacroForm::Plain)]);
    assert_eq!(macros("name"), [("X_NAME".into(), MacroForm::Quoted)]);
    assert_eq!(macros("plain"), [("PLAIN".into(), MacroForm::Plain)]);
    assert_eq!(macros("module").iter().map(|m| m.0.as_str()).collect::<Vec<_>>(), ["M_IN", "M_LOAD", "M_ANY"]);
    assert_eq!(macros("quiet"), []);
    assert_eq!(macros("one"), [("ONLY_B".into(), MacroForm::PickIs("b".into()))]);
}

#[test]
fn nested_boards_read_paths_from_their_own_folder() {
    let tree = TestTree::new(
        "more = [\"*/boltboard.toml\", \"deep/**/boltboard.toml\"]\n",
        &[
            (
                "a/boltboard.toml",
                "default-section = \"s\"\n[section.s]\ntitle = \"S\"\n[option.x]\nkind = \"switch\"\n[part.p]\nkind = \"program\"\nsources = [\"*.c\", \"../shared/*.c\"]\ninclude = [\"../include\"]\n",
            ),
            ("deep/er/boltboard.toml", "[option.y]\nkind = \"switch\"\n"),
            ("a/m.c", ""),
            ("shared/s.c", ""),
            (".hidden/boltboard.toml", "not even TOML"),
            ("work/boltboard-work", "format 1\n"),
            ("work/boltboard.toml", "not even TOML"),
        ],
    );
    let board = tree.board();
    assert_eq!(board.options.iter().map(|(_, o)| o.name.as_str()).collect::<Vec<_>>(), ["x", "y"]);
    assert_eq!(board.sections[board.options[board.option("x").unwrap()].section].title, "S");
    let part = &board.parts[board.part("p").unwrap()];
    let listing = Listing::of(tree.root());
    let sources: Vec<String> = part.sources.iter().flat_map(|r| listing.of_rule(r)).map(|f| f.to_string()).collect();
    assert_eq!(sources, ["a/m.c", "shared/s.c"]);
    assert_eq!(part.includes[0].item.as_str(), "include");
}

#[test]
fn parts_have_their_usual_places() {
    let board = TestTree::board_only(
        "[option.m]\nkind = \"module\"\n[part.prog]\nkind = \"program\"\nsources = [\"a.c\"]\n[part.libx]\nkind = \"static-library\"\nsources = [\"a.c\"]\n[part.y]\nkind = \"shared-library\"\nabi = \"3\"\nsources = [\"a.c\"]\n[part.mod]\nkind = \"module\"\noption = \"m\"\nprogram = \"prog\"\nsymbol = \"s\"\nsources = [\"a.c\"]\n[part.d]\nkind = \"data\"\nsources = [\"x\"]\n",
    );
    let outputs: Vec<&str> = board.parts.iter().map(|(_, p)| p.output.as_str()).collect();
    assert_eq!(outputs, ["bin/prog", "lib/libx.a", "lib/liby.so", "lib/t/mod.so", "share/t"]);
    assert!(
        matches!(&board.parts[board.part("y").unwrap()].kind, PartKind::SharedLibrary { interface: Some(i) } if i == "3")
    );
}

#[test]
fn what_options_look_at_is_resolved_first_whatever_the_order_of_files() {
    let lines = [
        "[option.a]\nkind = \"switch\"\nrequires = \"z\"\n",
        "[option.z]\nkind = \"switch\"\n",
        "[option.m]\nkind = \"number\"\ndefault = [{ when = \"a\", value = 1 }, { value = 2 }]\n",
        "[option.b]\nkind = \"switch\"\nconflicts = \"c\"\n",
        "[option.c]\nkind = \"switch\"\nconflicts = \"b\"\n",
    ];
    let order = |lines: &[&str]| -> Vec<String> {
        let board = TestTree::board_only(&lines.concat());
        board.order.iter().map(|id| board.options[*id].name.clone()).collect()
    };
    let mut turned = lines;
    turned.reverse();
    assert_eq!(order(&lines), ["z", "a", "c", "b", "m"]);
    assert_eq!(order(&lines), order(&turned));
}

#[test]
fn long_chains_of_requirements_are_no_trouble() {
    let link = |n: usize| format!("[option.o{n}]\nkind = \"switch\"\nrequires = \"o{}\"\n", n + 1);
    let chain: String = (0..5_000).map(link).collect::<String>() + "[option.o5000]\nkind = \"switch\"\n";
    let board = TestTree::board_only(&chain);
    assert_eq!(board.options[board.order[0]].name, "o5000");
    let ring =
        chain.replace("[option.o5000]\nkind = \"switch\"\n", "[option.o5000]\nkind = \"switch\"\nrequires = \"o0\"\n");
    let tree = TestTree::new(&ring, &[]);
    assert!(
        faults(&tree)[0].starts_with("requirements lead back to their start: o0 → o1"),
        "{:?}",
        faults(&tree).len()
    );
}

#[test]
fn problems_come_in_the_order_of_the_files() {
    let tree = TestTree::new(
        "more = [\"sub/boltboard.toml\"]\n[option.a]\nkind = \"swithc\"\n[option.b]\nkind = \"number\"\nrange = [2, 1]\n",
        &[("sub/boltboard.toml", "[option.c]\nkind = \"switch\"\nsumary = \"\"\n")],
    );
    let reading = tree.reading();
    assert!(reading.board.is_none());
    let places: Vec<String> = reading
        .problems
        .iter()
        .filter_map(|p| p.place)
        .map(|place| {
            let excerpt = reading.files.excerpt(place);
            format!("{}:{}:{}", excerpt.file, excerpt.line, excerpt.column)
        })
        .collect();
    assert_eq!(places, ["boltboard.toml:7:9", "boltboard.toml:10:9", "sub/boltboard.toml:3:1"]);
    assert_eq!(reading.problems[0].near, ["switch"]);
}

#[test]
fn places_in_long_texts_point_at_the_word() {
    let tree = TestTree::new("[option.a]\nkind = \"switch\"\nrequires = \"a or (a and nowhere)\"\n", &[]);
    let reading = tree.reading();
    let place = reading.problems[0].place.expect("a place");
    assert_eq!(reading.files.covered(place), "nowhere");
}

#[test]
fn a_root_is_found_from_within_and_needs_its_table() {
    let tree = TestTree::new("", &[("src/deep/x.c", ""), ("src/boltboard.toml", "[option.x]\nkind = \"switch\"\n")]);
    let found = find_root(&tree.root().join("src/deep")).expect("a root");
    assert_eq!(found, tree.root().canonicalize().expect("real"));
    tree.write("boltboard.toml", "format = 1\ntree = { name = \"t\", version = \"1\" }\n");
    assert_eq!(find_root(&tree.root().join("src")).expect("a root"), tree.root().canonicalize().expect("real"));
    let nowhere = tempfile::tempdir().expect("a folder");
    assert!(matches!(find_root(nowhere.path()), Err(TreeFault::NoTree(_))));
    assert!(matches!(find_root(&nowhere.path().join("not found")), Err(TreeFault::Folder { .. })));
}

#[test]
fn a_file_over_the_limit_is_not_read() {
    let tree = TestTree::new("more = [\"big/boltboard.toml\"]\n", &[("big/boltboard.toml", "")]);
    let file = std::fs::File::create(tree.root().join("big/boltboard.toml")).expect("made");
    file.set_len(17 * 1024 * 1024).expect("sparse");
    assert_eq!(faults(&tree), ["big/boltboard.toml is more than the limit of 16 MiB"]);
}

#[test]
fn listings_leave_out_what_is_no_source() {
    let tree =
        TestTree::new("", &[("a.c", ""), (".git/config", ""), ("b/c.c", ""), ("w/boltboard-work", ""), ("w/x.c", "")]);
    std::os::unix::fs::symlink("/etc", tree.root().join("outside")).expect("a link");
    let files: Vec<String> = Listing::of(tree.root()).files().iter().map(ToString::to_string).collect();
    assert_eq!(files, ["a.c", "b/c.c", "boltboard.toml"]);
}

#[test]
fn conditional_entries_keep_their_condition() {
    let board = TestTree::board_only(
        "[toolchain]\nflags = [\"-O1\", { when = \"a and not b\", add = [\"-DX\", \"-DY\"] }]\n[option.a]\nkind = \"switch\"\n[option.b]\nkind = \"switch\"\n",
    );
    let shown: Vec<Option<String>> =
        board.toolchains.target.flags.iter().map(|f| f.when.as_ref().map(|w| board.print(&w.expr))).collect();
    assert_eq!(shown, [None, Some("a and not b".to_string()), Some("a and not b".into())]);
}

#[test]
fn comparisons_read_values_of_the_option_s_kind() {
    let tree = TestTree::new(
        "[option.s]\nkind = \"size\"\n[option.n]\nkind = \"number\"\nrange = [1, 9]\n[option.x]\nkind = \"switch\"\nrequires = \"s >= 64KiB and n < 100 and not n = 0x5\"\n",
        &[],
    );
    let board = tree.board();
    let rule = &board.rules[board.options[board.option("x").unwrap()].rules[0]];
    assert_eq!(board.print(&rule.must), "s >= 64KiB and n < 100 and not n = 5");
    let mut values = Vec::new();
    rule.must.for_each_atom(&mut |atom| {
        if let crate::board::Atom::Compare(_, _, value) = atom {
            values.push(value.clone());
        }
    });
    assert_eq!(values, [Value::Size(65536), Value::Number(100), Value::Number(5)]);
    assert!(matches!(board.options[board.option("n").unwrap()].kind, Kind::Number(_)));
}
