//! Installations that can be taken back: generations, edited configurations, kills at any instant.

use std::collections::BTreeMap;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use crate::harness::Scratch;

const TREE: &[(&str, &str)] = &[
    (
        "boltboard.toml",
        "format = 1\n[tree]\nname = \"buoy\"\nversion = \"1\"\n[header.options]\noutput = \"options.h\"\nprefix = \"B_\"\n\
         [option.prefix]\nkind = \"path\"\ndefault = \"/opt/buoy\"\n[option.depth]\nkind = \"number\"\nrange = [1, 90]\ndefault = 3\n\
         [option.bell]\nkind = \"switch\"\n\
         [part.buoy]\nkind = \"program\"\nsources = [\"main.c\"]\ninstall = \"${prefix}/bin\"\n\
         [part.tide]\nkind = \"shared-library\"\nabi = \"2\"\nsources = [\"tide.c\"]\ninstall = \"${prefix}/lib\"\n\
         [part.bell]\nkind = \"data\"\nwhen = \"bell\"\nsources = [\"bell.txt\"]\noutput = \"share\"\ninstall = \"${prefix}/share/bell\"\n\
         [part.conf]\nkind = \"data\"\nsources = [\"buoy.conf\"]\noutput = \"etc\"\ninstall = \"${prefix}/etc\"\nrole = \"config\"\n",
    ),
    ("main.c", "#include <options.h>\nint main(void) { return B_DEPTH; }\n"),
    ("tide.c", "int tide(void) { return 1; }\n"),
    ("bell.txt", "ding\n"),
    ("buoy.conf", "name = buoy\nport = 1\nlog = off\n"),
];

fn tree() -> Scratch {
    let tree = Scratch::with(TREE);
    let prefix = tree.at("to").display().to_string();
    tree.run(&format!("set prefix={prefix}")).code(0);
    tree
}

/// All files below the prefix but those of the record, with contents, modes and where links lead.
fn all(tree: &Scratch) -> BTreeMap<String, String> {
    fn walk(folder: &Path, root: &Path, into: &mut BTreeMap<String, String>) {
        for entry in std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok) {
            let path = entry.path();
            let name = path.strip_prefix(root).expect("below").display().to_string();
            let status = path.symlink_metadata().expect("there");
            if status.is_symlink() {
                into.insert(name, format!("-> {}", std::fs::read_link(&path).expect("a link").display()));
            } else if status.is_dir() {
                walk(&path, root, into);
            } else {
                let bytes = std::fs::read(&path).expect("read");
                let digest = boltboard_core::base::Digest::of(&bytes);
                into.insert(name, format!("{:o} {digest}", status.permissions().mode() & 0o7777));
            }
        }
    }
    let mut files = BTreeMap::new();
    walk(&tree.at("to"), &tree.at("to"), &mut files);
    files.retain(|name, _| !name.starts_with("share/boltboard"));
    files
}

#[test]
fn one_goes_back_to_exactly_what_was_there() {
    let tree = tree();
    tree.run("install").code(0);
    let first = all(&tree);
    tree.run("set depth=7 bell=on").code(0);
    tree.edit("boltboard.toml", "install = \"${prefix}/lib\"", "install = \"${prefix}/lib\"\nmode = \"700\"");
    tree.run("install").code(0).says(&["→ boltboard back"]);
    let second = all(&tree);
    assert!(second.contains_key("share/bell/bell.txt") && first["bin/buoy"] != second["bin/buoy"]);
    assert!(first["lib/libtide.so.2"].starts_with("755 ") && second["lib/libtide.so.2"].starts_with("700 "));
    tree.run("install").code(0).says(&["0 files written"]);
    let listed = tree.run("back").code(0).says(&[
        "2 generations",
        "2  in place  buoy 1  mine",
        "bell   off  → on",
        "depth  3    → 7",
        "1 file new, 2 files changed",
        "→ boltboard back 1",
    ]);
    assert!(!listed.out.contains("\n3 "), "installing the same again makes none: {}", listed.out);
    tree.run("back 1 --preview").code(0).says(&["remove", "share/bell/bell.txt", "→ boltboard back 1"]);
    assert!(all(&tree) == second, "a preview changes nothing");
    tree.run("back 1")
        .code(0)
        .says(&["Back to generation 1 from 2: 2 files written, 1 removed.", "→ boltboard back 2"]);
    assert!(all(&tree) == first);
    assert!(!tree.at("to/share/bell").exists());
    tree.run("back 2").code(0);
    assert!(all(&tree) == second);
    tree.run("back 1").code(0);
    tree.run("set depth=9").code(0);
    tree.run("install").code(0);
    let json = tree.run("back --json").code(0).json();
    let numbers: Vec<u64> =
        json["generations"].as_array().expect("a list").iter().filter_map(|one| one["number"].as_u64()).collect();
    assert_eq!((numbers, &json["in-place"]), (vec![3, 2, 1], &3.into()));
    tree.run("back 8").code(2).complains(&["there is no generation 8; there are 1, 2, 3"]);
    // All goes with a removal.
    tree.run("uninstall").code(0);
    assert!(!tree.at("to").exists());
    tree.run("back").code(1).complains(&["buoy is not installed below"]);
}

