//! The most memory that a whole build of a large tree holds, from nothing, with a stand-in for the compiler that makes up objects:
//! what compilers hold is not counted, and this way it takes minutes.
//!
//! `cargo build --release --workspace && target/release/boltboard-bench memory [FILES]`

use std::collections::BTreeSet;
use std::error::Error;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use boltboard_bench::{peak, trees::write_tree};

type Result<T> = std::result::Result<T, Box<dyn Error>>;

pub fn measured(words: &[String]) -> Result<()> {
    let files = words.first().and_then(|text| text.parse().ok()).unwrap_or(50_000);
    let folder = tempfile::tempdir()?;
    let tree = folder.path().join("tree");
    write_tree(&tree, files)?;
    std::fs::create_dir_all(folder.path().join("bin"))?;
    std::os::unix::fs::symlink(std::env::current_exe()?, folder.path().join("bin/cc"))?;
    let path = format!("{}:{}", folder.path().join("bin").display(), std::env::var("PATH")?);
    // What has changed right before a build is not sealed.
    std::thread::sleep(Duration::from_millis(200));
    for (what, path) in [
        ("a whole build from nothing", path.clone()),
        ("a build without a change", path.clone()),
        // What programs are found in another search path is not known before.
        ("a build that judges every step", format!("{path}:{}", folder.path().display())),
    ] {
        let began = Instant::now();
        let most = peak(&tree, &path)?;
        println!("{what}: at most {} MiB, in {:.1} s", most / 1024, began.elapsed().as_secs_f64());
    }
    Ok(())
}

/// Does as a compiler would: names the headers that a source asks for, and makes something of its name.
pub fn stand_in(words: &[String]) -> Result<()> {
    let after = |flag: &str| words.iter().position(|word| word == flag).and_then(|at| words.get(at + 1));
    let (Some(output), false) = (after("-o"), words.iter().any(|word| word == "-E")) else {
        // Who are you? The real one knows.
        let path = std::env::var("PATH")?;
        let own = path.split_once(':').map_or("", |(_, rest)| rest);
        return Err(Command::new("cc").args(words).env("PATH", own).exec().into());
    };
    if let (Some(list), Some(source)) = (after("-MF"), words.iter().find(|word| word.ends_with(".c"))) {
        let folders: Vec<&Path> = words.iter().filter_map(|word| word.strip_prefix("-I")).map(Path::new).collect();
        let mut read = BTreeSet::new();
        follow(Path::new(source), &folders, &mut read);
        let read: Vec<String> = read.iter().map(|file| file.display().to_string()).collect();
        std::fs::write(list, format!("x: {source} {}\n", read.join(" ")))?;
    }
    Ok(std::fs::write(output, words.join("\n"))?)
}

/// Collects the headers that a file asks for, and theirs.
fn follow(file: &Path, folders: &[&Path], read: &mut BTreeSet<PathBuf>) {
    let text = std::fs::read_to_string(file).unwrap_or_default();
    for line in text.lines().filter_map(|line| line.strip_prefix("#include ")) {
        let name = line.trim().trim_matches(['"', '<', '>']);
        let beside = file.parent().filter(|_| line.starts_with('"')).into_iter();
        let header = beside.chain(folders.iter().copied()).map(|folder| folder.join(name)).find(|file| file.is_file());
        if let Some(header) = header
            && read.insert(header.clone())
        {
            follow(&header, folders, read);
        }
    }
}
