//! Profiles that outlive a machine, a version and a person: layers, merging, comparing by cause, carrying over.

use std::process::Command;

use crate::harness::{MINI, Scratch};

/// A station's profile of forty choices, as a keeper of version 2.4 has it.
pub const KEEPER: &str = r#"format = 1
tree = "skerry"
tree-version = "2.4"

[choose]
lamp-drive = "arc"
# what the old lens stands
lamp-watts = 900
lamp-character = "Oc 10s"
lamp-rotation = "off"
rotation-seconds = 90
lamp-sector = "on"
sectors = ["white", "red"]
lamp-standby = "on"
photocell = "on"
fog-horn = "builtin"
fog-siren = "loadable"
fog-range = 3000
horn-speaker = "off"
compressor-litres = 600
watch-minutes = 300
report = "on"
report-every = 30
watchdog = "on"
watchdog-minutes = 3
power-battery = "on"
battery-size = 6000
power-solar = "off"
power-generator = "on"
power-reserve = 40
station-number = 12
log-level = "chatty" # for the apprentice
log-time = "off"
log-buffer = "8KiB"
journal = "on"
journal-format = "packed"
journal-size = "32KiB"
tide = "on"
tide-step = 15
clock-gps = "off"
stats = "on"
self-check = "on"
optimise = "size"
debug-info = "on"
# the maker's own
warnings-stop = "off"
hardening = "on"

[reasons]
lamp-watts = "the lens cracked at 1000"
hardening = "the radio is open to all"
warnings-stop = "old compilers"
"#;

/// The earlier and the later version, the keeper's profile in the earlier one.
fn versions() -> (Scratch, Scratch) {
    let (earlier, later) = (Scratch::skerry(), Scratch::later_skerry());
    earlier.run("profile new keeper").code(0);
    earlier.write("boltboard-work/profiles/keeper.toml", KEEPER);
    (earlier, later)
}

#[test]
fn a_profile_of_forty_choices_is_carried_and_every_moved_value_is_explained() {
    let (earlier, later) = versions();
    let from = earlier.path().display();
    let preview = later.run(&format!("carry keeper --from {from} --preview")).code(0);
    assert!(!later.at("boltboard-work").exists(), "a preview writes nothing");
    let said = [
        "keeper would be carried from 2.4 to 3.0: 32 of its 40 choices as they were.",
        "lamp-watts=900      →  lamp-power=900",
        "watchdog-minutes=3  →  watchdog-seconds=180  it means the same",
        "rotation-seconds=90  →  rotation-seconds=60  the nearest in its range, 5 to 60 now",
        "log-level=chatty     →  log-level=verbose    it means the same",
        "optimise=size        →  optimise=small       it means the same",
        "debug-info=on        →  debug-info=full      it means the same",
        "hardening=on  →  guard-stack=on, guard-bounds=on",
        "warnings-stop=off    since 3.0: put -Werror into extra-flags",
        "Values that move, though you do not choose them now (3)",
        "fog-bell       loadable  →  off     its default changed",
        "photocell-lux  40        →  30      its default changed",
        "units          nautical  →  metric  its default changed",
        "New (1)",
        "trim-unused  off  How it is made, expert",
    ];
    let preview = preview.says(&said);
    assert!(!preview.out.contains("For you to decide"), "{}", preview.out);
    later.run(&format!("carry keeper --from {from}")).code(0).says(&["keeper is carried from 2.4 to 3.0"]);
    let file = later.read("boltboard-work/profiles/keeper.toml");
    for line in [
        "tree-version = \"3.0\"",
        "# Not carried from 2.4 to 3.0:\n# the maker's own\n#   warnings-stop = \"off\"  (gone since 3.0: put -Werror into extra-flags; chosen because: old compilers)\n",
        "# what the old lens stands\nlamp-power = 900\n",
        "log-level = \"verbose\" # for the apprentice\n",
        "guard-stack = \"on\"\nguard-bounds = \"on\"\n",
        "lamp-power = \"the lens cracked at 1000\"\n",
        "guard-stack = \"the radio is open to all\"\n",
    ] {
        assert!(file.contains(line), "no {line:?} in\n{file}");
    }
    // Each choice is there, under its name or in the comment.
    let chosen = KEEPER.split("[choose]").nth(1).and_then(|text| text.split("[reasons]").next()).expect("choices");
    let names = chosen.lines().filter_map(|line| line.split_once(" = ").map(|(name, _)| name));
    let renamed =
        [("lamp-watts", "lamp-power"), ("watchdog-minutes", "watchdog-seconds"), ("hardening", "guard-stack")];
    for name in names {
        let now = renamed.iter().find(|(old, _)| *old == name).map_or(name, |(_, new)| new);
        assert!(file.contains(&format!("{now} = ")), "{name} is lost:\n{file}");
    }
    assert_eq!(earlier.read("boltboard-work/profiles/keeper.toml"), KEEPER, "the earlier one stays");
    later.run("--profile keeper build").code(0);
    later.run("carry keeper").code(0).says(&["40 of its 40 choices as they were"]);
}

