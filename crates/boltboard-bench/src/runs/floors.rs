//! Measures builds against what nature asks, in one run: status look-ups for a build without a change, the bare commands for a
//! whole build and for one change, links into place for going back. Prints a table.
//!
//! `cargo build --release --workspace && target/release/boltboard-bench floors [FILES] [COMPILES] [FOLDER]`
//!
//! FOLDER keeps the large tree: it is written there and built when it is not there yet, which takes most of the time.

use std::error::Error;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Mutex;
use std::time::{Duration, Instant, SystemTime};

use boltboard_bench::trees::{FOLDER, write_tree};
use boltboard_bench::{CompileCommand, compile_commands, peak, program, run};
use serde_json::Value;

type Result<T> = std::result::Result<T, Box<dyn Error>>;

/// How often a short wait is measured; the median counts.
const TIMES: usize = 7;

/// Whose turn it is to make everything.
#[derive(Clone, Copy)]
enum Turn {
    Ours,
    Floor,
}

/// A whole build and its floor take turns such that a machine whose pace changes slows both alike.
const TURNS: [Turn; 8] = {
    use Turn::{Floor, Ours};
    [Ours, Floor, Floor, Ours, Ours, Floor, Floor, Ours]
};

pub fn measured(words: &[String]) -> Result<()> {
    let numbers: Vec<usize> = words.iter().filter_map(|text| text.parse().ok()).collect();
    let (files, compiles) = (numbers.first().copied().unwrap_or(50_000), numbers.get(1).copied().unwrap_or(2_000));
    let folder = tempfile::tempdir()?;
    println!("| | ours ÷ the floor | ours, ms | floor, ms |\n|---|---|---|---|");
    if compiles > 0 {
        whole(&folder.path().join("whole"), compiles)?;
    }
    let fresh = folder.path().join("fresh");
    write_tree(&fresh, files)?;
    start(&fresh)?;
    let large = words.get(2).map_or(fresh, PathBuf::from);
    if !large.join("boltboard.toml").exists() {
        write_tree(&large, files)?;
    }
    changes(&large, files)
}

fn tell(what: &str, ours: Duration, floor: Duration) {
    let ms = |time: Duration| time.as_secs_f64() * 1000.0;
    println!("| {what} | {:.2} | {:.1} | {:.1} |", ms(ours) / ms(floor), ms(ours), ms(floor));
}

fn ours(tree: &Path, words: &[&str]) -> Result<Duration> {
    let began = Instant::now();
    let output = run(tree, words)?;
    let took = began.elapsed();
    if output.status.success() { Ok(took) } else { Err(String::from_utf8_lossy(&output.stderr).into_owned().into()) }
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort();
    times[times.len() / 2]
}

/// A build of everything, against the same commands two at a time with nothing around them. They take turns, because the
/// machine's pace changes. Both begin without results; old ones are put aside, because removing many slows what comes next.
fn whole(tree: &Path, compiles: usize) -> Result<()> {
    write_tree(tree, compiles)?;
    let (commands, work) = (compile_commands(tree)?, tree.join("boltboard-work"));
    let aside = tempfile::tempdir_in(tree.parent().unwrap_or(tree))?;
    let (mut mine, mut floor) = (Duration::ZERO, Duration::ZERO);
    let (mut own_work, mut floor_work) = (Duration::ZERO, Duration::ZERO);
    for (number, turn) in TURNS.into_iter().enumerate() {
        // What earlier turns made is moved aside: removing it slows some file systems for minutes.
        let put_away = |from: &Path| match std::fs::rename(from, aside.path().join(number.to_string())) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(e),
            _ => Ok(()),
        };
        match turn {
            Turn::Ours => {
                put_away(&work)?;
                let before = worked()?;
                mine += ours(tree, &["build", "--quiet", "--jobs", "2"])?;
                own_work += worked()? - before;
            }
            Turn::Floor => {
                let (archives, links) = (all_made(tree, "parts/lib")?, all_made(tree, "parts/bin")?);
                put_away(&work.join("builds/mine/objects"))?;
                for command in &commands {
                    std::fs::create_dir_all(command.output.parent().unwrap_or(tree))?;
                }
                let words: Vec<Vec<String>> = commands.iter().map(in_folder).collect();
                let before = worked()?;
                floor += bare(&words, 2)? + finishing(tree, &archives, &links)?;
                floor_work += worked()? - before;
            }
        }
    }
    let each = |sum: Duration| sum / (TURNS.len() as u32 / 2);
    let (mine, floor) = (each(mine), each(floor));
    tell(&format!("whole build of {compiles} compiles, two at a time"), mine, floor);
    // Other work on the machine does not change how much work this is.
    tell("the same in processor time", each(own_work), each(floor_work));
    Ok(())
}

