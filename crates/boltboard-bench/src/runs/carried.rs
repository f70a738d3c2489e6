//! A profile of a large board carried over to a later version with many changes: nothing lost, every moved value explained, and the time
//! against that of reading both boards.

use std::collections::{BTreeMap, BTreeSet};
use std::error::Error;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use boltboard_bench::boards::write_board;
use boltboard_bench::run;
use fastrand::Rng;
use serde_json::Value;

const OPTIONS: usize = 20_000;
const RENAMED: usize = 600;
const DEFAULTS: usize = 300;
const RANGES: usize = 100;
const GONE: usize = 200;
const SPLIT: usize = 50;
const NEW: usize = 250;
/// How often each time is taken; the least counts.
const TIMES: usize = 3;

/// Runs it.
///
/// # Errors
/// Something could not be run, or something was lost.
pub fn measured(words: &[String]) -> Result<(), Box<dyn Error>> {
    let own = tempfile::tempdir()?;
    let folder = words.first().map_or_else(|| own.path().to_path_buf(), PathBuf::from);
    let (earlier, later) = (folder.join("earlier"), folder.join("later"));
    let files = write_board(&earlier, OPTIONS, 7)?;
    let changes = later_version(&earlier, &later, &files)?;
    let made = run(&earlier, &["profile", "new", "keeper", "--start", "random:3"])?;
    if !made.status.success() {
        return Err(String::from_utf8_lossy(&made.stderr).into_owned().into());
    }
    let profile = earlier.join("boltboard-work/profiles/keeper.toml");
    let before = std::fs::read_to_string(&profile)?;
    let kept = folder.join("keeper.toml");
    std::fs::copy(&profile, &kept)?;
    std::fs::remove_dir_all(earlier.join("boltboard-work"))?;
    let file = kept.display().to_string();
    let from = earlier.display().to_string();
    let read = |tree: &Path| least(|| run(tree, &["options", "--count"]).map(|_| ()));
    let reading = read(&earlier)? + read(&later)?;
    let words = ["carry", file.as_str(), "--from", from.as_str(), "--preview", "--json"];
    let mut answer = Value::Null;
    let carrying = least(|| {
        answer = serde_json::from_slice(&run(&later, &words)?.stdout).unwrap_or(Value::Null);
        Ok(())
    })?;
    run(&later, &["carry", &file, "--from", &from])?;
    let after = std::fs::read_to_string(&kept)?;
    judge(&answer, &before, &after, &changes)?;
    println!("reading both boards      {:>7.0} ms", ms(reading));
    println!(
        "carrying the profile     {:>7.0} ms   {:.2} of that (wanted: at most 5)",
        ms(carrying),
        ratio(carrying, reading)
    );
    Ok(())
}

fn ms(time: Duration) -> f64 {
    time.as_secs_f64() * 1000.0
}

fn ratio(one: Duration, other: Duration) -> f64 {
    one.as_secs_f64() / other.as_secs_f64()
}

fn least(mut work: impl FnMut() -> std::io::Result<()>) -> std::io::Result<Duration> {
    let mut least = Duration::MAX;
    for _ in 0..TIMES {
        let begun = Instant::now();
        work()?;
        least = least.min(begun.elapsed());
    }
    Ok(least)
}

/// The old names of options that a later version changed, by what became of them.
struct Changes {
    renamed: BTreeMap<String, String>,
    gone: BTreeSet<String>,
    split: BTreeSet<String>,
}

/// Checks that nothing is lost and everything is explained.
fn judge(answer: &Value, before: &str, after: &str, changes: &Changes) -> Result<(), Box<dyn Error>> {
    let chosen: BTreeSet<&str> = before
        .split("[choose]")
        .nth(1)
        .unwrap_or_default()
        .lines()
        .filter_map(|line| line.split_once(" = ").map(|(name, _)| name))
        .collect();
    let words: BTreeSet<&str> = after.split(|c: char| !(c.is_ascii_alphanumeric() || c == '-')).collect();
    let lost = chosen.iter().filter(|name| {
        let now = changes.renamed.get(**name).map_or(**name, String::as_str);
        let split = changes.split.contains(**name) && words.contains(format!("{name}-first").as_str());
        !words.contains(now) && !split
    });
    let lost: Vec<&&str> = lost.collect();
    let list = |key: &str| answer[key].as_array().cloned().unwrap_or_default();
    let unexplained = list("moved")
        .iter()
        .filter(|moved| {
            let because = moved["because"].as_array().is_none_or(Vec::is_empty);
            ["default-changed", "definition-changed", "was-chosen"].iter().all(|word| moved[*word] != true) && because
        })
        .count();
    let fate = |fate: &str| list("choices").iter().filter(|choice| choice["fate"] == fate).count();
    let fates = ["kept", "renamed", "changed", "split", "gone", "open"];
    let told: Vec<String> = fates.iter().map(|name| format!("{name} {}", fate(name))).collect();
    println!(
        "{} choices: {}; {} values move, {} options are new",
        chosen.len(),
        told.join(", "),
        list("moved").len(),
        list("new").len()
    );
    println!(
        "renamed {}, gone {}, split {} in the later version",
        changes.renamed.len(),
        changes.gone.len(),
        changes.split.len()
    );
    println!("lost {}, moved without a reason {unexplained}, to be decided {}", lost.len(), fate("open"));
    if list("choices").len() != chosen.len() || !lost.is_empty() || unexplained > 0 {
        return Err(format!("something is lost or not explained: {lost:?}").into());
    }
    Ok(())
}