#[test]
fn moved_defaults_are_pinned_where_a_person_asks() {
    let (earlier, later) = versions();
    let from = earlier.path().display();
    let answer = later.run(&format!("carry keeper --from {from} --pin --json")).code(0).json();
    let moved = answer["moved"].as_array().expect("a list");
    assert!(moved.iter().all(|one| one["pinned"] == true && one["default-changed"] == true), "{answer:#}");
    let file = later.read("boltboard-work/profiles/keeper.toml");
    assert!(
        file.contains("units = \"nautical\"") && file.contains("units = \"as it was by default in 2.4\""),
        "{file}"
    );
    assert!(file.contains("photocell-lux = 40\n"), "{file}");
    later.run("--profile keeper show units").code(0).says(&["nautical"]);
}

#[test]
fn the_earlier_version_can_come_from_version_control() {
    let (earlier, later) = versions();
    let git = |words: &[&str]| {
        let ran = Command::new("git")
            .args(["-c", "user.name=keeper", "-c", "user.email=keeper@skerry.example"])
            .args(words)
            .current_dir(later.path())
            .env("PATH", crate::harness::usual_path())
            .output();
        ran.is_ok_and(|ran| ran.status.success())
    };
    let has_git = || Command::new("git").arg("--version").output().is_ok_and(|ran| ran.status.success());
    if !has_git() {
        return;
    }
    // The tree as it was, and then the later version on top of it, as one checkout has them.
    let now: Vec<(String, String)> =
        ["boltboard.toml", "lamp/boltboard.toml", "fog/boltboard.toml", "daemon/boltboard.toml", "lib/boltboard.toml"]
            .map(|file| (file.to_string(), later.read(file)))
            .to_vec();
    now.iter().for_each(|(file, _)| later.write(file, &earlier.read(file)));
    assert!(
        git(&["init", "-q"]) && git(&["add", "-A"]) && git(&["commit", "-q", "-m", "2.4"]) && git(&["tag", "v2.4"])
    );
    later.run("profile new keeper").code(0);
    later.write("boltboard-work/profiles/keeper.toml", KEEPER);
    now.iter().for_each(|(file, text)| later.write(file, text));
    later.run("show units").code(3).complains(&[
        "the profile keeper was written for version 2.4, the tree is version 3.0",
        "boltboard carry keeper --preview",
    ]);
    let usual = crate::harness::usual_path();
    let ran = later.run_with("carry keeper --from-revision v2.4", "PATH", &usual).code(0);
    ran.says(&["units          nautical  →  metric  its default changed", "trim-unused  off"]);
    let wrong = later.run_with("carry keeper --from-revision v9", "PATH", &usual).code(2);
    wrong.complains(&["the definitions of the revision v9 cannot be had"]);
}

