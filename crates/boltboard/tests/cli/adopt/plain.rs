//! Skerry as a tree that nobody has described: built by a plain script, which is made of what our own build of it runs.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use super::Yard;
use crate::harness::Scratch;

/// Words that our builder adds to a compile, and a plain build has not.
const OURS: [&str; 8] = [
    "-ffile-prefix-map=",
    "-frandom-seed=",
    "-pipe",
    "-Wa,--MD,",
    "-fno-canonical-system-headers",
    "-MD",
    "-Wno-builtin-macro-redefined",
    "-D__TIMESTAMP__=",
];

/// A process that a build started: its words and its folder.
struct Started {
    words: Vec<String>,
    folder: String,
}

/// Reads what the program says of each process that it starts.
fn started(said: &str) -> Vec<Started> {
    let one = |line: &str| {
        let (_, rest) = line.split_once("starts program=")?;
        let (program, rest) = rest.split_once(" arguments=")?;
        let (arguments, rest) = rest.split_once(" folder=")?;
        let folder = rest.split_once(" watch=")?.0.to_string();
        let arguments: Vec<String> = serde_json::from_str(arguments).ok()?;
        let program = Path::new(program).file_name()?.to_string_lossy();
        let name = if program.contains("mktide") { rest_of(line, "program=") } else { program.into_owned() };
        Some(Started { words: std::iter::once(name).chain(arguments).collect(), folder })
    };
    said.lines().filter_map(one).collect()
}

fn rest_of(line: &str, key: &str) -> String {
    line.split_once(key).map_or("", |(_, rest)| rest.split(' ').next().unwrap_or_default()).to_string()
}

fn quoted(word: &str) -> String {
    format!("'{}'", word.replace('\'', "'\\''"))
}

/// Makes the plain script; `tree` is where Skerry was built, and results of the script go to `../skerry-out`.
fn script(tree: &Scratch, said: &str) -> String {
    // What the program says is told with this for the tree's place.
    let root = "TREE".to_string();
    let build = format!("{root}/boltboard-work/builds/mine");
    let place = |word: &str| -> String {
        // What is made aside is moved to where it belongs: results of links below `out`, generated files below `made`.
        let word = match word.strip_prefix(&format!("{build}/aside/")).and_then(|rest| rest.split_once('/')) {
            Some((_, rest)) if rest.ends_with(".h") => format!("{build}/made/{rest}"),
            Some((_, rest)) => format!("{build}/parts/{rest}"),
            None => word.to_string(),
        };
        word.replace(&build, "../skerry-out").replace(&format!("{root}/"), "").replace(&root, ".")
    };
    let mut lines: Vec<String> = Vec::new();
    let mut made: BTreeSet<String> = BTreeSet::new();
    for Started { words, folder } in started(said).into_iter().filter(|started| started.folder.starts_with(&root)) {
        let seed = words.iter().find_map(|word| word.strip_prefix("-frandom-seed="));
        let object = seed.map(|seed| format!("{build}/{seed}"));
        let mut plain: Vec<String> = Vec::new();
        let mut rest = words.iter();
        while let Some(word) = rest.next() {
            if matches!(word.as_str(), "-MT" | "-MF") {
                rest.next();
            } else if word == "-o" && object.is_some() {
                rest.next();
                plain.extend(["-o".to_string(), object.clone().unwrap_or_default()]);
            } else if !OURS.iter().any(|own| word.starts_with(own)) {
                plain.push(word.clone());
            }
        }
        let here = if folder == root { String::new() } else { format!("cd {} && ", place(&folder)) };
        let up = "../".repeat(here.matches('/').count() + usize::from(!here.is_empty()));
        let words: Vec<String> = plain.iter().map(|word| place(word)).collect();
        let aside = format!("{build}/aside/");
        let of_generators = plain.iter().filter(|word| word.starts_with(&aside) && word.ends_with(".h"));
        made.extend(
            of_generators.filter_map(|word| place(word).strip_prefix("../skerry-out/made/").map(str::to_string)),
        );
        let up_from_there = |word: &String| {
            let of_tree = !here.is_empty() && (word.starts_with("../skerry-out") || tree.at(word).is_file());
            quoted(&if of_tree { format!("{up}{word}") } else { word.clone() })
        };
        let words: Vec<String> = words.iter().map(up_from_there).collect();
        let results = words.iter().filter(|word| word.starts_with("'../") && word.contains("skerry-out/"));
        let folders: BTreeSet<&str> = results.filter_map(|word| Some(word.rsplit_once('/')?.0)).collect();
        let folders: Vec<String> = folders.iter().map(|folder| format!("{folder}'")).collect();
        lines.push(format!("({here}mkdir -p {} && {})", folders.join(" "), words.join(" ")));
    }
    // Texts that our builder writes itself, a plain build writes itself as well.
    let mut head = vec!["set -e".to_string()];
    for (path, bytes) in files_below(&tree.at("boltboard-work/builds/mine/made")) {
        if !made.contains(&path) {
            let text = String::from_utf8(bytes).expect("a text");
            let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
            head.push(format!(
                "mkdir -p ../skerry-out/made/{folder}\ncat > ../skerry-out/made/{path} <<'END'\n{text}END"
            ));
        }
    }
    head.extend(lines);
    head.join("\n") + "\n"
}

