//! Flips every switch, module and pick of Skerry, or of another tree, to every other value, one at a time, and checks each time that
//! the incremental build equals a clean one byte for byte; then a hundred of them one after the other, and proof at the end.
//! Prints compiles run ÷ compiles whose text after preprocessing or whose flags changed, as the compiler itself tells them, and ÷
//! objects whose bytes changed. It ends with 1 when any build differs, or when a text changed and its compile did not run.
//!
//! `cargo build --release --workspace && target/release/boltboard-bench flips [TREE]`

use std::collections::BTreeMap;
use std::error::Error;
use std::path::{Path, PathBuf};
use std::process::Command;

use boltboard_bench::{CompileCommand, compile_commands, copy_tree, demo_tree, files_of, run};
use serde_json::Value;

type Result<T> = std::result::Result<T, Box<dyn Error>>;

#[derive(Default)]
struct Flip {
    compiles: usize,
    /// Compiles whose text or flags changed.
    texts: usize,
    /// Those of them that did not run.
    missed: usize,
    changed: usize,
    links: usize,
    linked: usize,
}

pub fn measured(words: &[String]) -> Result<()> {
    let folder = tempfile::tempdir()?;
    let tree = folder.path().join("tree");
    copy_tree(&words.first().map_or_else(demo_tree, PathBuf::from), &tree)?;
    expect(&tree, &["build", "--quiet"])?;
    expect(&tree, &["profile", "new", "flip"])?;
    expect(&tree, &["build", "--quiet"])?;
    let profile = tree.join("boltboard-work/profiles/flip.toml");
    let start = std::fs::read_to_string(&profile)?;
    let texts = texts(&tree)?;
    let (mut sums, mut flips, mut refused, mut wrong) = (Flip::default(), 0, 0, 0);
    println!("{:<28} {:>8} {:>6} {:>8} {:>6} {:>8}", "flip", "compiles", "texts", "objects", "links", "outputs");
    let restore = || -> Result<Vec<u8>> {
        std::fs::write(&profile, &start)?;
        expect(&tree, &["build", "--quiet"])
    };
    for (option, value) in all_flips(&tree)? {
        let words = format!("{option}={value}");
        if !run(&tree, &["set", &words])?.status.success() {
            refused += 1;
            println!("{words:<28} refused: it clashes, or this host lacks something");
            continue;
        }
        let Some(flip) = flip(&tree, &texts)? else {
            refused += 1;
            println!("{words:<28} refused: the tree does not build with it");
            restore()?;
            continue;
        };
        flips += 1;
        let Flip { compiles, texts, changed, links, linked, .. } = flip;
        println!("{words:<28} {compiles:>8} {texts:>6} {changed:>8} {links:>6} {linked:>8}");
        if let Some(file) = differs_from_clean(&tree, folder.path(), &profile)? {
            wrong += 1;
            println!("  DIFFERS from a clean build: {file}");
        }
        sums.compiles += flip.compiles;
        sums.texts += flip.texts;
        sums.missed += flip.missed;
        sums.changed += flip.changed;
        sums.links += flip.links;
        sums.linked += flip.linked;
        restore()?;
    }
    let ratio = |a: usize, b: usize| a as f64 / b.max(1) as f64;
    println!(
        "\n{flips} flips, {refused} refused, {wrong} that differ from a clean build, {} texts missed",
        sums.missed
    );
    println!(
        "compiles run ÷ compiles whose text or flags changed: {} ÷ {} = {:.2}",
        sums.compiles,
        sums.texts,
        ratio(sums.compiles, sums.texts)
    );
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
    let proved = walk(&tree)?;
    if !proved || wrong + sums.missed > 0 {
        std::process::exit(1);
    }
    Ok(())
}

/// A hundred flips one after the other, a build after each, and a verified build at the end. Returns whether that found nothing.
fn walk(tree: &Path) -> Result<bool> {
    let (mut taken, mut chance) = (0, fastrand::Rng::with_seed(7));
    while taken < 100 {
        let flips = all_flips(tree)?;
        let (option, value) = &flips[chance.usize(..flips.len())];
        if !run(tree, &["set", &format!("{option}={value}")])?.status.success() {
            continue;
        }
        if run(tree, &["build", "--quiet"])?.status.success() {
            taken += 1;
        } else {
            // The tree does not build with it.
            expect(tree, &["unset", option])?;
        }
    }
    let told = run(tree, &["build", "--verify"])?;
    println!(
        "{taken} flips one after the other, then: {}",
        String::from_utf8_lossy(&told.stdout).trim().replace('\n', " ")
    );
    Ok(told.status.success())
}

fn expect(tree: &Path, words: &[&str]) -> Result<Vec<u8>> {
    let output = run(tree, words)?;
    if output.status.success() {
        return Ok(output.stdout);
    }
    Err(format!("boltboard {}: {}", words.join(" "), String::from_utf8_lossy(&output.stderr)).into())
}

