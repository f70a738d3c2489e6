//! The same with other machines that take steps, and are cut off, killed and made to answer wrongly at random; every other tree has its
//! results shared as well, by a server at which anything goes wrong.

use std::sync::atomic::{AtomicUsize, Ordering};

use super::shared::{self, CHECKOUT, checkout};
use super::{Act, Lived, happen, many_by, say};
use crate::harness::web::Web;
use crate::harness::{Ran, Scratch};
use crate::rounds::worlds::{Kind, World};
use crate::workers::{forget, written_down};

/// What may befall the machines; mostly nothing does.
const BEFALLS: [&str; 9] = ["cut", "spoilt", "killed", "full", "refuses", "late", "greets", "silent", "nothing"];

/// Something happens to the machines, or to what is kept there.
fn befall(home: &Scratch, chance: &mut fastrand::Rng) {
    let what = if chance.bool() { "nothing" } else { BEFALLS[chance.usize(0..BEFALLS.len())] };
    home.write("home/befalls", what);
    if chance.u8(0..6) > 0 {
        return;
    }
    let folders = std::fs::read_dir(home.at("home/kept/contents")).into_iter().flatten().filter_map(Result::ok);
    let files =
        folders.flat_map(|folder| std::fs::read_dir(folder.path()).into_iter().flatten().filter_map(Result::ok));
    let mut files: Vec<_> = files.map(|file| file.path()).collect();
    files.sort();
    let Some(file) = files.get(chance.usize(0..files.len().max(1))) else { return };
    let mut bytes = std::fs::read(file).expect("read");
    match chance.u8(0..3) {
        0 => bytes.truncate(bytes.len() / 2),
        1 => bytes.extend(b"int fog;\n"),
        _ => bytes.iter_mut().take(1).for_each(|byte| *byte = byte.wrapping_add(1)),
    }
    std::fs::write(file, bytes).expect("written");
}

/// How many sources there are more, so that some are left for other machines.
const MORE: usize = 8;

/// Gives a tree so many more sources of the sort that it has.
fn widen(world: &mut World) {
    let Some(folder) = &world.sources else { return };
    for number in 0..MORE {
        let (header, value) = match world.shadows.len() {
            _ if world.tree.at("second/low.h").exists() => ("low.h".to_string(), "LOW".to_string()),
            headers => (format!("h{}.h", number % headers), format!("V{}", number % headers)),
        };
        let name = format!("{folder}/y{number}.c");
        let text =
            format!("#include <{header}>\n__attribute__((weak)) int y{number}(void) {{ return {value} + 0; }}\n");
        world.tree.write(&name, &text);
        world.edited.push(name);
    }
}

/// How many steps other machines ran in all.
static SENT: AtomicUsize = AtomicUsize::new(0);

fn live(kind: Kind, acts: &[Act], seed: u64) -> Lived {
    let (mut world, home) = (kind.world(), Scratch::new());
    if !matches!(kind, Kind::Nasty(_)) {
        widen(&mut world);
    }
    written_down(&home);
    let mut chance = fastrand::Rng::with_seed(seed);
    let web = (!seed.is_multiple_of(2)).then(Web::new);
    let run = |tree: &Scratch, words: &str| -> Ran {
        let mut command = tree.command(words);
        command.env("HOME", home.at("home"));
        if let Some(web) = &web {
            command.env("BOLTBOARD_STORE", &web.address);
        }
        tree.ran(&mut command)
    };
    for (index, act) in acts.iter().enumerate() {
        happen(&world, *act);
        befall(&home, &mut chance);
        web.iter().for_each(|web| shared::befall(web, &mut chance));
        if chance.bool() {
            // Else most of it comes from the store.
            forget(&world.tree);
        }
        // Now and then somebody else has nothing yet.
        let other = (web.is_some() && (index + 1).is_multiple_of(CHECKOUT)).then(|| checkout(&world));
        for tree in [&world.tree].into_iter().chain(&other) {
            for words in ["build -j1 --on two", "build --verify"] {
                let ran = run(tree, words);
                if ran.code != 0 {
                    return Err((index + 1, format!("{}{}", ran.out, ran.err)));
                }
                let told = ran.err.split_once("On other machines: ").and_then(|(_, rest)| rest.split(' ').next());
                SENT.fetch_add(told.and_then(|count| count.parse().ok()).unwrap_or(0), Ordering::Relaxed);
            }
        }
    }
    Ok(())
}

#[test]
fn whatever_happens_to_a_tree_and_to_other_machines_a_build_equals_a_clean_one() {
    let kind = |seed: u64| match seed % 3 {
        0 => Kind::Nasty(seed),
        1 => Kind::Small,
        _ => Kind::Random(seed),
    };
    many_by(6, kind, live);
    let sent = SENT.load(Ordering::Relaxed);
    say(&format!("{sent} steps ran on other machines\n"));
    assert!(sent > 0, "nothing was sent");
}
