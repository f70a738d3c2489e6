//! Starting points, trials and recipes.

use std::process::{Command, Stdio};

use crate::harness::{MINI, Scratch, usual_path};

fn choices(tree: &Scratch, name: &str) -> Vec<String> {
    let text = tree.read(&format!("boltboard-work/profiles/{name}.toml"));
    let chosen = text.split("[choose]").nth(1).unwrap_or_default();
    chosen.lines().filter(|line| line.contains(" = ")).map(str::to_string).collect()
}

#[test]
fn each_starting_point_holds_and_is_what_it_says() {
    let tree = Scratch::skerry();
    for start in ["smallest", "everything", "all-loadable", "this-host", "random:7"] {
        let name = start.replace(':', "-");
        tree.run(&format!("profile new {name} --start {start}")).code(0).says(&["together"]);
        tree.run(&format!("profile check {name} --strict")).code(0);
    }
    let on = |name: &str, wanted: &str| {
        let answer = tree.run(&format!("--profile {name} options --level expert --json")).code(0).json();
        let options = answer["options"].as_array().expect("a list").clone();
        options.iter().filter(|option| option["value"] == wanted).count()
    };
    assert_eq!((on("smallest", "on"), on("smallest", "builtin"), on("smallest", "loadable")), (0, 0, 0));
    assert!(on("everything", "builtin") >= 8 && on("everything", "loadable") == 0);
    assert!(on("all-loadable", "loadable") >= 8 && on("all-loadable", "builtin") == 0);
    // What conflicts is let go and told: the shore's cable cannot be had beside the generator.
    let told = tree.run("profile new again --start everything").code(0);
    told.says(&["Not so beside the others, or not on this host: ", "power-shore"]);
    assert_eq!(choices(&tree, "again"), choices(&tree, "everything"), "the same every time");
    tree.run("profile new seed --start random:7").code(0).says(&["from random:7"]);
    assert_eq!(choices(&tree, "seed"), choices(&tree, "random-7"));
    tree.run("profile new other --start random:8").code(0);
    assert_ne!(choices(&tree, "other"), choices(&tree, "random-7"));
    tree.run("profile new on-top --base small-station --start everything").code(0);
    tree.run("--profile on-top show lamp-drive").code(0).says(&["oil"]);
    tree.run("profile new wrong --start most").code(2).complains(&["smallest, everything"]);
    assert!(!tree.at("boltboard-work/profiles/wrong.toml").exists());
    tree.run("--profile smallest build").code(0);
}

#[test]
fn each_build_of_a_trial_is_run_in_turn_and_told_beside_the_others() {
    let tree = Scratch::with(MINI);
    // Each run says which build it was of: the program says it of itself.
    tree.script("count.sh", "#!/bin/sh\n\"$1/bin/mini\" >> \"$2\" || exit 1\necho >> \"$2\"\n");
    let log = tree.at("runs.log");
    let words = format!("trial --vary depth=2,5 --runs 3 --warm-up 1 --json -- ./count.sh {{out}} {}", log.display());
    let answer = tree.run(&words).code(0).json();
    let variants = answer["variants"].as_array().expect("a list");
    let names: Vec<&str> = variants.iter().filter_map(|variant| variant["name"].as_str()).collect();
    assert_eq!(names, ["depth=2", "depth=5"]);
    for variant in variants {
        assert_eq!(variant["wall-ms"].as_array().map(Vec::len), Some(3), "{variant:#}");
        assert!(variant["output-bytes"].as_u64() > Some(0) && variant["build-work-ms"].is_u64(), "{variant:#}");
        assert!(variant["failed"].is_null());
    }
    let runs = tree.read("runs.log");
    let said: Vec<&str> = runs.split("\n\n").filter(|run| !run.trim().is_empty()).map(str::trim).collect();
    assert_eq!(said.len(), 8, "two builds, one warm-up and three rounds: {runs}");
    assert_ne!(said[0], said[1], "in turn");
    assert!((0..8).all(|at| said[at] == said[at % 2]), "{said:?}");
    let left: Vec<_> = std::fs::read_dir(tree.at("boltboard-work")).expect("there").filter_map(Result::ok).collect();
    assert!(left.iter().all(|entry| !entry.file_name().to_string_lossy().starts_with("trial-")), "nothing stays");
    assert!(!tree.at("boltboard-work/profiles/mine.toml").exists(), "nothing is chosen by it");
}

