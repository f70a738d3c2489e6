//! Builds that were recorded once: what is drawn of them letter by letter, whatever ran first and wherever the tree lies.
//!
//! `BOLTBOARD_RECORD=1 cargo test -p boltboard --test cli -- adopt::recorded` records them anew.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use boltboard_core::adopt::{Answers, Host, PathId, Watched, draw};
use flate2::Compression;
use flate2::read::GzDecoder;
use flate2::write::GzEncoder;
use serde_json::{Value, json};

use super::Yard;
use crate::harness::Scratch;

/// What stands for the folder that a recorded tree lies in.
const ROOT: &str = "/yard";

fn recorded(name: &str, ending: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cli/adopt/recorded").join(format!("{name}.{ending}"))
}

/// Watches a yard's build and keeps it: its sources, what was seen, and what is drawn of it.
fn record(yard: &Yard) {
    let root = yard.scratch.path().display().to_string();
    let mut sources = BTreeMap::new();
    for (path, bytes) in super::plain::files_below(&yard.tree()) {
        sources.insert(path, String::from_utf8(bytes).expect("a text"));
    }
    yard.watched().code(0);
    let watched = Watched::load(&yard.tree().join("boltboard-work/adopt/build")).expect("it was kept");
    let kept = json!({ "sources": sources, "watched": watched }).to_string();
    let file = File::create(recorded(yard.name, "json.gz")).expect("it is made");
    let mut packed = GzEncoder::new(file, Compression::best());
    packed.write_all((kept.replace(&root, ROOT) + "\n").as_bytes()).expect("it is written");
    packed.finish().expect("it is written");
    let (again, _scratch) = laid_out(yard.name);
    std::fs::write(recorded(yard.name, "toml"), drawn(&again)).expect("it is written");
}

/// Puts the sources of a recorded build into a new folder, and what was seen there with them.
fn laid_out(name: &str) -> (Watched, Scratch) {
    let scratch = Scratch::new();
    let mut text = String::new();
    let file = File::open(recorded(name, "json.gz")).expect("it was recorded");
    GzDecoder::new(file).read_to_string(&mut text).expect("a text");
    let kept: Value =
        serde_json::from_str(&text.replace(ROOT, &scratch.path().display().to_string())).expect("it is JSON");
    for (path, text) in kept["sources"].as_object().expect("files") {
        scratch.write(&format!("{name}/{path}"), text.as_str().expect("a text"));
    }
    (serde_json::from_value(kept["watched"].clone()).expect("a watched build"), scratch)
}

fn drawn(watched: &Watched) -> String {
    let host = Host { metadata_folders: vec![], distribution: boltboard_core::remedy::Distribution::default() };
    let beside = watched.tree.with_file_name("board");
    draw(watched, &host, &Answers::default(), &beside).text
}

