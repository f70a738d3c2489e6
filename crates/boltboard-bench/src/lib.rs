//! What the bench programs share: copies of the demo tree, and runs of the built program.

pub mod boards;
pub mod kernel;
pub mod sitting;
pub mod trees;

use std::error::Error;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::time::Duration;

use serde_json::Value;

/// Returns the demo tree in the checkout.
pub fn demo_tree() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/skerry")
}

/// Returns the program in the checkout, built as people install it.
pub fn program() -> PathBuf {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let target = std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| root.join("target"), PathBuf::from);
    target.join("release/boltboard")
}

/// Copies a tree.
///
/// # Errors
/// What the file system says.
pub fn copy_tree(from: &Path, to: &Path) -> std::io::Result<()> {
    std::fs::create_dir_all(to)?;
    for entry in std::fs::read_dir(from)? {
        let entry = entry?;
        let target = to.join(entry.file_name());
        if entry.file_type()?.is_dir() {
            if entry.file_name() != "boltboard-work" {
                copy_tree(&entry.path(), &target)?;
            }
        } else {
            std::fs::copy(entry.path(), &target)?;
        }
    }
    Ok(())
}

/// Runs the program in a folder.
///
/// # Errors
/// It cannot be started.
pub fn run(folder: &Path, words: &[&str]) -> std::io::Result<Output> {
    Command::new(program()).args(words).current_dir(folder).env_remove("BOLTBOARD_WORK").stdin(Stdio::null()).output()
}

/// One compile of a tree.
pub struct CompileCommand {
    /// The folder that it runs in.
    pub folder: PathBuf,
    /// Its source, from there.
    pub file: String,
    /// The program and its arguments.
    pub words: Vec<String>,
    /// What it makes.
    pub output: PathBuf,
}

/// Returns the compiles of a tree, from its own compilation database.
///
/// # Errors
/// The program fails, or does not write such a database.
pub fn compile_commands(tree: &Path) -> Result<Vec<CompileCommand>, Box<dyn Error>> {
    let answer: Value = serde_json::from_slice(&run(tree, &["export", "compile-commands"])?.stdout)?;
    let entries = answer.as_array().ok_or("a compilation database is a list")?;
    let text = |value: &Value| value.as_str().unwrap_or_default().to_string();
    let command = |entry: &Value| CompileCommand {
        folder: text(&entry["directory"]).into(),
        file: text(&entry["file"]),
        words: entry["arguments"].as_array().into_iter().flatten().map(text).collect(),
        output: text(&entry["output"]).into(),
    };
    Ok(entries.iter().map(command).collect())
}

/// Builds with a search path; returns the most memory that the tool itself held, in KiB.
///
/// # Errors
/// It cannot be started, or the build fails.
pub fn peak(tree: &Path, search_path: &str) -> Result<u64, Box<dyn Error>> {
    let mut child =
        Command::new(program()).args(["build", "--quiet"]).current_dir(tree).env("PATH", search_path).spawn()?;
    let status = PathBuf::from(format!("/proc/{}/status", child.id()));
    let mut most = 0u64;
    loop {
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        most = most.max(line.and_then(|line| line.split_whitespace().next()?.parse().ok()).unwrap_or(0));
        if let Some(ended) = child.try_wait()? {
            return if ended.success() { Ok(most) } else { Err("a build failed".into()) };
        }
        std::thread::sleep(Duration::from_micros(500));
    }
}

/// Returns all files below some folders of a build, sorted, with their content; a link counts as what it leads to.
///
/// # Errors
/// What the file system says.
pub fn files_of(build: &Path, folders: &[&str]) -> std::io::Result<Vec<(String, Vec<u8>)>> {
    let mut files = Vec::new();
    for folder in folders {
        collect(&build.join(folder), build, &mut files)?;
    }
    files.sort();
    Ok(files)
}

fn collect(folder: &Path, root: &Path, files: &mut Vec<(String, Vec<u8>)>) -> std::io::Result<()> {
    if !folder.is_dir() {
        return Ok(());
    }
    for entry in std::fs::read_dir(folder)? {
        let path = entry?.path();
        let name = path.strip_prefix(root).unwrap_or(&path).display().to_string();
        if path.is_symlink() {
            files.push((name, std::fs::read_link(&path)?.display().to_string().into_bytes()));
        } else if path.is_dir() {
            collect(&path, root, files)?;
        } else {
            files.push((name, std::fs::read(&path)?));
        }
    }
    Ok(())
}
