//! What a build did with its results: it put them where people use them, and ran programs of the tree as tests.

use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::PermissionsExt;

use super::made::Made;
use super::paths::{absolute, base_name, below, folder_name};
use super::story::{JoinKind, Story};
use super::watched::What;

/// Folders that lie below the place of an installation.
const ROOTS: [&str; 11] =
    ["bin", "sbin", "lib", "lib32", "lib64", "libexec", "include", "share", "etc", "var", "games"];

/// So many ways in which one program ran become tests.
const MANY: usize = 12;

/// Where a result was put, below the place of the installation.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Place {
    pub folder: String,
    /// Its name there.
    pub name: String,
    /// Whether it can be run, as far as it is still there.
    pub executable: bool,
}

/// Files of the tree that were put into one folder as they are.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Data {
    pub folder: String,
    /// Its name there, where it is another one.
    pub renamed: Option<String>,
    pub executable: bool,
    pub sources: Vec<String>,
}

/// A program of the tree that ran, and of which nothing came that others read.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Trial {
    /// The file that was linked.
    pub product: String,
    pub words: Vec<String>,
    pub stdin: Option<String>,
    pub exit: i32,
}

/// All of it.
#[derive(Debug, Default)]
pub(super) struct Delivered {
    /// The folder below which results were put.
    pub prefix: Option<String>,
    /// Results, by the file that was linked or generated.
    pub results: BTreeMap<String, Vec<Place>>,
    pub data: Vec<Data>,
    pub trials: Vec<Trial>,
    /// Programs that ran in more ways than become tests, and in how many.
    pub driven: Vec<(String, usize)>,
    /// The files that it explains.
    pub explained: BTreeSet<String>,
}

impl Delivered {
    pub fn of(story: &Story<'_>, made: &Made) -> Delivered {
        let mut delivered = Delivered::default();
        let read = story.all_read();
        delivered.installed(story, made, &read);
        delivered.tried(story, &read);
        delivered
    }

    fn installed(&mut self, story: &Story<'_>, made: &Made, read: &BTreeSet<String>) {
        let mut put: BTreeMap<String, String> = BTreeMap::new();
        for path in story.left.iter().filter(|path| !read.contains(*path)) {
            let origin = story.origin(path, u32::MAX);
            let of_tree = story.in_tree(&origin).is_some() && !story.is_made(&origin);
            if origin != *path && (of_tree || story.product(&origin).is_some() || made.part_of(&origin).is_some()) {
                put.insert(path.clone(), origin);
            }
        }
        let Some(prefix) = prefix_of(put.keys().map(String::as_str)) else { return };
        let mut data: BTreeMap<(String, Option<String>, bool), Vec<String>> = BTreeMap::new();
        for (path, origin) in put {
            let Some(place) = below(&path, &prefix) else { continue };
            let (folder, name) = (folder_name(place).to_string(), base_name(place).to_string());
            let first = folder.split('/').next().unwrap_or_default();
            if !ROOTS.contains(&first) {
                continue;
            }
            self.explained.insert(path.clone());
            match story.in_tree(&origin).filter(|_| !story.is_made(&origin)) {
                Some(source) => {
                    let executable = is_executable(&origin);
                    let renamed = (name != base_name(source)).then_some(name);
                    data.entry((folder, renamed, executable)).or_default().push(source.to_string());
                }
                None => self.results.entry(origin).or_default().push(Place {
                    folder,
                    name,
                    executable: is_executable(&path),
                }),
            }
        }
        for (result, places) in &mut self.results {
            // What keeps its name comes first; others are further names of it.
            places.sort_by_key(|place| (place.name != base_name(result), place.clone()));
        }
        let data = data.into_iter();
        self.data = data
            .map(|((folder, renamed, executable), sources)| Data { folder, renamed, executable, sources })
            .collect();
        self.prefix = Some(prefix);
    }