/// The processor time of this program and of all that it waited for, in ticks of ten milliseconds.
fn worked() -> Result<Duration> {
    let status = std::fs::read_to_string("/proc/self/stat")?;
    let numbers = status.rsplit(')').next().unwrap_or_default().split_whitespace();
    let ticks: u64 = numbers.skip(11).take(4).map(str::parse::<u64>).sum::<std::result::Result<u64, _>>()?;
    Ok(Duration::from_millis(ticks * 10))
}

fn in_folder(command: &CompileCommand) -> Vec<String> {
    std::iter::once(command.folder.display().to_string()).chain(command.words.clone()).collect()
}

/// The start of the first compile in a fresh tree.
fn start(tree: &Path) -> Result<()> {
    let (mut first, mut reading) = (Vec::new(), Vec::new());
    for _ in 0..3 {
        let began = Instant::now();
        let bytes: usize = walk(tree)?.iter().map(|file| std::fs::read(file).map_or(0, |text| text.len())).sum();
        reading.push(began.elapsed());
        assert!(bytes > 0, "there are sources");
        first.push(first_compile(tree)?);
    }
    let _ = std::fs::remove_dir_all(tree.join("boltboard-work"));
    tell("the first compile starts, against reading all sources", median(first), median(reading));
    Ok(())
}

/// How long it takes from the start in a fresh tree until a compiler runs.
fn first_compile(tree: &Path) -> Result<Duration> {
    let _ = std::fs::remove_dir_all(tree.join("boltboard-work"));
    let began = Instant::now();
    let mut child =
        Command::new(program()).args(["build", "--quiet"]).current_dir(tree).stderr(Stdio::null()).spawn()?;
    let aside = tree.join("boltboard-work/builds/mine/aside");
    let compiling = || std::fs::read_dir(&aside).is_ok_and(|entries| entries.count() > 1);
    while !compiling() && began.elapsed() < Duration::from_secs(60) {
        std::thread::sleep(Duration::from_micros(500));
    }
    let took = began.elapsed();
    child.kill()?;
    child.wait()?;
    Ok(took)
}

/// Changes in a large tree that was built.
fn changes(tree: &Path, files: usize) -> Result<()> {
    let began = Instant::now();
    let is_new = !tree.join("boltboard-work").exists();
    let most = peak(tree, &std::env::var("PATH").unwrap_or_default())?;
    eprintln!("built {files} files in {:.0} s", began.elapsed().as_secs_f64());
    if is_new {
        tell_memory("the whole build", most);
    }
    std::thread::sleep(Duration::from_millis(100));
    ours(tree, &["build", "--quiet"])?;
    let places = looked_at(tree)?;
    let (mut mine, mut bare, mut previews) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..TIMES {
        bare.push(status_of(&places));
        mine.push(ours(tree, &["build", "--quiet"])?);
        previews.push(ours(tree, &["preview"])?);
    }
    let (bare, mine) = (median(bare), median(mine));
    tell(&format!("no change, {} files looked at", places.len()), mine, bare);
    tell("preview without a change, against the build without one", median(previews), mine);

    let edited = tree.join("area0/room0/f1.c");
    let text = std::fs::read_to_string(&edited)?;
    // What the store knows from earlier rounds would make the commands unneeded.
    let unique = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH)?.as_secs() as usize;
    let one = flip(tree, &|n| {
        let more = format!("int more{unique}_{n}(void) {{ return {n}; }}\n");
        Ok(std::fs::write(&edited, format!("{text}{more}"))?)
    })?;
    let switch = flip(tree, &|n| {
        let room = (unique * 7 + n) % (files / FOLDER).max(1);
        ours(tree, &["set", &format!("o{room}-1=on")]).map(|_| std::thread::sleep(Duration::from_millis(80)))
    })?;
    for (what, (mine, commands)) in [("one file edited", one), ("one option flipped", switch)] {
        tell(&format!("{what}, against the status look-ups and its commands"), mine, bare + commands);
    }
    back(tree)?;
    memory(tree)
}

