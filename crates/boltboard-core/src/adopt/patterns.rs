//! Lists of sources become patterns where the build itself went by what lies in a folder, and short lists else.

use std::collections::{BTreeMap, BTreeSet};

use super::paths::{base_name, folder_name};

/// The files of a tree, by folder and ending.
#[derive(Debug, Default)]
pub(super) struct Files {
    by_group: BTreeMap<(String, String), BTreeSet<String>>,
}

/// Patterns that stand for a list.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Patterns {
    pub add: Vec<String>,
    pub except: Vec<String>,
}

/// The fewest letters that a pattern's beginning or end has, so that no accident makes one.
const LETTERS: usize = 3;
/// The fewest files that a pattern stands for.
const FILES: usize = 3;

fn group_of(path: &str) -> (String, String) {
    let name = base_name(path);
    let ending = name.rfind('.').map_or("", |at| &name[at..]);
    (folder_name(path).to_string(), ending.to_string())
}

/// Names of files, by folder and ending.
fn grouped<'p>(paths: impl Iterator<Item = &'p str>) -> BTreeMap<(String, String), BTreeSet<String>> {
    let mut groups: BTreeMap<(String, String), BTreeSet<String>> = BTreeMap::new();
    for path in paths {
        groups.entry(group_of(path)).or_default().insert(base_name(path).to_string());
    }
    groups
}

impl Files {
    /// Takes in paths below the root.
    pub fn of<'p>(paths: impl Iterator<Item = &'p str>) -> Files {
        Files { by_group: grouped(paths) }
    }

    /// Returns patterns that take exactly these files, and no whole folder less some: others of it may come to count.
    pub fn patterns_only(&self, paths: &BTreeSet<String>) -> Vec<String> {
        let mut patterns = Vec::new();
        for (group, wanted) in grouped(paths.iter().map(String::as_str)) {
            let all = self.by_group.get(&group).cloned().unwrap_or_default();
            let others: BTreeSet<String> = all.difference(&wanted).cloned().collect();
            let (folder, ending) = group;
            let before = if folder.is_empty() { String::new() } else { format!("{folder}/") };
            patterns.extend(cover(&wanted, &others, &ending).into_iter().map(|name| format!("{before}{name}")));
        }
        patterns
    }

    /// Tells whether files lie right in a folder.
    pub fn has_folder(&self, folder: &str) -> bool {
        self.by_group.keys().any(|(known, _)| known == folder)
    }

    /// Returns patterns that take exactly these files. `listed` tells whether the build read the names in a folder.
    pub fn patterns(&self, paths: &BTreeSet<String>, listed: &dyn Fn(&str) -> bool) -> Patterns {
        let mut patterns = Patterns::default();
        for (group, wanted) in grouped(paths.iter().map(String::as_str)) {
            let all = self.by_group.get(&group).cloned().unwrap_or_default();
            let (folder, ending) = group;
            let before = if folder.is_empty() { String::new() } else { format!("{folder}/") };
            let others: BTreeSet<String> = all.difference(&wanted).cloned().collect();
            let covering = cover(&wanted, &others, &ending);
            let except = cover(&others, &wanted, &ending);
            let whole_is_shorter = wanted.len() > 2 && 1 + except.len() < covering.len();
            let meant = listed(&folder) || (1 + except.len()) * 3 <= covering.len();
            if wanted.len() > 1 && others.is_empty() || whole_is_shorter && meant {
                patterns.add.push(format!("{before}*{ending}"));
                patterns.except.extend(except.into_iter().map(|name| format!("{before}{name}")));
            } else {
                patterns.add.extend(covering.into_iter().map(|name| format!("{before}{name}")));
            }
        }
        patterns
    }
}

/// Few patterns `BEGIN*` or `*END` that take all that is wanted and nothing else; what none takes stands for itself.
fn cover(wanted: &BTreeSet<String>, others: &BTreeSet<String>, ending: &str) -> Vec<String> {
    let stem = |name: &'_ str| name[..name.len() - ending.len()].to_string();
    let mut left: BTreeSet<String> = wanted.clone();
    let mut patterns = Vec::new();
    loop {
        let mut best: Option<(usize, usize, String, String)> = None;
        let mut tried: BTreeSet<(String, String)> = BTreeSet::new();
        for name in &left {
            let stem = stem(name);
            for (at, _) in stem.char_indices().skip(1) {
                if at >= LETTERS {
                    tried.insert((stem[..at].to_string(), String::new()));
                }
                if stem.len() - at >= LETTERS {
                    tried.insert((String::new(), stem[at..].to_string()));
                }
            }
        }
        for (begin, end) in tried {
            let takes = |name: &String| {
                let stem = stem(name);
                stem.starts_with(&begin) && stem.ends_with(&end)
            };
            let hits = left.iter().filter(|name| takes(name)).count();
            if hits < FILES || others.iter().any(takes) {
                continue;
            }
            let score = (hits, begin.len() + end.len());
            if best.as_ref().is_none_or(|(hits, letters, ..)| score > (*hits, *letters)) {
                best = Some((score.0, score.1, begin, end));
            }
        }
        let Some((_, _, begin, end)) = best else { break };
        left.retain(|name| !(stem(name).starts_with(&begin) && stem(name).ends_with(&end)));
        patterns.push(format!("{begin}*{end}{ending}"));
    }
    patterns.sort();
    patterns.extend(left);
    patterns
}

#[cfg(test)]
mod tests {
    use super::*;

    fn set(names: &[&str]) -> BTreeSet<String> {
        names.iter().map(ToString::to_string).collect()
    }

    #[test]
    fn a_whole_folder_is_one_pattern_and_a_few_files_are_a_list() {
        let all = ["a.c", "b.c", "lamp_on.c", "lamp_off.c", "lamp_dim.c", "src/x.c", "src/y.c", "src/y.h"];
        let files = Files::of(all.into_iter());
        let of = |paths: &[&str]| files.patterns(&set(paths), &|_| false);
        assert_eq!(of(&["src/x.c", "src/y.c"]).add, ["src/*.c"]);
        assert_eq!(of(&["a.c", "lamp_on.c", "lamp_off.c", "lamp_dim.c"]).add, ["lamp_*.c", "a.c"]);
        assert_eq!(of(&["a.c", "b.c"]).add, ["a.c", "b.c"]);
        assert_eq!(of(&["src/x.c"]).add, ["src/x.c"]);
    }

    #[test]
    fn exceptions_are_named_where_the_folder_was_listed() {
        let all = ["one.c", "two.c", "three.c", "four.c", "main.c"];
        let files = Files::of(all.into_iter());
        let found = files.patterns(&set(&["one.c", "two.c", "three.c", "four.c"]), &|_| true);
        assert_eq!((found.add, found.except), (vec!["*.c".to_string()], vec!["main.c".to_string()]));
        let found = files.patterns(&set(&["one.c", "two.c", "three.c"]), &|_| false);
        assert_eq!(found.add, ["one.c", "three.c", "two.c"]);
    }
}
