//! What goes wrong: compilers, disks, interrupts, kills. Nothing is lost and nothing half-written is taken for done.

use std::os::unix::process::ExitStatusExt;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::harness::{MINI, Scratch, usual_path};

#[test]
fn the_first_error_is_told_with_what_brought_the_file_in() {
    let tree = Scratch::with(MINI);
    tree.run("set horn=on").code(0);
    tree.edit("src/horn.c", "puts(\"BOO\");", "int x = 1;\n  puts(BOO);");
    tree.run("build").code(1).complains(&[
        "failed: compile src/horn.c of part mini",
        "first error: src/horn.c:4:8: 'BOO' undeclared",
        "it is in the build because horn holds",
        "command: ",
        "log: TREE/boltboard-work/logs/",
    ]);
    tree.edit("src/horn.c", "puts(BOO);", "puts(\"BOO\");");
    tree.run("build").code(0);
}

#[test]
fn independent_work_goes_on_when_asked() {
    let tree = Scratch::with(MINI);
    tree.edit("src/depth.c", "return", "retrun");
    tree.run("build --keep-going --jobs 1")
        .code(1)
        .complains(&["failed: compile src/depth.c"])
        .says(&["1 step failed, 1 not done"]);
    assert!(tree.at("boltboard-work/builds/mine/objects/mini/src/main.c.o").exists());
    tree.edit("src/depth.c", "retrun", "return");
    tree.run("build").code(0).steps(2);
}

#[test]
fn a_missing_compiler_is_told_before_anything_else() {
    let tree = Scratch::with(MINI);
    std::fs::create_dir(tree.at("tools2")).expect("a folder");
    for tool in ["sh", "touch"] {
        let found = usual_path().split(':').map(|f| std::path::Path::new(f).join(tool)).find(|p| p.exists());
        std::os::unix::fs::symlink(found.expect("the tool"), tree.at("tools2").join(tool)).expect("a link");
    }
    tree.run_with("build", "PATH", "TREE/tools2").code(4).complains(&["cc is not in the search path"]);
    tree.run("build").code(0);
}

#[test]
fn a_compiler_that_crashes_is_told_as_such() {
    let tree = Scratch::with(MINI);
    tree.script("bad/cc", "case \"$*\" in *depth.c*) kill -SEGV $$;; esac; exec /usr/bin/cc \"$@\"");
    let path = format!("TREE/bad:{}", usual_path());
    tree.run_with("build", "PATH", &path).code(1).complains(&["failed: compile src/depth.c", "it crashed (SIGSEGV)"]);
    tree.script("bad/cc", "exit 1");
    tree.run_with("build", "PATH", &path).code(4).complains(&["cc does not work as a compiler"]);
}

#[test]
fn a_generator_must_write_what_it_declares() {
    let tree = Scratch::with(MINI);
    tree.edit("tools/names.sh", "> \"$1\"", "> /dev/null");
    tree.run("build")
        .code(1)
        .complains(&["failed: generate made/mini/names.h", "it succeeded but did not write made/mini/names.h"]);
    tree.write("tools/names.sh", "echo half > \"$1\"; exit 7\n");
    tree.run("build").code(1).complains(&["it ended with exit code 7"]);
    assert!(!tree.at("boltboard-work/builds/mine/made/mini/names.h").exists(), "nothing half-written is in place");
}

#[test]
fn a_generated_header_must_be_declared_as_used() {
    let tree = Scratch::with(MINI);
    tree.run("build").code(0);
    tree.edit("boltboard.toml", "uses = [\"names\"]\n", "");
    tree.edit("src/main.c", "int main", "int  main");
    tree.run("build")
        .code(1)
        .complains(&["it reads made/mini/names.h, which part `names` makes, but its own part does not use `names`"]);
}

