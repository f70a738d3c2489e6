//! The shape of the code: which folder may use which, that the core is silent, that files stay readable.

use std::path::{Path, PathBuf};

/// The folders of the core in the order of the flow; each uses only those before it.
const FLOW: [&str; 39] = [
    "base",
    "expr",
    "checks",
    "board",
    "definitions",
    "search",
    "profile",
    "patch",
    "carry",
    "reading",
    "work",
    "store",
    "fetch",
    "journal",
    "watch",
    "launch",
    "survey",
    "logic",
    "load",
    "resolve",
    "tailor",
    "reason",
    "remedy",
    "record",
    "step",
    "plan",
    "shared",
    "judge",
    "lint",
    "compare",
    "workers",
    "run",
    "trial",
    "install",
    "package",
    "session",
    "slate",
    "adopt",
    "lib",
];

fn rust_files(folder: &Path) -> Vec<PathBuf> {
    let mut files = Vec::new();
    for entry in std::fs::read_dir(folder).expect("a folder").filter_map(Result::ok) {
        let path = entry.path();
        if path.is_dir() {
            files.extend(rust_files(&path));
        } else if path.extension().is_some_and(|e| e == "rs") {
            files.push(path);
        }
    }
    files.sort();
    files
}

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

#[test]
fn data_flows_one_way() {
    let source = crates().join("boltboard-core/src");
    let mut seen = 0;
    for file in rust_files(&source) {
        let own = file
            .strip_prefix(&source)
            .expect("below")
            .iter()
            .next()
            .expect("a folder")
            .to_string_lossy()
            .replace(".rs", "");
        // What only tests use may use everything.
        if own == "testing" {
            continue;
        }
        let place = FLOW.iter().position(|f| *f == own).unwrap_or_else(|| panic!("{own} is not in the flow"));
        let text = std::fs::read_to_string(&file).expect("text");
        for used in text.split("crate::").skip(1) {
            let name: String = used.chars().take_while(|c| c.is_ascii_lowercase()).collect();
            if let Some(other) = FLOW.iter().position(|f| *f == name) {
                seen += 1;
                assert!(other <= place, "{} uses {name}, which comes after {own}", file.display());
            }
        }
    }
    assert!(seen > 100, "the uses were found");
}

#[test]
fn the_core_prints_nothing_and_never_exits() {
    for file in rust_files(&crates().join("boltboard-core/src")) {
        let text = std::fs::read_to_string(&file).expect("text");
        for word in ["println!", "print!(", "eprint", "dbg!", "process::exit", "std::env::var", "stdin()"] {
            assert!(!text.contains(word), "{} has {word}", file.display());
        }
    }
}

#[test]
fn only_the_renderer_writes() {
    for file in rust_files(&crates().join("boltboard/src")) {
        let text = std::fs::read_to_string(&file).expect("text");
        let writes = ["println!", "print!(", "eprint", "stdout()", "stderr()"].iter().any(|word| text.contains(word));
        let main = file.ends_with("src/main.rs") || file.parent().is_some_and(|folder| folder.ends_with("src/bin"));
        assert!(!writes || main || file.components().any(|c| c.as_os_str() == "render"), "{} writes", file.display());
    }
}

#[test]
fn files_stay_readable() {
    for file in rust_files(&crates()) {
        if file.components().any(|c| c.as_os_str() == "target") {
            continue;
        }
        let lines = std::fs::read_to_string(&file).expect("text").lines().count();
        assert!(lines <= 520, "{} has {lines} lines", file.display());
    }
}