#[test]
fn what_no_rule_carries_is_kept_and_told_with_what_may_be_meant() {
    let later = Scratch::later_skerry();
    later.run("profile new keeper").code(0);
    let odd = KEEPER
        .replace("fog-siren = \"loadable\"", "fog-sirene = \"loadable\"")
        .replace("optimise = \"size\"", "optimise = \"smal\"")
        .replace("[reasons]", "crc = \"on\"\n[providers]\ngsp = \"off\"\n[reasons]\nfog-sirene = \"far heard\"");
    later.write("boltboard-work/profiles/keeper.toml", &odd);
    later.run("carry").code(1).says(&[
        "For you to decide; kept as comments in the profile (4)",
        "fog-sirene=loadable: there is no such option (you chose it because: far heard)",
        "boltboard show fog-siren",
        "optimise=smal: optimise does not accept `smal`",
        "boltboard set optimise=small",
        "crc=on: nobody chooses crc any more",
        "need:gsp=off: there is no such need",
        "boltboard survey gps",
        "boltboard carry --help",
    ]);
    let file = later.read("boltboard-work/profiles/keeper.toml");
    for line in [
        "#   fog-sirene = \"loadable\"  (there is no such option; chosen because: far heard)",
        "#   need:gsp = \"off\"",
        "#   crc = \"on\"",
        "#   optimise = \"smal\"",
    ] {
        assert!(file.contains(line), "{file}");
    }
    later.run("set optimise=small").code(0);
    later.write("boltboard-work/profiles/broken.toml", "format = 1\n[choose\n");
    later.run("carry broken").code(3).complains(&["broken.toml cannot be read: line 2"]);
    later.run("carry nobody").code(2).complains(&["there is no profile `nobody`"]);
    later.run("carry full-station").code(2).complains(&["boltboard carry full-station --into full-station-3.0"]);
    let other = Scratch::with(MINI);
    let wrong = later.run(&format!("carry keeper --from {}", other.path().display())).code(2);
    wrong.complains(&["holds the tree mini, not skerry"]);
}

#[test]
fn what_can_no_longer_hold_together_is_told_with_its_ways_out() {
    let (earlier, later) = versions();
    let choices = "lamp-standby = \"on\"\npower-generator = \"off\"\npower-shore = \"off\"\n";
    let text = format!("format = 1\ntree = \"skerry\"\ntree-version = \"2.4\"\n[choose]\n{choices}");
    earlier.write("boltboard-work/profiles/keeper.toml", &text);
    earlier.run("profile check keeper").code(0);
    let ran = later.run(&format!("carry keeper --from {}", earlier.path().display())).code(1);
    ran.says(&["3 of its 3 choices as they were"]).complains(&["these choices cannot hold together", "lamp-standby"]);
    assert!(later.read("boltboard-work/profiles/keeper.toml").contains(choices), "what was chosen stays");
    later.run("--profile keeper unset lamp-standby").code(0);
}

#[test]
fn changes_to_the_sources_are_carried_as_far_as_they_fit() {
    let (earlier, later) = versions();
    earlier.run("profile new fixes").code(0);
    let patch = |file: &str, old: &str, new: &str| {
        let text = earlier.read(file);
        let at = text.lines().position(|line| line == old).expect("the line") + 1;
        format!("--- a/{file}\n+++ b/{file}\n@@ -{at} +{at} @@\n-{old}\n+{new}\n")
    };
    let fits = patch("lamp/rotation.c", "#include \"skerry/lamp.h\"", "#include <skerry/lamp.h>");
    let in_it = patch("lib/log.c", "#elif defined SK_LOG_LEVEL_CHATTY", "#elif defined SK_LOG_LEVEL_VERBOSE");
    let breaks = patch("daemon/watchdog.c", "    if (dark == SK_WATCHDOG_MINUTES)", "    if (dark > 3)");
    for (name, text) in [("fits.patch", fits), ("in-it.patch", in_it), ("breaks.patch", breaks)] {
        earlier.write(name, &text);
        earlier.run(&format!("patch add {name}")).code(0);
    }
    earlier.write("own.c", &earlier.read("lamp/lens.c"));
    earlier.run("patch replace lamp/lens.c own.c").code(0);
    later.run(&format!("carry fixes --from {}", earlier.path().display())).code(1).says(&[
        "fits.patch    fits",
        "in-it.patch   this version has it already",
        "breaks.patch  does not fit: ",
        "lamp/lens.c   this version has it already",
        "boltboard patch remove",
    ]);
    for name in ["fits.patch", "in-it.patch", "breaks.patch"] {
        assert_eq!(later.read(&format!("boltboard-work/profiles/fixes.changes/{name}")), earlier.read(name));
    }
}

