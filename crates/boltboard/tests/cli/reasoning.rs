//! What leads to a value, what stands against one, and choosing in bulk: `ways`, `why X=V`, clashes, `set --from`, `set --section`,
//! `profile check`.

use crate::harness::Scratch;

/// A station with an `or`, a conflict, a need that no host has, and a chain.
const STATION: &str = "format = 1\n[tree]\nname = \"station\"\nversion = \"1\"\n\
[section.power]\ntitle = \"Power\"\n\
[need.nowhere]\nsummary = \"a library that no host has\"\nlibrary = \"nowhere-at-all\"\npackages = { debian = \"libnowhere-dev\" }\n\
[option.siren]\nkind = \"module\"\nsummary = \"A siren\"\nrequires = \"air and (generator or shore)\"\n\
[option.air]\nkind = \"switch\"\nsummary = \"Compressed air\"\n\
[option.generator]\nkind = \"switch\"\nsummary = \"A generator\"\nsection = \"power\"\n\
[option.shore]\nkind = \"switch\"\nsummary = \"A cable to the shore\"\nsection = \"power\"\nconflicts = \"generator\"\n\
[option.quiet]\nkind = \"switch\"\nsummary = \"No noise at night\"\nconflicts = \"generator\"\n\
[option.clock]\nkind = \"switch\"\nsummary = \"A clock from afar\"\nneeds = \"nowhere\"\n\
[option.watts]\nkind = \"number\"\nsummary = \"How much\"\nrange = [0, 100]\ndefault = 10\nsection = \"power\"\n\
[option.arc]\nkind = \"switch\"\nsummary = \"An arc lamp\"\nrequires = \"watts >= 50\"\n";

fn station() -> Scratch {
    Scratch::with(&[("boltboard.toml", STATION)])
}

#[test]
fn reach_tells_ways_with_their_price_and_takes_one() {
    let tree = station();
    tree.run("ways siren").code(0).says(&[
        "2 ways lead to siren=loadable, the cheapest first:",
        "  1  choose siren=loadable\n     then air off → on (for siren), generator off → on (for siren)",
        "  2  choose siren=loadable shore=on",
        "→ boltboard ways siren=loadable --apply 1",
    ]);
    assert!(!tree.at("boltboard-work").exists(), "asking writes nothing");
    tree.run("ways siren=builtin --apply 2").code(0).says(&["shore", "siren"]);
    tree.run("why shore").code(0).says(&["shore is on: chosen"]);
    tree.run("why generator").code(0).says(&["generator is off"]);
    tree.run("ways siren=builtin").code(0).says(&["siren is builtin already", "boltboard why siren"]);
    tree.run("ways siren=builtin --apply 1").code(0).says(&["already"]);
    tree.run("ways siren=off --apply 9").code(2).complains(&["there is no way 9", "choose one of 1 to"]);
}

#[test]
fn reach_gives_up_what_stands_in_the_way_and_nothing_else() {
    let tree = station();
    tree.run("set quiet=on shore=off air=on --reason inspectors").code(0);
    tree.run("ways siren").code(0).says(&[
        "3 ways lead to siren=loadable",
        "give up shore=off (chosen in the profile mine, line 7 (\"inspectors\")): it becomes on",
        "give up quiet=on",
        "2 choices change",
    ]);
    let profile = tree.read("boltboard-work/profiles/mine.toml");
    tree.run("ways siren --apply 1").code(0);
    let after = tree.read("boltboard-work/profiles/mine.toml");
    assert!(profile.contains("shore = \"off\"") && !after.contains("shore = \"off\""), "{after}");
    assert!(after.contains("quiet = \"on\"") && after.contains("siren = \"loadable\""), "{after}");
    // What a layer below chooses cannot be taken out, only chosen otherwise.
    tree.write("profiles/base.toml", "format = 1\ntree = \"station\"\ntree-version = \"1\"\n[choose]\nwatts = 5\n");
    tree.run("profile new top --base base").code(0);
    tree.run("ways arc --apply 1").code(0);
    let after = tree.read("boltboard-work/profiles/top.toml");
    assert!(after.contains("watts = 50") && after.contains("arc = \"on\""), "{after}");
    tree.run("profile check top").code(0);
}

#[test]
fn reach_knows_what_can_be_installed_and_what_can_never_be() {
    let tree = station();
    tree.run("ways clock").code(0).says(&["→ apt", "libnowhere-dev", "choose clock=on", "1 need to meet"]);
    tree.run("ways clock --apply 1").code(4).complains(&["way 1 needs nowhere first", "boltboard survey nowhere"]);
    tree.edit("boltboard.toml", "requires = \"watts >= 50\"", "requires = [\"watts >= 50\", \"watts < 20\"]");
    tree.run("ways arc").code(1).complains(&[
        "arc can never be on, whatever else is chosen or installed",
        "arc requires watts >= 50 (boltboard.toml:44), so watts must be at least 50",
        "arc requires watts < 20 (boltboard.toml:44), but watts is at least 20",
    ]);
    tree.run("ways watts").code(2).complains(&["`ways watts` needs a value: a whole number from 0 to 100"]);
    tree.run("ways sirne").code(2).complains(&["did you mean `siren`?"]);
}

