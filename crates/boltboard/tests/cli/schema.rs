//! The schema that the program prints, held against every definition and profile that it accepts in these tests.

use std::path::{Path, PathBuf};
use std::sync::LazyLock;

use jsonschema::Validator;
use serde_json::Value;

use crate::harness::Scratch;

static DEFINITIONS: LazyLock<Validator> = LazyLock::new(|| printed("definitions"));
static PROFILE: LazyLock<Validator> = LazyLock::new(|| printed("profile"));

fn printed(what: &str) -> Validator {
    let nowhere = Scratch::new();
    let output = nowhere.command(&format!("export schema {what}")).output().expect("the program starts");
    let schema: Value = serde_json::from_slice(&output.stdout).expect("a schema");
    jsonschema::draft202012::meta::validate(&schema).expect("a schema by the standard");
    jsonschema::validator_for(&schema).expect("a schema that can be used")
}

/// Returns what a schema has against a file of ours.
fn against(schema: &Validator, text: &str) -> Vec<String> {
    let document: Value = toml::from_str(text).expect("TOML");
    schema.iter_errors(&document).map(|e| format!("{}: {e}", e.instance_path())).collect()
}

/// Checks that the schemas accept the files of a tree that the program itself accepted.
#[track_caller]
pub fn accepts(tree: &Path) {
    let below = std::fs::read_dir(tree).into_iter().flatten().filter_map(Result::ok).map(|entry| entry.path());
    let folders = std::iter::once(tree.to_path_buf()).chain(below);
    for file in folders.map(|folder| folder.join("boltboard.toml")) {
        fits(&DEFINITIONS, &file);
    }
    let profiles = std::fs::read_dir(tree.join("boltboard-work/profiles")).into_iter().flatten();
    for file in profiles.filter_map(Result::ok).map(|entry| entry.path()) {
        if file.to_str().is_some_and(|name| name.ends_with(".toml") && !name.ends_with(".host.toml")) {
            fits(&PROFILE, &file);
        }
    }
}

#[track_caller]
fn fits(schema: &Validator, file: &Path) {
    let Ok(text) = std::fs::read_to_string(file) else { return };
    if toml::from_str::<Value>(&text).is_ok() {
        let against = against(schema, &text);
        assert!(against.is_empty(), "the schema refuses {}: {against:#?}\n{text}", file.display());
    }
}

#[test]
fn every_file_of_the_demo_fits_its_schema() {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/skerry");
    let (mut definitions, mut profiles, mut folders) = (0, 0, vec![demo]);
    while let Some(folder) = folders.pop() {
        let entries: Vec<PathBuf> =
            std::fs::read_dir(&folder).expect("a folder").filter_map(Result::ok).map(|e| e.path()).collect();
        for path in entries {
            if path.is_dir() && path.file_name().is_some_and(|name| name != "boltboard-work") {
                folders.push(path);
            } else if path.ends_with("boltboard.toml") {
                fits(&DEFINITIONS, &path);
                definitions += 1;
            } else if folder.ends_with("profiles") && path.extension().is_some_and(|e| e == "toml") {
                fits(&PROFILE, &path);
                profiles += 1;
            }
        }
    }
    assert!(definitions >= 12 && profiles >= 3, "{definitions} {profiles}");
}

#[test]
fn what_the_reader_refuses_for_its_keys_or_shapes_the_schema_refuses_too() {
    let tree = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n";
    assert!(against(&DEFINITIONS, tree).is_empty());
    for wrong in [
        "[option.a]\nkind = \"swich\"\n",
        "[option.a]\nkind = \"switch\"\nrequire = \"b\"\n",
        "[option.a]\nkind = \"switch\"\nrequires = 3\n",
        "[part.p]\nkind = \"program\"\nsources = [1]\n",
        "[parts.p]\nkind = \"program\"\n",
        "[test.t]\ncommand = [\"true\"]\nalone = \"yes\"\n",
        "[part.p]\nkind = \"program\"\nflags = [{ whenn = \"a\", add = \"-g\" }]\n",
    ] {
        let text = format!("{tree}{wrong}");
        assert!(!against(&DEFINITIONS, &text).is_empty(), "the schema accepts:\n{text}");
        Scratch::with(&[("boltboard.toml", &text)]).run("lint").code(3);
    }
    assert!(!against(&PROFILE, "format = 1\ntree = \"t\"\nchosen = {}\n").is_empty());
}
