//! The compilers that a host has, with their versions and targets.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::compiler::{Compiler, CompilerFault, CompilerSearch, Language, identify};
use super::join::in_parallel;

/// A C compiler of the host.
#[derive(Debug, Clone)]
pub struct Toolchain {
    /// The names that call it, the shortest first.
    pub names: Vec<String>,
    /// What it says of itself, or why it does not.
    pub compiler: Result<Compiler, CompilerFault>,
}

/// Returns all C compilers in the search path, each once, in the order of their names.
pub fn toolchains(search: CompilerSearch<'_>, jobs: usize) -> Vec<Toolchain> {
    let mut by_file: BTreeMap<PathBuf, BTreeSet<(usize, String)>> = BTreeMap::new();
    let mut seen = BTreeSet::new();
    for folder in search.search_path.split(':').filter(|folder| !folder.is_empty()) {
        let entries = std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok);
        let mut names: Vec<String> = entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
        names.retain(|name| is_c_compiler(name));
        names.sort();
        for name in names {
            // A name counts where it is found first.
            if !seen.insert(name.clone()) {
                continue;
            }
            if let Ok(file) = Path::new(folder).join(&name).canonicalize() {
                by_file.entry(file).or_default().insert((name.len(), name));
            }
        }
    }
    let names: Vec<Vec<String>> =
        by_file.into_values().map(|names| names.into_iter().map(|(_, name)| name).collect()).collect();
    let found = std::sync::Mutex::new(Vec::new());
    in_parallel(&names, jobs, |names: &Vec<String>| {
        let compiler = identify(&names[0], Language::C, search);
        let toolchain = Toolchain { names: names.clone(), compiler };
        found.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push(toolchain);
    });
    let mut found = found.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    found.sort_by(|a, b| a.names.cmp(&b.names));
    found
}

/// Tells whether a program's name is that of a C compiler: `cc`, `gcc-12`, `clang`, `aarch64-linux-gnu-gcc`.
fn is_c_compiler(name: &str) -> bool {
    let numberless = name.trim_end_matches(|c: char| c.is_ascii_digit() || c == '.');
    let base = if numberless.len() < name.len() { numberless.strip_suffix('-').unwrap_or(name) } else { name };
    match base.rsplit_once('-') {
        None => matches!(base, "cc" | "gcc" | "clang"),
        // A target has at least two parts, as in `aarch64-linux-`; `c99-gcc` has one.
        Some((target, tool)) => matches!(tool, "gcc" | "clang") && target.contains('-'),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn compilers_are_told_by_their_names() {
        for name in ["cc", "gcc", "gcc-12", "clang", "clang-14", "aarch64-linux-gnu-gcc", "aarch64-linux-gnu-gcc-12"] {
            assert!(is_c_compiler(name), "{name}");
        }
        for name in ["gcc-ar", "gcc-ar-12", "g++", "c99-gcc", "clang-format", "clang-cpp-14", "clang++", "gccgo", "12"]
        {
            assert!(!is_c_compiler(name), "{name}");
        }
    }
}
