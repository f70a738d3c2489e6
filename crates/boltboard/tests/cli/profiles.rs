//! Choosing: profiles, layers, what a choice takes, what is refused.

use crate::harness::{MINI, Scratch};

#[test]
fn a_choice_pulls_in_what_it_takes_and_says_so() {
    let tree = Scratch::with(MINI);
    tree.run("set horn=on depth=5").code(0).says(&[
        "horn   off  →  on  chosen",
        "air    off  →  on  for horn",
        "depth  3    →  5   chosen",
    ]);
    let profile = tree.read("boltboard-work/profiles/mine.toml");
    assert!(profile.contains("horn = \"on\"\ndepth = 5\n"), "choices only:\n{profile}");
    assert!(!profile.contains("air"), "what is pulled in is not written");
    tree.run("unset horn").code(0).says(&["air   on  →  off  default"]);
    tree.run("unset horn").code(2).complains(&["`horn` is not chosen in the profile mine"]);
}

#[test]
fn comments_order_and_reasons_are_kept() {
    let tree = Scratch::with(MINI);
    let text = "# the keeper's own\nformat = 1\ntree = \"mini\"\ntree-version = \"1.0\"\n\n[choose]\ndepth = 4 # sounded in May\n# loud\nhorn = \"on\"\n";
    tree.write("boltboard-work/boltboard-work", "format 1\ntree mini\n");
    tree.write("boltboard-work/profiles/mine.toml", text);
    tree.command("set depth=6 --reason x").status().expect("runs");
    tree.run("set air=on").code(0);
    let now = tree.read("boltboard-work/profiles/mine.toml");
    let want = text.replace("depth = 4", "depth = 6").replace("horn = \"on\"\n", "horn = \"on\"\nair = \"on\"\n")
        + "\n[reasons]\ndepth = \"x\"\n";
    assert_eq!(now, want);
    tree.run("why depth").code(0).says(&["chosen in the profile mine (mine.toml, line 7)", "the reason given: \"x\""]);
}

#[test]
fn what_cannot_be_is_refused_and_nothing_changes() {
    let tree = Scratch::with(MINI);
    tree.run("set depth=4").code(0);
    let before = tree.read("boltboard-work/profiles/mine.toml");
    for (words, code, complaints) in [
        ("set hron=on", 2, vec!["there is no option `hron`", "did you mean `horn`?"]),
        ("set horn=yes", 2, vec!["horn does not accept `yes`; it accepts `off` or `on`"]),
        ("set depth=77", 2, vec!["it accepts a whole number from 1 to 9"]),
        ("set horn", 2, vec!["`horn` needs a value: horn=VALUE"]),
        (
            "set horn=on air=off",
            3,
            vec![
                "these choices cannot hold together: horn=on, air=off",
                "horn requires air (boltboard.toml:29)",
                "leave out horn=on",
                "Nothing was changed.",
            ],
        ),
        (
            "set radio=on",
            4,
            vec![
                "radio=on cannot hold while the need nowhere is not met",
                "boltboard survey nowhere",
                "Nothing was changed.",
            ],
        ),
    ] {
        tree.run(words).code(code).complains(&complaints);
        assert_eq!(tree.read("boltboard-work/profiles/mine.toml"), before, "{words}");
    }
}

#[test]
fn layers_are_weaker_than_what_lies_on_them() {
    let tree = Scratch::with(MINI);
    tree.write(
        "profiles/deep.toml",
        "format = 1\ntree = \"mini\"\ntree-version = \"1.0\"\n[choose]\ndepth = 9\nair = \"on\"\n",
    );
    tree.run("profile use deep").code(0);
    tree.run("set depth=2").code(0).complains(&["Your choices go to a new profile my-deep on top of it"]);
    tree.run("options").code(0).says(&["air     on          from deep", "depth   2           chosen"]);
    assert!(tree.read("profiles/deep.toml").contains("depth = 9"), "what the tree ships is not written to");
    tree.run("profile list").code(0).says(&["deep", "my-deep  in use"]);
    tree.run("profile new third --base deep my-deep").code(0);
    tree.run("profile show").code(0).says(&["layers, weakest first: deep, my-deep, third", "depth  2   my-deep"]);
    tree.run("profile remove deep").code(2).complains(&["there is no profile `deep` of your own"]);
    tree.run("profile remove my-deep").code(0);
    tree.run("options").code(3).complains(&["there is no profile `my-deep`"]);
}