/// Builds after a change, several times; returns the medians of ours and of the bare commands that ran.
fn flip(tree: &Path, change: &dyn Fn(usize) -> Result<()>) -> Result<(Duration, Duration)> {
    let (mut mine, mut bare) = (Vec::new(), Vec::new());
    for n in 0..TIMES {
        change(n)?;
        let ran: Value = serde_json::from_slice(&run(tree, &["preview", "--json"])?.stdout)?;
        mine.push(ours(tree, &["build", "--quiet"])?);
        let wanted = |verb: &str| {
            let steps = ran["steps"].as_array().into_iter().flatten();
            steps
                .filter(|step| step["does"] == verb)
                .filter_map(|step| step["step"].as_str())
                .map(str::to_string)
                .collect::<Vec<String>>()
        };
        if wanted("compile").is_empty() {
            return Err("the change touches no compile".into());
        }
        bare.push(commands_of(tree, wanted("compile"), wanted("archive"), wanted("link"))?);
    }
    Ok((median(mine), median(bare)))
}

/// Runs the commands of some steps again, as a shell would.
fn commands_of(tree: &Path, compiles: Vec<String>, archives: Vec<String>, links: Vec<String>) -> Result<Duration> {
    let build = tree.join("boltboard-work/builds/mine");
    let all = compile_commands(tree)?;
    let named = |step: &String| all.iter().find(|command| command.output == build.join(step));
    let compiles: Vec<Vec<String>> = compiles.iter().filter_map(named).map(in_folder).collect();
    Ok(bare(&compiles, 2)? + finishing(tree, &archives, &links)?)
}

/// The finished parts in a folder of the build, by the names of the steps that make them.
fn all_made(tree: &Path, folder: &str) -> Result<Vec<String>> {
    let build = tree.join("boltboard-work/builds/mine");
    let name = |file: &PathBuf| file.strip_prefix(&build).map(|name| name.display().to_string());
    Ok(walk(&build.join(folder))?.iter().map(name).collect::<std::result::Result<_, _>>()?)
}

/// Runs the commands that make archives and programs, as a shell would.
fn finishing(tree: &Path, archives: &[String], links: &[String]) -> Result<Duration> {
    let build = tree.join("boltboard-work/builds/mine");
    let aside = tempfile::tempdir()?;
    let archives: Vec<Vec<String>> = archives
        .iter()
        .map(|step| {
            let room = step.trim_start_matches("out/lib/lib").trim_end_matches(".a");
            let objects = walk(&build.join("objects").join(room)).unwrap_or_default();
            let mut words = vec!["ar".into(), "qcDs".into(), aside.path().join(room).display().to_string()];
            words.extend(objects.iter().map(|object| object.display().to_string()));
            words
        })
        .collect();
    let links: Vec<Vec<String>> = links
        .iter()
        .map(|step| {
            let number: usize = step.trim_start_matches("out/bin/prog").parse().unwrap_or(0);
            let mut words = vec!["cc".to_string(), "-o".into(), aside.path().join("linked").display().to_string()];
            let own = walk(&build.join(format!("objects/prog{number}"))).unwrap_or_default();
            words.extend(own.iter().map(|object| object.display().to_string()));
            let rooms = (number * 50..(number + 1) * 50).map(|room| build.join(format!("parts/lib/libroom{room}.a")));
            words.extend(rooms.filter(|room| room.exists()).map(|room| room.display().to_string()));
            words
        })
        .collect();
    Ok(bare(&archives, 2)? + bare(&links, 2)?)
}

/// Going back to an earlier profile, and to earlier values in one profile, against linking files into place.
fn back(tree: &Path) -> Result<()> {
    let build = tree.join("boltboard-work/builds/mine");
    ours(tree, &["set", "o0-0=on", "o1-0=on", "o2-0=on"])?;
    ours(tree, &["build", "--quiet"])?;
    let (mut mine, mut linking) = (Vec::new(), Vec::new());
    for n in 0..TIMES {
        let before = modified(&build)?;
        let value = if n.is_multiple_of(2) { "off" } else { "on" };
        let words: Vec<String> = (0..3).map(|room| format!("o{room}-0={value}")).collect();
        ours(tree, &["set", &words[0], &words[1], &words[2]])?;
        std::thread::sleep(Duration::from_millis(80));
        mine.push(ours(tree, &["build", "--quiet"])?);
        let after = modified(&build)?;
        let changed: Vec<&PathBuf> = after.iter().filter(|file| !before.contains(file)).map(|(file, _)| file).collect();
        linking.push(link_all(tree, &changed)? + status_of(&looked_at(tree)?));
    }
    tell("going back to earlier values, against status look-ups and links", median(mine), median(linking));

    ours(tree, &["profile", "new", "other"])?;
    ours(tree, &["set", "o3-0=off"])?;
    ours(tree, &["build", "--quiet"])?;
    let files: Vec<PathBuf> = modified(&build)?.into_iter().map(|(file, _)| file).collect();
    let (mut mine, mut linking) = (Vec::new(), Vec::new());
    for n in 0..TIMES {
        ours(tree, &["profile", "use", if n.is_multiple_of(2) { "mine" } else { "other" }])?;
        mine.push(ours(tree, &["build", "--quiet"])?);
        linking.push(link_all(tree, &files.iter().collect::<Vec<_>>())?);
    }
    tell(&format!("going back to a profile, against linking its {} files", files.len()), median(mine), median(linking));
    ours(tree, &["profile", "use", "mine"]).map(|_| ())
}