pub(super) fn files_below(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut files = BTreeMap::new();
    let mut waiting = vec![folder.to_path_buf()];
    while let Some(next) = waiting.pop() {
        for entry in std::fs::read_dir(&next).expect("a folder").filter_map(Result::ok) {
            if entry.path().is_dir() {
                waiting.push(entry.path());
            } else {
                let name = entry.path().strip_prefix(folder).expect("below").to_string_lossy().into_owned();
                files.insert(name, std::fs::read(entry.path()).expect("a file"));
            }
        }
    }
    files
}

/// The plain script for Skerry as it is described by hand, with these choices.
fn script_with(described: &Scratch, choices: &[&str]) -> String {
    for choice in choices {
        described.run(&format!("set {choice}")).code(0);
    }
    let work = described.at("boltboard-work/builds");
    if work.exists() {
        // What is current or kept starts no process.
        std::fs::remove_dir_all(work).expect("removed");
        std::fs::remove_dir_all(described.at("boltboard-work/store")).expect("removed");
    }
    let said = described.run_with("build --quiet", "BOLTBOARD_TRACE", "trace").code(0).err;
    script(described, &said)
}

/// Skerry without its description, with the plain script; and with it as it is described by hand.
fn skerry() -> (Yard, Scratch) {
    let described = Scratch::skerry();
    let plain = script_with(&described, &[]);
    let yard = Yard { scratch: Scratch::new(), name: "skerry" };
    for (path, bytes) in files_below(described.path()) {
        if !path.starts_with("boltboard-work/") && !path.ends_with("boltboard.toml") {
            let target = yard.tree().join(&path);
            std::fs::create_dir_all(target.parent().expect("a folder")).expect("made");
            std::fs::write(target, bytes).expect("written");
        }
    }
    yard.scratch.write("skerry/build.sh", &plain);
    (yard, described)
}

/// The sources of each program, library and module, by its file's name, from the database of compiles and the parts' own names.
fn sources_of(tree: &Scratch, command: &mut std::process::Command) -> BTreeMap<String, BTreeSet<String>> {
    let database: serde_json::Value = tree.ran(command).code(0).json();
    let mut sources: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for entry in database.as_array().expect("a list") {
        let output = entry["output"].as_str().expect("a path");
        let (_, object) = output.split_once("/objects/").expect("an object");
        let (part, source) = object.split_once('/').expect("a part");
        // A generated source lies wherever the description puts it.
        let source = source.strip_prefix("made/").map_or(source, |made| made.rsplit('/').next().unwrap_or(made));
        sources.entry(part.to_string()).or_default().insert(source.to_string());
    }
    sources
}

