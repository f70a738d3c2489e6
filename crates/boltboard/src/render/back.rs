//! Generations of an installation, and going back to one.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use boltboard_core::install::{Acted, BackPlan, DueAction, Generations, KeptEdit, Manifest, Move, State, ThreeWay};
use serde::Serialize;

use super::deliver::stays;
use super::json::{ActionTold, KeptTold};
use super::text::{Cell, Role, age, columns, count, next_line, paint};

/// How many options that differ are listed of a generation.
const LISTED: usize = 8;
/// How many lines of a difference are shown.
const LINES: usize = 40;

/// The generations.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct GenerationsTold {
    format: u32,
    tree: String,
    prefix: PathBuf,
    in_place: u32,
    keep: u32,
    keep_days: Option<u32>,
    /// Those that went because of new limits.
    dropped: Vec<u32>,
    generations: Vec<GenerationTold>,
}

/// One of them, held against the one before.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
struct GenerationTold {
    number: u32,
    in_place: bool,
    installed_s: u64,
    #[serde(skip)]
    age_s: u64,
    profile: String,
    version: String,
    files: usize,
    /// Options whose values are others than in the one before.
    options: Vec<OptionTold>,
    added: Vec<PathBuf>,
    changed: Vec<PathBuf>,
    removed: Vec<PathBuf>,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
struct OptionTold {
    option: String,
    before: Option<String>,
    after: Option<String>,
}

impl GenerationsTold {
    /// Puts the answer together.
    pub fn of(generations: &Generations, prefix: &Path, dropped: Vec<u32>, now_s: u64) -> GenerationsTold {
        let mut told = Vec::new();
        let mut before: Option<&Manifest> = None;
        for (number, manifest) in &generations.all {
            told.push(generation(*number, manifest, before, generations.current == *number, now_s));
            before = Some(manifest);
        }
        told.reverse();
        GenerationsTold {
            format: 1,
            tree: generations.in_place().tree.clone(),
            prefix: prefix.to_path_buf(),
            in_place: generations.current,
            keep: generations.limits.keep,
            keep_days: generations.limits.days,
            dropped,
            generations: told,
        }
    }
}

fn generation(
    number: u32,
    manifest: &Manifest,
    before: Option<&Manifest>,
    in_place: bool,
    now_s: u64,
) -> GenerationTold {
    let contents = |manifest: &Manifest| -> BTreeMap<PathBuf, String> {
        let said = |file: &boltboard_core::install::Installed| {
            (file.path.clone(), format!("{:?} {:?}", file.digest, file.link))
        };
        manifest.files.iter().map(said).collect()
    };
    let (now, then) = (contents(manifest), before.map(contents).unwrap_or_default());
    let of = |files: &BTreeMap<PathBuf, String>, is: &dyn Fn(&PathBuf, &String) -> bool| -> Vec<PathBuf> {
        files.iter().filter(|(path, said)| is(path, said)).map(|(path, _)| path.clone()).collect()
    };
    GenerationTold {
        number,
        in_place,
        installed_s: manifest.installed_s,
        age_s: now_s.saturating_sub(manifest.installed_s),
        profile: manifest.profile.clone(),
        version: manifest.version.clone(),
        files: manifest.files.len(),
        options: before.map_or(vec![], |before| options(before, manifest)),
        added: of(&now, &|path, _| before.is_some() && !then.contains_key(path)),
        changed: of(&now, &|path, said| then.get(path).is_some_and(|other| other != said)),
        removed: of(&then, &|path, _| !now.contains_key(path)),
    }
}

/// The options that two generations have other values of.
fn options(before: &Manifest, after: &Manifest) -> Vec<OptionTold> {
    let (Some(then), Some(now)) = (&before.record, &after.record) else { return vec![] };
    let (then, now) = (then.all_values(), now.all_values());
    let names: BTreeSet<&str> = then.keys().chain(now.keys()).copied().collect();
    let differ = names.into_iter().filter(|name| then.get(name) != now.get(name));
    let told = |name: &str| OptionTold {
        option: name.to_string(),
        before: then.get(name).map(ToString::to_string),
        after: now.get(name).map(ToString::to_string),
    };
    differ.map(told).collect()
}

/// Lists them, the newest first.
pub fn list(told: &GenerationsTold, width: usize) -> String {
    let many = count(told.generations.len(), "generation", "generations");
    let mut text = format!(
        "{}  {}\n",
        paint(Role::Title, &format!("{} below {}", told.tree, told.prefix.display())),
        paint(Role::Faint, &format!("{many}; the last {} are kept", told.keep))
    );
    let head = |one: &GenerationTold| {
        let when = if one.installed_s == 0 { "before they had dates".to_string() } else { age(one.age_s) };
        vec![
            (Role::Name, one.number.to_string()),
            (Role::Good, if one.in_place { "in place".to_string() } else { String::new() }),
            (Role::Value, format!("{} {}", told.tree, one.version)),
            (Role::Value, one.profile.clone()),
            (Role::Faint, when),
            (Role::Faint, count(one.files, "file", "files")),
        ]
    };
    let heads: Vec<Vec<Cell>> = told.generations.iter().map(head).collect();
    let heads = columns(&heads, 0, width);
    for (one, head) in told.generations.iter().zip(heads.lines()) {
        text += &format!("\n{head}\n");
        let rows: Vec<Vec<Cell>> = one.options.iter().take(LISTED).map(option_row).collect();
        text += &columns(&rows, 4, width);
        if one.options.len() > LISTED {
            text += &format!("    and {} more\n", count(one.options.len() - LISTED, "option", "options"));
        }
        let lists = [("new", &one.added), ("changed", &one.changed), ("gone", &one.removed)];
        let files: Vec<String> = lists
            .iter()
            .filter(|(_, files)| !files.is_empty())
            .map(|(word, files)| format!("{} {word}", count(files.len(), "file", "files")))
            .collect();
        if !files.is_empty() {
            text += &format!("    {}\n", paint(Role::Faint, &files.join(", ")));
        }
    }
    if !told.dropped.is_empty() {
        let names: Vec<String> = told.dropped.iter().map(ToString::to_string).collect();
        text += &format!("\nDropped: {}.\n", names.join(", "));
    }
    let other = told.generations.iter().find(|one| !one.in_place && one.number < told.in_place);
    let other = other.or_else(|| told.generations.iter().find(|one| !one.in_place));
    if let Some(other) = other {
        text += &format!("\n{}", next_line(format!("boltboard back {}", other.number), "go to it, exactly"));
    }
    text
}

fn option_row(option: &OptionTold) -> Vec<Cell> {
    let none = || "(no effect)".to_string();
    let (before, after) = (option.before.clone().unwrap_or_else(none), option.after.clone().unwrap_or_else(none));
    vec![(Role::Name, option.option.clone()), (Role::Faint, before), (Role::Value, format!("→ {after}"))]
}

/// What going back did, or would do.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct BackTold {
    format: u32,
    from: u32,
    to: u32,
    done: bool,
    written: Vec<PathBuf>,
    removed: Vec<PathBuf>,
    kept: Vec<KeptTold>,
    in_use: Vec<PathBuf>,
    actions: Vec<ActionTold>,
}