/// The same build with everything that did not wait for something else in another order, and other numbers for paths.
fn reordered(watched: &Watched, dice: &mut fastrand::Rng) -> Watched {
    let mut events: Vec<(u32, usize, usize)> = Vec::new();
    for (process, seen) in watched.processes.iter().enumerate() {
        events.extend(seen.deeds.iter().enumerate().map(|(at, did)| (did.at, process, at)));
    }
    events.sort_unstable();
    // Who must come before whom: within a process, between those who touch a file that one of them changes, a program after what its
    // parent did before it began, and after all was written that it is going to read.
    let mut reads_of: Vec<BTreeSet<PathId>> = vec![BTreeSet::new(); watched.processes.len()];
    for (_, process, at) in &events {
        let path = watched.processes[*process].deeds[*at].path;
        let mut above = Some(*process);
        while let Some(own) = above {
            reads_of[own].insert(path);
            above = watched.processes[own].parent;
        }
    }
    let mut before: Vec<BTreeSet<usize>> = vec![BTreeSet::new(); events.len()];
    let mut last_of: BTreeMap<usize, usize> = BTreeMap::new();
    let mut of_path: BTreeMap<PathId, Vec<(usize, bool)>> = BTreeMap::new();
    for (number, (_, process, at)) in events.iter().enumerate() {
        let did = watched.processes[*process].deeds[*at];
        let mut above = Some(*process);
        while let Some(own) = above {
            before[number].extend(last_of.get(&own));
            above = watched.processes[own].parent;
        }
        if last_of.insert(*process, number).is_none() {
            let needed = reads_of[*process].iter().filter_map(|path| of_path.get(path)).flatten();
            before[number].extend(needed.filter(|(_, changed)| *changed).map(|(other, _)| *other));
        }
        let reads = matches!(format!("{:?}", did.what).as_str(), "Read" | "Listed");
        let touched = of_path.entry(did.path).or_default();
        before[number].extend(touched.iter().filter(|(_, changed)| *changed || !reads).map(|(other, _)| *other));
        touched.push((number, !reads));
    }
    let mut waiting: Vec<usize> = before.iter().map(BTreeSet::len).collect();
    let mut after: Vec<Vec<usize>> = vec![Vec::new(); events.len()];
    for (number, others) in before.iter().enumerate() {
        others.iter().for_each(|other| after[*other].push(number));
    }
    let mut ready: Vec<usize> = (0..events.len()).filter(|number| waiting[*number] == 0).collect();
    let mut changed = watched.clone();
    let mut began: BTreeMap<usize, u32> = BTreeMap::new();
    for moment in 0..events.len() {
        let number = ready.swap_remove(dice.usize(..ready.len()));
        let (_, process, at) = events[number];
        let moment = u32::try_from(moment).expect("few") + 1;
        changed.processes[process].deeds[at].at = moment;
        began.entry(process).or_insert(moment);
        for next in &after[number] {
            waiting[*next] -= 1;
            if waiting[*next] == 0 {
                ready.push(*next);
            }
        }
    }
    // Processes in the order in which they began; one that did nothing comes with its parent.
    let start = |process: usize| {
        let (mut at, mut depth) = (process, Vec::new());
        while let Some(parent) = watched.processes[at].parent {
            depth.push(at);
            at = parent;
        }
        let mut latest = began.get(&at).copied().unwrap_or(0);
        depth.iter().rev().for_each(|own| latest = latest.max(began.get(own).copied().unwrap_or(0)));
        (latest, depth.len(), process)
    };
    let mut order: Vec<usize> = (0..watched.processes.len()).collect();
    order.sort_by_key(|process| start(*process));
    let place: BTreeMap<usize, usize> = order.iter().enumerate().map(|(new, old)| (*old, new)).collect();
    changed.processes = order.iter().map(|old| changed.processes[*old].clone()).collect();
    changed.processes.iter_mut().for_each(|seen| seen.parent = seen.parent.map(|parent| place[&parent]));
    renumbered(&changed, dice)
}

fn renumbered(watched: &Watched, dice: &mut fastrand::Rng) -> Watched {
    let mut kept = serde_json::to_value(watched).expect("JSON");
    let paths = kept["paths"].as_array().expect("paths").clone();
    let mut order: Vec<usize> = (0..paths.len()).collect();
    dice.shuffle(&mut order);
    let mut place = vec![0; paths.len()];
    order.iter().enumerate().for_each(|(new, old)| place[*old] = new);
    kept["paths"] = order.iter().map(|old| paths[*old].clone()).collect();
    let new = |id: &Value| json!(place[usize::try_from(id.as_u64().expect("a number")).expect("small")]);
    for process in kept["processes"].as_array_mut().expect("processes") {
        process["deeds"].as_array_mut().expect("deeds").iter_mut().for_each(|did| did["path"] = new(&did["path"]));
    }
    let before = kept["before"].as_array().expect("a list").iter().map(new);
    kept["before"] = before.collect();
    for key in ["left", "code", "texts"] {
        let entries = kept[key].as_object().expect("entries").iter();
        let entry = |(id, value): (&String, &Value)| {
            (new(&json!(id.parse::<u64>().expect("a number"))).to_string(), value.clone())
        };
        kept[key] = Value::Object(entries.map(entry).collect());
    }
    serde_json::from_value(kept).expect("a watched build")
}

#[test]
fn what_was_recorded_is_drawn_letter_by_letter_whatever_ran_first_and_wherever_it_lies() {
    for yard in [Yard::quay, Yard::harbour] {
        let name = yard().name;
        if std::env::var("BOLTBOARD_RECORD").is_ok() {
            record(&yard());
        }
        let wanted = std::fs::read_to_string(recorded(name, "toml")).expect("it was drawn");
        let (watched, _scratch) = laid_out(name);
        assert_eq!(drawn(&watched), wanted, "{name}");
        let mut dice = fastrand::Rng::with_seed(7);
        let mut moved = 0;
        for round in 0..20 {
            let other = reordered(&watched, &mut dice);
            moved += usize::from(other.processes.iter().zip(&watched.processes).any(|(a, b)| a.words != b.words));
            assert_eq!(drawn(&other), wanted, "{name}, round {round}");
        }
        assert!(moved > 0, "nothing of {name} can run in another order");
    }
}
