//! Random rounds: something happens to a tree, its options, its work folder or a running build; then a build must equal a
//! clean one.
//!
//! `BOLTBOARD_ROUNDS=10000 BOLTBOARD_SEED=7 cargo test --release -p boltboard --test cli rounds` makes a long run. A failure
//! prints its seed and the fewest acts that still bring it about.

use std::path::PathBuf;
use std::process::Stdio;
use std::time::{Duration, SystemTime};

use crate::harness::Scratch;

/// How many acts one tree goes through before a new one is begun.
const LIFE: usize = 40;

/// How often a long run tells how far it is, in rounds.
const TOLD: usize = 400;

const BOARD: &str = r#"format = 1
[tree]
name = "rounds"
version = "1"
[toolchain]
c-compiler = "HOST/cc"
c-flags = ["-O1", { when = "fast", add = ["-O2"] }]
[header.options]
path = "rounds/options.h"
prefix = "R_"
[option.fast]
kind = "switch"
[option.extra]
kind = "switch"
[option.depth]
kind = "number"
range = [0, 9]
default = 3
[option.name]
kind = "text"
default = "skerry"
[part.text]
kind = "generated"
command = ["sh", "-c", "sed s/TIDE/tide/ words.txt > ${step:writes}"]
reads = ["words.txt"]
writes = ["words.h"]
[part.low]
kind = "static-library"
sources = ["low/*.c", { when = "extra", add = ["extra/*.c"] }]
include = ["first", "second"]
[part.shared]
kind = "shared-library"
sources = ["shared.c"]
include = ["second"]
[part.prog]
kind = "program"
sources = ["main.c"]
uses = ["low", "shared", "text"]
include = ["first", "second"]
"#;

/// One thing that happens. Numbers choose among what there is.
#[derive(Debug, Clone, Copy)]
enum Act {
    Edit(u8, u8),
    EditAndBack(u8),
    EditWithOldTime(u8, u8),
    Add(u8),
    Remove(u8),
    HeaderFirst(u8),
    HeaderGone,
    Words(u8),
    Option(u8, u8),
    Flag(u8),
    DropOutput(u8),
    SpoilOutput(u8),
    SpoilStore(u8),
    SpoilInPlace(u8),
    SpoilState(u8, u8),
    Compiler(u8),
    Kill(u8),
    FullDisk(u8),
}

const EDITED: [&str; 6] = ["main.c", "shared.c", "low/a.c", "low/b.c", "second/low.h", "extra/e.c"];

/// A compiler that stands beside the tree, so that another version of it can take its place.
fn compiler(host: &Scratch, version: u8) {
    host.script("cc", &format!("# version {version}\nexec cc \"$@\""));
}

fn tree(host: &Scratch) -> Scratch {
    compiler(host, 0);
    let board = BOARD.replace("HOST", &host.path().display().to_string());
    let tree = Scratch::with(&[
        ("board.toml", &board),
        ("words.txt", "static const char *const words = \"TIDE\";\n"),
        ("second/low.h", "#define LOW 0\n#ifdef R_EXTRA\n#define EXTRA_LOW 1\n#endif\nint shared(void);\n"),
        ("low/a.c", "#include \"rounds/options.h\"\n#include <low.h>\nint a(void) { return LOW + R_DEPTH + 0; }\n"),
        ("low/b.c", "#include \"rounds/options.h\"\nconst char *b(void) { return R_NAME; }\nint b_n = 0;\n"),
        ("extra/e.c", "#include \"rounds/options.h\"\n#include <low.h>\nint e(void) { return EXTRA_LOW + 0; }\n"),
        ("shared.c", "#include <low.h>\nint shared(void) { return LOW + 0; }\n"),
        (
            "main.c",
            "#include <words.h>\n#include <low.h>\n#if __has_include(<late.h>)\n#include <late.h>\n#endif\n\
             int main(void) { return (words[0] == 't' ? shared() : 1) + 0; }\n",
        ),
    ]);
    tree.run("build").code(0);
    tree
}

/// Sets the first number that stands alone to another.
fn number(tree: &Scratch, file: &str, to: u8) {
    let text = tree.read(file);
    let Some(at) = text.rfind(|c: char| c.is_ascii_digit()) else { return };
    tree.write(file, &format!("{}{}{}", &text[..at], to % 10, &text[at + 1..]));
}

fn files_below(folder: PathBuf) -> Vec<PathBuf> {
    let mut files = Vec::new();
    let mut open = vec![folder];
    while let Some(folder) = open.pop() {
        for path in std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok).map(|entry| entry.path()) {
            if path.is_dir() { open.push(path) } else { files.push(path) }
        }
    }
    files.sort();
    files
}