#[test]
fn an_edited_configuration_survives_both_ways() {
    let tree = tree();
    tree.run("install").code(0);
    let conf = || tree.read("to/etc/buoy.conf");
    let edited = conf().replace("port = 1", "port = 99");
    tree.write("to/etc/buoy.conf", &edited);
    tree.edit("buoy.conf", "log = off", "log = on");
    tree.edit("boltboard.toml", "version = \"1\"", "version = \"2\"");
    let told = tree.run("install").code(0);
    told.says(&[
        "yours is kept",
        "what you changed in buoy.conf:",
        "+port = 99",
        "what the tree changed in it:",
        "+log = on",
    ]);
    assert_eq!(conf(), edited);
    assert_eq!(tree.read("to/etc/buoy.conf.from-2"), tree.read("buoy.conf"));
    let back = tree.run("back 1").code(0);
    // What it was made of is what that generation had: there is nothing to join.
    back.says(&["buoy.conf: yours is kept\n"]);
    assert_eq!(conf(), edited);
    tree.run("back 2").code(0);
    assert_eq!(conf(), edited);
    // Once the person has taken the tree's, it goes along.
    tree.write("to/etc/buoy.conf", &tree.read("buoy.conf"));
    tree.run("install").code(0);
    tree.run("back 1").code(0);
    assert_eq!(conf(), "name = buoy\nport = 1\nlog = off\n");
    // One that is edited after the tree's own was taken goes beside where the generation's is another.
    tree.run("back 3").code(0);
    tree.write("to/etc/buoy.conf", &tree.read("buoy.conf").replace("port = 1", "port = 5"));
    let back = tree.run("back 1").code(0);
    back.says(&["yours is kept; the other is", "buoy.conf.from-1", "+port = 5", "-log = on", "+log = off"]);
    assert_eq!(tree.read("to/etc/buoy.conf.from-1"), "name = buoy\nport = 1\nlog = off\n");
    // What someone else put in the place of a program is not overwritten, and nothing else is changed.
    tree.write("to/bin/buoy", "someone's own");
    let before = all(&tree);
    tree.run("back 2").code(1).complains(&["to/bin/buoy is not as it was installed", "Nothing was installed."]);
    assert!(all(&tree) == before);
}

#[test]
fn old_generations_go_with_what_only_they_need() {
    let tree = tree();
    for depth in 1..=5 {
        tree.run(&format!("set depth={depth}")).code(0);
        tree.run("install").code(0);
    }
    let kept = || {
        let mut count = 0;
        let mut open = vec![tree.at("to/share/boltboard/buoy/kept")];
        while let Some(folder) = open.pop() {
            for entry in std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok) {
                if entry.path().is_dir() { open.push(entry.path()) } else { count += 1 }
            }
        }
        count
    };
    assert_eq!(kept(), 9, "four programs, four libraries with other records, and the configuration");
    tree.run("back --keep 2").code(0).says(&["2 generations", "Dropped: 1, 2, 3."]);
    assert_eq!(kept(), 3);
    tree.run("set depth=9").code(0);
    tree.run("install").code(0);
    tree.run("back").code(0).says(&["2 generations; the last 2 are kept", "6  in place", "\n5"]);
    tree.run("back --keep 0").code(2);
    tree.run("back --keep 1 --keep-days 3").code(0).says(&["2 generations"]);
}