#[test]
fn wrong_profiles_are_told_with_their_place() {
    let head = "format = 1\ntree = \"mini\"\ntree-version = \"1.0\"\n";
    for (case, text, complaints) in [
        (
            "another tree",
            "format = 1\ntree = \"maxi\"\n".to_string(),
            vec!["for the tree `maxi`, not for `mini`", ":2:8"],
        ),
        (
            "newer",
            "format = 1\ntree = \"mini\"\ntree-version = \"2.0\"\n".into(),
            vec!["written for version 2.0, the tree is version 1.0"],
        ),
        ("not TOML", format!("{head}[choose\n"), vec!["not TOML"]),
        ("unknown key", format!("{head}chose = 1\n"), vec!["a profile has no key `chose`", "did you mean `choose`?"]),
        (
            "unknown option",
            format!("{head}[choose]\nhron = \"on\"\n"),
            vec!["there is no option `hron`", ":5:1", "did you mean `horn`?"],
        ),
        ("wrong value", format!("{head}[choose]\ndepth = 12\n"), vec!["depth does not accept `12`", ":5:9"]),
        ("wrong type", format!("{head}[choose]\nhorn = true\n"), vec!["`horn` must be a value in quotes"]),
        ("a layer of itself", format!("{head}base = [\"p\"]\n"), vec!["profile `p` is a layer of itself"]),
        ("an unknown layer", format!("{head}base = [\"q\"]\n"), vec!["there is no profile `q`"]),
        (
            "a loose reason",
            format!("{head}[reasons]\nhorn = \"loud\"\n"),
            vec!["there is a reason for `horn`, which is not chosen here"],
        ),
        ("a later format", head.replace("format = 1", "format = 2").to_string(), vec!["`format` must be the number 1"]),
    ] {
        let tree = Scratch::with(MINI);
        tree.write("profiles/p.toml", &text);
        let ran = tree.run("options --profile p").code(3);
        assert!(ran.err.contains("p.toml") || case.contains("layer"), "{case}: the file is named:\n{}", ran.err);
        ran.complains(&complaints);
    }
}

#[test]
fn a_choice_for_once_is_not_saved() {
    let tree = Scratch::with(MINI);
    tree.run("options --try horn=on").code(0).says(&["horn    on          chosen", "air     on          for horn"]);
    tree.run("why horn --try horn=on").code(0).says(&["chosen on the command line"]);
    assert!(!tree.at("boltboard-work").exists(), "looking writes nothing");
    tree.run("options --try horn=no").code(2);
}

#[test]
fn a_layer_that_several_share_counts_once_below_all_of_them() {
    let tree = Scratch::with(MINI);
    let profile = |name: &str, base: &str, chosen: &str| {
        let head = "format = 1\ntree = \"mini\"\ntree-version = \"1.0\"\n";
        tree.write(&format!("profiles/{name}.toml"), &format!("{head}base = [{base}]\n[choose]\n{chosen}\n"));
    };
    profile("shared", "", "depth = 2\nhorn = \"on\"");
    profile("left", "\"shared\"", "depth = 5");
    profile("right", "\"shared\"", "");
    profile("top", "\"left\", \"right\"", "");
    tree.run("profile show top").code(0).says(&["layers, weakest first: shared, left, right, top", "depth  5"]);
    // Many levels of two that share all below them are no work.
    profile("a0", "", "");
    profile("b0", "", "");
    for level in 1..40 {
        let below = format!("\"a{0}\", \"b{0}\"", level - 1);
        profile(&format!("a{level}"), &below, "");
        profile(&format!("b{level}"), &below, "");
    }
    tree.run("profile show a39").code(0).says(&["a38, b38, a39"]);
}

#[test]
fn a_profile_outlives_the_work_folder_in_a_file_of_its_own() {
    let tree = Scratch::with(MINI);
    tree.write("profiles/calm.toml", "format = 1\ntree = \"mini\"\ntree-version = \"1.0\"\n[choose]\ndepth = 2\n");
    tree.run("profile new harbour --base calm").code(0);
    tree.run("set horn=on --reason loud").code(0);
    tree.run("profile new night --base harbour").code(0);
    tree.run("set air=on").code(0);
    assert_eq!(tree.read("boltboard-work/.gitignore"), "*\n", "version controls leave it out");
    let saved = "Saved the profile night in kept/night.toml.";
    tree.run("profile save kept/night.toml").code(0).says(&[saved, "→ boltboard --profile kept/night.toml overview"]);
    tree.run("profile save kept/night.toml").code(1).complains(&["kept/night.toml is there already"]);
    tree.run("profile save --replace kept/night.toml").code(0);
    std::fs::remove_dir_all(tree.at("boltboard-work")).expect("thrown away");
    tree.run("--profile kept/night.toml why horn").code(0).says(&["horn is on: chosen in the profile night", "loud"]);
    tree.run("--profile kept/night.toml why depth").code(0).says(&["depth is 2: chosen in the profile calm"]);
    tree.run("--profile kept/night.toml set depth=5").code(0);
    assert!(tree.read("kept/night.toml").contains("depth = 5"), "choices go to the file");
    // The results of a build are those of the file, not those of another profile of its name.
    tree.run("--profile kept/night.toml build").code(0);
    tree.write(
        "boltboard-work/profiles/night.toml",
        "format = 1\ntree = \"mini\"\ntree-version = \"1.0\"\n[choose]\ndepth = 9\n",
    );
    tree.run("--profile night build").code(0);
    tree.run("--profile night why depth").code(0).says(&["depth is 9"]);
    tree.run("--profile kept/night.toml why depth").code(0).says(&["depth is 5"]);
    tree.run("set --from kept/night.toml").code(0).says(&["horn", "depth"]);
    let mine = tree.read("boltboard-work/profiles/mine.toml");
    assert!(mine.contains("horn = \"on\"") && mine.contains("depth = 5") && mine.contains("air = \"on\""), "{mine}");
    tree.run("--profile ./none.toml why depth").code(3).complains(&["none.toml"]);
}
