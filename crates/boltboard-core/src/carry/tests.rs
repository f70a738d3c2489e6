//! Each fate, told by what the file says afterwards.

use super::*;
use crate::board::Board;
use crate::testing::TestTree;

const BOARD: &str = r#"
[option.power]
kind = "number"
range = [1, 100]
was = ["watts", "ampere"]
[option.seconds]
kind = "number"
range = [60, 3600]
was = "minutes"
changed = { in = "2", times = 60 }
[option.level]
kind = "pick"
values = ["quiet", "loud"]
changed = { in = "2", values = { chatty = "loud" } }
[option.bell]
kind = "module"
[option.horn]
kind = "switch"
[option.buffer]
kind = "size"
range = ["1KiB", "1MiB"]
[option.winds]
kind = "words"
values = ["north", "west"]
[option.crc]
kind = "switch"
derived = true
[option.stack]
kind = "switch"
[option.bounds]
kind = "switch"
[split.guards]
since = "2"
note = "one without the other"
into = { on = ["stack=on", "bounds=on"], "*" = ["stack=${value}"] }
[split.modes]
into = { deep = ["power=9"] }
[gone.stats]
since = "2"
note = "they are always kept"
[need.tide]
header = "tide.h"
"#;

fn board() -> Board {
    let tree = TestTree::new(BOARD, &[]);
    let text = std::fs::read_to_string(tree.root().join("boltboard.toml")).expect("there");
    tree.write("boltboard.toml", &text.replace("version = \"1\"", "version = \"3\""));
    tree.board()
}

fn carried(choose: &str) -> Written {
    let text = format!("format = 1\ntree = \"t\"\ntree-version = \"1\"\n\n{choose}");
    carry(&text, None, &board(), &mut |_| None).expect("a profile")
}

fn fates(choose: &str) -> Vec<String> {
    let told = |one: &CarriedChoice| {
        let now: Vec<String> = one.now().into_iter().map(|(name, value)| format!("{name}={value}")).collect();
        let fate = match &one.fate {
            Fate::Kept => "kept",
            Fate::Renamed { .. } => "renamed",
            Fate::Changed(_) => "changed",
            Fate::Split { .. } => "split",
            Fate::Gone { .. } => "gone",
            Fate::Open(_) => "open",
        };
        format!("{}={} {fate} {}", one.name, one.value, now.join(" ")).trim_end().to_string()
    };
    carried(&format!("[choose]\n{choose}")).carried.iter().map(told).collect()
}

#[test]
fn each_choice_has_its_fate() {
    for (choose, want) in [
        ("horn = \"on\"", "horn=on kept horn=on"),
        ("watts = 40", "watts=40 renamed power=40"),
        ("ampere = 4", "ampere=4 renamed power=4"),
        ("watts = 400", "watts=400 renamed power=100"),
        ("minutes = 5", "minutes=5 renamed seconds=300"),
        ("minutes = 90", "minutes=90 renamed seconds=3600"),
        ("level = \"chatty\"", "level=chatty changed level=loud"),
        ("level = \"loud\"", "level=loud kept level=loud"),
        ("level = \"lod\"", "level=lod open"),
        ("bell = \"on\"", "bell=on changed bell=builtin"),
        ("horn = \"loadable\"", "horn=loadable changed horn=on"),
        ("buffer = \"16MiB\"", "buffer=16MiB changed buffer=1MiB"),
        ("winds = [\"north\"]", "winds=north kept winds=north"),
        ("winds = [\"south\"]", "winds=south open"),
        ("crc = \"on\"", "crc=on open"),
        ("guards = \"on\"", "guards=on split stack=on bounds=on"),
        ("guards = \"off\"", "guards=off split stack=off"),
        ("modes = \"deep\"", "modes=deep split power=9"),
        ("modes = \"flat\"", "modes=flat open"),
        ("stats = \"on\"", "stats=on gone"),
        ("hrn = \"on\"", "hrn=on open"),
    ] {
        assert_eq!(fates(choose), [want], "{choose}");
    }
}

#[test]
fn a_profile_of_this_version_is_taken_at_its_word() {
    let text = "format = 1\ntree = \"t\"\ntree-version = \"3\"\n[choose]\nseconds = 60\n";
    let written = carry(text, None, &board(), &mut |_| None).expect("a profile");
    assert_eq!((written.carried[0].fate.clone(), written.text.as_str()), (Fate::Kept, text));
    let told = carry(text, Some("1"), &board(), &mut |_| None).expect("a profile");
    assert_eq!(told.carried[0].now(), [("seconds".to_string(), "3600".to_string())], "what one is told counts more");
}

#[test]
fn where_two_lead_to_one_option_the_one_that_names_it_counts_and_the_other_is_told() {
    assert_eq!(
        fates("watts = 5\npower = 7\nampere = 7"),
        ["watts=5 open", "power=7 kept power=7", "ampere=7 renamed power=7"]
    );
    assert_eq!(fates("guards = \"on\"\nstack = \"off\""), ["guards=on open", "stack=off kept stack=off"]);
}

