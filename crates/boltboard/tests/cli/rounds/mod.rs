//! Random rounds: something happens to a tree, its options, its work folder or a running build; then a build must equal a
//! clean one.
//!
//! `BOLTBOARD_ROUNDS=10000 BOLTBOARD_SEED=7 cargo test --release -p boltboard --test cli rounds` makes a long run. A failure
//! prints its seed and the fewest acts that still bring it about.

mod away;
mod fortran;
mod nasty;
mod shared;
mod worlds;

use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::{Duration, SystemTime};

use crate::harness::Scratch;
use worlds::{Kind, World, compiler};

/// How many acts one tree goes through before a new one is begun.
const LIFE: usize = 40;

/// How often a long run tells how far it is, in rounds.
const TOLD: usize = 400;

/// One thing that happens. Numbers choose among what there is.
#[derive(Debug, Clone, Copy)]
enum Act {
    Edit(u8, u8),
    EditAndBack(u8),
    EditWithOldTime(u8, u8),
    EditWhileBuilding(u8, u8, u8),
    Add(u8),
    Remove(u8),
    Rename(u8, u8),
    HeaderFirst(u8, u8),
    HeaderGone,
    Option(u8, u8),
    Flag(u8),
    DropOutput(u8),
    SpoilOutput(u8),
    SpoilStore(u8),
    SpoilInPlace(u8),
    SpoilState(u8, u8),
    Compiler(u8),
    Spec(u8),
    Mode(u8),
    Lead(u8),
    Kill(u8),
    FullDisk(u8),
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

fn one_of<T>(list: &[T], which: u8) -> Option<&T> {
    list.get(usize::from(which) % list.len().max(1))
}

fn happen(world: &World, act: Act) {
    let World { tree, host, .. } = world;
    let edited = |which: u8| one_of(&world.edited, which).map(String::as_str).expect("something to edit");
    let work = |below: &str| tree.at("boltboard-work").join(below);
    match act {
        Act::Edit(file, to) => number(tree, edited(file), to),
        Act::EditAndBack(file) => {
            let file = edited(file);
            let before = tree.read(file);
            tree.write(file, &format!("{before}\n/* for a moment */\n"));
            tree.write(file, &before);
        }
        Act::EditWithOldTime(file, to) => {
            let name = edited(file);
            let time = std::fs::metadata(tree.at(name)).and_then(|status| status.modified()).expect("a time");
            number(tree, name, to);
            let file = std::fs::File::options().append(true).open(tree.at(name)).expect("opened");
            file.set_modified(time - Duration::from_secs(u64::from(to))).expect("time set");
        }
        Act::EditWhileBuilding(file, to, after) => {
            let mut command = tree.command("build");
            let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts");
            std::thread::sleep(Duration::from_millis(u64::from(after) / 2));
            let name = edited(file);
            let before = tree.read(name);
            number(tree, name, to);
            if to.is_multiple_of(3) {
                tree.write(name, &before);
            }
            let _ = child.wait();
        }
        Act::Add(which) => {
            let Some(folder) = &world.sources else { return };
            tree.write(
                &format!("{folder}/x{}.c", which % 4),
                &format!("__attribute__((weak)) int x{}(void) {{ return 0; }}\n", which % 4),
            );
        }
        Act::Remove(which) => {
            let Some(folder) = &world.sources else { return };
            drop(std::fs::remove_file(tree.at(&format!("{folder}/x{}.c", which % 4))));
        }
        Act::Rename(from, to) => {
            let Some(folder) = &world.sources else { return };
            let at = |which: u8| tree.at(&format!("{folder}/x{}.c", which % 4));
            drop(std::fs::rename(at(from), at(to)));
        }
        Act::HeaderFirst(which, to) => {
            let Some((name, text)) = one_of(&world.shadows, which) else { return };
            tree.write(name, &text.replace(" 1\n", &format!(" {}\n", to % 10)));
        }
        Act::HeaderGone => world.shadows.iter().for_each(|(name, _)| drop(std::fs::remove_file(tree.at(name)))),
        Act::Option(which, to) => {
            let Some((name, values)) = one_of(&world.options, which) else { return };
            let ran = tree.run(&format!("set {name}={}", one_of(values, to).expect("a value")));
            // What clashes with other choices, or what this host lacks, is refused.
            assert!([0, 3, 4].contains(&ran.code), "{}", ran.err);
        }
        Act::Flag(to) => {
            let text = tree.read("boltboard.toml");
            let Some((from, rest)) = text.split_once("c-flags = [\"-O") else { return };
            tree.write("boltboard.toml", &format!("{from}c-flags = [\"-O{}{}", to % 2 + 1, &rest[1..]));
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
        // A compiler that takes further flags from a file says another thing when that file does.
        Act::Compiler(version) | Act::Spec(version) if host.at("more").exists() => {
            host.write("more", &format!("-DMORE={} -O{}\n", version % 2, version / 2 % 3));
        }
        Act::Compiler(version) if host.at("fc").exists() && version.is_multiple_of(2) => {
            fortran::fortran_compiler(host, version % 3);
        }
        Act::Compiler(version) if host.at("cc").exists() => compiler(host, version % 3),
        Act::Mode(how) if tree.at("tools/maybe").exists() => {
            let mode = if how.is_multiple_of(2) { 0o755 } else { 0o644 };
            let permissions = std::os::unix::fs::PermissionsExt::from_mode(mode);
            std::fs::set_permissions(tree.at("tools/maybe"), permissions).expect("mode set");
        }
        Act::Lead(which) if tree.at("tools/lead").is_symlink() => {
            std::fs::remove_file(tree.at("tools/lead")).expect("removed");
            let target = if which.is_multiple_of(2) { "one" } else { "two" };
            std::os::unix::fs::symlink(target, tree.at("tools/lead")).expect("a link");
        }
        Act::Spec(_) | Act::Mode(_) | Act::Lead(_) => {}
        Act::Compiler(_) => {}
        Act::FullDisk(blocks) => {
            let command = tree.command("build");
            let mut limited = Command::new("sh");
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
    match chance.u8(0..34) {
        0..3 => Act::Edit(a, b),
        3 => Act::EditAndBack(a),
        4 => Act::EditWithOldTime(a, b),
        5 => Act::Add(a),
        6 => Act::Remove(a),
        7 | 9 => Act::HeaderFirst(a, b),
        8 => Act::HeaderGone,
        10..13 => Act::Option(a, b),
        13 => Act::Flag(a),
        14 => Act::DropOutput(a),
        15 => Act::SpoilOutput(a),
        16 => Act::SpoilStore(a),
        17 => Act::SpoilState(a, b),
        18 => Act::SpoilInPlace(a),
        19 => Act::Compiler(a),
        20 => Act::FullDisk(a),
        21..24 => Act::EditWhileBuilding(a, b, chance.u8(..)),
        24 => Act::Rename(a, b),
        25 => Act::Spec(a),
        26 => Act::Mode(a),
        27 => Act::Lead(a),
        28..30 => Act::Option(a, b),
        30 => Act::HeaderFirst(a, b),
        _ => Act::Kill(a),
    }
}

/// What went wrong in a life, after how many acts.
type Lived = Result<(), (usize, String)>;

/// After how many acts a build is held against a clean one. In a long run that is each, but for the demo tree, whose clean build takes
/// its time; whatever goes wrong is replayed with fewer and fewer acts, the last of them verified.
fn verified_after(kind: Kind) -> usize {
    match kind {
        Kind::Skerry => 8,
        _ if std::env::var_os("BOLTBOARD_ROUNDS").is_some() => 1,
        _ => 4,
    }
}

/// Lets acts happen, a build after each. Returns what went wrong after how many of them.
fn live(kind: Kind, acts: &[Act]) -> Lived {
    let world = kind.world();
    for (index, act) in acts.iter().enumerate() {
        happen(&world, *act);
        let now = (index + 1).is_multiple_of(verified_after(kind)) || index + 1 == acts.len();
        let ran = world.tree.run(if now { "build --verify" } else { "build" });
        if ran.code != 0 {
            return Err((index + 1, format!("{}{}", ran.out, ran.err)));
        }
    }
    Ok(())
}

/// Leaves out act after act while it still goes wrong.
fn fewest(kind: Kind, mut acts: Vec<Act>, live: &dyn Fn(Kind, &[Act]) -> Lived) -> Vec<Act> {
    let mut at = 0;
    while at < acts.len() {
        let mut fewer = acts.clone();
        fewer.remove(at);
        match live(kind, &fewer) {
            Err((until, _)) => {
                fewer.truncate(until);
                acts = fewer;
            }
            Ok(()) => at += 1,
        }
    }
    acts
}

/// Past what a test says only when it fails.
fn say(line: &str) {
    let _ = std::io::Write::write_all(&mut std::io::stderr(), line.as_bytes());
}

/// Runs lives, each on a tree of its own, until there were so many rounds.
fn many(rounds: u64, kind: impl Fn(u64) -> Kind) {
    many_by(rounds, kind, |kind, acts, _| live(kind, acts));
}

/// The same for lives of another sort; each knows its seed.
fn many_by(rounds: u64, kind: impl Fn(u64) -> Kind, live: impl Fn(Kind, &[Act], u64) -> Lived) {
    let told = |name: &str, otherwise| std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(otherwise);
    let (rounds, first) = (told("BOLTBOARD_ROUNDS", rounds) as usize, told("BOLTBOARD_SEED", 1));
    let begun = SystemTime::now();
    for (life, start) in (0..rounds).step_by(LIFE).enumerate() {
        let seed = first.wrapping_add(life as u64);
        let kind = kind(seed);
        if start > 0 && start.is_multiple_of(TOLD) {
            say(&format!("{kind:?}: {start} rounds, none differs, {:?}\n", begun.elapsed().unwrap_or_default()));
        }
        let mut chance = fastrand::Rng::with_seed(seed);
        let acts: Vec<Act> = (0..LIFE.min(rounds - start)).map(|_| act(&mut chance)).collect();
        if let Err((until, said)) = live(kind, &acts, seed) {
            let few = fewest(kind, acts[..until].to_vec(), &|kind, acts| live(kind, acts, seed));
            panic!("{kind:?}, seed {seed}, {until} acts, fewest: {few:?}\n{said}");
        }
    }
    say(&format!("{rounds} rounds from seed {first} in {:?}: none differs\n", begun.elapsed().unwrap_or_default()));
}

#[test]
fn whatever_happens_a_build_equals_a_clean_one() {
    many(40, |_| Kind::Small);
}

#[test]
fn whatever_happens_to_a_tree_or_its_add_on_a_build_equals_a_clean_one() {
    many(20, |_| Kind::AddOn);
}

#[test]
fn whatever_happens_to_trees_made_at_random_a_build_equals_a_clean_one() {
    many(40, Kind::Random);
}

#[test]
fn whatever_happens_to_trees_that_are_easily_misread_a_build_equals_a_clean_one() {
    many(40, Kind::Nasty);
}

#[test]
fn whatever_happens_to_trees_of_fortran_a_build_equals_a_clean_one() {
    // Where there is no compiler nothing can be built.
    if Command::new("gfortran").arg("--version").output().is_ok_and(|ran| ran.status.success()) {
        many(20, Kind::Fortran);
    }
}

#[test]
fn whatever_happens_to_the_demo_tree_a_build_equals_a_clean_one() {
    many(8, |_| Kind::Skerry);
}

#[test]
fn a_folder_for_headers_that_comes_to_be_counts() {
    // Once an earlier result was taken that knew the folder only as not being there.
    let acts = [Act::HeaderFirst(252, 36), Act::HeaderFirst(232, 120)];
    assert_eq!(live(Kind::Nasty(5012), &acts), Ok(()));
}
