//! A tree like a kernel's, described by lists: how long commands take, beside a `cat` of all its definitions.
//!
//! `lists [FOLDERS OPTIONS SOURCES [DIR]]`: 3,000, 20,000 and 30,000 unless told otherwise, in a temporary folder.

use std::error::Error;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Instant;

use boltboard_bench::kernel::{Size, write};
use boltboard_bench::run;

const ROUNDS: usize = 5;

pub fn measured(words: &[String]) -> Result<(), Box<dyn Error>> {
    let number = |at: usize, usual: usize| words.get(at).and_then(|word| word.parse().ok()).unwrap_or(usual);
    let size = Size { folders: number(0, 3000), options: number(1, 20_000), sources: number(2, 30_000) };
    let own = tempfile::tempdir()?;
    let root = words.get(3).map_or_else(|| own.path().to_path_buf(), PathBuf::from);
    if !root.join("boltboard.toml").exists() {
        write(&root, size)?;
    }
    let files = boards(&root)?;
    let lines = files.iter().map(|file| std::fs::read_to_string(file).unwrap_or_default().lines().count());
    println!(
        "{} folders, {} options, {} sources, {} lines of description",
        size.folders,
        size.options,
        size.sources,
        lines.sum::<usize>()
    );
    let work = root.join("boltboard-work");
    for (name, words, kept) in [
        ("show, nothing kept", &["show", "opt-100"][..], false),
        ("show, kept", &["show", "opt-100"], true),
        ("overview, kept", &[], true),
        ("lint", &["lint"], true),
        ("preview of everything", &["preview"], true),
    ] {
        if kept {
            // Something is kept where there is a work folder.
            run(&root, &["set", "opt-1=on"])?;
        }
        let mut ratios = Vec::new();
        let mut times = Vec::new();
        for _ in 0..ROUNDS {
            let cat = cat_all(&root)?;
            if !kept {
                let _ = std::fs::remove_dir_all(&work);
            }
            let begun = Instant::now();
            let ran = run(&root, words)?;
            let took = begun.elapsed().as_secs_f64();
            if ran.status.code().is_none_or(|code| code > 1) {
                return Err(String::from_utf8_lossy(&ran.stderr).into_owned().into());
            }
            ratios.push(took / cat);
            times.push(took);
        }
        println!("{name:24} {:8.1} ms  {:6.2} times cat", median(&mut times) * 1000.0, median(&mut ratios));
    }
    Ok(())
}

fn median(numbers: &mut [f64]) -> f64 {
    numbers.sort_by(f64::total_cmp);
    numbers[numbers.len() / 2]
}

fn boards(root: &Path) -> Result<Vec<PathBuf>, Box<dyn Error>> {
    let mut open = vec![root.to_path_buf()];
    let mut files = Vec::new();
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder)? {
            let entry = entry?;
            if entry.file_type()?.is_dir() {
                open.push(entry.path());
            } else if entry.file_name() == "boltboard.toml" {
                files.push(entry.path());
            }
        }
    }
    files.sort();
    Ok(files)
}

fn cat_all(root: &Path) -> Result<f64, Box<dyn Error>> {
    let files = boards(root)?;
    let begun = Instant::now();
    let ran = Command::new("cat").args(&files).stdout(Stdio::null()).status()?;
    if !ran.success() {
        return Err("cat fails".into());
    }
    Ok(begun.elapsed().as_secs_f64())
}
