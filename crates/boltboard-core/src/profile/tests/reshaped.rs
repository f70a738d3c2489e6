//! Profiles put together anew say what they said.

use super::*;

fn text(shelves: &Shelves, path: &str) -> String {
    std::fs::read_to_string(shelves.folder.path().join(path)).expect("there")
}

fn plain(values: &[String]) -> Vec<String> {
    values.iter().map(|value| value.split(' ').next().unwrap_or_default().to_string()).collect()
}

#[test]
fn flattened_a_profile_says_by_itself_what_its_layers_said_with_their_words() {
    let shelves = Shelves::new(&[
        (
            "shipped/low.toml",
            "[choose]\n# deep water\ndepth = 2 # sounded\nname = \"low\"\n[reasons]\ndepth = \"charts\"\n",
        ),
        ("own/mid.toml", "base = [\"low\"]\n[choose]\nfog = \"on\"\n"),
        ("own/top.toml", "base = [\"mid\"] # the usual\n[choose]\n# mine\nname = \"top\"\n"),
    ]);
    let draft = shelves.shelf.flatten(&named("top"), &named("flat"), &board()).expect("flat");
    assert_eq!(
        draft.text(),
        "format = 1\ntree = \"t\"\ntree-version = \"1\"\n[choose]\n# mine\nname = \"top\"\n\n# from low\n# deep water\ndepth = 2 # sounded\n\n# from mid\nfog = \"on\"\n\n[reasons]\ndepth = \"charts\"\n"
    );
    draft.save().expect("saved");
    assert_eq!(
        values(&shelves.read("flat").expect("read")),
        ["fog=on from flat", "depth=2 from flat", "name=top from flat"]
    );
    assert!(text(&shelves, "own/top.toml").contains("base = [\"mid\"]"), "the other one stays as it is");
}

#[test]
fn changes_to_the_sources_come_along_in_their_order_and_under_names_of_their_own() {
    let shelves = Shelves::new(&[
        ("own/low.toml", "patches = [\"fix.patch\"]\n[reasons]\n\"patch:fix.patch\" = \"until 2\"\n"),
        ("own/low.changes/fix.patch", ""),
        ("own/top.toml", "base = [\"low\"]\npatches = [\"fix.patch\", \"more.patch\"]\n[choose]\n"),
        ("own/top.changes/fix.patch", ""),
        ("own/top.changes/more.patch", ""),
    ]);
    let draft = shelves.shelf.flatten(&named("top"), &named("flat"), &board()).expect("flat");
    draft.save().expect("saved");
    let choices = shelves.read("flat").expect("read");
    let names: Vec<&str> = choices.changes.iter().map(|change| change.name.as_str()).collect();
    assert_eq!(names, ["fix.patch", "2-fix.patch", "more.patch"]);
    assert_eq!(choices.changes[0].reason.as_deref(), Some("until 2"));
    assert!(choices.changes.iter().all(|change| change.file.is_file()));
    let over = Shelves::new(&[
        ("own/low.toml", "patches = [\"fix.patch\"]\n"),
        ("own/low.changes/fix.patch", ""),
        ("own/top.toml", "base = [\"low\"]\n[replaced]\n\"a.c\" = \"a.c\"\n"),
        ("own/top.changes/a.c", ""),
    ]);
    let fault = over.shelf.flatten(&named("top"), &named("flat"), &board()).expect_err("another order");
    assert!(matches!(fault, ReshapeFault::Order(_)), "{fault}");
}

#[test]
fn saved_elsewhere_a_profile_stays_on_what_the_tree_ships_and_keeps_the_rest() {
    let shelves = Shelves::new(&[
        ("shipped/low.toml", "[choose]\ndepth = 2\n"),
        ("own/mid.toml", "base = [\"low\"]\npatches = [\"fix.patch\"]\n[choose]\nfog = \"on\"\n"),
        ("own/mid.changes/fix.patch", "x"),
        ("own/top.toml", "base = [\"mid\"]\n[choose]\n# mine\nname = \"top\"\n"),
    ]);
    let choices = shelves.read("top").expect("read");
    let path = shelves.folder.path().join("elsewhere/station.toml");
    let draft = shelves.shelf.on_its_own(&named("top"), &choices, &path, Layers::Shipped, &board()).expect("whole");
    draft.save().expect("saved");
    let saved = text(&shelves, "elsewhere/station.toml");
    assert!(
        saved.contains("base = [\"low\"]") && saved.contains("# mine") && saved.contains("fog = \"on\""),
        "{saved}"
    );
    assert!(!saved.contains("depth"), "the tree's own choices are not repeated: {saved}");
    assert!(text(&shelves, "elsewhere/station.changes/fix.patch").ends_with('x'));
}

