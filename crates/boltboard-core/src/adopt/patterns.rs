//! Lists of sources become patterns where the build itself went by what lies in a folder, and short lists else.

use std::collections::{BTreeMap, BTreeSet, HashSet};

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
            if wanted.len() > 1 && others.is_empty() {
                patterns.add.push(format!("{before}*{ending}"));
                continue;
            }
            let covering = cover(&wanted, &others, &ending);
            let except = cover(&others, &wanted, &ending);
            let whole_is_shorter = wanted.len() > 2 && 1 + except.len() < covering.len();
            let meant = listed(&folder) || (1 + except.len()) * 3 <= covering.len();
            if whole_is_shorter && meant {
                patterns.add.push(format!("{before}*{ending}"));
                patterns.except.extend(except.into_iter().map(|name| format!("{before}{name}")));
            } else {
                patterns.add.extend(covering.into_iter().map(|name| format!("{before}{name}")));
            }
        }
        patterns
    }
}

/// The beginnings (with no end) and ends (with no beginning) of a name that are long enough for a pattern.
fn ways_to_take(stem: &str) -> impl Iterator<Item = (&str, &str)> {
    let places = || stem.char_indices().map(|(at, _)| at).chain([stem.len()]);
    let begins = places().filter(|at| *at >= LETTERS).map(|at| (&stem[..at], ""));
    let ends = places().filter(|at| stem.len() - at >= LETTERS).map(|at| ("", &stem[at..]));
    begins.chain(ends)
}

/// Few patterns `BEGIN*` or `*END` that take all that is wanted and nothing else; what none takes stands for itself.
///
/// The one that takes the most comes first, and of those the one with the most letters.
fn cover(wanted: &BTreeSet<String>, others: &BTreeSet<String>, ending: &str) -> Vec<String> {
    fn stems<'n>(names: &'n BTreeSet<String>, ending: &str) -> Vec<&'n str> {
        names.iter().map(|name| &name[..name.len() - ending.len()]).collect()
    }
    let of_others: HashSet<(&str, &str)> = stems(others, ending).into_iter().flat_map(ways_to_take).collect();
    let mut left = stems(wanted, ending);
    let mut patterns = Vec::new();
    loop {
        let mut taken: BTreeMap<(&str, &str), usize> = BTreeMap::new();
        for way in left.iter().flat_map(|stem| ways_to_take(stem)).filter(|way| !of_others.contains(way)) {
            *taken.entry(way).or_default() += 1;
        }
        let worth = taken.into_iter().filter(|(_, count)| *count >= FILES);
        // Of equals the first.
        let best = worth.rev().max_by_key(|((begin, end), count)| (*count, begin.len() + end.len()));
        let Some(((begin, end), _)) = best else { break };
        left.retain(|stem| !(stem.starts_with(begin) && stem.ends_with(end)));
        patterns.push(format!("{begin}*{end}{ending}"));
    }
    patterns.sort();
    patterns.extend(left.into_iter().map(|stem| format!("{stem}{ending}")));
    patterns
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

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

    /// The same by trying each beginning and end on each name.
    fn tried(wanted: &BTreeSet<String>, others: &BTreeSet<String>) -> Vec<String> {
        let mut left = wanted.clone();
        let mut patterns = Vec::new();
        loop {
            let ways: BTreeSet<(String, String)> = left
                .iter()
                .flat_map(|name| (LETTERS..=name.len()).map(move |at| (name, at)))
                .flat_map(|(name, at)| {
                    [(name[..at].to_string(), String::new()), (String::new(), name[name.len() - at..].to_string())]
                })
                .collect();
            let takes = |(begin, end): &(String, String), name: &String| name.starts_with(begin) && name.ends_with(end);
            let mut best: Option<((usize, usize), (String, String))> = None;
            for way in ways {
                let count = left.iter().filter(|name| takes(&way, name)).count();
                let score = (count, way.0.len() + way.1.len());
                let is_better = best.as_ref().is_none_or(|(known, _)| score > *known);
                if count >= FILES && is_better && !others.iter().any(|name| takes(&way, name)) {
                    best = Some((score, way));
                }
            }
            let Some((_, way)) = best else { break };
            left.retain(|name| !takes(&way, name));
            patterns.push(format!("{}*{}", way.0, way.1));
        }
        patterns.sort();
        patterns.into_iter().chain(left).collect()
    }

    proptest! {
        #[test]
        fn patterns_are_those_of_trying_all(
            wanted in prop::collection::btree_set("[ab]{1,6}", 0..16),
            others in prop::collection::btree_set("[ab]{1,6}", 0..6),
        ) {
            let others: BTreeSet<String> = others.difference(&wanted).cloned().collect();
            prop_assert_eq!(cover(&wanted, &others, ""), tried(&wanted, &others));
        }
    }
}
