//! Waits on boards like a kernel's, against `cat` of all board files in the same run: `scale [OPTIONS…]`, 20,000 by default.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use boltboard_bench::boards::write_board;
use boltboard_bench::{program, run};
use boltboard_core::definitions::{Outside, read_tree};
use boltboard_core::logic::encode;
use boltboard_core::profile::Choices;
use boltboard_core::resolve::resolve;
use boltboard_core::survey::Facts;

type Fault = Box<dyn std::error::Error>;

pub fn measured(words: &[String]) -> Result<(), Fault> {
    let sizes: Vec<usize> = words.iter().filter_map(|text| text.parse().ok()).collect();
    for size in if sizes.is_empty() { vec![20_000] } else { sizes } {
        measure(size)?;
    }
    Ok(())
}

fn measure(size: usize) -> Result<(), Fault> {
    let folder = tempfile::tempdir()?;
    let root = folder.path().canonicalize()?;
    let files = write_board(&root, size, 1)?;
    let bytes: u64 = files.iter().filter_map(|file| std::fs::metadata(file).ok()).map(|status| status.len()).sum();
    let reading = read_tree(&root, None, &Outside::default());
    let board = reading.board.ok_or("the generated board is wrong")?;
    let names: Vec<String> = board.option_names.iter().map(str::to_string).collect();
    let logic = encode(&board);
    let facts = Facts::default();

    // A status that is too young is not trusted.
    std::thread::sleep(Duration::from_millis(200));
    done(&root, &["set", "core-filter=on"])?;
    done(&root, &["show", &names[0]])?;
    done(&root, &["show", &names[0]])?;

    println!("{size} options, {} files, {} KB", files.len(), bytes / 1024);
    let beside = |times, what: &str, work: &mut dyn FnMut() -> Result<(), Fault>| beside(times, &files, what, work);

    let mut pick = fastrand::Rng::with_seed(7);
    let mut any = |names: &[String]| names[pick.usize(0..names.len())].clone();
    beside(9, "show", &mut || done(&root, &["show", &any(&names)]))?;
    beside(9, "why", &mut || done(&root, &["why", &any(&names)]))?;
    let mut turn = false;
    beside(9, "set", &mut || {
        turn = !turn;
        done(&root, &["set", if turn { "core-queue=on" } else { "core-queue=off" }])
    })?;
    beside(9, "options --find", &mut || done(&root, &["options", "--find", "valve mirror"]))?;
    beside(9, "options --find, misspelt", &mut || done(&root, &["options", "--find", "vavle mirorr"]))?;
    beside(9, "show, nothing kept", &mut || {
        std::fs::remove_file(root.join("boltboard-work/board"))?;
        done(&root, &["show", &names[0]])
    })?;

    let tried = [vec!["core-filter=on".to_string()], vec!["core-filter=on".to_string(), "core-meter=on".to_string()]];
    let [one, two] = tried.map(|words| Choices::default().with_tried(&board, &words));
    let (one, two) = (one?, two?);
    let resolved = |choices| resolve(&board, &logic, choices, &facts).map(|_| ()).map_err(|_| Fault::from("a clash"));
    let (mut first, mut steady) = (Vec::new(), Vec::new());
    for _ in 0..9 {
        let floor = cat(&files)?;
        let mut taken = Vec::new();
        for choices in [&one, &two].into_iter().cycle().take(61) {
            let begun = Instant::now();
            resolved(choices)?;
            taken.push(begun.elapsed());
        }
        first.push(Beside { floor, taken: taken[0] });
        taken.sort();
        steady.push(Beside { floor, taken: taken[30] });
    }
    middle(first).tell("resolve, after other work");
    middle(steady).tell("resolve, one choice changed");

    let mut reach: Vec<Beside> = Vec::new();
    let mut outcomes = [0; 3];
    let mut chooser = fastrand::Rng::with_seed(11);
    while reach.len() < 100 {
        let name = &names[chooser.usize(0..names.len())];
        let floor = cat(&files)?;
        let begun = Instant::now();
        let output = run(&root, &["reach", name])?;
        // Numbers and texts want a value; they are not asked here.
        match output.status.code() {
            Some(0) if output.stdout.windows(7).any(|part| part == b"already") => outcomes[0] += 1,
            Some(0) => outcomes[1] += 1,
            Some(1) => outcomes[2] += 1,
            _ => continue,
        }
        reach.push(Beside { floor, taken: begun.elapsed() });
    }
    reach.sort_by(|a, b| a.ratio().total_cmp(&b.ratio()));
    reach[50].tell("reach, median of 100");
    reach[99].tell("reach, the worst");
    println!("  reach: {} held already, {} with ways, {} never", outcomes[0], outcomes[1], outcomes[2]);

    let mut peak = 0;
    beside(3, "lint with proofs", &mut || {
        peak = peak_memory(&root, &["lint", "--level", "wrong"])?;
        Ok(())
    })?;
    println!("  lint: at most {} MB", peak / 1024);
    Ok(())
}

