//! Would what is installed be what runs? Looked at as the shell and the dynamic linker do, without running anything.

use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use super::against::Misfit;
use super::elf::{Elf, Symbols};
use super::manifest::Manifest;
use super::paths::{SearchVariable, search_paths};
use super::services::UnreadyService;

/// The longest chain of names that is followed in a list of folders that names others.
const MAX_NESTED: usize = 8;

/// What a person's shell and this machine's linker go by.
#[derive(Debug, Clone, Default)]
pub struct Searching {
    /// Where programs are looked for.
    pub programs: Vec<PathBuf>,
    /// Where the person has libraries looked for first.
    pub libraries: Vec<PathBuf>,
    /// Where the linker looks for libraries by itself.
    pub system: Vec<PathBuf>,
}

/// Something that stands against using what is installed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Unready {
    /// Another program of the same name comes first.
    OtherProgram {
        /// Ours.
        ours: PathBuf,
        /// The one that runs.
        first: PathBuf,
    },
    /// No folder of the search path leads to these programs.
    NotSearched {
        /// Their folder.
        folder: PathBuf,
        /// Their names.
        names: Vec<String>,
    },
    /// A program or library asks for a library that is not found.
    NoLibrary {
        /// The file that asks.
        file: PathBuf,
        /// What it asks for.
        library: String,
        /// Where this installation has it, if it does.
        ours: Option<PathBuf>,
    },
    /// Something stands against a service.
    Service(UnreadyService),
    /// Something else that is installed was built against the tree as it was.
    Misfit(Misfit),
    /// A program or library asks for a library of this installation, and gets another one.
    OtherLibrary {
        /// The file that asks.
        file: PathBuf,
        /// Ours.
        ours: PathBuf,
        /// What it gets.
        first: PathBuf,
    },
}

impl Searching {
    /// What this machine goes by: the person's variables, and the linker's own list of folders below `root`.
    pub fn of(path: &str, library_path: &str, root: &Path) -> Searching {
        let folders = |text: &str| std::env::split_paths(text).filter(|folder| folder.is_absolute()).collect();
        let mut system = Vec::new();
        listed(&root.join("etc/ld.so.conf"), root, 0, &mut system);
        system.extend(["/lib", "/usr/lib", "/lib64", "/usr/lib64"].map(PathBuf::from));
        Searching { programs: folders(path), libraries: folders(library_path), system }
    }
}

/// Reads a list of folders; a line `include PATTERN` names further lists.
fn listed(file: &Path, root: &Path, depth: usize, into: &mut Vec<PathBuf>) {
    let Ok(text) = std::fs::read_to_string(file) else { return };
    for line in text.lines().map(|line| line.split('#').next().unwrap_or_default().trim()) {
        if let Some(pattern) = line.strip_prefix("include ").map(str::trim) {
            let below = pattern.strip_prefix('/').map_or_else(|| PathBuf::from(pattern), |rest| root.join(rest));
            let (Some(folder), Some(ending)) = (below.parent(), below.file_name().and_then(|name| name.to_str()))
            else {
                continue;
            };
            let ending = ending.trim_start_matches('*').to_string();
            let entries = std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok);
            let mut files: Vec<PathBuf> = entries.map(|entry| entry.path()).collect();
            files.retain(|file| file.to_string_lossy().ends_with(&ending));
            files.sort();
            if depth < MAX_NESTED {
                files.iter().for_each(|file| listed(file, root, depth + 1, into));
            }
        } else if line.starts_with('/') {
            into.push(PathBuf::from(line));
        }
    }
}

/// Looks at all that is installed.
pub fn unready(manifest: &Manifest, searching: &Searching) -> Vec<Unready> {
    let mut found = BTreeSet::new();
    let programs = search_paths(manifest).remove(&SearchVariable::Programs).unwrap_or_default();
    for folder in programs {
        let names = |is: &dyn Fn(&Path) -> bool| -> Vec<PathBuf> {
            let files = manifest.outside_kits().map(|file| &file.path);
            files.filter(|path| path.parent() == Some(&folder) && is(path)).cloned().collect()
        };
        let ours = names(&can_run);
        if !searching.programs.iter().any(|searched| same(searched, &folder)) {
            let names = ours.iter().filter_map(|path| Some(path.file_name()?.to_string_lossy().into_owned())).collect();
            found.insert(Unready::NotSearched { folder: folder.clone(), names });
            continue;
        }
        for path in ours {
            let Some(name) = path.file_name() else { continue };
            let first = searching.programs.iter().map(|folder| folder.join(name)).find(|path| can_run(path));
            if let Some(first) = first.filter(|first| !same(first, &path)) {
                found.insert(Unready::OtherProgram { ours: path, first });
            }
        }
    }
    let own: BTreeMap<String, &PathBuf> = manifest
        .outside_kits()
        .filter_map(|file| Some((file.path.file_name()?.to_str()?.to_string(), &file.path)))
        .filter(|(name, _)| name.starts_with("lib") && name.contains(".so"))
        .collect();
    for file in manifest.outside_kits().filter(|file| file.link.is_none()) {
        let Some(asks) = Elf::of(&file.path, Symbols::Left).and_then(|elf| elf.asks) else { continue };
        for library in asks.libraries {
            let ours = own.get(&library).copied();
            let gets = gets(&library, &file.path, &asks.run_paths, searching);
            match (gets, ours) {
                (None, _) => {
                    let ours = ours.cloned();
                    found.insert(Unready::NoLibrary { file: file.path.clone(), library, ours });
                }
                (Some(first), Some(ours)) if !same(&first, ours) => {
                    found.insert(Unready::OtherLibrary { file: file.path.clone(), ours: ours.clone(), first });
                }
                (Some(_), _) => {}
            }
        }
    }
    found.into_iter().collect()
}

/// Where the linker would find a library that a file asks for.
pub(crate) fn gets(library: &str, file: &Path, run_paths: &[String], searching: &Searching) -> Option<PathBuf> {
    if library.contains('/') {
        return Some(PathBuf::from(library)).filter(|path| path.exists());
    }
    let origin = file.parent().unwrap_or(Path::new("/")).display().to_string();
    let own =
        run_paths.iter().map(|path| PathBuf::from(path.replace("${ORIGIN}", &origin).replace("$ORIGIN", &origin)));
    let folders = searching.libraries.iter().cloned().chain(own).chain(searching.system.iter().cloned());
    folders.map(|folder| folder.join(library)).find(|path| path.is_file())
}

fn can_run(path: &Path) -> bool {
    std::fs::metadata(path).is_ok_and(|status| status.is_file() && status.permissions().mode() & 0o111 != 0)
}

pub(super) fn same(one: &Path, other: &Path) -> bool {
    one == other || one.canonicalize().is_ok_and(|one| other.canonicalize().is_ok_and(|other| one == other))
}
