//! The compilers that a host has, with their versions and targets.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::compiler::{Compiler, CompilerFault, CompilerSearch, Language, identify};
use super::join::in_parallel;

/// A compiler of the host.
#[derive(Debug, Clone)]
pub struct Toolchain {
    /// What it compiles.
    pub language: Language,
    /// The names that call it, the shortest first.
    pub names: Vec<String>,
    /// What it says of itself, or why it does not.
    pub compiler: Result<Compiler, CompilerFault>,
}

/// Returns all compilers for C, C++ and Fortran in the search path, each once, by language and name.
pub fn toolchains(search: CompilerSearch<'_>, jobs: usize) -> Vec<Toolchain> {
    let mut by_file: BTreeMap<(Language, PathBuf), BTreeSet<(usize, String)>> = BTreeMap::new();
    let mut seen = BTreeSet::new();
    for folder in search.search_path.split(':').filter(|folder| !folder.is_empty()) {
        let entries = std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok);
        let mut names: Vec<String> = entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
        names.sort();
        for name in names {
            let Some(language) = compiles(&name) else { continue };
            // A name counts where it is found first.
            if !seen.insert(name.clone()) {
                continue;
            }
            if let Ok(file) = Path::new(folder).join(&name).canonicalize() {
                by_file.entry((language, file)).or_default().insert((name.len(), name));
            }
        }
    }
    let plain = |names: BTreeSet<(usize, String)>| names.into_iter().map(|(_, name)| name).collect();
    let names: Vec<(Language, Vec<String>)> =
        by_file.into_iter().map(|((language, _), names)| (language, plain(names))).collect();
    let found = std::sync::Mutex::new(Vec::new());
    in_parallel(&names, jobs, |(language, names): &(Language, Vec<String>)| {
        let compiler = identify(&names[0], *language, search);
        let toolchain = Toolchain { language: *language, names: names.clone(), compiler };
        found.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push(toolchain);
    });
    let mut found = found.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    found.sort_by(|a, b| (a.language, &a.names).cmp(&(b.language, &b.names)));
    found
}

/// Tells by a program's name what it compiles: `cc`, `gcc-12`, `aarch64-linux-gnu-g++`, `mpifort`.
fn compiles(name: &str) -> Option<Language> {
    let numberless = name.trim_end_matches(|c: char| c.is_ascii_digit() || c == '.');
    let base = if numberless.len() < name.len() { numberless.strip_suffix('-').unwrap_or(name) } else { name };
    let of_tool = |tool: &str| match tool {
        "gcc" | "clang" => Some(Language::C),
        "g++" | "clang++" => Some(Language::Cxx),
        "gfortran" | "flang" => Some(Language::Fortran),
        _ => None,
    };
    match base.rsplit_once('-') {
        None => match base {
            "cc" | "mpicc" => Some(Language::C),
            "c++" | "mpicxx" | "mpic++" => Some(Language::Cxx),
            "mpifort" => Some(Language::Fortran),
            _ => of_tool(base),
        },
        // A target has at least two parts, as in `aarch64-linux-`; `c99-gcc` has one.
        Some((target, tool)) => of_tool(tool).filter(|_| target.contains('-')),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn compilers_are_told_by_their_names() {
        for name in
            ["cc", "gcc", "gcc-12", "clang", "clang-14", "aarch64-linux-gnu-gcc", "aarch64-linux-gnu-gcc-12", "mpicc"]
        {
            assert_eq!(compiles(name), Some(Language::C), "{name}");
        }
        for name in ["c++", "g++-12", "clang++", "x86_64-linux-gnu-g++-12", "mpicxx"] {
            assert_eq!(compiles(name), Some(Language::Cxx), "{name}");
        }
        for name in ["gfortran-12", "mpifort"] {
            assert_eq!(compiles(name), Some(Language::Fortran), "{name}");
        }
        for name in
            ["gcc-ar", "gcc-ar-12", "c99-gcc", "clang-format", "clang-cpp-14", "gccgo", "12", "mpiexec", "mpicc.x"]
        {
            assert_eq!(compiles(name), None, "{name}");
        }
    }
}