/// All made files with the time of their last change.
fn modified(build: &Path) -> Result<std::collections::HashSet<(PathBuf, std::time::SystemTime)>> {
    let mut files = std::collections::HashSet::new();
    for folder in ["objects", "out", "made"] {
        for file in walk(&build.join(folder))? {
            let time = std::fs::metadata(&file)?.modified()?;
            files.insert((file, time));
        }
    }
    Ok(files)
}

/// Links copies of the files, beside the tree: another name changes a file's status, and a folder in the tree that of the tree.
fn link_all(tree: &Path, files: &[&PathBuf]) -> Result<Duration> {
    let aside = tempfile::tempdir_in(tree.parent().unwrap_or(tree))?;
    for (number, file) in files.iter().enumerate() {
        std::fs::copy(file, aside.path().join(format!("{number}.kept")))?;
    }
    let began = Instant::now();
    for number in 0..files.len() {
        std::fs::hard_link(aside.path().join(format!("{number}.kept")), aside.path().join(number.to_string()))?;
    }
    Ok(began.elapsed())
}

/// The most memory that builds hold: without a change, with one, and one that judges every step.
fn memory(tree: &Path) -> Result<()> {
    let path = std::env::var("PATH").unwrap_or_default();
    tell_memory("a build without a change", peak(tree, &path)?);
    let file = tree.join("area0/room0/f2.c");
    std::fs::write(&file, std::fs::read_to_string(&file)? + "int last_of_all;\n")?;
    tell_memory("a build with one edit", peak(tree, &path)?);
    // What programs are found in another search path is not known before.
    tell_memory("a build that judges every step", peak(tree, &format!("{path}:{}", tree.display()))?);
    Ok(())
}

fn tell_memory(what: &str, kib: u64) {
    println!("| most memory of {what}, in MB | | {} | |", kib / 1024);
}

/// The files whose status a build without a change has to know: sources, headers, definitions, objects, finished parts.
fn looked_at(tree: &Path) -> Result<Vec<PathBuf>> {
    let build = tree.join("boltboard-work/builds/mine");
    let mut places = walk(tree)?;
    for folder in ["objects", "out", "made"] {
        places.extend(walk(&build.join(folder))?);
    }
    Ok(places)
}

fn status_of(places: &[PathBuf]) -> Duration {
    let began = Instant::now();
    let there = places.iter().filter(|place| std::fs::metadata(place).is_ok()).count();
    assert_eq!(there, places.len(), "every file is there");
    began.elapsed()
}

/// All files below a folder, but for the work folder.
fn walk(folder: &Path) -> Result<Vec<PathBuf>> {
    let mut files = Vec::new();
    let mut open = vec![folder.to_path_buf()];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder)?.filter_map(std::result::Result::ok) {
            match entry.file_type()? {
                kind if kind.is_dir() && entry.file_name() != "boltboard-work" => open.push(entry.path()),
                kind if kind.is_file() => files.push(entry.path()),
                _ => {}
            }
        }
    }
    files.sort();
    Ok(files)
}

/// Runs commands, so many at a time, and nothing else. A command that begins with a folder runs there.
fn bare(commands: &[Vec<String>], jobs: usize) -> Result<Duration> {
    let next = Mutex::new(commands.iter());
    let began = Instant::now();
    std::thread::scope(|scope| {
        for _ in 0..jobs {
            scope.spawn(|| {
                loop {
                    let Some(words) = next.lock().ok().and_then(|mut next| next.next()) else { return };
                    let (folder, words) = match words.first() {
                        Some(first) if first.starts_with('/') => (first.as_str(), &words[1..]),
                        _ => (".", &words[..]),
                    };
                    let _ = Command::new(&words[0]).args(&words[1..]).current_dir(folder).output();
                }
            });
        }
    });
    Ok(began.elapsed())
}