#[test]
fn a_shipped_copy_of_the_option_header_is_noticed() {
    let tree = Scratch::with(MINI);
    tree.write("src/mini/options.h", "#define MINI_DEPTH 5\n");
    tree.edit("src/mini.h", "<mini/options.h>", "\"mini/options.h\"");
    tree.run("build")
        .code(1)
        .complains(&["src/mini/options.h was found instead of the option header made/mini/options.h"]);
    tree.edit("boltboard.toml", "prefix = \"MINI_\"", "prefix = \"MINI_\"\nguard = \"SHIPPED_H\"\nfirst = true");
    tree.write("src/mini/options.h", "#ifndef SHIPPED_H\n#define SHIPPED_H\n#define MINI_DEPTH 5\n#endif\n");
    tree.run("build").code(0);
    let program = Command::new(tree.at("boltboard-work/builds/mine/out/bin/mini")).output().expect("it runs");
    assert!(String::from_utf8_lossy(&program.stdout).starts_with("depth 3"), "ours counts");
}

#[test]
fn a_second_build_waits_and_says_so() {
    let tree = Scratch::with(MINI);
    tree.edit("tools/names.sh", "echo '#", "sleep 2; echo '#");
    let first = tree.command("build").stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("starts");
    wait_for(|| tree.at("boltboard-work/lock").exists() && !tree.read("boltboard-work/lock").is_empty());
    tree.run("build")
        .code(0)
        .complains(&["Another build is at work in TREE/boltboard-work (process ", "waiting for it to end"])
        .steps(0);
    let first = tree.told(&first.wait_with_output().expect("ends")).code(0);
    assert!(first.out.contains("4 steps ran"), "{}", first.out);
}