#[test]
fn two_versions_are_compared_by_what_lies_behind() {
    let (earlier, later) = versions();
    let ran = earlier.run(&format!("compare keeper --with-tree {}", later.path().display())).code(1);
    ran.says(&[
        "3 changed defaults",
        "keeper    keeper in 3.0",
        "units             nautical  metric",
        "trim-unused       -         off",
    ]);
    earlier.run(&format!("compare keeper --with-tree {}/nowhere", later.path().display())).code(2);
}

#[test]
fn causes_come_before_what_follows_from_them() {
    let tree = Scratch::skerry();
    let ran = tree.run("compare small-station full-station").code(1);
    let said = [
        "34 options differ, because of 20 choices",
        "small-station, line 9: \"no mast on the rock\"",
        "full-station, line 14; moves phonetic",
        "What follows from that",
        "ctl-journal    off            on            because of ctl, journal",
    ];
    let ran = ran.says(&said);
    let place = |text: &str| ran.out.find(text).unwrap_or_else(|| panic!("no {text:?} in {}", ran.out));
    assert!(place("because of 20 choices") < place("What follows from that"));
    assert!(place("What follows from that") < place("To go over to full-station"));
    let three = tree.run("compare small-station full-station test-bench --only causes,values").code(1);
    assert!(!three.out.contains("Steps") && three.out.contains("test-bench"), "{}", three.out);
    let fog = tree.run("compare small-station full-station --section fog --only causes").code(1);
    assert!(fog.out.contains("fog-siren") && !fog.out.contains("\n  stats"), "{}", fog.out);
    let found = tree.run("compare small-station full-station --find siren").code(1);
    assert!(found.out.contains("fog-siren") && !found.out.contains("lamp-drive"), "{}", found.out);
    tree.run("compare small-station small-station").code(0).says(&["does not differ from itself"]);
    tree.run("compare").code(2);
    tree.run("compare small-station nowhere").code(3).complains(&["there is no profile `nowhere`"]);
}

#[test]
fn another_host_is_a_side_like_any_other() {
    let tree = Scratch::with(MINI);
    tree.edit("boltboard.toml", "[need.nowhere]", "[need.letters]\nheader = \"string.h\"\n[option.spelt]\nkind = \"switch\"\ndefault = \"on\"\nneeds = \"letters\"\nmacro = []\n[need.nowhere]");
    tree.run("set depth=4").code(0);
    tree.run("survey --save here.toml").code(0);
    let with = tree.read("here.toml");
    tree.write(
        "there.toml",
        &with.replacen("[need.letters]\nstate = \"found\"", "[need.letters]\nstate = \"missing\"", 1),
    );
    assert_ne!(with, tree.read("there.toml"), "{with}");
    tree.run("compare mine --with-facts here.toml").code(0).says(&["give every option the same value"]);
    tree.run("compare mine --with-facts there.toml").code(1).says(&[
        "1 option differs, because of 1 need that only one host meets",
        "need:letters  met   not met",
        "spelt  on    off            because of letters",
    ]);
    let many: String = (0..60).map(|at| format!("[option.o{at}]\nkind = \"switch\"\ndefault = [{{ when = \"spelt\", value = \"on\" }}, {{ value = \"off\" }}]\nmacro = []\n")).collect();
    tree.write("boltboard.toml", &format!("{}{many}", tree.read("boltboard.toml")));
    let ran = tree.run("compare mine --with-facts there.toml").code(1);
    let ran = ran.says(&["and 21 more", "→ boltboard compare mine --with-facts there.toml --only values"]);
    assert!(!ran.out.contains("o59"), "{}", ran.out);
    tree.run("compare mine --with-facts there.toml --only values").code(1).says(&["o59"]);
    let answer = tree.run("compare mine --with-facts there.toml --json").json();
    assert_eq!((&answer["sides"][1], &answer["causes"][0]["kind"]), (&"mine on there".into(), &"need".into()));
}

