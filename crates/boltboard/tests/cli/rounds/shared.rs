//! The same with results that are shared: a server at which anything goes wrong stands beside the tree, and other checkouts of it are built
//! of what lies there.

use super::{Act, Lived, happen, many_by};
use crate::harness::web::{Web, Wrong};
use crate::harness::{Ran, Scratch};
use crate::rounds::worlds::{Kind, World};

/// After how many acts another checkout is built.
pub(super) const CHECKOUT: usize = 5;

/// Something happens to the server, or to what lies there.
pub(super) fn befall(web: &Web, chance: &mut fastrand::Rng) {
    let begins = ["notes-", "content-", "footings-", "pack-", "lead-"][chance.usize(0..5)];
    match chance.u8(0..12) {
        0 => web.be(Wrong::Answers([403, 404, 500, 503][chance.usize(0..4)])),
        1 => web.be(Wrong::CutsOff),
        2 => web.be(Wrong::Spoils),
        3 => web.be(Wrong::TakesNothing(507)),
        4 => web.be(Wrong::Leads("http://127.0.0.1:9/".into())),
        5 => web.drop(begins),
        6 => {
            let at = chance.usize(..);
            web.change(begins, |bytes| {
                let at = at % bytes.len().max(1);
                bytes.iter_mut().skip(at).take(1).for_each(|byte| *byte = byte.wrapping_add(1));
            });
        }
        7 => web.change(begins, |bytes| bytes.truncate(bytes.len() / 2)),
        8 => {
            // One in the place of another.
            let files = web.files();
            let alike: Vec<&Vec<u8>> =
                files.iter().filter(|(name, _)| name.starts_with(begins)).map(|(_, bytes)| bytes).collect();
            if let Some(other) = alike.get(chance.usize(0..alike.len().max(1))) {
                web.change(begins, |bytes| bytes.clone_from(other));
            }
        }
        _ => web.be(Wrong::Nothing),
    }
}

fn run(tree: &Scratch, web: &Web, words: &str) -> Ran {
    tree.ran(tree.command(words).env("BOLTBOARD_STORE", &web.address))
}

/// Another checkout with the same choices and nothing that was built.
pub(super) fn checkout(world: &World) -> Scratch {
    let other = world.tree.copy();
    for made in ["builds", "store"] {
        drop(std::fs::remove_dir_all(other.at("boltboard-work").join(made)));
    }
    other
}

fn live(kind: Kind, acts: &[Act], seed: u64) -> Lived {
    let (world, web) = (kind.world(), Web::new());
    let mut chance = fastrand::Rng::with_seed(seed);
    for (index, act) in acts.iter().enumerate() {
        happen(&world, *act);
        befall(&web, &mut chance);
        let failed = |ran: Ran| (index + 1, format!("{}{}", ran.out, ran.err));
        let ran = run(&world.tree, &web, "build");
        if ran.code != 0 {
            return Err(failed(ran));
        }
        if (index + 1).is_multiple_of(CHECKOUT) || index + 1 == acts.len() {
            let other = checkout(&world);
            for tree in [&world.tree, &other] {
                let ran = run(tree, &web, "build --verify");
                if ran.code != 0 {
                    return Err(failed(ran));
                }
            }
        }
    }
    Ok(())
}

#[test]
fn whatever_happens_to_a_tree_and_a_shared_store_builds_equal_clean_ones() {
    many_by(20, |_| Kind::Small, live);
}
