//! Where a compile looked for headers, from what its texts ask for and the rules by which compilers search: the places where something that
//! appears would change what it reads.

use std::collections::{BTreeSet, HashSet};
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::Mutex;
use std::time::SystemTime;

use foldhash::fast::FixedState;

use crate::base::{Digest, RelPath};
use crate::judge::ReadFile;
use crate::reading::{Asks, Include, ONCE};
use crate::step::Location;
use crate::work::{Folders, PathKey, Stamp};

/// Places where nothing was found in this build and no step of it puts anything. Each is asked once: every step that looked there keeps it, so
/// that the next build notices what appears there later.
#[derive(Debug, Default)]
pub struct Absences {
    known: Mutex<HashSet<PathKey, FixedState>>,
}

impl Absences {
    /// Returns the status of a file, `None` where there is none; `lasts` tells whether it stays so.
    pub(in crate::run) fn look(&self, path: &Path, lasts: impl Fn() -> bool) -> Option<Stamp> {
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
pub(in crate::run) struct Searched<'a> {
    /// All that it read, option headers among them.
    pub read: HashSet<&'a Location>,
    /// The same in the order in which it did, its source first.
    pub in_order: &'a [Location],
    /// The folders searched for headers in quotes.
    pub quoted: &'a [Location],
    /// The folders searched for all headers, first to last, the compiler's own among them.
    pub folders: &'a [Location],
    /// Headers that the command asks for; those in quotes are looked for from the tree's root.
    pub asked: &'a [Include],
    /// Headers that it asks for by their place.
    pub forced: &'a [Location],
    /// When it started.
    pub started: SystemTime,
    /// Tells whether a step of this build makes a file.
    pub makes: &'a dyn Fn(&Location) -> bool,
    /// Where everything lies.
    pub places: &'a Folders,
    /// What is known not to be there.
    pub absences: &'a Absences,
    /// What a file holds.
    pub content: &'a dyn Fn(&Location) -> Option<Digest>,
}

/// What is known of a search.
#[derive(Debug, Default, PartialEq)]
pub(in crate::run) struct Found {
    /// Places where nothing was found.
    pub absent: BTreeSet<Location>,
    /// Places where something lies that was asked for, and not read for that.
    pub present: BTreeSet<Location>,
    /// Files that were asked for and hold what another one does that was read: compilers leave them out where one is to be read once.
    pub twins: BTreeSet<Location>,
    /// Files that lay first where something was read that lay behind them: what asks for them was switched off.
    pub passed: BTreeSet<Location>,
    /// Whether something was asked for that only a preprocessor knows.
    pub unclear: bool,
}

/// The header that compilers read before all others where there is one.
const BEFORE_ALL: &str = "stdc-predef.h";

impl Searched<'_> {
    /// Follows the rules of searching for all that `files` ask for.
    pub fn found(&self, files: &[ReadFile]) -> Found {
        let mut found = Found::default();
        let root = Location::Tree(RelPath::root());
        let before_all = Include { name: BEFORE_ALL.into(), beside: false, asks: Asks::Content };
        for include in std::iter::once(&before_all).chain(self.asked) {
            let chain = self.chain(include, &root);
            self.look(include, &chain, &mut found);
            self.precompiled(&chain, &mut found);
        }
        for at in self.forced {
            self.compiled_before(at, &mut found);
        }
        let chains_of = |file: &ReadFile| {
            let beside = parent(&file.at);
            file.tokens.includes.iter().map(|include| self.chain(include, &beside)).collect()
        };
        let all: Vec<Vec<Vec<Location>>> = files.iter().map(chains_of).collect();
        found.twins = self.twins(files, &all);
        for (number, (file, chains)) in files.iter().zip(&all).enumerate() {
            for (include, chain) in file.tokens.includes.iter().zip(chains) {
                self.look(include, chain, &mut found);
            }
            if number == 0 {
                self.first_precompiled(chains, &mut found);
            }
            found.unclear |= file.tokens.asks_openly;
        }
        if files.first().is_some_and(|source| source.tokens.computed) {
            // Whichever of them it asks for first.
            self.in_order.iter().skip(1).for_each(|at| self.compiled_before(at, &mut found));
        }
        let computing: Vec<Location> =
            files.iter().filter(|file| file.tokens.computed).map(|file| parent(&file.at)).collect();
        if !computing.is_empty() {
            self.by_any_name(&computing, &mut found);
        }
        found
    }