#[test]
fn profiles_are_tried_against_each_other_and_drawn() {
    let tree = Scratch::with(MINI);
    for (name, choice) in [("a", "depth=2"), ("b", "depth=5")] {
        tree.run(&format!("profile new {name}")).code(0);
        tree.run(&format!("set {choice}")).code(0);
    }
    let ran = tree.run("trial a b --runs 2 --warm-up 0 --svg runs.svg -- bin/mini").code(0);
    ran.says(&["2 runs, on each in turn: bin/mini", "processor", "No time stands out"]);
    let picture = tree.read("runs.svg");
    assert!(picture.starts_with("<svg") && picture.matches("<circle").count() == 4, "a dot for each run");
    tree.write("away/c.toml", "format = 1\ntree = \"mini\"\n[choose]\ndepth = 3\n");
    let away = tree.run("--profile away/c.toml --json trial --runs 1 -- bin/mini").code(0).json();
    assert_eq!(away["variants"][0]["name"], "away/c.toml");
    let both = tree.run("trial a b --vary horn=on,off --runs 1 --json -- bin/mini").code(0).json();
    assert_eq!(both["variants"].as_array().map(Vec::len), Some(4));
}

#[test]
fn a_command_that_fails_hangs_or_is_not_there_is_told() {
    let tree = Scratch::with(MINI);
    tree.run("set depth=4").code(0);
    tree.script("fails.sh", "#!/bin/sh\necho 'no water' >&2\nexit 3\n");
    tree.run("trial --runs 2 -- ./fails.sh").code(1).says(&["ended with 3: no water"]);
    tree.run("trial --runs 1 --limit 1 -- sleep 30").code(1).says(&["did not end within 1"]);
    tree.run("trial -- bin/nothing").code(2).complains(&["there is no program `bin/nothing`"]);
    tree.run("trial --vary depth -- bin/mini").code(2).complains(&["`depth` is not OPTION=VALUE"]);
    tree.run("trial --vary depth=77 -- bin/mini").code(2).complains(&["depth does not accept `77`"]);
    tree.run("trial --vary radio=on -- bin/mini").code(1).complains(&["radio=on cannot be built", "boltboard build"]);
    tree.run("trial --vary depth=1,2,3,4,5,6,7,8,9 --vary horn=on,off --vary air=on,off --vary depth=1,2 -- x")
        .code(2)
        .complains(&["that would be 72 builds"]);
}

#[test]
fn a_recipe_repeats_the_whole_way_on_a_fresh_tree() {
    let tree = Scratch::skerry();
    tree.run("profile new keeper --base small-station").code(0);
    tree.run("set lamp-drive=led fog-horn=builtin").code(0);
    let patch =
        "--- a/lamp/rotation.c\n+++ b/lamp/rotation.c\n@@ -1 +1,2 @@\n #include <skerry/options.h>\n+/* ours */\n";
    tree.write("ours.patch", patch);
    tree.run("patch add ours.patch --reason quieter").code(0);
    let handed = Scratch::new();
    let folder = handed.at("recipe");
    tree.run(&format!("export recipe --into {}", folder.display())).code(0);
    let script = handed.read("recipe/recipe.sh");
    let own = tree.path().display().to_string();
    assert!(!script.contains(&own) && !handed.read("recipe/keeper.toml").contains(&own), "no private place:\n{script}");
    assert!(!handed.read("recipe/keeper.toml").contains("base ="), "it stands by itself");
    assert_eq!(handed.read("recipe/keeper.changes/ours.patch"), patch);
    tree.run(&format!("export recipe --into {}", folder.display())).code(2).complains(&["is not empty"]);
    let fresh = Scratch::skerry();
    let prefix = handed.at("installed");
    let program = std::path::Path::new(env!("CARGO_BIN_EXE_boltboard")).parent().expect("a folder").display();
    let ran = Command::new("sh")
        .arg(folder.join("recipe.sh"))
        .arg(fresh.path())
        .env_clear()
        .env("PATH", format!("{program}:{}", usual_path()))
        .env("PREFIX", &prefix)
        .stdin(Stdio::null())
        .output()
        .expect("it runs");
    let said = format!("{}{}", String::from_utf8_lossy(&ran.stdout), String::from_utf8_lossy(&ran.stderr));
    assert!(ran.status.success(), "{said}");
    for line in ["== Build", "== Tests", "0 failed", "== Installation", "Installed: "] {
        assert!(said.contains(line), "no {line:?} in\n{said}");
    }
    let features = Command::new(prefix.join("bin/skerryd")).arg("--version").output().expect("it runs");
    assert!(features.status.success(), "what was installed runs");
}

