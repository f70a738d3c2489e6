//! What a compile read: the compiler's dependency file, and the places where a header was looked for in vain.

use std::collections::{BTreeSet, HashSet};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::SystemTime;

use foldhash::fast::FixedState;

use crate::base::{Digest, RelPath};
use crate::plan::{Include, Location, Tokens};
use crate::store::{Folders, PathKey, Stamp};

/// A file that a step read, with the content that it had then.
#[derive(Debug, Clone)]
pub struct ReadFile {
    /// Which one.
    pub at: Location,
    /// Its content.
    pub content: Digest,
    /// What it names, where names count.
    pub tokens: Arc<Tokens>,
}

/// Returns the files that an assembler takes in as they are (`.incbin "name"`, also inside C strings): no dependency file
/// names them. They are looked for from the tree's root, then in the folders searched for headers.
pub fn included_binaries(tokens: &Tokens, search: &[Location], folders: &Folders) -> Vec<Location> {
    let mut found = Vec::new();
    for name in &tokens.binaries {
        let root = Location::Tree(RelPath::root());
        let places = std::iter::once(&root).chain(search);
        found
            .extend(places.filter_map(|folder| child(folder, name, folders)).find(|file| file.path(folders).is_file()));
    }
    found
}

/// Returns the places where an assembler would have found other files before those that it took in: it looks from the tree's root,
/// then in the folders searched for headers. By which name it asked is not known, so all that lead there count.
pub fn misses_of_taken(taken: &[Location], search: &[Location], folders: &Folders) -> BTreeSet<Location> {
    let root = Location::Tree(RelPath::root());
    let places: Vec<&Location> = std::iter::once(&root).chain(search).collect();
    let mut misses = BTreeSet::new();
    for file in taken {
        for (at, place) in places.iter().enumerate() {
            let Some(name) = below(file, place) else { continue };
            let before: Vec<Location> = places[..at].iter().filter_map(|place| child(place, &name, folders)).collect();
            // What is there was not taken, so that was not the name.
            if before.iter().all(|place| !place.path(folders).exists()) {
                misses.extend(before);
            }
        }
    }
    misses
}

/// Places where nothing was found in this build and no step of it puts anything. Each is asked once: every step that looked there keeps it, so
/// that the next build notices what appears there later.
#[derive(Debug, Default)]
pub struct Absences {
    known: Mutex<HashSet<PathKey, FixedState>>,
}

impl Absences {
    /// Returns the status of a file, `None` where there is none; `lasts` tells whether it stays so.
    fn look(&self, path: &Path, lasts: impl Fn() -> bool) -> Option<Stamp> {
        let lock = || self.known.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let key = PathKey::of(path);
        if lock().contains(&key) {
            return None;
        }
        let stamp = Stamp::of(path);
        if stamp.is_none() && lasts() {
            lock().insert(key);
        }
        stamp
    }
}

/// Where one compile looked for headers.
pub struct Searched<'a> {
    /// All that it read, option headers among them.
    pub read: BTreeSet<&'a Location>,
    /// The folders searched for headers in quotes.
    pub quoted: &'a [Location],
    /// The folders searched for all headers, first to last, the compiler's own among them.
    pub folders: &'a [Location],
    /// When it started.
    pub started: SystemTime,
    /// Tells whether a step of this build makes a file.
    pub makes: &'a dyn Fn(&Location) -> bool,
}

