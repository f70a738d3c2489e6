//! Where headers, libraries and copies of things are looked for, without running anything.

use std::path::{Path, PathBuf};

/// The folders searched for headers: those of the flags, then the compiler's own.
pub(super) fn header_folders(flags: &[String], by_itself: &[PathBuf]) -> Vec<PathBuf> {
    let own = flags.iter().filter_map(|flag| flag.strip_prefix("-I").or_else(|| flag.strip_prefix("-isystem")));
    own.map(PathBuf::from).chain(by_itself.iter().cloned()).collect()
}

/// The places where a header is looked for, up to the one where it is.
pub(super) fn header_places(header: &str, flags: &[String], by_itself: &[PathBuf]) -> Vec<PathBuf> {
    up_to_first(header_folders(flags, by_itself).into_iter().map(|folder| folder.join(header)))
}

/// The places where the linker looks for a library, up to the one where it is.
pub(super) fn library_places(name: &str, folders: &[PathBuf]) -> Vec<PathBuf> {
    let both = |folder: &PathBuf| [folder.join(format!("lib{name}.so")), folder.join(format!("lib{name}.a"))];
    up_to_first(folders.iter().flat_map(both))
}

fn up_to_first(places: impl Iterator<Item = PathBuf>) -> Vec<PathBuf> {
    let mut looked = Vec::new();
    for place in places {
        let there = place.is_file();
        looked.push(place);
        if there {
            break;
        }
    }
    looked
}

/// Returns all files of that name below these folders, each real file once, in the order of the folders.
pub(super) fn all_copies(name: &str, folders: &[PathBuf]) -> Vec<PathBuf> {
    let mut copies: Vec<PathBuf> =
        folders.iter().map(|folder| folder.join(name)).filter(|place| place.is_file()).collect();
    if copies.len() > 1 {
        let mut real = Vec::new();
        copies.retain(|place| {
            let same = place.canonicalize().unwrap_or_else(|_| place.clone());
            let fresh = !real.contains(&same);
            real.push(same);
            fresh
        });
    }
    copies
}

/// Below a folder that holds a copy of something: where its metadata files lie.
pub(super) fn metadata_below(folder: &Path, target: &str) -> Vec<PathBuf> {
    library_folders_below(folder, target)
        .iter()
        .map(|lib| lib.join("pkgconfig"))
        .chain([folder.join("share/pkgconfig")])
        .collect()
}

/// Below a folder that holds a copy of something: where its libraries lie.
pub(super) fn library_folders_below(folder: &Path, target: &str) -> Vec<PathBuf> {
    let mut folders = vec![folder.join("lib"), folder.join("lib64")];
    if !target.is_empty() {
        folders.push(folder.join("lib").join(target));
    }
    folders
}

/// Folders below `/opt` that look like copies of something: they have headers or libraries.
pub(super) fn aside(root: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(root).into_iter().flatten().filter_map(Result::ok).map(|entry| entry.path());
    let mut folders: Vec<PathBuf> =
        entries.filter(|path| path.join("lib").is_dir() || path.join("include").is_dir()).collect();
    folders.sort();
    folders.truncate(200);
    folders
}