#[test]
fn clashes_are_told_as_steps_and_all_at_once() {
    let tree = station();
    let ran = tree.run("options --try siren=builtin --try quiet=on --try shore=off --try arc=on --try watts=7").code(3);
    ran.complains(&[
        "these choices cannot hold together: watts=7, arc=on",
        "arc requires watts >= 50 (boltboard.toml:44), but watts is below 50",
        "these choices cannot hold together: siren=builtin, shore=off, quiet=on",
        "quiet conflicts with generator (boltboard.toml:30), so generator must be off",
        "siren requires air and (generator or shore) (boltboard.toml:14), but generator is off and shore is off",
        "2 problems",
    ]);
}

#[test]
fn why_not_tells_what_stands_against_a_value() {
    let tree = station();
    tree.run("why generator=on --try shore=on").code(0).says(&[
        "generator=on cannot hold now:",
        "shore=on is chosen on the command line",
        "shore conflicts with generator (boltboard.toml:26), but generator is on",
        "boltboard ways generator=on",
    ]);
    tree.run("why clock=on").code(0).says(&["clock needs nowhere", "the need nowhere is not met"]);
    tree.run("why air=on").code(0).says(&["air=on is possible.", "boltboard set air=on"]);
    tree.run("why air=off").code(0).says(&["air is off already."]);
    tree.run("why air=loud").code(2).complains(&["it accepts `off` or `on`"]);
}

#[test]
fn choices_come_in_bulk_whole_or_not_at_all() {
    let tree = station();
    tree.write("good.txt", "# for the night\nquiet=on\n\nwatts=20 # less\n");
    tree.run("set --from good.txt --preview").code(0).says(&["quiet", "watts  10   →  20", "Nothing was changed."]);
    assert!(!tree.at("boltboard-work").exists(), "a preview writes nothing");
    tree.run("set --from good.txt arc=off").code(0).says(&["quiet"]);
    assert!(tree.read("boltboard-work/profiles/mine.toml").contains("watts = 20"));
    tree.write("bad.txt", "air=on\nqiet=on\nwatts=many\n");
    let before = tree.read("boltboard-work/profiles/mine.toml");
    tree.run("set --from bad.txt").code(2).complains(&[
        "bad.txt:2: there is no option `qiet`",
        "bad.txt:3: watts does not accept",
        "2 problems",
    ]);
    tree.run("set --from good.txt generator=on").code(3).complains(&["quiet=on", "Nothing was changed."]);
    assert_eq!(tree.read("boltboard-work/profiles/mine.toml"), before);
    tree.run("set --section power=on --preview").code(3).complains(&["generator=on", "cannot hold together"]);
    tree.run("set --section power=off").code(0);
    let after = tree.read("boltboard-work/profiles/mine.toml");
    assert!(
        after.contains("generator = \"off\"")
            && after.contains("shore = \"off\"")
            && !after.contains("watts = \"off\"")
    );
    tree.run("set --section powr=off").code(2).complains(&["did you mean `power`?"]);
    tree.run("set --section power=loud").code(2).complains(&["no option in power accepts `loud`"]);
}

#[test]
fn profiles_are_checked_each_for_itself() {
    let tree = station();
    let profile =
        |choices: &str| format!("format = 1\ntree = \"station\"\ntree-version = \"1\"\n[choose]\n{choices}\n");
    tree.write("profiles/good.toml", &profile("air = \"on\""));
    tree.write("profiles/clash.toml", &profile("shore = \"on\"\ngenerator = \"on\""));
    tree.write("profiles/lacks.toml", &profile("clock = \"on\""));
    tree.run("profile check good").code(0).says(&["good: 1 choice holds together on this host"]);
    let ran = tree.run("profile check --all").code(3).says(&["clash: its choices cannot hold", "good: 1 choice holds"]);
    assert!(
        ran.err.contains("generator=on, shore=on") && ran.err.contains("while the need nowhere is not met"),
        "{}",
        ran.err
    );
    tree.run("profile check lacks").code(4);
    tree.run("profile check lacks --assume nowhere").code(0);
    tree.edit("boltboard.toml", "range = [0, 100]", "range = [0, 100]\nrequires = \"arc\"");
    tree.write("profiles/idle.toml", &profile("watts = 70"));
    tree.run("profile check idle").code(0).says(&["watts has no effect.", "→ boltboard why watts --profile idle "]);
    tree.run("profile check idle --strict").code(1);
}