    /// The files that were asked for and left out as being the same as others; none where no file says that it is to be read once.
    fn twins(&self, files: &[ReadFile], chains: &[Vec<Vec<Location>>]) -> BTreeSet<Location> {
        if !files.iter().any(|file| file.tokens.names(ONCE)) {
            return BTreeSet::new();
        }
        let read: HashSet<Digest> = files.iter().map(|file| file.content).collect();
        let unread = chains.iter().flatten().flatten().filter(|at| !self.read.contains(at) && self.was_there(at));
        unread.filter(|at| (self.content)(at).is_some_and(|content| read.contains(&content))).cloned().collect()
    }

    fn chain(&self, include: &Include, beside: &Location) -> Vec<Location> {
        chain(include, beside, self.quoted, self.folders, self.places)
    }

    fn look(&self, include: &Include, chain: &[Location], found: &mut Found) {
        match include.asks {
            Asks::Content | Asks::Next => {
                // The last of those that were read: a folder that is named twice may count where it is named last.
                let counts = |at: &Location| self.read.contains(at) || found.twins.contains(at);
                let Some(last) = chain.iter().rposition(counts) else { return };
                let mut missed = Vec::new();
                for at in &chain[..last] {
                    if counts(at) || missed.contains(&at) {
                        continue;
                    }
                    if !self.was_there(at) {
                        missed.push(at);
                    } else if include.asks == Asks::Content && !self.is_same_file(at, &chain[last]) {
                        // It lies first and was not read: what asks for it was switched off.
                        found.passed.insert(at.clone());
                        return;
                    }
                }
                found.absent.extend(missed.into_iter().cloned());
            }
            Asks::Presence | Asks::NextPresence => {
                for at in chain {
                    if !self.was_there(at) {
                        found.absent.insert(at.clone());
                        continue;
                    }
                    if !self.read.contains(at) {
                        found.present.insert(at.clone());
                    }
                    if include.asks == Asks::Presence {
                        return;
                    }
                }
            }
        }
    }

    /// Looks where a header compiled before would be taken: only for what the source asks for first, and what it asks for before that
    /// may be switched off.
    fn first_precompiled(&self, chains: &[Vec<Location>], found: &mut Found) {
        let asked: HashSet<&Location> = chains.iter().flatten().filter(|at| self.read.contains(at)).collect();
        let read = self.in_order.iter().skip(1).find(|at| asked.contains(at));
        for (number, chain) in chains.iter().enumerate() {
            if number == 0 || read.is_some_and(|read| chain.contains(read)) {
                self.precompiled(chain, found);
            }
        }
    }

    /// Looks where a header compiled before would be taken instead of one that is looked for in these places.
    fn precompiled(&self, chain: &[Location], found: &mut Found) {
        for at in chain {
            self.compiled_before(at, found);
            if self.read.contains(at) {
                return;
            }
        }
    }

    /// Looks whether a header lies there compiled before.
    fn compiled_before(&self, at: &Location, found: &mut Found) {
        for ending in [".gch", ".pch"] {
            let path = at.path(self.places);
            let Some(name) = path.file_name().map(|name| name.to_string_lossy() + ending) else { continue };
            let Some(compiled) = child(&parent(at), &name, self.places) else { continue };
            if self.was_there(&compiled) || compiled.path(self.places).is_dir() {
                found.unclear = true;
            } else {
                found.absent.insert(compiled);
            }
        }
    }

    /// The places where files would have been found first, by whatever name a macro asked for them.
    fn by_any_name(&self, computing: &[Location], found: &mut Found) {
        let folders: Vec<&Location> = self.quoted.iter().chain(self.folders).collect();
        for read in &self.read {
            for (number, folder) in folders.iter().enumerate() {
                let Some(name) = read.beneath(folder) else { continue };
                let before = computing.iter().chain(folders[..number].iter().copied());
                let places = before.filter_map(|at| child(at, &name, self.places));
                let missed = places.filter(|at| !self.read.contains(at) && !self.was_there(at));
                found.absent.extend(missed.collect::<Vec<_>>());
            }
        }
    }

    fn is_same_file(&self, a: &Location, b: &Location) -> bool {
        let status =
            |at: &Location| std::fs::metadata(at.path(self.places)).ok().map(|status| (status.dev(), status.ino()));
        status(a).is_some_and(|status_of_a| Some(status_of_a) == status(b))
    }