#[test]
fn comments_order_and_reasons_stay_and_nothing_is_lost() {
    let written = carried(
        "[choose]\n# bright\nwatts = 40 # and warm\nlevel = \"chatty\"\n# for the harbour\nstats = \"on\"\nguards = \"on\"\nhorn = \"on\"\ncrc = \"on\"\n\n[providers]\ntide = \"off\"\ngone = \"off\"\n\n[reasons]\nwatts = \"the old lens\"\nstats = \"asked for\"\nguards = \"safe\"\n\"need:gone\" = \"none\"\nnobody = \"left over\"\n",
    );
    assert_eq!(
        written.text,
        "format = 1\ntree = \"t\"\ntree-version = \"3\"\n\n# Not carried from 1 to 3:\n# for the harbour\n#   stats = \"on\"  (gone since 2: they are always kept; chosen because: asked for)\n#   crc = \"on\"  (nobody chooses crc any more: its value follows from others)\n#   need:gone = \"off\"  (there is no such need, or it is not met so; chosen because: none)\n#   a reason for nobody: \"left over\"  (it is not chosen)\n[choose]\n# bright\npower = 40 # and warm\nlevel = \"loud\"\nstack = \"on\"\nbounds = \"on\"\nhorn = \"on\"\n\n[providers]\ntide = \"off\"\n\n[reasons]\npower = \"the old lens\"\nstack = \"safe\"\nbounds = \"safe\"\n"
    );
    let again = carry(&written.text, None, &board(), &mut |_| None).expect("a profile");
    assert_eq!(again.text, written.text, "carried once, it stays");
}

#[test]
fn a_person_s_answers_are_taken_where_they_help() {
    let text = "format = 1\ntree = \"t\"\n[choose]\nhrn = \"on\"\nlevel = \"lod\"\nwnds = [\"north\"]\n";
    let mut asked = Vec::new();
    let written = carry(text, Some("1"), &board(), &mut |one| {
        asked.push(one.name.clone());
        match (one.name.as_str(), asked.len()) {
            ("hrn", 1) => Some(Decision::Name("hornn".into())),
            ("hrn", _) => Some(Decision::Name("horn".into())),
            ("level", _) => Some(Decision::Value("loud".into())),
            _ => None,
        }
    });
    let written = written.expect("a profile");
    assert_eq!(asked, ["hrn", "hrn", "level", "wnds"], "a wrong answer leads to the same question");
    assert!(written.text.contains("[choose]\nhorn = \"on\"\nlevel = \"loud\"\n"), "{}", written.text);
    assert!(written.text.contains("#   wnds = \"north\"  (there is no such option)"), "{}", written.text);
}

#[test]
fn needs_that_a_profile_is_only_for_go_when_they_are_gone() {
    let written = carried("[only-with]\nneeds = [\"tide\", \"moon\"]\n\n[choose]\nhorn = \"on\"\n");
    assert!(
        written.text.contains("needs = [\"tide\"]") && written.text.contains("#   only with the need \"moon\""),
        "{}",
        written.text
    );
    let fault = carry("[choose\n", None, &board(), &mut |_| None).expect_err("no TOML");
    assert_eq!(fault.line, 1);
}

#[test]
fn what_a_board_says_of_the_past_is_checked() {
    for (text, want) in [
        ("was = \"stack\"", "there is an option `stack`, so that is no name of the past"),
        ("was = \"watts\"", "old name `watts` is defined twice"),
        ("changed = { in = \"2\" }", "needs the key"),
        ("changed = { in = \"2\", values = { a = \"b\" } }", "does not accept `b`"),
        ("changed = 3", "`changed`"),
        ("changed = { in = \"2\", times = 0 }", "`times` is a whole number from 1 on"),
    ] {
        let tree = TestTree::new(&format!("{BOARD}[option.new]\nkind = \"switch\"\n{text}\n"), &[]);
        let problems: Vec<String> = tree.reading().problems.iter().map(|problem| problem.fault.to_string()).collect();
        assert!(problems.iter().any(|problem| problem.contains(want)), "{text}: {problems:?}");
    }
    for (text, want) in [
        ("[split.old]\ninto = { on = [\"nobody=on\"] }\n", "there is no option `nobody`"),
        ("[split.old]\ninto = { on = [\"stack=up\"] }\n", "does not accept `up`"),
        ("[split.old]\ninto = { on = [\"stack\"] }\n", "a choice such as first=on is wanted"),
        ("[split.old]\nnote = \"x\"\n", "needs the key"),
        ("[gone.old]\nsince = \"2\"\n", "needs the key"),
        ("[gone.stack]\nnote = \"x\"\n", "there is an option `stack`"),
        ("[gone.old]\nnote = \"x\"\nwhy = \"y\"\n", "why"),
    ] {
        let tree = TestTree::new(&format!("{BOARD}{text}"), &[]);
        let problems: Vec<String> = tree.reading().problems.iter().map(|problem| problem.fault.to_string()).collect();
        assert!(problems.iter().any(|problem| problem.contains(want)), "{text}: {problems:?}");
    }
}