#[test]
fn skerry_built_by_a_plain_script_is_drawn_as_it_was_described_by_hand() {
    let (yard, described) = skerry();
    yard.watched().code(0);
    let seen = yard.run(&["adopt", "seen", "--json"]).code(0).json();
    assert_eq!((&seen["unused"], seen["compiles"].as_u64() > Some(50)), (&0.into(), true), "{seen}");
    yard.run(&["adopt", "draw"]).code(0);
    yard.run(&["adopt", "prove"]).code(0).says(&["objects are the same"]);
    let proof = yard.run(&["adopt", "prove", "--json"]).code(0).json();
    assert_eq!((&proof["objects"], &proof["differences"]), (&seen["compiles"], &serde_json::json!([])), "{proof}");
    let by_hand = sources_of(&described, &mut described.command("export compile-commands"));
    let mut command = yard.scratch.command("export compile-commands");
    command.current_dir(yard.tree());
    let drawn = sources_of(&yard.scratch, &mut command);
    // A set of objects that only one program is made of is not seen; all else is as a person described it.
    let sets = |parts: &BTreeMap<String, BTreeSet<String>>| parts.values().cloned().collect::<BTreeSet<_>>();
    let (by_hand, drawn) = (sets(&by_hand), sets(&drawn));
    for part in &drawn {
        let within = by_hand.iter().filter(|known| known.is_subset(part)).flatten().cloned().collect::<BTreeSet<_>>();
        assert_eq!(*part, within, "it is not made of parts that were described by hand");
    }
    assert_eq!(drawn.iter().flatten().count(), by_hand.iter().flatten().count());
    let alike = by_hand.intersection(&drawn).count();
    assert!(alike * 10 >= drawn.len() * 8, "{alike} of {} parts are as described by hand", drawn.len());
    let text = yard.scratch.read("skerry-board/boltboard.toml");
    let generator = "command = [\"${part:mktide}\", \"30\", \"${path:tree}/data/tides.txt\", \"${step:output}\"]";
    assert!(text.contains(generator), "{text}");
}

/// Switches, and what `differ` makes of them. `BOLTBOARD_SWITCHES=all` takes every switch of Skerry that can be flipped alone.
#[test]
fn switches_of_skerry_are_found_between_two_plain_builds() {
    let (yard, described) = skerry();
    yard.watched().code(0);
    yard.run(&["adopt", "draw"]).code(0);
    let board = std::fs::read_to_string(yard.scratch.at("skerry-board/boltboard.toml")).expect("it is drawn");
    let kept = std::fs::read_to_string(yard.scratch.at("skerry-board/kept/skerry/options.h")).expect("it is kept");
    let options = described.run("options --level expert --json").code(0).json();
    let all = options["options"].as_array().expect("a list").iter().filter(|option| option["kind"] == "switch");
    let wanted = std::env::var("BOLTBOARD_SWITCHES").is_ok_and(|which| which == "all");
    let few = ["lamp-sector"];
    let (mut found, mut refused, mut tried) = (0, Vec::new(), 0);
    for option in all.filter(|option| option["applies"] == true) {
        let (name, value) = (option["name"].as_str().expect("a name"), option["value"].as_str().expect("a value"));
        // Adopted are C and C++.
        if name == "tide-model" || !wanted && !few.contains(&name) {
            continue;
        }
        let other = if value == "on" { "off" } else { "on" };
        let set = described.run(&format!("set {name}={other}"));
        if set.code != 0 {
            continue;
        }
        tried += 1;
        yard.scratch.write("skerry/other.sh", &script_with(&described, &[]));
        described.run(&format!("unset {name}"));
        std::fs::remove_dir_all(yard.scratch.at("skerry-out")).expect("removed");
        yard.run(&["adopt", "watch", "--name", "other", "--", "sh", "other.sh"]).code(0);
        let (without, with) = if value == "on" { ("other", "build") } else { ("build", "other") };
        let told = yard.run(&["adopt", "differ", without, with, "--option", name, "--together"]);
        if told.code == 0 {
            found += 1;
        } else {
            refused.push(format!("{name}: {}", told.err.chars().take(700).collect::<String>() + &told.out));
        }
        yard.scratch.write("skerry-board/boltboard.toml", &board);
        yard.scratch.write("skerry-board/kept/skerry/options.h", &kept);
    }
    println!("{found} of {tried} switches found and proved for both values; not: {refused:#?}");
    assert!(tried >= 1 && (wanted || found == tried), "{refused:#?}");
}