/// Writes the later version.
fn later_version(earlier: &Path, later: &Path, files: &[PathBuf]) -> std::io::Result<Changes> {
    let mut rng = Rng::with_seed(11);
    let texts: Vec<String> = files.iter().map(std::fs::read_to_string).collect::<Result<_, _>>()?;
    let mut uses: BTreeMap<&str, usize> = BTreeMap::new();
    for word in texts.iter().flat_map(|text| text.split(|c: char| !(c.is_ascii_alphanumeric() || c == '-'))) {
        *uses.entry(word).or_default() += 1;
    }
    let mut names: Vec<&str> = texts
        .iter()
        .skip(1)
        .flat_map(|text| text.lines().filter_map(|line| line.strip_prefix("[option.")?.strip_suffix(']')))
        .filter(|name| !name.ends_with("-support"))
        .collect();
    rng.shuffle(&mut names);
    let mut changes = Changes { renamed: BTreeMap::new(), gone: BTreeSet::new(), split: BTreeSet::new() };
    let (mut defaults, mut ranges) = (BTreeSet::new(), BTreeSet::new());
    let table = |name: &str| texts.iter().find_map(|text| table_of(text, name)).unwrap_or_default();
    for name in names {
        let text = table(name);
        let number = text.contains("kind = \"number\"");
        if number && defaults.len() < DEFAULTS {
            defaults.insert(name.to_string());
        } else if number && ranges.len() < RANGES {
            ranges.insert(name.to_string());
        } else if uses[name] == 1 && changes.gone.len() < GONE {
            changes.gone.insert(name.to_string());
        } else if uses[name] == 1 && changes.split.len() < SPLIT && text.contains("kind = \"switch\"") {
            changes.split.insert(name.to_string());
        } else if changes.renamed.len() < RENAMED {
            changes.renamed.insert(name.to_string(), format!("{name}-now"));
        }
    }
    for (file, text) in files.iter().zip(&texts) {
        let target = later.join(file.strip_prefix(earlier).unwrap_or(file));
        std::fs::create_dir_all(target.parent().unwrap_or(later))?;
        std::fs::write(target, changed(text, &changes, &defaults, &ranges))?;
    }
    let root = later.join("boltboard.toml");
    let mut text = std::fs::read_to_string(&root)?.replacen("version = \"1.0\"", "version = \"2.0\"", 1);
    for name in &changes.gone {
        text += &format!("[gone.{name}]\nsince = \"2.0\"\nnote = \"nothing has one any more\"\n");
    }
    for name in &changes.split {
        text += &format!(
            "[split.{name}]\ninto = {{ on = [\"{name}-first=on\", \"{name}-second=on\"], off = [\"{name}-first=off\"] }}\n"
        );
        for part in ["first", "second"] {
            text += &format!("[option.{name}-{part}]\nkind = \"switch\"\nsummary = \"Its {part} half\"\n");
        }
    }
    for number in 0..NEW {
        text += &format!(
            "[option.fresh-{number}]\nkind = \"switch\"\nsummary = \"Fresh number {number}\"\nsince = \"2.0\"\n"
        );
    }
    std::fs::write(root, text)?;
    Ok(changes)
}

/// The table of an option in a file.
fn table_of(text: &str, name: &str) -> Option<String> {
    let begin = text.find(&format!("[option.{name}]\n"))?;
    let rest = &text[begin..];
    Some(rest[..rest[1..].find("\n[").map_or(rest.len(), |end| end + 2)].to_string())
}

fn changed(text: &str, changes: &Changes, defaults: &BTreeSet<String>, ranges: &BTreeSet<String>) -> String {
    let mut out = String::new();
    let (mut at, mut left_out) = (String::new(), false);
    for line in text.split_inclusive('\n') {
        if let Some(name) = line.strip_prefix("[option.").and_then(|rest| rest.trim_end().strip_suffix(']')) {
            at = name.to_string();
            left_out = changes.gone.contains(name) || changes.split.contains(name);
        } else if line.starts_with('[') {
            (at, left_out) = (String::new(), false);
        }
        if left_out {
            continue;
        }
        let mut now = renamed(line, &changes.renamed);
        if defaults.contains(&at) && line.starts_with("default = ") {
            now = "default = 77\n".into();
        }
        if ranges.contains(&at) && line.starts_with("range = ") {
            now = "range = [0, 1024]\n".into();
        }
        out += &now;
        if line.starts_with("[option.") && changes.renamed.contains_key(&at) {
            out += &format!("was = \"{at}\"\n");
        }
    }
    out
}

/// A line with options under their new names.
fn renamed(line: &str, names: &BTreeMap<String, String>) -> String {
    let is_word = |c: char| c.is_ascii_alphanumeric() || c == '-';
    let mut out = String::new();
    let mut rest = line;
    while let Some(begin) = rest.find(is_word) {
        let end = rest[begin..].find(|c| !is_word(c)).map_or(rest.len(), |end| begin + end);
        let word = &rest[begin..end];
        out += &rest[..begin];
        out += names.get(word).map_or(word, String::as_str);
        rest = &rest[end..];
    }
    out + rest
}
