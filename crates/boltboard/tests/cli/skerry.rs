//! The demo tree: its options flipped one at a time, its profiles, its modules, and the demo itself.

use std::process::Command;

use crate::harness::Scratch;
use crate::printed::{printed, typed};

fn watch(tree: &Scratch, profile: &str, words: &[&str]) -> String {
    let program = tree.at("boltboard-work/builds").join(profile).join("out/bin/skerryd");
    let output = Command::new(program).args(words).output().expect("skerryd runs");
    assert!(output.status.success(), "{output:?}");
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// Flips one option after the other: exactly the files that name it (or an option that moves with it) are compiled, files
/// that it brings are new, and what is built of all flips equals a clean build byte for byte. What one flip left stale would
/// be stale at the next comparison too, and its name tells the file.
#[test]
fn each_flip_compiles_what_names_it_and_equals_a_clean_build() {
    let tree = Scratch::skerry();
    tree.run("build").code(0);
    for (flip, compiled) in [
        ("units=metric", vec!["lib/units.c"]),
        ("log-time=off", vec!["lib/log.c"]),
        ("fog-horn=builtin", vec!["fog/compressor.c", "fog/horn.c", "made/skerry/builtin_modules.c"]),
        ("link-vhf=builtin", vec!["links/vhf.c", "made/skerry/builtin_modules.c"]),
        // features.c puts the macro's name together from pieces.
        ("lamp-sector=on", vec!["lib/features.c", "lamp/lamp.c", "lamp/lens.c", "lamp/sector.c"]),
        // main.c names ctl-journal, which cannot be without the journal.
        ("journal=off", vec!["lib/features.c", "lib/log.c", "ctl/main.c"]),
    ] {
        tree.run(&format!("set {flip}")).code(0);
        let runs = tree.previewed("run");
        let compiles: Vec<&str> = runs.iter().filter_map(|step| step.strip_prefix("compile ")).collect();
        assert_eq!(compiles, compiled, "{flip}");
        tree.run("build").code(0);
        if flip.starts_with("fog-horn") || flip.starts_with("journal") {
            tree.equals_clean();
        }
    }
}

#[test]
fn shipped_profiles_build_without_a_warning_and_pass_their_tests() {
    let tree = Scratch::skerry();
    for profile in ["small-station", "full-station", "test-bench"] {
        tree.run(&format!("profile use {profile}")).code(0);
        let built = tree.run("build").code(0);
        assert!(!built.err.contains("warning") && !built.out.contains("output of"), "{}", built.err);
        tree.run("test").code(0).says(&["0 failed"]);
    }
    let full = watch(&tree, "full-station", &["--seed", "3", "--minutes", "20"]);
    assert!(
        full.contains("Skerry Main") && full.contains("fog-siren (loaded)") && full.contains("fog-horn (built in)"),
        "{full}"
    );
    let small = watch(&tree, "small-station", &["--minutes", "20"]);
    assert!(small.contains("fog-bell (built in)") && !small.contains("vhf"), "{small}");
    let again = watch(&tree, "full-station", &["--seed", "3", "--minutes", "20"]);
    assert_eq!(full, again, "the seed decides");
    tree.run("compare small-station full-station").code(1).says(&["lamp-drive", "fog-siren", "the same for both"]);
}

#[test]
fn what_a_fresh_machine_lacks_holds_options_off_and_says_so() {
    let tree = Scratch::skerry();
    let survey = tree.run("survey --json").code(0).json();
    let state = |name: &str| {
        let needs = survey["needs"].as_array().expect("needs");
        needs.iter().find(|n| n["name"] == name).expect("the need")["state"].clone()
    };
    assert_eq!(state("squeeze"), "bundled");
    assert_eq!((state("dlopen"), state("maths")), ("found".into(), "found".into()));
    if state("gps") == "missing" {
        tree.run("why clock-gps")
            .code(0)
            .says(&["clock-gps needs gps", "the need gps (reading a satellite clock) is missing"]);
        tree.run("set clock-gps=on").code(4).complains(&["clock-gps=on cannot hold while the need gps is not met"]);
    }
}

#[test]
fn the_demo_walks_the_whole_way() {
    let scratch = Scratch::new();
    let ran = scratch.run("demo --in here").code(0).says(&[
        "$ boltboard preview",
        "Built",
        "fog-horn (built in)",
        "option units: SK_UNITS_NAUTICAL 1 → not defined",
        "0 failed",
        "only for mine",
        " reused, ",
        "Installed: 32 files written",
        "Removed: 32 files",
    ]);
    assert!(!ran.err.contains("error"), "{}", ran.err);
    assert!(!ran.out.contains("To be built first"), "another profile's build takes nothing from this one: {}", ran.out);
    assert!(scratch.at("here/skerry/boltboard-work").is_dir() && !scratch.at("here/installed").exists());
    scratch.run("demo --in here").code(2).complains(&["here is not empty"]);
    // Whoever types along gets on with each command that it printed.
    let commands = printed(&ran.out);
    assert!(commands.len() > 8, "{commands:?}");
    for command in commands {
        let told = typed(&scratch, "here/skerry", &command);
        assert!(![2, 3, 8, -1].contains(&told.code) || command == "uninstall", "`boltboard {command}`: {told:?}");
    }
}
