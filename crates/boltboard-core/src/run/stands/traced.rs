//! What a link read and looked for, told by the linker itself: where nothing can be watched.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use crate::step::Location;
use crate::work::Folders;

/// What a linker told.
pub struct Traced {
    /// Files that it read, those that the step declares first.
    pub inputs: Vec<Location>,
    /// Lines that name no file.
    pub rest: String,
}

/// Reads a linker's trace: a file on each line, members of archives in brackets behind it. Files that the link itself made
/// lie aside and do not count.
pub fn traced(trace: &str, declared: &[Location], aside: &Path, folders: &Folders) -> Traced {
    let mut traced = Traced { inputs: declared.to_vec(), rest: String::new() };
    for line in trace.lines() {
        let bare = line.split_once('(').map_or(line, |(archive, _)| archive).trim_end();
        let path = [line, bare].map(|text| folders.tree.join(text)).into_iter().find(|path| path.is_file());
        let Some(path) = path else {
            // Files of a compile that was part of the link are gone by now.
            if !Path::new(bare).is_absolute() {
                traced.rest.push_str(line);
                traced.rest.push('\n');
            }
            continue;
        };
        let location = Location::of(&path, folders);
        let own = path.starts_with(aside) || matches!(location, Location::Object(_) | Location::Output(_));
        if !own && !traced.inputs.contains(&location) {
            traced.inputs.push(location);
        }
    }
    traced
}

/// Returns the places where a library named by `-l` would have been found before the one that was read. `own` are the
/// folders that the linker searches by itself.
pub fn library_misses(
    inputs: &[Location],
    arguments: &[String],
    own: &[PathBuf],
    folders: &Folders,
) -> BTreeSet<Location> {
    let (mut names, mut places) = (Vec::new(), Vec::new());
    let mut words = arguments.iter();
    while let Some(word) = words.next() {
        for (flag, values) in [("-l", &mut names), ("-L", &mut places)] {
            match word.strip_prefix(flag) {
                Some("") => values.extend(words.clone().next().cloned()),
                Some(value) => values.push(value.to_string()),
                None => {}
            }
        }
    }
    let places = places.iter().map(|place| folders.tree.join(place)).chain(own.iter().cloned());
    let places: Vec<PathBuf> = places.collect();
    let real = |path: &Path| path.canonicalize().unwrap_or_else(|_| path.to_path_buf());
    let read: BTreeSet<PathBuf> = inputs.iter().map(|input| real(&input.path(folders))).collect();
    let mut misses = BTreeSet::new();
    for name in names.iter().filter(|name| !name.starts_with(':')) {
        let files = places.iter().flat_map(|place| ["so", "a"].map(|ending| place.join(format!("lib{name}.{ending}"))));
        let mut before = BTreeSet::new();
        for file in files {
            if file.is_file() && read.contains(&real(&file)) {
                misses.append(&mut before);
                break;
            }
            if !file.is_file() {
                before.insert(Location::of(&file, folders));
            }
        }
    }
    misses
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::base::RelPath;

    /// A tree with a host beside it; both have these files, all empty.
    fn beside(files: &[&str]) -> (tempfile::TempDir, Folders) {
        let folder = tempfile::tempdir().unwrap();
        for name in files {
            std::fs::create_dir_all(folder.path().join(name).parent().unwrap()).unwrap();
            std::fs::write(folder.path().join(name), "").unwrap();
        }
        let tree = folder.path().join("tree");
        std::fs::create_dir_all(&tree).unwrap();
        let folders = Folders { tree, build: folder.path().join("build") };
        (folder, folders)
    }

    #[test]
    fn a_linker_s_trace_names_what_it_read() {
        let (folder, folders) =
            beside(&["host/crt1.o", "host/libtide.a", "tree/kept.a", "build/out/low.a", "build/aside/1/t.o"]);
        let host = |name: &str| folder.path().join("host").join(name);
        let trace = [
            host("crt1.o").display().to_string(),
            format!("{}(tide.o)", host("libtide.a").display()),
            format!("{}(ebb.o)", host("libtide.a").display()),
            "kept.a".into(),
            folders.parts().join("low.a").display().to_string(),
            folders.aside().join("1/t.o").display().to_string(),
            host("gone.o").display().to_string(),
            "tide: a line that names no file".into(),
        ];
        let aside = folders.aside().join("1");
        let declared = [Location::Output(RelPath::parse("low.a").unwrap())];
        let traced = traced(&trace.join("\n"), &declared, &aside, &folders);
        let read = [
            declared[0].clone(),
            Location::System(host("crt1.o")),
            Location::System(host("libtide.a")),
            Location::Tree(RelPath::parse("kept.a").unwrap()),
        ];
        assert_eq!(traced.inputs, read);
        assert_eq!(traced.rest, "tide: a line that names no file\n");
    }

    #[test]
    fn a_library_that_would_be_found_first_is_looked_out_for() {
        let (folder, folders) = beside(&["b/libtide.a", "own/libm.so", "c/libtide.so"]);
        let at = |name: &str| folder.path().join(name);
        let words = ["-L", "../a", &format!("-L{}", at("b").display()), "-ltide", "-lm", "-lnone", "-l:exact.a"];
        let inputs = [Location::System(at("b/libtide.a")), Location::System(at("own/libm.so"))];
        let misses = library_misses(&inputs, &words.map(String::from), &[at("own"), at("c")], &folders);
        let missed: Vec<String> = misses
            .iter()
            .map(|miss| miss.path(&folders).display().to_string().replace(&at("").display().to_string(), ""))
            .collect();
        let named = |miss: &&String| !miss.contains("..");
        assert_eq!(missed.iter().filter(named).collect::<Vec<_>>(), ["b/libm.a", "b/libm.so", "b/libtide.so"]);
        assert_eq!(missed.len(), 7, "four more in a folder that is not there yet: {missed:?}");
    }
}