fn ms(time: Duration) -> f64 {
    time.as_secs_f64() * 1000.0
}

/// One wait, and the `cat` just before it: other work on the machine slows both alike.
struct Beside {
    floor: Duration,
    taken: Duration,
}

impl Beside {
    fn ratio(&self) -> f64 {
        self.taken.as_secs_f64() / self.floor.as_secs_f64()
    }

    fn tell(&self, what: &str) {
        println!("  {what:28} {:9.1} ms, cat {:6.1} ms: {:7.2}", ms(self.taken), ms(self.floor), self.ratio());
    }
}

/// Does something some times, each time after a `cat`, and tells the median by ratio.
fn beside(
    times: usize,
    files: &[PathBuf],
    what: &str,
    work: &mut dyn FnMut() -> Result<(), Fault>,
) -> Result<(), Fault> {
    let mut pairs = Vec::new();
    for _ in 0..times {
        let floor = cat(files)?;
        let begun = Instant::now();
        work()?;
        pairs.push(Beside { floor, taken: begun.elapsed() });
    }
    middle(pairs).tell(what);
    Ok(())
}

fn middle(mut pairs: Vec<Beside>) -> Beside {
    pairs.sort_by(|a, b| a.ratio().total_cmp(&b.ratio()));
    pairs.swap_remove(pairs.len() / 2)
}

fn cat(files: &[PathBuf]) -> Result<Duration, Fault> {
    let begun = Instant::now();
    // Beyond some hundred kilobytes of arguments the system refuses; larger boards take several calls.
    for files in files.chunks(4_000) {
        let status = Command::new("cat").args(files).stdin(Stdio::null()).stdout(Stdio::null()).status()?;
        if !status.success() {
            return Err("cat failed".into());
        }
    }
    Ok(begun.elapsed())
}

fn done(root: &Path, words: &[&str]) -> Result<(), Fault> {
    let output = run(root, words)?;
    // 1 is an answer too: nothing was found.
    if output.status.code().is_some_and(|code| code < 2) {
        return Ok(());
    }
    Err(format!("{words:?}: {}", String::from_utf8_lossy(&output.stderr)).into())
}

/// Runs a command and returns the most memory that it had, in KB.
fn peak_memory(root: &Path, words: &[&str]) -> Result<u64, Fault> {
    let mut child =
        Command::new(program()).args(words).current_dir(root).stdin(Stdio::null()).stdout(Stdio::null()).spawn()?;
    let status = format!("/proc/{}/status", child.id());
    let mut peak = 0;
    while child.try_wait()?.is_none() {
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        peak = peak.max(line.and_then(|rest| rest.trim().trim_end_matches(" kB").parse().ok()).unwrap_or(0));
        std::thread::sleep(Duration::from_millis(5));
    }
    Ok(peak)
}
