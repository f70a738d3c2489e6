//! A whole build with two workers on this machine beside one that runs its steps itself, and what a step that is sent costs.
//!
//! `workers [FILES [FOLDER]]`: 1,000 files unless told otherwise, in a temporary folder.

use std::error::Error;
use std::io::Read;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use boltboard_bench::program;
use boltboard_bench::trees::write_tree;
use wait4::Wait4;

const ROUNDS: usize = 5;

/// Reaches a worker on this machine: what would be run by a shell over there is run by one here.
const REACH: &str = "#!/bin/sh\nshift\nexec sh -c \"$1\"\n";

/// One build.
struct Took {
    wall: f64,
    /// Processor time of everything: this program, its steps, and the workers.
    cpu: f64,
    /// How many steps were sent.
    away: f64,
}

pub fn measured(words: &[String]) -> Result<(), Box<dyn Error>> {
    let files: usize = words.first().and_then(|word| word.parse().ok()).unwrap_or(1000);
    let own = tempfile::tempdir()?;
    let root = words.get(1).map_or_else(|| own.path().join("tree"), PathBuf::from);
    if !root.join("boltboard.toml").exists() {
        write_tree(&root, files)?;
    }
    let home = own.path().join("home");
    write_crew(&home, own.path())?;
    let work = root.join("boltboard-work");
    let _ = std::fs::remove_dir_all(&work);
    build(&root, &home, &["-j2"])?;
    let first = anew(&work).and_then(|()| build(&root, &home, &["-j1", "--on", "two"]))?;
    println!("{files} files; the first time, when all is sent: {:.2} s, {:.0} steps away", first.wall, first.away);
    let (mut here, mut away) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        anew(&work)?;
        here.push(build(&root, &home, &["-j2"])?);
        anew(&work)?;
        away.push(build(&root, &home, &["-j1", "--on", "two"])?);
    }
    let of = |all: &[Took], number: fn(&Took) -> f64| median(all.iter().map(number).collect());
    let (wall_here, wall_away) = (of(&here, |took| took.wall), of(&away, |took| took.wall));
    let (cpu_here, cpu_away) = (of(&here, |took| took.cpu), of(&away, |took| took.cpu));
    let steps = of(&away, |took| took.away);
    println!(
        "two jobs here {wall_here:.2} s   one job here and two workers {wall_away:.2} s   {:.2} times",
        wall_away / wall_here
    );
    println!(
        "processor time {cpu_here:.2} s and {cpu_away:.2} s: {:.2} ms for each of {steps:.0} steps that were sent",
        (cpu_away - cpu_here) * 1000.0 / steps
    );
    Ok(())
}

fn write_crew(home: &Path, place: &Path) -> std::io::Result<()> {
    let (reach, folder) = (place.join("reach"), home.join(".config/boltboard"));
    std::fs::create_dir_all(&folder)?;
    std::fs::write(&reach, REACH)?;
    std::fs::set_permissions(&reach, std::fs::Permissions::from_mode(0o755))?;
    let text = format!(
        "[two]\nhosts = [\"one\", \"other\"]\nreach = [{reach:?}]\njobs = 1\nfolder = {:?}\n",
        place.join("kept")
    );
    std::fs::write(folder.join("workers.toml"), text)
}

/// Takes away what was built, and with it the store. What is known of the host stays: it is asked alike for both.
fn anew(work: &Path) -> std::io::Result<()> {
    // What the programs behind a compiler stand on is known, as it is wherever anything was built before.
    for name in ["content", "notes"] {
        let _ = std::fs::remove_dir_all(work.join("store").join(name));
    }
    std::fs::remove_dir_all(work.join("builds"))
}

fn build(root: &Path, home: &Path, words: &[&str]) -> std::io::Result<Took> {
    let mut command = Command::new(program());
    command.arg("build").args(words).arg("--json").current_dir(root).stdin(Stdio::null()).stdout(Stdio::piped());
    command.env("HOME", home).env_remove("XDG_CONFIG_HOME").env_remove("BOLTBOARD_WORK");
    let begun = Instant::now();
    let mut child = command.spawn()?;
    let mut said = String::new();
    if let Some(mut out) = child.stdout.take() {
        out.read_to_string(&mut said)?;
    }
    let ended = child.wait4()?;
    let wall = begun.elapsed().as_secs_f64();
    if !ended.status.success() {
        return Err(std::io::Error::other(said));
    }
    let away = said.lines().find_map(|line| line.trim().strip_prefix("\"away\": ")?.trim_end_matches(',').parse().ok());
    let cpu: Duration = ended.rusage.utime + ended.rusage.stime;
    Ok(Took { wall, cpu: cpu.as_secs_f64(), away: away.unwrap_or(0.0) })
}

fn median(mut numbers: Vec<f64>) -> f64 {
    numbers.sort_by(f64::total_cmp);
    numbers[numbers.len() / 2]
}
