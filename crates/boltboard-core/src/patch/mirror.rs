//! A tree beside the sources, in which changed files lie as they are changed, and all others are links to where they really are.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsString;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use super::Changed;
use crate::base::files::{make_folder, write_whole};
use crate::base::{FileError, Grafts, RelPath};

/// Brings the tree at `target` up to date with that at `root`, with changed files and with what lies elsewhere. Folders in `left_out` are not
/// looked into.
///
/// # Errors
/// Something cannot be read or written.
pub fn mirror(
    root: &Path,
    target: &Path,
    changed: &Changed,
    grafts: &Grafts,
    left_out: &[PathBuf],
) -> Result<(), FileError> {
    let mut open: Vec<RelPath> = vec![RelPath::root()];
    while let Some(folder) = open.pop() {
        let to = folder.below(target);
        make_folder(&to)?;
        let mut wanted: BTreeSet<OsString> = BTreeSet::new();
        for (path, content) in changed.iter().filter(|(path, _)| path.parent() == folder) {
            if let Some(content) = content {
                wanted.insert(path.name().into());
                put(&path.below(target), content)?;
            }
        }
        for (name, source) in sources_in(&folder, root, changed, grafts)? {
            let text = name.to_str().map(|name| folder.child(name));
            if text.as_ref().is_some_and(|path| changed.contains_key(path)) || left_out.contains(&source.place) {
                continue;
            }
            wanted.insert(name.clone());
            // What version controls keep is theirs as a whole.
            let hidden = name.to_str().is_none_or(|name| name.starts_with('.'));
            match text.filter(|_| source.is_folder && !hidden) {
                Some(path) => open.push(path),
                None => lead(&to.join(&name), &source.place)?,
            }
        }
        for (name, kind) in entries(&to)?.into_iter().filter(|(name, _)| !wanted.contains(name)) {
            let place = to.join(name);
            let removed = if kind.is_dir() { std::fs::remove_dir_all(&place) } else { std::fs::remove_file(&place) };
            removed.map_err(FileError::on("remove", &place))?;
        }
    }
    Ok(())
}

/// What lies in a folder of the tree, wherever it comes from.
struct Source {
    place: PathBuf,
    is_folder: bool,
}

/// Everything in a folder: of the tree, of what lies elsewhere, and folders that only lead to changed files.
fn sources_in(
    folder: &RelPath,
    root: &Path,
    changed: &Changed,
    grafts: &Grafts,
) -> Result<BTreeMap<OsString, Source>, FileError> {
    let real = grafts.real(folder, root);
    let mut found = BTreeMap::new();
    if real.is_dir() {
        for (name, kind) in entries(&real)? {
            let place = real.join(&name);
            found.insert(name, Source { place, is_folder: kind.is_dir() });
        }
    }
    let new = changed.iter().filter(|(_, content)| content.is_some()).map(|(path, _)| path);
    for name in new.chain(grafts.iter().map(|(at, _)| at)).filter_map(|path| next_below(path, folder)) {
        let place = real.join(&name);
        found.entry(name.into()).or_insert(Source { place, is_folder: true });
    }
    for (at, place) in grafts.iter().filter(|(at, _)| at.parent() == *folder) {
        found.insert(at.name().into(), Source { place: place.to_path_buf(), is_folder: place.is_dir() });
    }
    Ok(found)
}

/// The name of the folder that leads to a path from one above it.
fn next_below(path: &RelPath, folder: &RelPath) -> Option<String> {
    path.beneath(folder)?.as_str().split_once('/').map(|(first, _)| first.to_string())
}

fn entries(folder: &Path) -> Result<Vec<(OsString, std::fs::FileType)>, FileError> {
    let read = std::fs::read_dir(folder).map_err(FileError::on("read", folder))?;
    let mut entries = Vec::new();
    for entry in read.filter_map(Result::ok) {
        entries.extend(entry.file_type().ok().map(|kind| (entry.file_name(), kind)));
    }
    entries.sort_by(|a, b| a.0.cmp(&b.0));
    Ok(entries)
}

fn put(place: &Path, content: &[u8]) -> Result<(), FileError> {
    let is_file = std::fs::symlink_metadata(place).is_ok_and(|status| status.is_file());
    if is_file && std::fs::read(place).is_ok_and(|there| there == content) {
        return Ok(());
    }
    clear(place)?;
    write_whole(place, content)
}

fn lead(place: &Path, source: &Path) -> Result<(), FileError> {
    if std::fs::read_link(place).is_ok_and(|there| there == source) {
        return Ok(());
    }
    clear(place)?;
    symlink(source, place).map_err(FileError::on("make the link", place))
}

/// Takes away what lies where something else is to be.
fn clear(place: &Path) -> Result<(), FileError> {
    let removed = match std::fs::symlink_metadata(place) {
        Err(_) => return Ok(()),
        Ok(status) if status.is_dir() => std::fs::remove_dir_all(place),
        Ok(_) => std::fs::remove_file(place),
    };
    removed.map_err(FileError::on("remove", place))
}
