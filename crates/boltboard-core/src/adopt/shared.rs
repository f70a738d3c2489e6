//! What several parts say alike is written once: sets of flags, and one definition for each file of a pattern.

use std::collections::{BTreeMap, BTreeSet};

use super::model::{DrawnPart, PartForm};
use super::names::free_name;
use super::needs::plain_name;
use super::paths::{folder_name, stem_and_ending};

/// What a part says for all of its sources.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Own {
    pub include: Vec<String>,
    pub flags: Vec<Vec<String>>,
    pub defines: Vec<String>,
}

impl Own {
    fn weight(&self) -> usize {
        self.include.len() + self.flags.len() + self.defines.len()
    }
}

/// A set is worth its lines when it holds so much, for so many parts.
const WEIGHT: usize = 3;
/// So many programs are written as one for each file.
const ALIKE: usize = 3;

/// Returns the sets that are worth it, with their names.
pub(super) fn sets(parts: &[DrawnPart], own: &[Own]) -> BTreeMap<Own, String> {
    let mut users: BTreeMap<&Own, Vec<&DrawnPart>> = BTreeMap::new();
    for (part, own) in parts.iter().zip(own) {
        users.entry(own).or_default().push(part);
    }
    let mut taken = BTreeSet::new();
    let worth = |(own, users): &(&Own, Vec<&DrawnPart>)| own.weight() >= WEIGHT && users.len() > 1;
    users
        .into_iter()
        .filter(worth)
        .map(|(own, users)| (own.clone(), free_name(folder_of(&users), &mut taken)))
        .collect()
}

/// The folder that most sources of some parts lie in, as a name.
fn folder_of(parts: &[&DrawnPart]) -> String {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for source in parts.iter().flat_map(|part| &part.sources) {
        let folder = folder_name(&source.path);
        *counts.entry(folder).or_default() += 1;
    }
    let most = counts.into_iter().max_by_key(|(folder, count)| (*count, std::cmp::Reverse(*folder)));
    most.map(|(folder, _)| folder).filter(|folder| !folder.is_empty()).map_or("common".into(), plain_name)
}

/// How a part is installed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Installed {
    Not,
    /// Under its own name, in this folder.
    In(String),
    Otherwise,
}

/// Programs of one source each that differ in nothing but that.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Alike {
    pub name: String,
    /// The first of them stands for all.
    pub parts: Vec<usize>,
    /// What any of them uses.
    pub uses: Vec<String>,
    /// Whether their files keep the sources' own names.
    pub named_as_source: bool,
}

/// Finds such programs. A generated file that only some of them read may be there for all.
/// `installed` are the folders that parts are installed in; one that is installed otherwise stands by itself.
pub(super) fn alike(
    parts: &[DrawnPart],
    own: &[Own],
    generated: &BTreeSet<&str>,
    installed: &dyn Fn(&DrawnPart) -> Installed,
) -> Vec<Alike> {
    type Key<'p> = (&'p Own, Vec<&'p String>, Vec<&'p String>, &'p Vec<String>, &'p Vec<String>, bool, bool, Installed);
    let mut groups: BTreeMap<Key<'_>, Vec<usize>> = BTreeMap::new();
    for (at, (part, own)) in parts.iter().zip(own).enumerate() {
        let [source] = part.sources.as_slice() else { continue };
        let stem = stem_and_ending(&source.path).0;
        let of_source = part.output.as_deref() == Some(&format!("bin/{stem}"));
        let plain = part.name == stem.replace(['_', '.'], "-") && (part.output.is_none() || of_source);
        let installed = installed(part);
        if part.form != PartForm::Program || source.generated || !plain || installed == Installed::Otherwise {
            continue;
        }
        let uses = part.uses.iter().filter(|used| !generated.contains(used.as_str())).collect();
        // A program whose name has no hyphen is called like its source in either case.
        let named = of_source || !part.name.contains('-');
        let words = part.link_flags.iter().collect();
        let key = (own, uses, words, &part.libraries, &part.needs, source.ways.anywhere, named, installed);
        groups.entry(key).or_default().push(at);
    }
    let mut taken: BTreeSet<String> = BTreeSet::new();
    let mut all: Vec<Alike> = Vec::new();
    for ((.., named_as_source, _), members) in groups.into_iter().filter(|(_, members)| members.len() >= ALIKE) {
        let mut uses: Vec<String> = Vec::new();
        for used in members.iter().flat_map(|at| &parts[*at].uses) {
            if !uses.contains(used) {
                uses.push(used.clone());
            }
        }
        let own: Vec<&DrawnPart> = members.iter().map(|at| &parts[*at]).collect();
        let name = free_name(name_of(&own), &mut taken);
        all.push(Alike { name, parts: members, uses, named_as_source });
    }
    all.sort_by_key(|alike| alike.parts[0]);
    all
}

/// What names of parts end in alike, or their folder.
fn name_of(parts: &[&DrawnPart]) -> String {
    let ends: BTreeSet<&str> = parts.iter().map(|part| part.name.rsplit_once('-').map_or("", |(_, end)| end)).collect();
    match ends.into_iter().collect::<Vec<_>>().as_slice() {
        [only] if !only.is_empty() && !only.starts_with(|c: char| c.is_ascii_digit()) => (*only).to_string(),
        _ => folder_of(parts),
    }
}
