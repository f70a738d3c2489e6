//! Flips every switch and module of Skerry to every other value, one at a time, and checks each time that the incremental
//! build equals a clean one byte for byte. Prints compiles run ÷ objects whose bytes changed. It ends with 1 when any
//! build differs.
//!
//! `cargo build --release && cargo run --release -p boltboard-bench --bin flips`

use std::collections::BTreeMap;
use std::error::Error;
use std::path::Path;

use boltboard_bench::{copy_tree, demo_tree, files_of, run};

type Result<T> = std::result::Result<T, Box<dyn Error>>;

struct Flip {
    compiles: usize,
    changed: usize,
    links: usize,
    linked: usize,
}

fn main() -> Result<()> {
    let folder = tempfile::tempdir()?;
    let tree = folder.path().join("skerry");
    copy_tree(&demo_tree(), &tree)?;
    expect(&tree, &["build", "--quiet"])?;
    expect(&tree, &["profile", "new", "flip"])?;
    expect(&tree, &["build", "--quiet"])?;
    let profile = tree.join("bolt-work/profiles/flip.toml");
    let start = std::fs::read_to_string(&profile)?;
    let (mut sums, mut flips, mut refused, mut wrong) =
        (Flip { compiles: 0, changed: 0, links: 0, linked: 0 }, 0, 0, 0);
    println!("{:<28} {:>8} {:>8} {:>6} {:>8}", "flip", "compiles", "objects", "links", "outputs");
    for (option, value) in all_flips(&tree)? {
        let words = format!("{option}={value}");
        if !run(&tree, &["set", &words])?.status.success() {
            refused += 1;
            println!("{words:<28} refused: it clashes, or this host lacks something");
            continue;
        }
        let flip = flip(&tree)?;
        flips += 1;
        println!("{words:<28} {:>8} {:>8} {:>6} {:>8}", flip.compiles, flip.changed, flip.links, flip.linked);
        if let Some(file) = differs_from_clean(&tree, folder.path(), &profile)? {
            wrong += 1;
            println!("  DIFFERS from a clean build: {file}");
        }
        sums.compiles += flip.compiles;
        sums.changed += flip.changed;
        sums.links += flip.links;
        sums.linked += flip.linked;
        std::fs::write(&profile, &start)?;
        expect(&tree, &["build", "--quiet"])?;
    }
    let ratio = |a: usize, b: usize| a as f64 / b.max(1) as f64;
    println!("\n{flips} flips, {refused} refused, {wrong} that differ from a clean build");
    println!(
        "compiles run ÷ objects that changed: {} ÷ {} = {:.2}",
        sums.compiles,
        sums.changed,
        ratio(sums.compiles, sums.changed)
    );
    println!(
        "links and archives run ÷ outputs that changed: {} ÷ {} = {:.2}",
        sums.links,
        sums.linked,
        ratio(sums.links, sums.linked)
    );
    if wrong > 0 {
        std::process::exit(1);
    }
    Ok(())
}

fn expect(tree: &Path, words: &[&str]) -> Result<Vec<u8>> {
    let output = run(tree, words)?;
    if output.status.success() {
        return Ok(output.stdout);
    }
    Err(format!("boltboard {}: {}", words.join(" "), String::from_utf8_lossy(&output.stderr)).into())
}

/// Every other value of every switch and module.
fn all_flips(tree: &Path) -> Result<Vec<(String, &'static str)>> {
    let answer: serde_json::Value =
        serde_json::from_slice(&expect(tree, &["options", "--level", "expert", "--json"])?)?;
    let mut flips = Vec::new();
    for option in answer["options"].as_array().into_iter().flatten() {
        let values: &[&'static str] = match option["kind"].as_str() {
            Some("switch") => &["off", "on"],
            Some("module") => &["off", "loadable", "builtin"],
            _ => &[],
        };
        let (name, now) = (option["name"].as_str().unwrap_or_default(), option["value"].as_str().unwrap_or_default());
        flips.extend(values.iter().filter(|value| **value != now).map(|value| (name.to_string(), *value)));
    }
    Ok(flips)
}

/// Builds after a flip without notes of earlier results, so that what must run does run, and counts.
fn flip(tree: &Path) -> Result<Flip> {
    let build = tree.join("bolt-work/builds/flip");
    let before = contents(&build)?;
    std::fs::remove_dir_all(tree.join("bolt-work/store/notes"))?;
    let told = String::from_utf8(run(tree, &["build", "--verbose", "--jobs", "2"])?.stderr)?;
    let started = |verbs: &[&str]| told.lines().filter(|line| verbs.iter().any(|verb| line.starts_with(verb))).count();
    let after = contents(&build)?;
    let changed = |object: bool| {
        let of_sort = after.iter().filter(|(name, _)| name.starts_with("objects/") == object && !name.ends_with(".so"));
        of_sort.filter(|(name, content)| before.get(*name) != Some(*content)).count()
    };
    let shared =
        after.iter().filter(|(name, content)| name.ends_with(".so") && before.get(*name) != Some(*content)).count();
    Ok(Flip {
        compiles: started(&["compile "]) - started(&["spared "]),
        changed: changed(true),
        links: started(&["link ", "archive "]),
        linked: changed(false) + shared,
    })
}

fn contents(build: &Path) -> Result<BTreeMap<String, Vec<u8>>> {
    let files = files_of(build, &["objects", "out/bin", "out/lib", "out/tests"])?;
    Ok(files.into_iter().collect())
}

fn differs_from_clean(tree: &Path, folder: &Path, profile: &Path) -> Result<Option<String>> {
    let work = folder.join("clean");
    std::fs::create_dir_all(work.join("profiles"))?;
    std::fs::write(work.join("boltboard-work"), "format 1\ntree skerry\n")?;
    std::fs::copy(profile, work.join("profiles/flip.toml"))?;
    let place = work.display().to_string();
    expect(tree, &["build", "--quiet", "--profile", "flip", "--work", &place])?;
    let all = ["out", "made", "objects"];
    let (here, there) =
        (files_of(&tree.join("bolt-work/builds/flip"), &all)?, files_of(&work.join("builds/flip"), &all)?);
    std::fs::remove_dir_all(&work)?;
    let names = |files: &[(String, Vec<u8>)]| files.iter().map(|f| f.0.clone()).collect::<Vec<_>>();
    if names(&here) != names(&there) {
        return Ok(Some("another set of files".into()));
    }
    Ok(here.iter().zip(&there).find(|(a, b)| a.1 != b.1).map(|(a, _)| a.0.clone()))
}