#[test]
fn a_page_stands_by_itself_and_shows_no_foreign_mark_up() {
    let tree = Scratch::skerry();
    tree.run("profile new odd").code(0);
    let name = "<img src=x onerror=alert(1)>\u{202e}";
    let text = format!("format = 1\ntree = \"skerry\"\n[choose]\nstation-name = \"{name}\"\n");
    tree.write("boltboard-work/profiles/odd.toml", &text);
    let ran = tree.run("compare small-station odd --html differ.html").code(1);
    ran.says(&["Wrote differ.html"]);
    let page = tree.read("differ.html");
    assert!(page.starts_with("<!doctype html>") && page.contains("default-src 'none'"), "{}", &page[..400]);
    assert!(!page.contains("<img") && page.contains("&lt;img src=x onerror=alert(1)&gt;"), "mark-up of a value");
    assert!(!page.contains('\u{202e}'), "a sign that turns the text around");
    let elsewhere: Vec<&str> = page.split("http").skip(1).map(|rest| &rest[..20]).collect();
    assert_eq!(elsewhere, ["-equiv=\"Content-Secu"], "nothing is loaded from elsewhere");
}

#[test]
fn layers_that_are_for_other_hosts_are_told_and_passed_over() {
    let tree = Scratch::with(MINI);
    let far = |only: &str| {
        format!("format = 1\ntree = \"mini\"\ntree-version = \"1.0\"\n[only-with]\n{only}\n[choose]\ndepth = 4\n")
    };
    tree.write("profiles/far.toml", &far("compiler = \"reef >= 3\"\nmachine = \"lamp64\""));
    tree.write("profiles/near.toml", &far("compiler = [\"reef >= 3\", \"gcc\", \"clang\"]"));
    tree.run("profile check near").code(0);
    tree.run("profile check far").code(4).complains(&[
        "the profile far is only for reef >= 3; here is ",
        "profiles/far.toml:5:1",
        "the profile far is only for programs for lamp64; here is a compiler for ",
        "boltboard survey --toolchains",
    ]);
    let all = tree.run("profile check --all").code(0);
    all.says(&["far: it is for other hosts than this one.", "near: 1 choice holds together on this host."]);
    tree.run("profile new top --base far").code(0);
    tree.run("build").code(4).complains(&["the profile far is only for"]);
    tree.run("profile flatten").code(0).says(&["1 choice from far", "so only they were compared"]);
    assert!(tree.read("boltboard-work/profiles/top.toml").contains("[[only-with]]"), "what it is for comes along");
}

#[test]
fn profiles_are_factored_flattened_and_merged_from_the_command_line() {
    let tree = Scratch::with(MINI);
    for (name, choices) in [("base", "depth=2"), ("a", "depth=3 horn=on"), ("b", "depth=4 horn=on")] {
        tree.run(&format!("profile new {name}")).code(0);
        tree.run(&format!("set {choices}")).code(0);
    }
    tree.run("profile merge base a b --into both").code(1).says(&[
        "1 choice was changed by both a and b",
        "depth  2     3  4",
        "boltboard profile merge base a b --into both --prefer a",
        "boltboard profile merge base a b --into both --choose depth=3",
    ]);
    assert!(!tree.at("boltboard-work/profiles/both.toml").exists());
    tree.run("profile merge base a b --into both --choose depth=7").code(0).says(&["Its choices hold together"]);
    tree.run("--profile both show depth").code(0).says(&["7"]);
    tree.run("profile merge base a b --into both --prefer a").code(2).complains(&["there already is a profile `both`"]);
    tree.run("profile merge base a b --into x --prefer c").code(2).complains(&["none of the profiles that are merged"]);
    tree.run("profile factor a b --into shared").code(0).says(&[
        "a, b are based on the new profile shared now, which makes the 1 choice that they share:",
        "Their own files are 2 lines shorter.",
        "are the same as before",
    ]);
    tree.run("--profile a why horn").code(0).says(&["chosen in the profile shared (shared.toml, line "]);
    tree.run("profile factor a b --into again").code(1).complains(&["no choices in common", "Nothing was changed."]);
    tree.run("profile flatten a --into alone --json").code(0);
    let alone = tree.read("boltboard-work/profiles/alone.toml");
    assert!(alone.contains("# from shared\nhorn = \"on\"") && !alone.contains("base ="), "{alone}");
    tree.run("profile flatten alone").code(0).says(&["based on no other profile"]);
}