#[test]
fn an_installation_of_before_generations_can_be_gone_back_to() {
    let tree = tree();
    tree.run("install").code(0);
    let first = all(&tree);
    // As an earlier program left it: a record without numbers and modes, and nothing beside it.
    let record = tree.read("to/share/boltboard/buoy.json");
    let mut old: serde_json::Value = serde_json::from_str(&record).expect("JSON");
    let fields = old.as_object_mut().expect("a record");
    ["generation", "installed_s", "record"].iter().for_each(|name| drop(fields.remove(*name)));
    for file in old["files"].as_array_mut().expect("a list") {
        file.as_object_mut().expect("a file").remove("mode");
    }
    let text = serde_json::to_string_pretty(&old).expect("JSON");
    ["to/share/boltboard/buoy.json", "to/share/boltboard/buoy.copy.json"].iter().for_each(|at| tree.write(at, &text));
    std::fs::remove_dir_all(tree.at("to/share/boltboard/buoy")).expect("removed");
    tree.run("set depth=7").code(0);
    tree.run("install").code(0);
    tree.run("back").code(0).says(&["2 generations", "before they had dates"]);
    tree.run("back 1").code(0);
    assert!(all(&tree) == first);
}

#[test]
fn what_was_cut_off_is_finished_and_told() {
    let tree = tree();
    tree.run("install").code(0);
    let before = all(&tree);
    tree.run("set depth=7 bell=on").code(0);
    tree.run("install").code(0);
    let after = all(&tree);
    let pending = tree.at("to/share/boltboard/buoy/pending");
    // Killed as soon as it is written down what is to be done.
    let cut = || {
        tree.run("back 1").code(0);
        let mut child = tree.command("back 2").stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts");
        while !pending.exists() && child.try_wait().expect("asked").is_none() {
            std::hint::spin_loop();
        }
        let _ = child.kill();
        let _ = child.wait();
        pending.exists()
    };
    assert!((0..100).any(|_| cut()), "one of a hundred was cut off");
    tree.run("back").code(0).complains(&["Going back that was cut off is finished now."]);
    assert!(all(&tree) == after);
    tree.run("back 1").code(0);
    assert!(all(&tree) == before);
}

#[test]
fn what_a_tree_no_longer_has_goes_where_the_record_is_ours() {
    let tree = tree();
    tree.run("set bell=on").code(0);
    tree.run("install").code(0);
    let part = "[part.bell]\nkind = \"data\"\nwhen = \"bell\"\nsources = [\"bell.txt\"]\noutput = \"share\"\ninstall = \"${prefix}/share/bell\"\n";
    tree.edit("boltboard.toml", part, "");
    tree.run("install").code(0).says(&["1 removed"]);
    assert!(!tree.at("to/share/bell").exists());
    // Going back brings it, though nothing on the board says so any more.
    tree.run("back 1").code(0);
    assert_eq!(tree.read("to/share/bell/bell.txt"), "ding\n");
}

/// All files and links below a folder.
fn files_below(folder: &Path) -> Vec<String> {
    let mut files = Vec::new();
    for entry in std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok) {
        let path = entry.path();
        if path.is_dir() && !path.is_symlink() {
            files.extend(files_below(&path));
        } else {
            files.push(path.display().to_string());
        }
    }
    files
}

#[test]
fn what_a_killed_first_installation_left_goes() {
    let tree = tree();
    tree.run("build").code(0);
    // Folders were made and contents laid aside, and nothing was written down yet.
    let root = tree.at("to/share/boltboard/buoy");
    std::fs::create_dir_all(root.join("kept/content/a")).expect("made");
    std::fs::write(root.join("kept/content/a/bc"), "laid aside").expect("written");
    let made = ["to", "to/share", "to/share/boltboard", "to/share/boltboard/buoy"];
    let lines: String = made.iter().map(|at| format!("{}\n", tree.at(at).display())).collect();
    std::fs::write(root.join("lock"), format!("{lines}/etc\n")).expect("written");
    tree.run("uninstall").code(1).complains(&["buoy is not installed below"]);
    assert!(!tree.at("to").exists());
    // The same, and then it is installed: the folders are known as ours.
    std::fs::create_dir_all(&root).expect("made");
    std::fs::write(root.join("lock"), lines).expect("written");
    tree.run("install").code(0);
    tree.run("uninstall").code(0);
    assert!(!tree.at("to").exists());
}

