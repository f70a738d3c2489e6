//! What parts, sets and the tree are called, and what the build called its compilers.

use std::collections::{BTreeMap, BTreeSet};

use super::made::Made;
use super::needs::plain_name;
use super::paths::{base_name, folder_name};
use super::questions::NamesAnswer;
use super::story::{JoinKind, Story};
use super::words::Word;

/// Returns a name that nothing has yet.
pub(super) fn free_name(name: String, taken: &mut BTreeSet<String>) -> String {
    let mut free = name.clone();
    let mut number = 2;
    while !taken.insert(free.clone()) {
        free = format!("{name}-{number}");
        number += 1;
    }
    free
}

/// Parts of one kind whose files have one name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NameClash {
    /// The name that each of them would have.
    pub name: String,
    /// Their files, as paths of the tree.
    pub files: Vec<String>,
}

/// What parts are called.
pub(super) struct PartNames {
    /// The name of each join.
    pub names: Vec<String>,
    /// The names that several of them would have.
    pub clashes: Vec<NameClash>,
}

pub(super) fn part_names(story: &Story<'_>, made: &Made, answer: Option<&NamesAnswer>) -> PartNames {
    let mut taken: BTreeSet<String> = made.generated.iter().map(|part| part.name.clone()).collect();
    let mut names = vec![String::new(); story.joins.len()];
    let wanted: Vec<String> = (0..names.len()).map(|at| wanted_name(story, at)).collect();
    let place = |at: usize| {
        let last = story.last_name(&story.joins[at].output);
        story.in_tree(&last).unwrap_or(&last).to_string()
    };
    let mut alike: BTreeMap<(JoinKind, &str), Vec<usize>> = BTreeMap::new();
    wanted.iter().enumerate().for_each(|(at, name)| alike.entry((story.joins[at].kind, name)).or_default().push(at));
    alike.retain(|_, joins| joins.len() > 1);
    let clashing: BTreeSet<usize> = alike.values().flatten().copied().collect();
    let with_folder = |at: usize| match answer {
        Some(NamesAnswer::Folders) => clashing.contains(&at),
        Some(NamesAnswer::Kept(files)) => {
            let others = alike.get(&(story.joins[at].kind, wanted[at].as_str()));
            let is_kept = |at: &usize| files.contains(&place(*at));
            others.is_some_and(|others| others.iter().any(is_kept)) && !is_kept(&at)
        }
        Some(NamesAnswer::Numbered) | None => false,
    };
    let mut order: Vec<usize> = (0..names.len()).collect();
    // Programs keep their names; a library of the same name gives way.
    order.sort_by_key(|at| {
        let kind = story.joins[*at].kind;
        (kind != JoinKind::Program, kind == JoinKind::Archive, with_folder(*at), *at)
    });
    for at in order {
        let mut name = wanted[at].clone();
        if with_folder(at) {
            let place = place(at);
            let folder = base_name(folder_name(&place));
            let folder = if folder.is_empty() { tree_name(story) } else { plain_name(folder) };
            name = format!("{folder}-{name}");
        }
        let again = match story.joins[at].kind {
            JoinKind::Archive | JoinKind::Shared if taken.contains(&name) && !taken.contains(&format!("lib{name}")) => {
                format!("lib{name}")
            }
            JoinKind::Archive if taken.contains(&name) => format!("{name}-static"),
            _ => name,
        };
        names[at] = free_name(again, &mut taken);
    }
    let clash = |((_, name), joins): (&(JoinKind, &str), &Vec<usize>)| NameClash {
        name: (*name).to_string(),
        files: joins.iter().map(|at| place(*at)).collect(),
    };
    let clashes = alike.iter().map(clash).collect();
    PartNames { names, clashes }
}

/// The name that a part would have if it were the only one.
fn wanted_name(story: &Story<'_>, at: usize) -> String {
    let last = story.last_name(&story.joins[at].output);
    let file = base_name(&last);
    let stem = match story.joins[at].kind {
        JoinKind::Program => file,
        JoinKind::Archive => file.trim_end_matches(".a"),
        JoinKind::Partial => file.trim_end_matches(".o"),
        JoinKind::Shared => file.split(".so").next().unwrap_or(file),
    };
    let short = stem.strip_prefix("lib").filter(|short| !short.is_empty()).unwrap_or(stem);
    if story.joins[at].kind == JoinKind::Program { plain_name(stem) } else { plain_name(short) }
}

/// A set of objects is called by what its users' names have in common, or by its folder.
pub(super) fn set_name(story: &Story<'_>, users: &[&str], objects: &[usize]) -> String {
    let first = users.first().copied().unwrap_or_default();
    let alike = (0..=first.len())
        .rev()
        .find(|end| first.is_char_boundary(*end) && users.iter().all(|user| user.starts_with(&first[..*end])));
    let begin = first[..alike.unwrap_or(0)].trim_end_matches('-');
    if begin.len() > 2 {
        return format!("{begin}-objects");
    }
    let folders: BTreeSet<&str> = objects.iter().map(|at| folder_name(&story.compiles[*at].source)).collect();
    let folder = folders.iter().next().filter(|_| folders.len() == 1).and_then(|folder| story.in_tree(folder));
    let word = folder.map_or("shared", |folder| base_name(folder));
    format!("{}-objects", plain_name(word))
}

pub(super) fn tree_name(story: &Story<'_>) -> String {
    plain_name(base_name(&story.tree))
}

/// The version that a macro tells.
pub(super) fn version(story: &Story<'_>) -> Option<String> {
    let texts = story.compiles.iter().flat_map(|compile| &compile.run.words).filter_map(|word| match word {
        Word::Define(text) => text.split_once('='),
        _ => None,
    });
    let plain = |value: &str| value.trim_matches(['"', '\\']).to_string();
    let mut found = texts.filter(|(name, _)| *name == "VERSION" || name.ends_with("_VERSION")).map(|(_, v)| plain(v));
    found.find(|value| value.starts_with(|c: char| c.is_ascii_digit()) && value.contains('.'))
}

/// The compilers of C and C++ that most compiles were called with.
pub(super) fn compilers(story: &Story<'_>) -> (String, String) {
    let most = |of_cxx: bool| {
        let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
        for compile in story.compiles.iter().filter(|compile| compile.compiler.contains("++") == of_cxx) {
            *counts.entry(&compile.compiler).or_default() += 1;
        }
        counts
            .into_iter()
            .max_by_key(|(name, count)| (*count, std::cmp::Reverse(*name)))
            .map(|(name, _)| name.to_string())
    };
    (most(false).unwrap_or_else(|| "cc".into()), most(true).unwrap_or_else(|| "c++".into()))
}