#[test]
fn a_profile_is_tailored_to_what_machines_show() {
    let tree = Scratch::skerry();
    let rock = Scratch::with(&[
        ("sys/devices/usb1/modalias", "usb:vF00Dp0011d0100\n"),
        ("proc/sys/kernel/hostname", "rock\n"),
        ("proc/77/maps", "7f-80 r-xp 0 08:01 5  /usr/lib/skerry/fog-bell.so\n"),
    ]);
    let machine = |words: &str| tree.run_with(words, "BOLTBOARD_MACHINE_ROOT", &rock.path().display().to_string());
    machine("profile use full-station").code(0);
    let said = [
        "By what rock shows: 28 parts are made instead of 33.",
        "fog-bell    loadable  fog-bell.so runs",
        "sense-wind  loadable  the device usb:vF00Dp0011d0100",
        "Measure the pressure of the air",
        "a device like usb:vF00Dp0012d*",
    ];
    let preview = machine("tailor --preview").code(0);
    assert!(!preview.out.contains("fog-horn"), "it is built in, so that nothing could show it: {}", preview.out);
    preview.says(&said);
    machine("tailor --save rock.toml").code(0);
    // What a person carries and wrote beside choices comes along.
    tree.run("profile new keeper --base full-station").code(0);
    tree.write(
        "fix.patch",
        "--- a/lamp/rotation.c\n+++ b/lamp/rotation.c\n@@ -1 +1,2 @@\n #include <skerry/options.h>\n+/* ours */\n",
    );
    tree.run("patch add fix.patch").code(0);
    let file = tree
        .read("boltboard-work/profiles/keeper.toml")
        .replace("[choose]", "[choose]\n# quiet nights\nlog-level = \"quiet\"");
    tree.write("boltboard-work/profiles/keeper.toml", &file);
    tree.run("tailor --evidence rock.toml --keep link-satellite")
        .code(0)
        .says(&["link-satellite  loadable  you keep it"]);
    let file = tree.read("boltboard-work/profiles/tailored.toml");
    for line in [
        "station-name = \"Skerry Main\"",
        "sense-wind = \"loadable\"",
        "fog-siren = \"off\"",
        "# quiet nights\nlog-level = \"quiet\"",
        "patches = [\"fix.patch\"]",
        "# from what machines show\n",
        "link-satellite = \"loadable\"",
    ] {
        assert!(file.contains(line), "no {line:?} in\n{file}");
    }
    assert!(!file.contains("fog-horn = \"off\""), "{file}");
    tree.run("profile check tailored").code(0);
    tree.run("tailor --evidence rock.toml").code(2).complains(&["there already is a profile `tailored`"]);
    tree.run("tailor --evidence nothing.toml").code(2).complains(&["holds no evidence", "boltboard tailor --save"]);
    machine("tailor --process 78").code(2).complains(&["what the process 78 has mapped cannot be read"]);
    let answer = machine("tailor --process 77 --preview --json").code(0).json();
    assert_eq!(answer["kept"][0]["option"], "fog-bell", "{answer:#}");
    let mini = Scratch::with(MINI);
    mini.run("tailor --preview").code(1).complains(&["no option of this tree says what shows that it is used"]);
}
