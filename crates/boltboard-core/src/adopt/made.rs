//! Files that the build made before it compiled: by which commands, and under which names sources include them.

use std::collections::{BTreeMap, BTreeSet};

use super::command;
use super::names::free_name;
use super::needs::{HostHeader, plain_name};
use super::paths::{base_name, below, folder_name};
use super::story::Story;

/// Commands that make files, or a text that the build wrote itself.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Generated {
    pub name: String,
    /// Each command's words; none for a text that is kept.
    pub stages: Vec<Vec<String>>,
    pub stdin: Option<String>,
    pub stdout: Option<String>,
    /// Files as they are included, with the names under which the command leaves them in its folder.
    pub outputs: Vec<(String, Option<String>)>,
    /// Files that must lie in its folder, with their names there; none where it runs in the tree.
    pub scratch: Option<Vec<(String, String)>>,
    pub folder: Option<String>,
    pub reads: Vec<String>,
    pub uses: Vec<String>,
    pub success: Option<i32>,
    /// The text that is kept.
    pub kept: Option<String>,
    /// What it rests on.
    pub seen: String,
}

/// All that was made.
#[derive(Debug, Default)]
pub(super) struct Made {
    pub generated: Vec<Generated>,
    /// The host's headers that sources include, with the words by which they do.
    pub host_headers: BTreeMap<String, HostHeader>,
    /// All files of the host that were read.
    host_files: BTreeSet<String>,
    /// The part that makes each file.
    parts: BTreeMap<String, String>,
    /// Files that commands made of what was linked, which are finished files as well.
    pub further: BTreeSet<String>,
    /// How each file is included.
    names: BTreeMap<String, String>,
    /// Folders for headers that hold copies or links of headers of the tree: where these lie.
    copied: BTreeMap<String, BTreeSet<String>>,
}

impl Made {
    pub fn of(story: &mut Story<'_>) -> Made {
        let mut made = Made::default();
        let included = story.included.clone();
        let mut wanted: BTreeMap<String, u32> = BTreeMap::new();
        let objects: BTreeSet<&str> = story.compiles.iter().map(|compile| compile.object.as_str()).collect();
        let is_input = |path: &str| story.product(path).is_some() || objects.contains(path);
        let of_compiles = story.compiles.iter().flat_map(|compile| {
            compile.reads.iter().chain([&compile.source]).map(|path| (path, compile.at, compile.is_cxx()))
        });
        let of_joins = story.joins.iter().flat_map(|join| join.reads.iter().map(|path| (path, join.at, true)));
        for (path, at, is_cxx) in of_compiles.chain(of_joins).filter(|(path, ..)| !is_input(path)) {
            if !story.is_made(path) {
                made.note_host_header(path, &included, is_cxx);
                continue;
            }
            let origin = story.origin(path, at);
            if is_input(&origin) || is_temporary(story, &origin) {
                continue;
            }
            if story.is_made(&origin) {
                let latest = wanted.entry(origin.clone()).or_default();
                *latest = (*latest).max(at);
                made.names.entry(origin).or_insert_with(|| reach(story, path, &included));
            } else if let Some(from) = story.in_tree(&origin) {
                let folders = made.copied.entry(folder_name(path).to_string()).or_default();
                folders.insert(folder_name(from).to_string());
            }
        }
        made.want_further(story, &objects, &mut wanted);
        made.units(story, wanted);
        made
    }

    /// Files that commands made of what was linked or archived, and that are there at the end.
    fn want_further(&mut self, story: &Story<'_>, objects: &BTreeSet<&str>, wanted: &mut BTreeMap<String, u32>) {
        for path in &story.left {
            let path = path.as_str();
            if story.product(path).is_some() || objects.contains(path) || story.origin(path, u32::MAX) != path {
                continue;
            }
            let Some(unit) = story.unit_of(path, u32::MAX).filter(|unit| !story.is_busy(*unit)) else { continue };
            let reads = story.concerning_reads(&story.piped(unit));
            let of_product = |read: &String| read != path && story.product(&story.origin(read, u32::MAX)).is_some();
            let programs = story.process(unit).program.as_str();
            if reads.iter().any(|read| of_product(read) && read != programs) {
                self.names.entry(path.to_string()).or_insert_with(|| plain_path(story, path));
                wanted.insert(path.to_string(), u32::MAX);
                self.further.insert(path.to_string());
            }
        }
    }

    /// The part that makes a file.
    pub fn part_of(&self, path: &str) -> Option<&str> {
        self.parts.get(path).map(String::as_str)
    }

    /// All files that parts make.
    pub fn files(&self) -> impl Iterator<Item = &str> {
        self.parts.keys().map(String::as_str)
    }

    /// How a file that was made is called by who includes or reads it.
    pub fn name_of(&self, path: &str) -> &str {
        self.names.get(path).map_or("", String::as_str)
    }

    /// How a file is included that a part makes.
    pub fn reach(&self, path: &str) -> Option<&str> {
        self.parts.get(path).and_then(|_| self.names.get(path)).map(String::as_str)
    }