#[test]
fn what_several_profiles_choose_alike_moves_into_a_layer_below_them() {
    let shelves = Shelves::new(&[
        ("shipped/low.toml", "[choose]\ndepth = 2\n"),
        (
            "own/a.toml",
            "base = [\"low\"]\n[choose]\n# loud\nfog = \"on\"\ndepth = 5\nname = \"a\"\n[reasons]\nfog = \"rocks\"\n",
        ),
        (
            "own/b.toml",
            "base = [\"low\"]\n[choose]\nfog = \"on\"\ndepth = 5\nname = \"b\"\n[reasons]\ndepth = \"b's own\"\n",
        ),
    ]);
    let before = [shelves.read("a").expect("read"), shelves.read("b").expect("read")];
    let factored = shelves.shelf.factor(&[named("a"), named("b")], &named("both"), &board()).expect("shared");
    assert_eq!((factored.options.len(), factored.moved), (2, 3), "an entry with words of its own stays");
    factored.shared.save().expect("saved");
    factored.profiles.iter().for_each(|draft| draft.save().expect("saved"));
    assert_eq!(
        text(&shelves, "own/both.toml"),
        "format = 1\ntree = \"t\"\ntree-version = \"1\"\n\n[choose]\n# loud\nfog = \"on\"\ndepth = 5\n\n[reasons]\nfog = \"rocks\"\n"
    );
    assert_eq!(
        text(&shelves, "own/b.toml"),
        "format = 1\ntree = \"t\"\ntree-version = \"1\"\nbase = [\"low\", \"both\"]\n[choose]\ndepth = 5\nname = \"b\"\n[reasons]\ndepth = \"b's own\"\n"
    );
    for (name, before) in ["a", "b"].iter().zip(&before) {
        assert_eq!(plain(&values(&shelves.read(name).expect("read"))), plain(&values(before)));
    }
}

#[test]
fn what_cannot_be_factored_is_told() {
    let shelves = Shelves::new(&[
        ("shipped/low.toml", "[choose]\nfog = \"on\"\n"),
        ("own/a.toml", "[choose]\nfog = \"on\"\n"),
        ("own/b.toml", "[choose]\nfog = \"off\"\n"),
    ]);
    let factor = |names: &[&str]| {
        let names: Vec<ProfileName> = names.iter().map(|name| named(name)).collect();
        shelves.shelf.factor(&names, &named("new"), &board()).map(|_| ()).expect_err("not").to_string()
    };
    assert_eq!(factor(&["a", "b"]), "these profiles have no choices in common");
    assert_eq!(factor(&["a", "low"]), "the profile low is shipped with the tree and is not written to");
    assert_eq!(factor(&["a", "none"]), "the profile is wrong");
}