impl BackTold {
    /// Puts the answer together.
    pub fn of(generations: &Generations, plan: &BackPlan, preview: bool, acted: &[(DueAction, Acted)]) -> BackTold {
        let paths = |is: &dyn Fn(&Move) -> bool| {
            plan.moves().iter().filter(|one| is(one)).map(|one| one.path.clone()).collect()
        };
        BackTold {
            format: 1,
            from: generations.current,
            to: plan.to(),
            done: !preview,
            written: paths(&|one| one.after != State::Nothing),
            removed: paths(&|one| one.after == State::Nothing),
            kept: plan.kept.iter().map(KeptTold::of).collect(),
            in_use: plan.in_use.iter().map(|(path, _)| path.clone()).collect(),
            actions: acted.iter().map(ActionTold::done).collect(),
        }
    }
}

/// Shows it.
pub fn done(told: &BackTold, plan: &BackPlan, width: usize) -> String {
    let files = format!("{} written, {} removed", count(told.written.len(), "file", "files"), told.removed.len());
    let mut text = if told.done {
        format!("{} to generation {} from {}: {files}.\n", paint(Role::Good, "Back"), told.to, told.from)
    } else {
        let mut rows: Vec<Vec<Cell>> = Vec::new();
        for one in plan.moves() {
            let (role, word) = match (&one.before, &one.after) {
                (State::Nothing, _) => (Role::Good, "new"),
                (_, State::Nothing) => (Role::Warn, "remove"),
                _ => (Role::Warn, "replace"),
            };
            rows.push(vec![(role, word.to_string()), (Role::Name, one.path.display().to_string())]);
        }
        columns(&rows, 0, width) + &format!("{files}\n")
    };
    plan.kept.iter().for_each(|kept| text += &kept_edit(kept));
    plan.in_use.iter().for_each(|(path, used)| text += &stays(path, *used));
    text += &if told.done {
        next_line(format!("boltboard back {}", told.from), "forward again")
    } else {
        next_line(format!("boltboard back {}", told.to), "go there")
    };
    text
}

/// Says which edited configuration file stays, and shows what the person and the tree changed in it.
pub fn kept_edit(kept: &KeptEdit) -> String {
    let beside = kept.beside.as_ref().map_or(String::new(), |place| format!("; the other is {}", place.display()));
    let mut text = format!("{} {}: yours is kept{beside}\n", paint(Role::Warn, "edited:"), kept.path.display());
    let Some((theirs, ours)) = kept.texts.as_ref().and_then(ThreeWay::differences) else { return text };
    let shown = |diff: &str| -> String {
        let lines: Vec<&str> =
            diff.lines().filter(|line| !line.starts_with("---") && !line.starts_with("+++")).collect();
        let mut text: String = lines.iter().take(LINES).map(|line| format!("    {line}\n")).collect();
        if lines.len() > LINES {
            text += &format!("    and {}\n", count(lines.len() - LINES, "line more", "lines more"));
        }
        text
    };
    let name = kept.path.file_name().unwrap_or_default().to_string_lossy();
    text +=
        &format!("  what you changed in {name}:\n{}  what the tree changed in it:\n{}", shown(&theirs), shown(&ours));
    text
}