#[test]
fn a_merge_that_cannot_hold_is_not_written() {
    let tree = Scratch::with(MINI);
    for (name, choices) in [("base", "depth=2"), ("a", "horn=on"), ("b", "air=off")] {
        tree.run(&format!("profile new {name}")).code(0);
        tree.run(&format!("set {choices}")).code(0);
    }
    let ran = tree.run("profile merge base a b --into both").code(3);
    ran.complains(&["these choices cannot hold together", "Nothing was changed."]);
    assert!(!tree.at("boltboard-work/profiles/both.toml").exists());
}

#[test]
fn a_profile_that_does_not_fit_is_shown_and_repaired_entry_by_entry() {
    let later = Scratch::later_skerry();
    let text = "format = 1\ntree = \"skerry\"\ntree-version = \"2.4\"\n[choose]\nlamp-watts = 900\nrotation-seconds = 90\n# ours\nunits = \"metric\"\n[providers]\ngsp = \"off\"\n[reasons]\nlamp-watts = \"x\"\nlost = \"y\"\n";
    later.run("profile new odd").code(0);
    later.write("boltboard-work/profiles/odd.toml", text);
    later.run("profile show odd").code(3).says(&[
        "it does not fit this tree",
        "lamp-watts        900     there is no option `lamp-watts`",
        "rotation-seconds  90      rotation-seconds does not accept `90`",
        "units             metric\n",
        "need:gsp          off     there is no need `gsp`",
        "boltboard unset --profile odd lamp-watts",
    ]);
    later.run("unset lamp-watts").code(0).says(&["Removed lamp-watts from the profile odd. Of 5 problems 4 are left."]);
    later.run("unset nothing").code(2).complains(&["`nothing` is not in the profile odd"]);
    later.run("unset rotation-seconds need:gsp").code(0).says(&["are left"]);
    later.run("unset lost").code(0).says(&["It fits this tree now."]);
    let file = later.read("boltboard-work/profiles/odd.toml");
    assert_eq!(file, "format = 1\ntree = \"skerry\"\ntree-version = \"2.4\"\n[choose]\n# ours\nunits = \"metric\"\n");
    later.run("show units").code(0).says(&["metric"]);
    let newer = Scratch::skerry();
    newer.write("boltboard-work/boltboard-work", "format 1\ntree skerry\n");
    newer.write("boltboard-work/profiles/ahead.toml", &text.replace("2.4", "3.0"));
    newer.run("profile show ahead").code(3).complains(&["written for version 3.0, the tree is version 2.4"]);
}

#[test]
fn what_followed_from_a_pinned_default_moves_no_more_and_what_is_pinned_has_to_hold() {
    let board = |version: &str, default: u8, rule: &str| {
        format!(
            "format = 1\n[tree]\nname = \"deep\"\nversion = \"{version}\"\n[option.metres]\nkind = \"number\"\ndefault = {default}\n\
             [option.winch]\nkind = \"switch\"\ndefault = [{{ when = \"metres > 5\", value = \"on\" }}, {{ value = \"off\" }}]\n\
             [option.crane]\nkind = \"switch\"\n{rule}"
        )
    };
    let (earlier, later) = (Scratch::new(), Scratch::new());
    earlier.write("boltboard.toml", &board("1", 2, ""));
    later.write("boltboard.toml", &board("2", 9, "requires = \"metres >= 8\"\n"));
    earlier.run("profile new keeper").code(0);
    let from = earlier.path().display();
    later.run(&format!("carry keeper --from {from} --preview")).code(0).says(&[
        "metres  2    →  9   its default changed",
        "winch   off  →  on  because of metres",
        &format!("boltboard carry keeper --from {from} --pin"),
    ]);
    let pinned = later.run(&format!("carry keeper --from {from} --pin")).code(0);
    assert!(pinned.out.contains("metres  2  →  2") && !pinned.out.contains("winch"), "{}", pinned.out);
    later.run("--profile keeper show winch").code(0).says(&["off"]);
    earlier.run("set crane=on").code(0);
    later.run("profile remove keeper").code(0);
    let clash = later.run(&format!("carry keeper --from {from} --pin")).code(1);
    clash.complains(&["these choices cannot hold together", "metres=2", "crane=on"]);
}
