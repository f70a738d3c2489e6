//! A whole build with two workers on this machine beside one that runs its steps itself, and what a step that is sent costs.
//!
//! `workers [FILES [FOLDER]]`: 1,000 files unless told otherwise, in a temporary folder.

use std::error::Error;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use boltboard_bench::program;
use boltboard_bench::trees::write_tree;
use serde_json::Value;
use wait4::Wait4;

const ROUNDS: usize = 5;

/// Reaches a worker on this machine: what would be run by a shell over there is run by one here.
const REACH: &str = "#!/bin/sh\nshift\nexec sh -c \"$1\"\n";

/// How often the program is looked at while it runs.
const OFTEN: Duration = Duration::from_millis(5);

/// One build.
#[derive(Debug, Clone, Default)]
pub struct Took {
    /// In seconds.
    pub wall: f64,
    /// Processor time of everything: this program, its steps, and the workers.
    pub cpu: f64,
    /// Processor time of this program alone.
    pub own: f64,
    /// Of that, what its first thread took, which decides about every step.
    pub first: f64,
    /// How many steps were sent.
    pub away: f64,
    /// Bytes that were sent, and that came back.
    pub moved: (f64, f64),
    /// How long each step took, in seconds.
    pub steps: Vec<f64>,
}

/// A tree that is built here and on two workers of this machine.
pub struct Trial {
    root: PathBuf,
    home: PathBuf,
    place: tempfile::TempDir,
}

impl Trial {
    /// Makes it, and builds it once.
    pub fn new(files: usize, root: Option<&String>) -> std::io::Result<Trial> {
        let place = tempfile::tempdir()?;
        let root = root.map_or_else(|| place.path().join("tree"), PathBuf::from);
        if !root.join("boltboard.toml").exists() {
            write_tree(&root, files)?;
        }
        let trial = Trial { home: place.path().join("home"), root, place };
        trial.write_crew()?;
        let _ = std::fs::remove_dir_all(trial.root.join("boltboard-work"));
        trial.build(&["-j2"])?;
        Ok(trial)
    }

    fn write_crew(&self) -> std::io::Result<()> {
        let (reach, folder) = (self.place.path().join("reach"), self.home.join(".config/boltboard"));
        std::fs::create_dir_all(&folder)?;
        std::fs::write(&reach, REACH)?;
        std::fs::set_permissions(&reach, std::fs::Permissions::from_mode(0o755))?;
        let kept = self.place.path().join("kept");
        let text = format!(
            "[two]\nhosts = [\"one\", \"other\"]\nreach = [{reach:?}]\njobs = 1\nwait = 5\nfolder = {kept:?}\n"
        );
        std::fs::write(folder.join("workers.toml"), text)
    }

    /// Builds with two jobs here.
    pub fn here(&self) -> std::io::Result<Took> {
        self.anew().and_then(|()| self.build(&["-j2"]))
    }

    /// Builds with one job here and two workers of one job each.
    pub fn away(&self) -> std::io::Result<Took> {
        self.anew().and_then(|()| self.build(&["-j1", "--on", "two"]))
    }

    /// Takes away what was built, and with it the store. What is known of the host stays: it is asked alike for both.
    fn anew(&self) -> std::io::Result<()> {
        let work = self.root.join("boltboard-work");
        // What the programs behind a compiler stand on is known, as it is wherever anything was built before.
        for name in ["content", "notes"] {
            let _ = std::fs::remove_dir_all(work.join("store").join(name));
        }
        std::fs::remove_dir_all(work.join("builds"))
    }

    fn build(&self, words: &[&str]) -> std::io::Result<Took> {
        let said = tempfile::tempfile()?;
        let mut command = Command::new(program());
        command.arg("build").args(words).arg("--json").current_dir(&self.root).stdin(Stdio::null());
        command.stdout(said.try_clone()?).env("HOME", &self.home).env_remove("XDG_CONFIG_HOME");
        let begun = Instant::now();
        let mut child = command.env_remove("BOLTBOARD_WORK").spawn()?;
        let (mut own, mut first) = (0.0, 0.0);
        let process = PathBuf::from("/proc").join(child.id().to_string());
        let ended = loop {
            own = ticks(&process.join("stat")).unwrap_or(own);
            first = ticks(&process.join("task").join(child.id().to_string()).join("stat")).unwrap_or(first);
            match is_over(&process) {
                true => break child.wait4()?,
                false => std::thread::sleep(OFTEN),
            }
        };
        let wall = begun.elapsed().as_secs_f64();
        let answer = read_all(said)?;
        if !ended.status.success() {
            return Err(std::io::Error::other(answer.to_string()));
        }
        let number = |value: &Value| value.as_f64().unwrap_or(0.0);
        let reached = answer["workers"]["reached"].as_array().cloned().unwrap_or_default();
        let sum = |key: &str| reached.iter().map(|worker| number(&worker[key])).sum::<f64>();
        let course = std::fs::read(self.root.join("boltboard-work/builds/mine/course.json"))?;
        let course: Value = serde_json::from_slice(&course)?;
        let spans = course["spans"].as_array().cloned().unwrap_or_default();
        let compiles = spans.iter().filter(|span| span["verb"] == "compile");
        Ok(Took {
            wall,
            cpu: (ended.rusage.utime + ended.rusage.stime).as_secs_f64(),
            own,
            first,
            away: number(&answer["away"]),
            moved: (sum("sent-bytes"), sum("got-bytes")),
            steps: compiles.map(|span| number(&span["wall_us"]) / 1e6).collect(),
        })
    }
}

pub fn measured(words: &[String]) -> Result<(), Box<dyn Error>> {
    let files: usize = words.first().and_then(|word| word.parse().ok()).unwrap_or(1000);
    let trial = Trial::new(files, words.get(1))?;
    let first = trial.away()?;
    let of_first = |bytes: f64| bytes / first.away.max(1.0) / 1024.0;
    println!(
        "{files} files; the first time, when all is sent: {:.2} s, {:.0} steps away, {:.1} KiB there and {:.1} KiB back for each",
        first.wall,
        first.away,
        of_first(first.moved.0),
        of_first(first.moved.1)
    );
    let (mut here, mut away) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        here.push(trial.here()?);
        away.push(trial.away()?);
    }
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

/// The median of a number of builds.
pub fn of(all: &[Took], number: fn(&Took) -> f64) -> f64 {
    let mut numbers: Vec<f64> = all.iter().map(number).collect();
    numbers.sort_by(f64::total_cmp);
    numbers[numbers.len() / 2]
}

/// The processor time that a process or thread took itself, in seconds.
fn ticks(stat: &Path) -> Option<f64> {
    let text = std::fs::read_to_string(stat).ok()?;
    let mut fields = text.rsplit_once(") ")?.1.split(' ').skip(11);
    let (user, system): (f64, f64) = (fields.next()?.parse().ok()?, fields.next()?.parse().ok()?);
    Some((user + system) / rustix::param::clock_ticks_per_second() as f64)
}

/// Tells whether a process has ended and only waits to be asked.
fn is_over(process: &Path) -> bool {
    let text = std::fs::read_to_string(process.join("stat")).unwrap_or_default();
    text.rsplit_once(") ").is_none_or(|(_, rest)| rest.starts_with('Z'))
}

fn read_all(mut file: std::fs::File) -> std::io::Result<Value> {
    use std::io::{Read, Seek};
    file.rewind()?;
    let mut text = String::new();
    file.read_to_string(&mut text)?;
    Ok(serde_json::from_str(&text).unwrap_or(Value::String(text)))
}