#[track_caller]
fn wait_for(mut done: impl FnMut() -> bool) {
    let start = Instant::now();
    while !done() {
        assert!(start.elapsed() < Duration::from_secs(30), "it takes too long");
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// A tree whose every compile takes a little while, so that an interrupt comes in the middle.
fn slow() -> (Scratch, String) {
    let tree = Scratch::with(MINI);
    tree.script("slow/cc", "case \"$*\" in *\" -c \"*) sleep 0.3;; esac; exec /usr/bin/cc \"$@\"");
    let path = format!("{}/slow:{}", tree.path().display(), usual_path());
    (tree, path)
}

fn interrupted(signal: &str) -> (Scratch, String, std::process::Output) {
    let (tree, path) = slow();
    let mut command = tree.command("build --jobs 1");
    let child = command.env("PATH", &path).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("starts");
    wait_for(|| {
        tree.at("boltboard-work/builds/mine/objects/mini/src/depth.c.o").exists()
            || tree.at("boltboard-work/builds/mine/objects/mini/src/main.c.o").exists()
    });
    let sent = Command::new("kill").args([signal, &child.id().to_string()]).status().expect("kill runs");
    assert!(sent.success());
    let output = child.wait_with_output().expect("ends");
    (tree, path, output)
}

#[test]
fn an_interrupt_in_the_middle_is_gone_on_from() {
    for signal in ["-INT", "-TERM"] {
        let (tree, path, output) = interrupted(signal);
        let ran = tree.told(&output).code(130).says(&["Interrupted:", "→ boltboard build   go on from here"]);
        assert!(ran.err.is_empty(), "{}", ran.err);
        tree.run_with("build", "PATH", &path).code(0).says(&["Built"]);
        equal_to_clean(&tree, &path);
    }
}

#[test]
fn a_kill_in_the_middle_loses_only_what_ran() {
    let (tree, path, _) = interrupted("-KILL");
    let ran = tree.run_with("build", "PATH", &path).code(0);
    assert!(!ran.out.contains("4 steps ran"), "what was done is not done again: {}", ran.out);
    equal_to_clean(&tree, &path);
}

#[test]
fn what_a_kill_leaves_of_a_file_lies_where_nobody_finds_it() {
    let board = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[option.quiet]\nkind = \"switch\"\nsummary = \"Say less\"\n\
                 [part.t]\nkind = \"program\"\nsources = [\"main.c\"]\n";
    let tree = Scratch::with(&[
        ("boltboard.toml", board),
        ("main.c", "static const char chart[20000] = {1};\nint main(void) { return chart[0] - 1; }\n"),
    ]);
    tree.run("build").code(0);
    let names = || tree.outputs("mine").into_iter().map(|(name, _)| name).collect::<Vec<_>>();
    let before = names();
    // Nothing is to be compiled, and the program is to carry another record.
    tree.run("set quiet=on").code(0);
    let mut limited = Command::new("sh");
    let program = env!("CARGO_BIN_EXE_boltboard");
    limited.args(["-c", &format!("ulimit -f 32; exec {program} build")]).current_dir(tree.path());
    let status = limited.stdout(Stdio::null()).stderr(Stdio::null()).status().expect("started");
    assert_eq!(status.signal(), Some(rustix::process::Signal::XFSZ.as_raw()), "killed while it writes the program");
    assert_eq!(names(), before);
    tree.run("build --verify").code(0);
    assert_eq!(names(), before);
    assert!(!tree.at("boltboard-work/builds/mine/aside").exists());
}

#[track_caller]
fn equal_to_clean(tree: &Scratch, path: &str) {
    let here = tree.outputs("mine");
    tree.run_with("clean --all --store", "PATH", path).code(0);
    tree.run_with("build", "PATH", path).code(0);
    assert!(here == tree.outputs("mine"), "the same as a clean build");
}

#[test]
fn damaged_state_costs_work_and_nothing_else() {
    let tree = Scratch::with(MINI);
    tree.run("build").code(0);
    let before = tree.outputs("mine");
    for (damaged, text) in [
        ("boltboard-work/builds/mine/journal", "{\"done\":{\"step\":\n\u{0}garbage"),
        ("boltboard-work/status", "not json"),
        ("boltboard-work/ledger.jsonl", "{}\nnot json\n"),
    ] {
        tree.write(damaged, text);
        tree.run("build").code(0);
        assert!(before == tree.outputs("mine"), "after damage to {damaged}");
    }
    tree.run("ledger").code(0).says(&["done"]);
}

#[test]
fn damaged_results_in_the_store_are_noticed() {
    let tree = Scratch::with(MINI);
    tree.run("build").code(0);
    let before = tree.outputs("mine");
    let list =
        Command::new("find").arg(tree.at("boltboard-work/store/content")).args(["-type", "f"]).output().expect("find");
    for file in String::from_utf8_lossy(&list.stdout).lines() {
        std::fs::write(file, "damaged").expect("written");
    }
    tree.run("clean").code(0);
    tree.run("build").code(0).steps(4);
    assert!(before == tree.outputs("mine"));
}

#[test]
fn a_work_folder_that_cannot_be_written_is_told() {
    let tree = Scratch::with(MINI);
    // A file where a folder must be stops everyone, root as well.
    tree.write("file", "x");
    tree.run("build --work file/inside").code(7).complains(&["TREE/file/inside"]);
    assert_eq!(tree.read("file"), "x");
    let read_only = std::path::Path::new("/proc/sys/bolt");
    tree.run(&format!("set depth=4 --work {}", read_only.display()))
        .code(7)
        .complains(&["cannot make the folder /proc/sys/bolt"]);
}

#[test]
fn looking_works_when_nothing_can_be_written() {
    let tree = Scratch::with(MINI);
    tree.run("build").code(0);
    // A file where a folder must be stops everyone, root as well.
    tree.run("clean").code(0);
    let _ = std::fs::remove_dir_all(tree.at("boltboard-work/scratch"));
    tree.write("boltboard-work/scratch", "");
    for words in ["", "options", "why horn", "survey", "preview"] {
        tree.run(words).code(0);
    }
}

#[test]
fn a_full_disk_is_told_and_gone_on_from() {
    let tree = Scratch::with(MINI);
    std::fs::create_dir(tree.at("small")).expect("a folder");
    let mount = |words: &[&str]| {
        Command::new(words[0]).args(&words[1..]).stderr(Stdio::null()).status().is_ok_and(|s| s.success())
    };
    let small = tree.at("small").display().to_string();
    if mount(&["mount", "-t", "tmpfs", "-o", "size=96k", "tmpfs", &small]) {
        let full = tree.run("build --work small/w");
        let grown = mount(&["mount", "-o", "remount,size=16m", &small]);
        let after = tree.run("build --work small/w");
        let program = std::fs::metadata(tree.at("small/w/builds/mine/out/bin/mini"));
        assert!(mount(&["umount", &small]), "unmounted");
        assert_eq!(full.code, 6, "{full:?}");
        assert!(full.err.to_lowercase().contains("no space left"), "{}", full.err);
        assert!(grown && program.is_ok());
        after.code(0).says(&["Built"]);
    } else {
        // No rights to mount: a limit on the size of files stops writing at the same places.
        let program = env!("CARGO_BIN_EXE_boltboard");
        let mut limited = Command::new("sh");
        limited.args(["-c", &format!("ulimit -f 8; trap '' XFSZ; exec {program} build")]).current_dir(tree.path());
        let ran = tree.ran(&mut limited);
        assert_ne!(ran.code, 0, "{ran:?}");
        tree.run("build").code(0);
    }
}

#[test]
fn a_file_edited_while_it_compiles_is_compiled_again() {
    let (tree, path) = slow();
    let mut command = tree.command("build --jobs 1");
    let child = command.env("PATH", &path).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("starts");
    wait_for(|| tree.at("boltboard-work/builds/mine/made/mini/names.h").exists());
    // The compiles of all sources begin with a wait now; whichever runs, its input changes under it.
    std::thread::sleep(Duration::from_millis(100));
    for file in ["src/main.c", "src/depth.c"] {
        tree.write(file, &format!("{}/* edited */\n", tree.read(file)));
    }
    tree.told(&child.wait_with_output().expect("ends")).code(0);
    tree.run_with("build", "PATH", &path).code(0);
    tree.run_with("build", "PATH", &path).code(0).steps(0);
    equal_to_clean(&tree, &path);
}

#[test]
fn a_header_edited_between_two_compiles_counts_as_each_has_read_it() {
    let tree = Scratch::with(&[
        (
            "boltboard.toml",
            "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[header.h]\noutput = \"t/options.h\"\nprefix = \"T_\"\n\
             [option.fog]\nkind = \"switch\"\n[part.all]\nkind = \"objects\"\nsources = [\"*.c\"]\n",
        ),
        ("shared.h", "#define VALUE 1\n"),
        ("first.c", "#include \"shared.h\"\nint first = VALUE;\n"),
        ("middle.c", "int middle;\n"),
        ("second.c", "#include \"shared.h\"\nint second = VALUE;\n"),
        ("edited", "#include <t/options.h>\n#ifdef T_FOG\n#define VALUE 2\n#else\n#define VALUE 3\n#endif\n"),
    ]);
    let edit =
        "case \"$*\" in *middle.c*-c*) [ -e done ] || { sleep 0.3; cp edited shared.h; touch done; sleep 0.3; };; esac";
    tree.script("edits/cc", &format!("{edit}; exec /usr/bin/cc \"$@\""));
    let path = format!("{}/edits:{}", tree.path().display(), usual_path());
    let first = tree.run_with("build --jobs 1 --verbose", "PATH", &path).code(0);
    let order: Vec<&str> = first.err.lines().filter_map(|line| line.strip_prefix("compile   ")).collect();
    assert_eq!(order, ["first.c  all", "middle.c  all", "second.c  all"]);
    assert!(tree.at("done").exists());

    let told = tree.run_with("build --verbose", "PATH", &path).code(0).err;
    assert!(told.contains("compile   first.c") && !told.contains("compile   second.c"), "{told}");
    tree.run("set fog=on").code(0);
    tree.run_with("preview", "PATH", &path).code(0).says(&["compile   first.c", "compile   second.c"]);
    tree.run_with("build --verify", "PATH", &path).code(0).says(&["Verified:"]);
}