impl Searched<'_> {
    /// Returns the places where a header would have been found before those that were read: a file that appears there
    /// changes what the compile reads. `files` are those that may ask for headers.
    pub fn misses(&self, files: &[ReadFile], places: &Folders, absences: &Absences) -> BTreeSet<Location> {
        let mut misses = BTreeSet::new();
        let mut add = |folders: &mut dyn Iterator<Item = Location>, name: &str| {
            for folder in folders {
                let Some(candidate) = child(&folder, name, places) else { continue };
                if self.read.contains(&candidate) || self.was_there(&candidate, places, absences) {
                    return;
                }
                misses.insert(candidate);
            }
        };
        for file in files {
            for include in &file.tokens.includes {
                let (name, beside, quoted) = match include {
                    Include::Beside(name) => (name, Some(parent(&file.at)), self.quoted),
                    Include::Searched(name) => (name, None, &[][..]),
                };
                add(&mut beside.into_iter().chain(quoted.iter().chain(self.folders).cloned()), name);
            }
        }
        // A header named through a macro: its name is what is left below the folder that it was found in.
        for input in &self.read {
            let found = self.folders.iter().enumerate().find_map(|(at, folder)| Some((at, below(input, folder)?)));
            if let Some((at, name)) = found {
                add(&mut self.folders[..at].iter().cloned(), &name);
            }
        }
        misses
    }

    /// Tells whether a file that was not read was there to be found: then the text that asks for it was switched off. One that a
    /// person put there since the compile started may not have been.
    fn was_there(&self, file: &Location, places: &Folders, absences: &Absences) -> bool {
        let path = file.path(places);
        match file {
            Location::Tree(_) | Location::System(_) => {
                absences.look(&path, || true).is_some_and(|stamp| !stamp.changed_since(self.started))
            }
            Location::Made(_) => absences.look(&path, || !(self.makes)(file)).is_some(),
            Location::Object(_) | Location::Output(_) => path.is_file(),
        }
    }
}

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

fn parent(location: &Location) -> Location {
    match location {
        Location::Tree(path) => Location::Tree(path.parent()),
        Location::Made(path) => Location::Made(path.parent()),
        Location::Object(path) => Location::Object(path.parent()),
        Location::Output(path) => Location::Output(path.parent()),
        Location::System(path) => Location::System(path.parent().unwrap_or(path).to_path_buf()),
    }
}

fn child(folder: &Location, name: &str, folders: &Folders) -> Option<Location> {
    let join = |path: &RelPath| path.join(name).ok();
    match folder {
        Location::Tree(path) => match join(path) {
            Some(path) => Some(Location::Tree(path)),
            None => Some(Location::of(&folder.path(folders).join(name), folders)),
        },
        Location::Made(path) => join(path).map(Location::Made),
        Location::Object(path) => join(path).map(Location::Object),
        Location::Output(path) => join(path).map(Location::Output),
        Location::System(path) => Some(Location::System(path.join(name))),
    }
}

fn below(file: &Location, folder: &Location) -> Option<String> {
    let rest = |file: &RelPath, folder: &RelPath| {
        let rest = file.as_str().strip_prefix(folder.as_str())?;
        if folder.as_str().is_empty() { Some(rest.to_string()) } else { rest.strip_prefix('/').map(str::to_string) }
    };
    match (file, folder) {
        (Location::Tree(file), Location::Tree(folder)) | (Location::Made(file), Location::Made(folder)) => {
            rest(file, folder)
        }
        (Location::System(file), Location::System(folder)) => {
            file.strip_prefix(folder).ok().and_then(|rest| rest.to_str()).map(str::to_string)
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn binaries_that_an_assembler_takes_in_are_seen() {
        let text =
            ".incbin \"logo.bin\"\n .incbin  \"far.bin\", 4\nasm(\".incbin \\\"inner.bin\\\"\");\n.incbin none\n";
        let folder = tempfile::tempdir().unwrap();
        for (name, text) in [("a.S", text), ("logo.bin", ""), ("data/far.bin", ""), ("inner.bin", "")] {
            std::fs::create_dir_all(folder.path().join(name).parent().unwrap()).unwrap();
            std::fs::write(folder.path().join(name), text).unwrap();
        }
        let folders = Folders { tree: folder.path().into(), build: folder.path().join("build") };
        let at = |name: &str| Location::Tree(RelPath::parse(name).unwrap());
        let found = included_binaries(&Tokens::of(text.as_bytes()), &[at("data")], &folders);
        assert_eq!(found, [at("logo.bin"), at("data/far.bin"), at("inner.bin")]);
    }

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
            folders.outputs().join("low.a").display().to_string(),
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