#[test]
fn a_layer_says_what_it_is_only_for() {
    let board = TestTree::board_only("[need.tide]\nheader = \"tide.h\"\n[option.fog]\nkind = \"switch\"\n");
    let read = |text: &str| {
        let shelves = Shelves::new(&[("own/p.toml", text)]);
        let read = shelves.shelf.read(&named("p"), &board);
        read.map_err(|wrong| wrong.problems.iter().map(|p| p.fault.to_string()).collect::<Vec<_>>())
    };
    let text = "[only-with]\ncompiler = [\"gcc >= 12\", \"clang\"]\nmachine = \"x86_64\"\nneeds = [\"tide\"]\n";
    let choices = read(text).expect("read");
    let [only] = choices.only_with.as_slice() else { panic!("one table") };
    let line = |at: usize| choices.files.excerpt(only.places[at]).line;
    assert_eq!([line(0), line(1), line(2)], [5, 6, 7]);
    let met = |_| true;
    assert_eq!(only.unfit("gcc 12.2.0", "x86_64-linux-gnu", &met), []);
    assert_eq!(only.unfit("clang 14", "x86_64-linux-gnu", &met), []);
    let unfit = only.unfit("gcc 11.4.0", "aarch64-linux-gnu", &|_| false);
    assert_eq!(
        unfit,
        [
            Unfit::Compiler { wanted: "gcc >= 12 or clang".into(), found: "gcc 11.4.0".into() },
            Unfit::Machine { wanted: "x86_64".into(), found: "aarch64-linux-gnu".into() },
            Unfit::Needs(only.needs.clone()),
        ]
    );
    let two = read("[[only-with]]\ncompiler = \"gcc\"\n[[only-with]]\nneeds = \"tide\"\n").expect("read");
    assert_eq!(two.only_with.len(), 2);
    for (text, want) in [
        ("only-with = 3\n", "`only-with` must be a table [only-with]"),
        ("[only-with]\nneeds = \"tied\"\n", "there is no need `tied`"),
        ("[only-with]\ncompiler = \"gcc 12\"\n", "`compiler` must be a compiler, with versions if you like"),
        ("[only-with]\nmachine = \"\"\n", "`machine` must be what the compiler's target begins with"),
        ("[only-with]\ncompilers = \"gcc\"\n", "a profile has no key `only-with.compilers`"),
        ("[only-with]\nneeds = 3\n", "`needs` must be a text, or a list of texts"),
    ] {
        let problems = read(text).expect_err(text);
        assert!(problems[0].starts_with(want), "{text}: {problems:?}");
    }
}

/// A profile's text that chooses depth, fog and winds; 0 chooses nothing.
fn chosen(values: [u8; 3], base: &str) -> String {
    let [depth, fog, winds] = values;
    let mut text = format!("{base}[choose]\n");
    if depth > 0 {
        text += &format!("depth = {depth}\n");
    }
    if fog > 0 {
        text += &format!("fog = \"{}\"\n", ["off", "on"][usize::from(fog % 2)]);
    }
    if winds > 0 {
        text += &format!("winds = [\"w{winds}\"]\n");
    }
    text
}

#[test]
fn what_both_changed_differently_is_for_a_person_to_settle() {
    let shelves = Shelves::new(&[
        ("own/base.toml", "[choose]\ndepth = 1\nfog = \"on\"\n"),
        ("own/left.toml", "[choose]\n# deeper\ndepth = 2\nfog = \"on\"\nname = \"x\"\n[reasons]\ndepth = \"silt\"\n"),
        ("own/right.toml", "[choose]\ndepth = 3\nname = \"x\"\n[reasons]\ndepth = \"dredged\"\n"),
    ]);
    let names = [named("base"), named("left"), named("right")];
    let board = board();
    let merge = |wanted: &MergeAsk| {
        shelves.shelf.merge([&names[0], &names[1], &names[2]], &named("new"), wanted, &board).expect("read")
    };
    let merged = merge(&MergeAsk::default());
    let joins: Vec<(String, Join)> = merged.joined.iter().map(|one| (one.subject.name(&board), one.join)).collect();
    let want = [("fog", Join::Right), ("depth", Join::Clash), ("name", Join::Alike)];
    assert_eq!(joins, want.map(|(name, join)| (name.to_string(), join)));
    assert!(merged.draft.is_none());
    let clash = merged.clashes().next().expect("one");
    let reasons: Vec<Option<&str>> = clash.said.iter().map(|said| said.as_ref()?.reason.as_deref()).collect();
    assert_eq!(reasons, [None, Some("silt"), Some("dredged")]);
    let text = |wanted: &MergeAsk| merge(wanted).draft.expect("settled").text();
    let head = "format = 1\ntree = \"t\"\ntree-version = \"1\"\n[choose]\n# deeper\n";
    let right = text(&MergeAsk { prefer: Some(From3::Right), ..MergeAsk::default() });
    assert_eq!(right, format!("{head}depth = 3\nname = \"x\"\n[reasons]\ndepth = \"dredged\"\n"));
    let depth = board.option("depth").expect("there");
    let other = text(&MergeAsk { values: [(depth, Value::Number(7))].into(), ..MergeAsk::default() });
    assert_eq!(other, format!("{head}depth = 7\nname = \"x\"\n"), "neither side's reason is for 7");
    let left_out = text(&MergeAsk { leave: [Subject::Option(depth)].into(), ..MergeAsk::default() });
    assert!(!left_out.contains("depth ="), "{left_out}");
}