/// Cuts a file off, or turns a byte of it. Kept results are read-only.
fn spoil(files: &[PathBuf], which: u8, how: u8) {
    let Some(file) = files.get(usize::from(which) % files.len().max(1)) else { return };
    let Ok(mut bytes) = std::fs::read(file) else { return };
    let middle = bytes.len() / 2;
    match bytes.get_mut(middle) {
        Some(byte) if how.is_multiple_of(2) => *byte = byte.wrapping_add(1),
        _ => bytes.truncate(middle),
    }
    std::fs::remove_file(file).expect("removed");
    std::fs::write(file, bytes).expect("written");
}

fn happen(tree: &Scratch, host: &Scratch, act: Act) {
    let work = |below: &str| tree.at("bolt-work").join(below);
    match act {
        Act::Edit(file, to) => number(tree, EDITED[usize::from(file) % EDITED.len()], to),
        Act::EditAndBack(file) => {
            let file = EDITED[usize::from(file) % EDITED.len()];
            let before = tree.read(file);
            tree.write(file, &format!("{before}\n/* for a moment */\n"));
            tree.write(file, &before);
        }
        Act::EditWithOldTime(file, to) => {
            let name = EDITED[usize::from(file) % EDITED.len()];
            let time = std::fs::metadata(tree.at(name)).and_then(|status| status.modified()).expect("a time");
            number(tree, name, to);
            let file = std::fs::File::options().append(true).open(tree.at(name)).expect("opened");
            file.set_modified(time - Duration::from_secs(u64::from(to))).expect("time set");
        }
        Act::Add(which) => {
            tree.write(&format!("low/x{}.c", which % 4), &format!("int x{}(void) {{ return 0; }}\n", which % 4));
        }
        Act::Remove(which) => drop(std::fs::remove_file(tree.at(&format!("low/x{}.c", which % 4)))),
        Act::HeaderFirst(to) => {
            let name = if to.is_multiple_of(2) { "first/low.h" } else { "second/late.h" };
            let text = "#undef LOW\n#define LOW 1\n#define EXTRA_LOW 1\nint shared(void);\n";
            tree.write(name, &text.replace('1', &(to % 10).to_string()));
        }
        Act::HeaderGone => {
            ["first/low.h", "second/late.h"].iter().for_each(|name| drop(std::fs::remove_file(tree.at(name))));
        }
        Act::Words(to) => tree.write("words.txt", &format!("static const char *const words = \"TIDE{to}\";\n")),
        Act::Option(which, to) => {
            let word = match which % 4 {
                0 => format!("fast={}", ["off", "on"][usize::from(to % 2)]),
                1 => format!("extra={}", ["off", "on"][usize::from(to % 2)]),
                2 => format!("depth={}", to % 10),
                _ => format!("name=rock{}", to % 3),
            };
            tree.run(&format!("set {word}")).code(0);
        }
        Act::Flag(to) => {
            let text = tree.read("board.toml");
            let (from, rest) = text.split_once("c-flags = [\"-O").expect("the flags");
            tree.write("board.toml", &format!("{from}c-flags = [\"-O{}{}", to % 2 + 1, &rest[1..]));
        }
        Act::DropOutput(which) => {
            let files = files_below(work("builds/mine"));
            drop(files.get(usize::from(which) % files.len().max(1)).map(std::fs::remove_file));
        }
        Act::SpoilOutput(which) => spoil(&files_below(work("builds/mine/out")), which, 0),
        Act::SpoilStore(which) => spoil(&files_below(work("store")), which, which / 7),
        Act::SpoilInPlace(which) => {
            let mut files = files_below(work("builds/mine/out"));
            files.extend(files_below(work("builds/mine/objects")));
            if let Some(file) = files.get(usize::from(which) % files.len().max(1)) {
                let mut bytes = std::fs::read(file).expect("there");
                let middle = bytes.len() / 2;
                bytes.iter_mut().skip(middle).take(1).for_each(|byte| *byte = byte.wrapping_add(1));
                let mut file = std::fs::File::options().write(true).open(file).expect("opened");
                std::io::Write::write_all(&mut file, &bytes).expect("written");
            }
        }
        Act::Compiler(version) => compiler(host, version % 3),
        Act::FullDisk(blocks) => {
            let command = tree.command("build");
            let mut limited = std::process::Command::new("sh");
            limited.arg("-c").arg(format!("ulimit -f {}; exec \"$0\" \"$@\"", blocks % 48)).arg(command.get_program());
            limited.args(command.get_args()).current_dir(command.get_current_dir().expect("a folder"));
            let set = command.get_envs().filter_map(|(name, value)| Some((name, value?)));
            limited.envs(set).stdout(Stdio::null()).stderr(Stdio::null());
            drop(limited.status());
        }
        Act::SpoilState(which, how) => {
            let own = |file: &PathBuf| !file.components().any(|part| part.as_os_str() == "profiles");
            let files = std::fs::read_dir(work("")).into_iter().flatten().filter_map(Result::ok).map(|e| e.path());
            let names = ["status", "ledger.jsonl", "board", "board.words", "probes"];
            let known = |file: &PathBuf| file.file_name().is_some_and(|name| names.iter().any(|known| name == *known));
            let mut files: Vec<PathBuf> = files.filter(own).filter(known).collect();
            files.extend(
                files_below(work("builds/mine")).into_iter().filter(|file| file.parent() == Some(&work("builds/mine"))),
            );
            files.sort();
            spoil(&files, which, how);
        }
        Act::Kill(after) => {
            let mut child =
                tree.command("build").stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts");
            std::thread::sleep(Duration::from_millis(u64::from(after) / 2));
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

fn act(chance: &mut fastrand::Rng) -> Act {
    let (a, b) = (chance.u8(..), chance.u8(..));
    match chance.u8(0..24) {
        0..3 => Act::Edit(a, b),
        3 => Act::EditAndBack(a),
        4 => Act::EditWithOldTime(a, b),
        5 => Act::Add(a),
        6 => Act::Remove(a),
        7 => Act::HeaderFirst(a),
        8 => Act::HeaderGone,
        9 => Act::Words(a),
        10..13 => Act::Option(a, b),
        13 => Act::Flag(a),
        14 => Act::DropOutput(a),
        15 => Act::SpoilOutput(a),
        16 => Act::SpoilStore(a),
        17 => Act::SpoilState(a, b),
        18 => Act::SpoilInPlace(a),
        19 => Act::Compiler(a),
        20 => Act::FullDisk(a),
        _ => Act::Kill(a),
    }
}

/// Lets acts happen, a build after each. Returns what went wrong after how many of them.
fn live(acts: &[Act]) -> Result<(), (usize, String)> {
    let host = Scratch::new();
    let tree = tree(&host);
    for (index, act) in acts.iter().enumerate() {
        happen(&tree, &host, *act);
        let ran = tree.run("build --verify");
        if ran.code != 0 {
            return Err((index + 1, format!("{}{}", ran.out, ran.err)));
        }
    }
    Ok(())
}

/// Leaves out act after act while it still goes wrong.
fn fewest(mut acts: Vec<Act>) -> Vec<Act> {
    let mut at = 0;
    while at < acts.len() {
        let mut fewer = acts.clone();
        fewer.remove(at);
        match live(&fewer) {
            Err((until, _)) => {
                fewer.truncate(until);
                acts = fewer;
            }
            Ok(()) => at += 1,
        }
    }
    acts
}

#[test]
fn whatever_happens_a_build_equals_a_clean_one() {
    let told = |name: &str| std::env::var(name).ok().and_then(|text| text.parse().ok());
    let rounds = told("BOLTBOARD_ROUNDS").unwrap_or(160) as usize;
    let seed: u64 = told("BOLTBOARD_SEED").unwrap_or(1);
    let begun = SystemTime::now();
    for (life, start) in (0..rounds).step_by(LIFE).enumerate() {
        if start > 0 && start.is_multiple_of(TOLD) {
            // Past what a test says only when it fails.
            let line = format!("{start} rounds, none differs, {:?}\n", begun.elapsed().unwrap_or_default());
            let _ = std::io::Write::write_all(&mut std::io::stderr(), line.as_bytes());
        }
        let mut chance = fastrand::Rng::with_seed(seed.wrapping_add(life as u64));
        let acts: Vec<Act> = (0..LIFE.min(rounds - start)).map(|_| act(&mut chance)).collect();
        if let Err((until, said)) = live(&acts) {
            let few = fewest(acts[..until].to_vec());
            panic!("seed {}, {} acts, fewest: {few:?}\n{said}", seed.wrapping_add(life as u64), until);
        }
    }
    eprintln!("{rounds} rounds from seed {seed} in {:?}: none differs", begun.elapsed().unwrap_or_default());
}