#[test]
fn what_a_kill_left_of_a_name_for_a_moment_goes_with_the_next_change() {
    let tree = tree();
    tree.run("install").code(0);
    tree.write("to/share/boltboard/buoy/.new-left", "half");
    tree.write("to/bin/.new-theirs", "not ours");
    tree.run("set depth=7").code(0);
    tree.run("install").code(0);
    assert!(!tree.at("to/share/boltboard/buoy/.new-left").exists());
    assert_eq!(tree.read("to/bin/.new-theirs"), "not ours");
}

/// Kills commands at random instants: afterwards, the next command leaves either all of the one state or all of the other.
fn kills(rounds: u64) {
    let tree = tree();
    // Chosen, because that is in the records.
    tree.run("set depth=3 bell=off").code(0);
    tree.run("install").code(0);
    let first = all(&tree);
    tree.run("set depth=7 bell=on").code(0);
    tree.run("install").code(0);
    let second = all(&tree);
    let nothing = BTreeMap::new();
    let mut seed = 7_u64;
    let mut cut = 0;
    for round in 0..rounds {
        let words = ["back 1", "install", "back 1", "back 2", "uninstall", "install"][round as usize % 6];
        if words.starts_with("back") && !tree.at("to/share/boltboard/buoy/2.json").exists() {
            // A removal took the generations along.
            for (depth, bell) in [(3, "off"), (7, "on")] {
                tree.run(&format!("set depth={depth} bell={bell}")).code(0);
                tree.run("install").code(0);
            }
        }
        let mut child = tree.command(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts");
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        std::thread::sleep(Duration::from_micros(3_000 + (seed >> 33) % 90_000));
        cut += usize::from(child.try_wait().expect("asked").is_none());
        let _ = child.kill();
        let _ = child.wait();
        // Whoever comes next finishes it, or takes it back.
        tree.run("back");
        let now = all(&tree);
        assert!(now == first || now == second || now == nothing, "round {round}, {words}: {now:?}");
        assert!(!tree.at("to/share/boltboard/buoy/pending").exists(), "round {round}, {words}");
    }
    assert!(cut > 0, "some were cut off");
    tree.run("install").code(0);
    tree.run("uninstall").code(0);
    let left: Vec<String> = files_below(&tree.at("to"));
    assert!(left.is_empty(), "{left:?}");
}

#[test]
fn kills_at_any_instant_leave_nothing_half() {
    kills(18);
}

#[test]
#[ignore = "it takes minutes"]
fn three_hundred_kills_leave_nothing_half() {
    kills(300);
}

#[test]
fn two_at_once_do_not_mix() {
    let tree = tree();
    tree.run("install").code(0);
    let lock = std::fs::File::create(tree.at("to/share/boltboard/buoy/lock")).expect("made");
    rustix::fs::flock(&lock, rustix::fs::FlockOperation::LockExclusive).expect("taken");
    tree.run("set depth=7").code(0);
    tree.run("install").code(1).complains(&["another command is installing below", "wait until it is done"]);
    tree.run("uninstall").code(1).complains(&["another command is installing below"]);
    drop(lock);
    tree.run("install").code(0);
}

#[test]
fn what_others_wrote_down_is_believed_only_for_our_places() {
    let tree = tree();
    tree.run("install").code(0);
    tree.run("set depth=7").code(0);
    tree.run("install").code(0);
    // A generation that would overwrite a file of a person.
    tree.write("dear", "dear\n");
    let file = "to/share/boltboard/buoy/1.json";
    let mut forged: serde_json::Value = serde_json::from_str(&tree.read(file)).expect("JSON");
    let entry = serde_json::json!({ "path": tree.at("dear"), "digest": null, "link": "/etc/passwd", "config": false });
    forged["files"].as_array_mut().expect("a list").push(entry);
    tree.write(file, &serde_json::to_string_pretty(&forged).expect("JSON"));
    tree.run("back 1").code(1).complains(&["no place of this tree's; the record was not written from here"]);
    assert_eq!(tree.read("dear"), "dear\n");
}

/// Runs a line of a shell with our program in its search path.
fn shell(tree: &Scratch, line: &str) -> String {
    let program = Path::new(env!("CARGO_BIN_EXE_boltboard")).parent().expect("a folder").to_path_buf();
    let path = std::env::join_paths([program, "/usr/bin".into(), "/bin".into()]).expect("a search path");
    let output = Command::new("sh")
        .args(["-c", line])
        .current_dir(tree.path())
        .env_clear()
        .env("PATH", path)
        .output()
        .expect("sh runs");
    let text = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    text.replace(&tree.path().display().to_string(), "TREE")
}

#[test]
fn a_shell_finds_what_is_installed_and_no_longer() {
    let tree = Scratch::with(TREE);
    let prefix = tree.at("to 'here'").display().to_string();
    tree.ran(tree.command("set").arg(format!("prefix={prefix}"))).code(0);
    tree.run("install").code(0).says(&["not found: TREE/to 'here'/bin is not in the search path", "boltboard env"]);
    tree.run("install --check").code(1);
    let once = "eval \"$(boltboard env --shell posix)\"";
    let back = "eval \"$(boltboard env --shell posix --undo)\"";
    assert_eq!(shell(&tree, &format!("{once}; command -v buoy")), "TREE/to 'here'/bin/buoy\n");
    assert_eq!(shell(&tree, &format!("{once}; A=$PATH; {once}; [ \"$A\" = \"$PATH\" ] && echo same")), "same\n");
    let undone = format!("A=$PATH; {once}; {back}; [ \"$A\" = \"$PATH\" ] && echo \"same $LD_LIBRARY_PATH.\"");
    assert_eq!(shell(&tree, &undone), "same .\n");
    let ready = shell(&tree, &format!("{once}; boltboard install --check"));
    assert_eq!(ready, "What is installed is what runs: it comes first, and finds its libraries.\n");
    let module = tree.run("env --shell module").code(0);
    module.says(&["#%Module1.0", "prepend-path PATH TREE/to\\ 'here'/bin", "prepend-path LD_LIBRARY_PATH"]);
    tree.run("env --shell fish").code(0).says(&["contains -- 'TREE/to \\'here\\'/bin' $PATH; or set -gx PATH"]);
    tree.run("env --shell csh --write buoy.csh").code(0);
    assert!(tree.read("buoy.csh").contains("setenv PATH"));
    let json = tree.run("env --json").code(0).json();
    assert!(json["variables"]["PATH"][0].as_str().is_some_and(|at| at.ends_with("/bin")));
    tree.run("uninstall").code(0);
    tree.run("env").code(1).complains(&["buoy is not installed below"]);
}

#[test]
fn what_would_run_instead_is_told() {
    let tree = Scratch::with(TREE);
    // The program needs the library, which goes where nothing of the build's own layout leads.
    tree.edit("boltboard.toml", "sources = [\"main.c\"]", "sources = [\"main.c\"]\nuses = [\"tide\"]");
    tree.edit("boltboard.toml", "${prefix}/lib\"", "${prefix}/libraries\"");
    tree.write("main.c", "int tide(void);\nint main(void) { return tide(); }\n");
    tree.run(&format!("set prefix={}/to", tree.path().display())).code(0);
    tree.run("install").code(0).says(&[
        "no library: TREE/to/bin/buoy needs libtide.so.2; it is TREE/to/libraries/libtide.so.2, where the linker does not look",
    ]);
    let here = format!("PATH={}/to/bin:$PATH; export PATH; ", tree.path().display());
    assert!(shell(&tree, &format!("{here}boltboard install --check")).contains("no library:"));
    let once = "eval \"$(boltboard env --shell posix)\"; ";
    assert!(shell(&tree, &format!("{once}boltboard install --check")).starts_with("What is installed is what runs"));
    // Another copy of each comes first.
    tree.script("first/buoy", "exit 0");
    std::fs::create_dir_all(tree.at("other")).expect("made");
    std::fs::copy(tree.at("to/libraries/libtide.so.2"), tree.at("other/libtide.so.2")).expect("copied");
    let told = shell(
        &tree,
        &format!("{once}PATH=$PWD/first:$PATH LD_LIBRARY_PATH=$PWD/other:$LD_LIBRARY_PATH boltboard install --check"),
    );
    assert!(told.contains("another copy: TREE/first/buoy runs, not TREE/to/bin/buoy"), "{told}");
    assert!(
        told.contains("TREE/to/bin/buoy gets TREE/other/libtide.so.2, not TREE/to/libraries/libtide.so.2"),
        "{told}"
    );
    let json = tree.run("install --check --json").code(1).json();
    assert_eq!(json["unready"][0]["what"], "not-searched");
}

/// A tree that has something done after an installation: programs of ours in the search path stand for the system's.
fn acting(by: &str, absent: &str) -> Scratch {
    let tree = Scratch::with(TREE);
    let action = format!(
        "[action.index]\nsummary = \"bring the index up to date\"\nrun = [\"mark\", \"${{prefix}}/lib\", \"a b;c\"]\nundo = [\"mark\", \"gone\"]\n\
         by = \"{by}\"\nabsent = \"{absent}\"\n\
         [action.bell]\nsummary = \"ring\"\nwhen = \"bell\"\nrun = [\"mark\", \"bell\"]\n[part.buoy]"
    );
    tree.edit("boltboard.toml", "[part.buoy]", &action);
    tree.run(&format!("set prefix={}/to", tree.path().display())).code(0);
    tree
}

fn with_mark(tree: &Scratch, words: &str) -> crate::harness::Ran {
    tree.script("tools/mark", &format!("printf '%s|' \"$@\" >> {0}/marks; echo >> {0}/marks", tree.path().display()));
    let path = format!("{}/tools:{}", tree.path().display(), std::env::var("PATH").unwrap_or_default());
    tree.ran(tree.command(words).env("PATH", path))
}

#[test]
fn what_comes_after_an_installation_is_shown_and_done_and_undone() {
    let tree = acting("anyone", "skip");
    let marks = || tree.read("marks").replace(&tree.path().display().to_string(), "TREE");
    with_mark(&tree, "install --preview").code(0).says(&["afterwards: mark TREE/to/lib 'a b;c'  bring the index"]);
    assert!(!tree.at("marks").exists());
    with_mark(&tree, "install --staging stage").code(0);
    assert!(!tree.at("marks").exists(), "nothing is done for a package");
    with_mark(&tree, "install").code(0).says(&["done: mark TREE/to/lib 'a b;c'"]);
    assert_eq!(marks(), "TREE/to/lib|a b;c|\n", "words stay words");
    with_mark(&tree, "install").code(0);
    assert_eq!(marks().lines().count(), 1, "nothing was installed, so that nothing comes after it");
    tree.run("set bell=on").code(0);
    with_mark(&tree, "install --no-actions").code(0);
    assert_eq!(marks().lines().count(), 1);
    with_mark(&tree, "back 1").code(0).says(&["done: mark"]);
    with_mark(&tree, "uninstall").code(0).says(&["done: mark gone"]);
    assert_eq!(marks(), "TREE/to/lib|a b;c|\nTREE/to/lib|a b;c|\nbell|\ngone|\n");
}

#[test]
fn what_cannot_be_done_after_an_installation_is_told() {
    let tree = acting("anyone", "skip");
    tree.run("install --preview").code(0).says(&["it is left out, because there is no such program here"]);
    tree.run("install").code(0).says(&["left out: bring the index up to date: there is no mark here"]);
    // One that fails leaves the installation as it is, and the command says no.
    tree.script("tools/mark", "echo broken; exit 3");
    let path = format!("{}/tools:{}", tree.path().display(), std::env::var("PATH").unwrap_or_default());
    tree.run("set depth=9").code(0);
    let ran = tree.ran(tree.command("install").env("PATH", &path)).code(1);
    ran.says(&["failed: mark", "it ended with 3", "    broken"]);
    assert!(tree.at("to/bin/buoy").exists());
    let json = tree.run("install --preview --json").code(0).json();
    assert_eq!(json["actions"][0]["outcome"], "no-program");
    // Without its program, nothing is installed.
    let tree = acting("anyone", "fail");
    let told = tree.run("install").code(4).complains(&["there is no `mark`, which index needs"]);
    told.complains(&["→ boltboard install --no-actions"]);
    assert!(!tree.at("to").exists());
    tree.run("install --no-actions").code(0);
}