#[test]
fn merged_profiles_stay_on_the_layers_that_both_have() {
    let shelves = Shelves::new(&[
        ("shipped/low.toml", "[choose]\ndepth = 2\n"),
        ("own/base.toml", "base = [\"low\"]\n[choose]\n"),
        ("own/left.toml", "base = [\"low\"]\n[choose]\nfog = \"on\"\n"),
        ("own/right.toml", "base = [\"low\"]\n[choose]\nname = \"r\"\n"),
        ("own/far.toml", "[choose]\nname = \"r\"\n"),
    ]);
    let merge = |right: &str| {
        let names = [named("base"), named("left"), named(right)];
        let merged =
            shelves.shelf.merge([&names[0], &names[1], &names[2]], &named("new"), &MergeAsk::default(), &board());
        merged.expect("read").draft.expect("no clash").text()
    };
    let text = merge("right");
    assert!(text.contains("base = [\"low\"]") && !text.contains("depth"), "{text}");
    let text = merge("far");
    assert!(!text.contains("base") && !text.contains("depth"), "the right side gave the layer up: {text}");
}

proptest::proptest! {
    #![proptest_config(proptest::test_runner::Config::with_cases(80))]

    /// Each subject of a merge is what one side made of it where the other left it alone; nothing else is taken, and nothing is lost.
    #[test]
    fn a_merge_takes_what_either_side_changed(
        base in proptest::array::uniform3(0_u8..3), left in proptest::array::uniform3(0_u8..3),
        right in proptest::array::uniform3(0_u8..3), layered in proptest::bool::ANY,
    ) {
        let on = if layered { "base = [\"low\"]\n" } else { "" };
        let shelves = Shelves::new(&[
            ("shipped/low.toml", "[choose]\nname = \"low\"\n"),
            ("own/base.toml", &chosen(base, on)), ("own/left.toml", &chosen(left, on)), ("own/right.toml", &chosen(right, "")),
        ]);
        let names = [named("base"), named("left"), named("right")];
        let merged = shelves.shelf.merge([&names[0], &names[1], &names[2]], &named("new"), &MergeAsk::default(), &board());
        let merged = merged.expect("sound");
        let clash = (0..3).any(|at| base[at] != left[at] && base[at] != right[at] && left[at] != right[at]);
        proptest::prop_assert_eq!(merged.draft.is_none(), clash);
        if let Some(draft) = merged.draft {
            draft.save().expect("saved");
            let want: [u8; 3] = [0, 1, 2].map(|at| if left[at] == base[at] { right[at] } else { left[at] });
            let expected = Shelves::new(&[("own/want.toml", &chosen(want, ""))]);
            // The right side gave the layer up.
            let got = shelves.read("new").expect("read");
            proptest::prop_assert_eq!(plain(&values(&got)), plain(&values(&expected.read("want").expect("read"))));
        }
    }

    /// Whatever is common, the profiles say what they said, and what all say is said once.
    #[test]
    fn factoring_changes_no_value(all in proptest::collection::vec(proptest::array::uniform3(0_u8..3), 2..5)) {
        let texts: Vec<(String, String)> =
            all.iter().enumerate().map(|(at, values)| (format!("own/p{at}.toml"), chosen(*values, ""))).collect();
        let shelves = Shelves::new(&texts.iter().map(|(p, t)| (p.as_str(), t.as_str())).collect::<Vec<_>>());
        let names: Vec<ProfileName> = (0..all.len()).map(|at| named(&format!("p{at}"))).collect();
        let before: Vec<Choices> = names.iter().map(|name| shelves.read(name.as_str()).expect("read")).collect();
        let common = (0..3).filter(|at| all[0][*at] > 0 && all.iter().all(|values| values[*at] == all[0][*at])).count();
        match shelves.shelf.factor(&names, &named("common"), &board()) {
            Err(fault) => {
                proptest::prop_assert!(matches!(fault, ReshapeFault::NothingShared), "{}", fault);
                proptest::prop_assert_eq!(common, 0);
            }
            Ok(factored) => {
                proptest::prop_assert_eq!((factored.options.len(), factored.moved), (common, common * all.len()));
                factored.shared.save().expect("saved");
                factored.profiles.iter().for_each(|draft| draft.save().expect("saved"));
                for (name, before) in names.iter().zip(&before) {
                    let now = shelves.read(name.as_str()).expect("read");
                    proptest::prop_assert_eq!(plain(&values(&now)), plain(&values(before)));
                }
            }
        }
    }
}