    /// Tells whether something lay there to be found. What a person put there since the compile started may not have been there.
    fn was_there(&self, file: &Location) -> bool {
        let path = file.path(self.places);
        match file {
            Location::Tree(_) | Location::System(_) => {
                self.absences.look(&path, || true).is_some_and(|stamp| !stamp.changed_since(self.started))
            }
            Location::Made(_) => self.absences.look(&path, || !(self.makes)(file)).is_some(),
            Location::Object(_) | Location::Output(_) => path.is_file(),
        }
    }
}

/// The places where a header is looked for, first to last.
pub(in crate::run) fn chain(
    include: &Include,
    beside: &Location,
    quoted: &[Location],
    folders: &[Location],
    places: &Folders,
) -> Vec<Location> {
    let quoted = if include.beside { quoted } else { &[] };
    let first = include.beside.then_some(beside);
    first.into_iter().chain(quoted).chain(folders).filter_map(|at| child(at, &include.name, places)).collect()
}

pub(in crate::run) fn parent(location: &Location) -> Location {
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reading::Dialects;
    use crate::reading::Tokens;
    use std::sync::Arc;

    #[test]
    fn searches_follow_the_rules_of_compilers() {
        let folder = tempfile::tempdir().unwrap();
        let tree = folder.path().to_path_buf();
        for name in ["s/a.c", "a/x.h", "b/y.h", "c/x.h", "c/sub/z.h", "s/off.h", "c/off.h"] {
            std::fs::create_dir_all(tree.join(name).parent().unwrap()).unwrap();
            std::fs::write(tree.join(name), "").unwrap();
        }
        let places = Folders { build: tree.join("work/build"), tree };
        let at = |name: &str| Location::Tree(RelPath::parse(name).unwrap());
        let folders = [at("a"), at("b"), at("c"), at("c/sub")];
        let later = SystemTime::now() + std::time::Duration::from_secs(60);
        for (case, text, read, absent, present, unclear) in [
            ("found first", "#include <x.h>", &["a/x.h"][..], &[][..], &[][..], false),
            ("in quotes", "#include \"x.h\"", &["a/x.h"], &["s/x.h"], &[], false),
            ("found later", "#include <y.h>", &["b/y.h"], &["a/y.h"], &[], false),
            ("not read, so switched off", "#include <gone.h>", &[], &[], &[], false),
            ("lies first and was not read", "#include \"off.h\"", &["c/off.h"], &[], &[], false),
            ("the next one", "#include_next <x.h>", &["a/x.h", "c/x.h"], &["b/x.h"], &[], false),
            ("presence", "#if __has_include(<y.h>)", &[], &["a/y.h"], &["b/y.h"], false),
            (
                "absence",
                "#if __has_include(\"n.h\")",
                &[],
                &["a/n.h", "b/n.h", "c/n.h", "c/sub/n.h", "s/n.h"],
                &[],
                false,
            ),
            (
                "presence of a next one",
                "#if __has_include_next(<x.h>)",
                &[],
                &["b/x.h", "c/sub/x.h"],
                &["a/x.h", "c/x.h"],
                false,
            ),
            (
                "through a macro",
                "#include H",
                &["c/sub/z.h"],
                &["a/sub/z.h", "a/z.h", "b/sub/z.h", "b/z.h", "c/z.h", "s/sub/z.h", "s/z.h"],
                &[],
                false,
            ),
            ("asked in a way of its own", "#define HI(x) __has_include(x)", &[], &[], &[], true),
        ] {
            let read: Vec<Location> = read.iter().map(|name| at(name)).chain([at("s/a.c")]).collect();
            let searched = Searched {
                read: read.iter().collect(),
                in_order: &[],
                quoted: &[],
                folders: &folders,
                asked: &[],
                forced: &[],
                started: later,
                makes: &|_| false,
                places: &places,
                absences: &Absences::default(),
                content: &|at| Some(Digest::of(&std::fs::read(at.path(&places)).ok()?)),
            };
            let tokens = Arc::new(Tokens::of(text.as_bytes(), &Dialects::default()));
            let files = [ReadFile { at: at("s/a.c"), content: Digest::default(), tokens }];
            let mut found = searched.found(&files);
            found.absent.retain(|at| !at.to_string().ends_with("ch"));
            let want = |names: &[&str]| names.iter().map(|name| at(name)).collect::<BTreeSet<_>>();
            let passed = want(if case == "lies first and was not read" { &["s/off.h"] } else { &[] });
            let want = Found { absent: want(absent), present: want(present), twins: BTreeSet::new(), passed, unclear };
            assert_eq!(found, want, "{case}");
        }
    }
}