/// Every other value of every switch, module and pick.
fn all_flips(tree: &Path) -> Result<Vec<(String, String)>> {
    let answer: Value = serde_json::from_slice(&expect(tree, &["options", "--level", "expert", "--json"])?)?;
    let mut flips = Vec::new();
    for option in answer["options"].as_array().into_iter().flatten() {
        let text = |key: &str| option[key].as_str().unwrap_or_default().to_string();
        let name = text("name");
        let values: Vec<String> = match text("kind").as_str() {
            "switch" => ["off", "on"].map(String::from).to_vec(),
            "module" => ["off", "loadable", "builtin"].map(String::from).to_vec(),
            "pick" => {
                let shown: Value = serde_json::from_slice(&expect(tree, &["show", &name, "--json"])?)?;
                serde_json::from_value(shown["values"].clone())?
            }
            _ => Vec::new(),
        };
        flips.extend(values.into_iter().filter(|value| *value != text("value")).map(|value| (name.clone(), value)));
    }
    Ok(flips)
}

/// Builds after a flip without notes of earlier results, so that what must run does run, and counts; `None` when the tree does
/// not build with it.
fn flip(tree: &Path, texts_before: &Texts) -> Result<Option<Flip>> {
    let build = tree.join("boltboard-work/builds/flip");
    let before = contents(&build)?;
    match std::fs::remove_dir_all(tree.join("boltboard-work/store/notes")) {
        Err(e) if e.kind() != std::io::ErrorKind::NotFound => return Err(e.into()),
        _ => {}
    }
    let built = run(tree, &["build", "--verbose", "--jobs", "2"])?;
    if !built.status.success() {
        return Ok(None);
    }
    let told = String::from_utf8(built.stderr)?;
    let started = |verbs: &[&str]| told.lines().filter(|line| verbs.iter().any(|verb| line.starts_with(verb))).count();
    let texts_after = texts(tree)?;
    let other: Vec<&String> = texts_after
        .iter()
        .filter(|(name, text)| texts_before.get(*name) != Some(*text))
        .map(|(name, _)| name)
        .collect();
    // A generated source is told by its place in the build.
    let is_of = |name: &str, told: &str| name == told || name.ends_with(&format!("/{told}"));
    let ran = |name: &str| {
        let lines = |verb: &'static str| told.lines().filter(move |line| line.starts_with(verb));
        let of = |verb| lines(verb).filter_map(|line| line.split_whitespace().nth(1)).filter(|file| is_of(name, file));
        of("compile ").count() > of("spared ").count()
    };
    let missed = other.iter().filter(|name| !ran(source_of(name))).count();
    let after = contents(&build)?;
    let changed = |object: bool| {
        let of_sort = after.iter().filter(|(name, _)| name.starts_with("objects/") == object && !name.ends_with(".so"));
        of_sort.filter(|(name, content)| before.get(*name) != Some(*content)).count()
    };
    let shared =
        after.iter().filter(|(name, content)| name.ends_with(".so") && before.get(*name) != Some(*content)).count();
    Ok(Some(Flip {
        compiles: started(&["compile "]) - started(&["spared "]),
        texts: other.len(),
        missed,
        changed: changed(true),
        links: started(&["link ", "archive "]),
        linked: changed(false) + shared,
    }))
}

/// Of each compile, by source and object: its flags, and its text after preprocessing without line marks.
type Texts = BTreeMap<String, (Vec<String>, Vec<u8>)>;

fn texts(tree: &Path) -> Result<Texts> {
    let mut texts = Texts::new();
    for CompileCommand { folder, file, words, output } in compile_commands(tree)? {
        let made = output.display().to_string();
        let flags: Vec<&String> = words.iter().filter(|word| !["-c", "-o", &made].contains(&word.as_str())).collect();
        let Some((program, flags)) = flags.split_first() else { continue };
        let mut command = Command::new(program);
        // As in builds, else `__TIME__` makes every text another one.
        command.args(flags).args(["-E", "-P"]).current_dir(folder).env("SOURCE_DATE_EPOCH", "0");
        let told = command.output()?;
        // What a macro of the flags does is seen in the text.
        let flags = flags.iter().filter(|word| !word.starts_with("-D")).map(|word| (*word).clone()).collect();
        texts.insert(format!("{file} {made}"), (flags, told.stdout));
    }
    Ok(texts)
}

fn source_of(name: &str) -> &str {
    name.split(' ').next().unwrap_or(name)
}

fn contents(build: &Path) -> Result<BTreeMap<String, Vec<u8>>> {
    let files = files_of(build, &["objects", "parts/bin", "parts/lib", "parts/tests"])?;
    Ok(files.into_iter().collect())
}

fn differs_from_clean(tree: &Path, folder: &Path, profile: &Path) -> Result<Option<String>> {
    let work = folder.join("clean");
    std::fs::create_dir_all(work.join("profiles"))?;
    std::fs::copy(tree.join("boltboard-work/boltboard-work"), work.join("boltboard-work"))?;
    std::fs::copy(profile, work.join("profiles/flip.toml"))?;
    let place = work.display().to_string();
    expect(tree, &["build", "--quiet", "--profile", "flip", "--work", &place])?;
    let all = ["out", "made", "objects"];
    let (here, there) =
        (files_of(&tree.join("boltboard-work/builds/flip"), &all)?, files_of(&work.join("builds/flip"), &all)?);
    std::fs::remove_dir_all(&work)?;
    let names = |files: &[(String, Vec<u8>)]| files.iter().map(|f| f.0.clone()).collect::<Vec<_>>();
    if names(&here) != names(&there) {
        return Ok(Some("another set of files".into()));
    }
    Ok(here.iter().zip(&there).find(|(a, b)| a.1 != b.1).map(|(a, _)| a.0.clone()))
}