    /// Where the headers of a folder lie in the tree that were only copied or linked there; `None` where the folder is the tree's own.
    pub fn copied_from(&self, folder: &str) -> Option<&BTreeSet<String>> {
        self.copied.get(folder)
    }

    /// Whether a folder holds made files.
    pub fn is_made_folder(&self, folder: &str) -> bool {
        self.parts.keys().any(|path| below(path, folder).is_some())
    }

    fn note_host_header(&mut self, path: &str, included: &BTreeSet<String>, is_cxx: bool) {
        if let Some(known) = self.host_headers.get_mut(path) {
            known.only_cxx &= is_cxx;
        } else if !self.host_files.insert(path.to_string()) {
            // It is known already that nobody names it.
        } else if let Some(word) = included.iter().find(|word| path.ends_with(&format!("/{word}"))) {
            self.host_headers.insert(path.to_string(), HostHeader { word: word.clone(), only_cxx: is_cxx });
        }
    }

    fn units(&mut self, story: &mut Story<'_>, wanted: BTreeMap<String, u32>) {
        let mut by_unit: BTreeMap<usize, BTreeSet<String>> = BTreeMap::new();
        let mut texts: BTreeSet<String> = BTreeSet::new();
        let mut waiting: Vec<(String, u32)> = wanted.into_iter().collect();
        let mut known: BTreeSet<String> = BTreeSet::new();
        while let Some((path, at)) = waiting.pop() {
            if !known.insert(path.clone()) {
                continue;
            }
            let Some(unit) = story.unit_of(&path, at) else {
                texts.insert(path);
                continue;
            };
            let stages = story.piped(unit);
            if story.is_told(&stages) || stages.iter().any(|stage| story.is_own_script(*stage)) {
                texts.insert(path);
                continue;
            }
            by_unit.entry(unit).or_default().insert(path);
            for read in story.concerning_reads(&stages) {
                let origin = story.origin(&read, at);
                let made = story.is_made(&origin) && !is_temporary(story, &origin);
                let own = by_unit.get(&unit).is_some_and(|writes| writes.contains(&origin));
                if made && !own && story.product(&origin).is_none() {
                    let name = plain_path(story, &origin);
                    self.names.entry(origin.clone()).or_insert(name);
                    waiting.push((origin, at));
                }
            }
        }
        let mut taken = BTreeSet::new();
        // In the order of their paths: which command ran first says nothing.
        let all: BTreeSet<&String> = by_unit.values().flatten().chain(&texts).collect();
        for path in all {
            let part = free_name(format!("make-{}", plain_name(self.name_of(path))), &mut taken);
            self.parts.insert(path.clone(), part);
        }
        // All files of one command have one part.
        for writes in by_unit.values() {
            let first = writes.first().and_then(|path| self.parts.get(path)).cloned().unwrap_or_default();
            writes.iter().for_each(|path| {
                self.parts.insert(path.clone(), first.clone());
            });
        }
        for path in texts {
            self.text(story, &path);
        }
        for (unit, writes) in by_unit {
            self.generated.push(command::generated(story, self, unit, &writes));
        }
        self.generated.sort_by(|a, b| a.name.cmp(&b.name));
    }

    /// A text that the build wrote itself is kept as it came out.
    fn text(&mut self, story: &mut Story<'_>, path: &str) {
        let name = self.name_of(path).to_string();
        let part = self.part_of(path).unwrap_or_default().to_string();
        match story.text_left(path).map(str::to_string) {
            Some(text) => {
                story.doubt(
                    &name,
                    "the build wrote this text itself, so its text is kept: does it hold values to choose, or a date?",
                );
                self.generated.push(Generated {
                    name: part,
                    outputs: vec![(name.clone(), None)],
                    kept: Some(text),
                    seen: "written by the build itself".into(),
                    ..Generated::default()
                });
            }
            None => {
                self.parts.remove(path);
                story.doubt(
                    path,
                    "the build wrote it itself, and it was gone or no text at the end: nothing makes it now",
                );
            }
        }
    }
}

/// Whether a file only passes between the parts of a compiler.
fn is_temporary(story: &Story<'_>, path: &str) -> bool {
    story.in_tree(path).is_none() && base_name(path).starts_with("cc") && !story.is_left(path)
}

/// How sources include a made file: the longest end of its path that one of them names, else its path below the tree.
fn reach(story: &Story<'_>, path: &str, included: &BTreeSet<String>) -> String {
    let mut ends: Vec<&str> = path.match_indices('/').map(|(at, _)| &path[at + 1..]).collect();
    ends.sort_by_key(|end| std::cmp::Reverse(end.len()));
    let named = ends.into_iter().find(|end| included.contains(*end));
    named.map_or_else(|| plain_path(story, path), str::to_string)
}

fn plain_path(story: &Story<'_>, path: &str) -> String {
    story.in_tree(path).unwrap_or_else(|| base_name(path)).to_string()
}