    fn tried(&mut self, story: &Story<'_>, read: &BTreeSet<String>) {
        for (at, process) in story.watched.processes.iter().enumerate() {
            let program = story.product(&process.program).filter(|join| story.joins[*join].kind == JoinKind::Program);
            // What it said went where the build's own words go, or into a file, and not to another program.
            let of_build = story.process(0).streams.get(1);
            let own_stream = process.streams.get(1).is_none_or(|s| !s.starts_with("pipe:") || Some(s) == of_build);
            let (Some(_), Some(exit), true) = (program, process.exit, own_stream && !process.forked) else { continue };
            let within = process.parent.is_some_and(|parent| story.product(&story.process(parent).program).is_some());
            let deeds = story.with_all_below(at).into_iter().flat_map(|at| &story.process(at).deeds);
            let wrote: BTreeSet<&str> =
                deeds.filter(|did| did.what == What::Wrote).map(|did| story.watched.text(did.path)).collect();
            let log = process.streams.get(1).map(String::as_str);
            let left = |path: &&str| story.is_left(path) && Some(*path) != log;
            let logged = log.filter(|log| story.is_left(log));
            if within
                || wrote.iter().any(left)
                || !(0..128).contains(&exit)
                || logged.is_some_and(|log| read.contains(log))
            {
                continue;
            }
            let word = |word: &String| {
                let path = absolute(&process.folder, word);
                let there = story.in_tree(&path).filter(|_| std::fs::symlink_metadata(&path).is_ok());
                match there {
                    Some(path) if word.contains(['/', '.']) && !story.is_made(&absolute(&story.tree, path)) => {
                        format!("${{path:tree}}/{path}")
                    }
                    _ => word.replace("${", "$${").replace(&format!("{}/", story.tree), "${path:tree}/"),
                }
            };
            self.explained.extend(logged.map(str::to_string));
            self.trials.push(Trial {
                product: process.program.clone(),
                words: process.words.iter().skip(1).map(word).collect(),
                stdin: process.streams.first().and_then(|stream| story.in_tree(stream)).map(str::to_string),
                exit,
            });
        }
        self.trials.sort();
        self.trials.dedup();
        // A program that ran in very many ways is a tool, or is driven by something else.
        let mut counts: BTreeMap<String, usize> = BTreeMap::new();
        self.trials.iter().for_each(|trial| *counts.entry(trial.product.clone()).or_default() += 1);
        self.trials.retain(|trial| counts[&trial.product] <= MANY);
        self.driven = counts.into_iter().filter(|(_, count)| *count > MANY).collect();
    }
}

fn is_executable(path: &str) -> bool {
    std::fs::metadata(path).is_ok_and(|metadata| metadata.permissions().mode() & 0o111 != 0)
}

/// The folder that most files were put below, in folders that installations have; of several, the innermost.
fn prefix_of<'p>(paths: impl Iterator<Item = &'p str>) -> Option<String> {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for path in paths {
        let folder = folder_name(path);
        let mut at = 0;
        for part in folder.split('/') {
            if at > 1 && ROOTS.contains(&part) {
                *counts.entry(&path[..at - 1]).or_default() += 1;
            }
            at += part.len() + 1;
        }
    }
    let best = counts.into_iter().max_by_key(|(prefix, count)| (*count, prefix.len()));
    best.map(|(prefix, _)| prefix.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_place_of_an_installation_is_what_its_folders_share() {
        let prefix = |paths: &[&str]| prefix_of(paths.iter().copied());
        assert_eq!(prefix(&["/w/lib/inst/bin/a", "/w/lib/inst/share/man/man1/a.1"]), Some("/w/lib/inst".into()));
        assert_eq!(prefix(&["/usr/lib/a/bin/x", "/usr/bin/y", "/usr/share/z"]), Some("/usr".into()));
        assert_eq!(prefix(&["/w/inst/bin/a"]), Some("/w/inst".into()));
        assert_eq!(prefix(&["/w/out/a", "/bin/a"]), None);
    }
}
