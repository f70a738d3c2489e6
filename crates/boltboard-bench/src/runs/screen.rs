//! The board on the screen, through a pseudo-terminal: how soon it is there, how soon a key is answered, how soon consequences are
//! complete, what a key writes and what the program holds.
//!
//! `cargo build --release --workspace && target/release/boltboard-bench screen [FOLDER]`

use std::error::Error;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use boltboard_bench::sitting::{Shown, Sitting};
use boltboard_bench::{boards, program, run};

type Result<T> = std::result::Result<T, Box<dyn Error>>;

const COLUMNS: u16 = 128;
const ROWS: u16 = 40;
/// The column in which consequences begin at that size.
const CARDS: u16 = 86;
const LIMIT: Duration = Duration::from_secs(60);

pub fn measured(words: &[String]) -> Result<()> {
    let kept = tempfile::tempdir()?;
    let tree = match words.first() {
        Some(folder) => PathBuf::from(folder),
        None => {
            boards::write_board(kept.path(), 20_000, 1)?;
            kept.path().to_path_buf()
        }
    };
    // Everything is read once before, as on any day but the first.
    let listed = run(&tree, &["options", "--level", "expert", "--json"])?.stdout;
    let listed: serde_json::Value = serde_json::from_slice(&listed)?;
    let name = listed["options"][0]["name"].as_str().ok_or("the tree has no options")?.to_string();
    let show = median((0..7).map(|_| timed(|| run(&tree, &["show", &name]))).collect::<Result<_>>()?);
    let opened = median((0..7).map(|_| Ok(open(&tree)?.1)).collect::<Result<_>>()?);
    println!("options: {}", listed["options"].as_array().map_or(0, Vec::len));
    println!("opened: {opened:.1} ms, {:.2} of `show` ({show:.1} ms)", opened / show);

    let mut sitting = open(&tree)?.0;
    complete(&sitting)?;
    let (mut frames, mut wholes, mut bytes) = (Vec::new(), Vec::new(), Vec::new());
    for (keys, times) in [("\x1b[B", 60), ("\x1b[6~", 40), ("\x1b[A", 20)] {
        for _ in 0..times {
            let before = here(sitting.shown().screen());
            let took = answered(&mut sitting, keys, |shown| here(shown.screen()) != before)?;
            frames.push(took.frame);
            bytes.push(took.bytes);
            wholes.push(took.frame + complete(&sitting)?);
        }
    }
    println!("a key that moves, to its frame: {}", spread(&mut frames, "ms"));
    println!("what such a key writes until consequences are complete: {}", spread(&mut bytes, "bytes"));
    println!("consequences complete after a key: {}", spread(&mut wholes, "ms"));

    let (mut frames, mut bytes) = (Vec::new(), Vec::new());
    let mut typed = String::new();
    for letter in "driver buffer off".chars() {
        typed.push(letter);
        let head = format!("find: {typed}_");
        let took = answered(&mut sitting, &letter.to_string(), |shown| shown.screen().contents().contains(&head))?;
        frames.push(took.frame);
        bytes.push(took.bytes);
    }
    println!("a letter that finds, to its frame: {}", spread(&mut frames, "ms"));
    println!("what such a letter writes: {}", spread(&mut bytes, "bytes"));
    sitting.press("\x1b")?;
    sitting.wait(LIMIT, |shown| !shown.screen().contents().contains("find:")).ok_or("Esc does nothing")?;

    // Keys in a row, without a look at consequences between them: those that nobody waits for cost nothing.
    let mut wholes = Vec::new();
    for _ in 0..10 {
        for _ in 0..20 {
            let before = here(sitting.shown().screen());
            answered(&mut sitting, "\x1b[B", |shown| here(shown.screen()) != before)?;
        }
        wholes.push(complete(&sitting)?);
    }
    println!("consequences complete after 20 keys in a row: {}", spread(&mut wholes, "ms"));
    let status = std::fs::read_to_string(format!("/proc/{}/status", sitting.child.id()))?;
    let most = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap_or_default();
    println!("at most in memory: {}", most.trim());
    Ok(())
}

fn open(tree: &Path) -> Result<(Sitting, f64)> {
    let mut command = Command::new(program());
    command.arg("board").current_dir(tree).env("TERM", "xterm-256color").env_remove("BOLTBOARD_WORK");
    let began = Instant::now();
    let sitting = Sitting::start(command, COLUMNS, ROWS)?;
    let there = sitting.wait(LIMIT, |shown| shown.frames > 0).ok_or("the board does not open")?;
    Ok((sitting, ms(there - began)))
}

struct Took {
    frame: f64,
    bytes: f64,
}

/// Presses keys and waits for the frame that shows what they did.
fn answered(sitting: &mut Sitting, keys: &str, is_so: impl Fn(&Shown) -> bool) -> Result<Took> {
    sitting.shown().written.clear();
    let frames = sitting.shown().frames;
    let began = Instant::now();
    sitting.press(keys)?;
    let there = sitting.wait(LIMIT, |shown| shown.frames > frames && is_so(shown)).ok_or("a key is not answered")?;
    let bytes = sitting.shown().written.len() as f64;
    Ok(Took { frame: ms(there - began), bytes })
}

/// Waits until nothing is being found any more; returns how long that took.
fn complete(sitting: &Sitting) -> Result<f64> {
    let began = Instant::now();
    let whole = |shown: &Shown| {
        let rows = shown.screen().rows(CARDS, COLUMNS - CARDS);
        rows.map(|row| row.trim().to_string()).all(|row| row != "…")
    };
    let there = sitting.wait(LIMIT, whole).ok_or("consequences are never complete")?;
    Ok(ms(there - began))
}

/// The option under the cursor, which stands above its consequences.
fn here(screen: &vt100::Screen) -> String {
    screen.rows(CARDS, COLUMNS - CARDS).nth(1).unwrap_or_default()
}

fn timed<T>(act: impl FnOnce() -> std::io::Result<T>) -> Result<f64> {
    let began = Instant::now();
    act()?;
    Ok(ms(began.elapsed()))
}

fn ms(time: Duration) -> f64 {
    time.as_secs_f64() * 1000.0
}

fn median(mut times: Vec<f64>) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

fn spread(values: &mut [f64], unit: &str) -> String {
    values.sort_by(f64::total_cmp);
    let at = |share: usize| values[(values.len() * share / 100).min(values.len() - 1)];
    format!("{:.1} {unit} (median), {:.1} (99 of 100), {:.1} (worst)", at(50), at(99), at(100))
}
