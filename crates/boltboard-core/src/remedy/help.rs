//! What brings a need: packages, other copies, other needs that would do.

use std::collections::BTreeSet;
use std::path::Path;

use super::catalogue;
use super::distribution::Distribution;
use super::family::Family;
use crate::base::Version;
use crate::board::{Board, NeedCheck, NeedId, Provider};
use crate::checks::Package;
use crate::survey::{CopyRank, Fact, FactSource, FactState, Facts, Missing, Presence};

/// Tells whether a package is known for a need on some distribution, or none could bring it.
pub fn is_packaged(board: &Board, need: NeedId) -> bool {
    let known = |family: Family| !packages(board, &Facts::default(), need, family).is_empty();
    !board.needs[need].packages.is_empty() || !installable(board, need) || Family::ALL.into_iter().any(known)
}

/// Returns the lacking needs that can be brought to this host, or that a person only switched off.
pub fn obtainable(board: &Board, facts: &Facts) -> BTreeSet<NeedId> {
    let lacking = facts.iter().filter_map(|fact| match &fact.state {
        FactState::Missing(missing) => Some((fact.need, matches!(missing, Missing::SwitchedOff { .. }))),
        FactState::Found(_) | FactState::Bundled(_) => None,
    });
    let can = |need: NeedId| installable(board, need) || !board.needs[need].packages.is_empty();
    lacking.filter(|(need, switched_off)| *switched_off || can(*need)).map(|(need, _)| need).collect()
}

/// Tells whether a package could bring it: what only the compiler or the target decides, none can.
pub(super) fn installable(board: &Board, need: NeedId) -> bool {
    match &board.needs[need].check {
        NeedCheck::AnyOf(members) | NeedCheck::AllOf(members) => {
            members.iter().any(|member| installable(board, *member))
        }
        NeedCheck::Host(check) => check.can_be_packaged(),
    }
}

/// Returns the packages that bring a need: those that the board names, else those of the catalogue. For one of several, those of
/// the first that has any; for all of several, those of the missing ones.
pub fn packages(board: &Board, facts: &Facts, need: NeedId, family: Family) -> Vec<Package> {
    let definition = &board.needs[need];
    if let Some(named) = definition.packages.get(family.key()) {
        return named.clone();
    }
    match &definition.check {
        NeedCheck::Host(check) => catalogue::package(check, family).into_iter().collect(),
        NeedCheck::AnyOf(members) => {
            let each = members.iter().map(|member| packages(board, facts, *member, family));
            each.into_iter().find(|list| !list.is_empty()).unwrap_or_default()
        }
        NeedCheck::AllOf(members) => {
            let missing = members.iter().filter(|member| !facts.has(**member));
            missing.flat_map(|member| packages(board, facts, *member, family)).collect()
        }
    }
}

/// Returns the packages whose installation would meet a need, as far as is known: none for what is there and does not fit, for what a
/// person does not want or only supposes to be away, and where another copy is found first anyway; nor one that is installed.
pub fn helpful_packages(board: &Board, facts: &Facts, need: NeedId, here: &Distribution) -> Vec<Package> {
    let (Some(fact), Some(family)) = (facts.get(need), here.family) else { return Vec::new() };
    let each = |members: &[NeedId]| -> Vec<Vec<Package>> {
        let missing = members.iter().filter(|member| !facts.has(**member));
        missing.map(|member| helpful_packages(board, facts, *member, here)).collect()
    };
    match (&fact.state, fact.source) {
        (FactState::Found(_) | FactState::Bundled(_), _) | (_, FactSource::Assumed) => Vec::new(),
        (FactState::Missing(missing), _) => match missing {
            Missing::WrongVersion { .. } | Missing::NotAsked => Vec::new(),
            Missing::SwitchedOff { there: Presence::There(_) } => Vec::new(),
            Missing::Unusable { .. } if first_copy_aside(fact).is_some() => Vec::new(),
            Missing::Others { .. } if board.needs[need].packages.is_empty() => match &board.needs[need].check {
                NeedCheck::AnyOf(members) => {
                    each(members).into_iter().find(|packages| !packages.is_empty()).unwrap_or_default()
                }
                NeedCheck::AllOf(members) => each(members).concat(),
                NeedCheck::Host(_) => Vec::new(),
            },
            Missing::Absent | Missing::Unusable { .. } | Missing::SwitchedOff { .. } | Missing::Others { .. } => {
                packages(board, facts, need, family).into_iter().filter(|package| !here.has(package)).collect()
            }
        },
    }
}

/// Returns the copy in use where it lies outside of what packages install, so that theirs would come after it.
pub fn first_copy_aside(fact: &Fact) -> Option<&Path> {
    let first = fact.copies.iter().find(|copy| copy.rank == CopyRank::InUse)?;
    let by_packages = ["/usr", "/lib", "/lib64", "/bin", "/sbin"].iter().any(|root| first.place.starts_with(root));
    let aside = !by_packages || first.place.starts_with("/usr/local");
    aside.then_some(first.place.as_path())
}

/// Returns providers other than the one in use that would meet a need.
pub fn providers(board: &Board, facts: &Facts, fact: &Fact) -> Vec<Provider> {
    let definition = &board.needs[fact.need];
    let mut list = Vec::new();
    if let FactState::Missing(Missing::SwitchedOff { there: Presence::There(_) }) = fact.state {
        list.push(Provider::System);
    }
    if definition.bundled.is_some() {
        list.push(Provider::Bundled);
    }
    if let NeedCheck::AnyOf(members) = &definition.check {
        list.extend(members.iter().filter(|member| facts.has(**member)).map(|member| Provider::Need(*member)));
    }
    for copy in fact.copies.iter().filter(|copy| copy.rank != CopyRank::InUse) {
        let fits = match (&definition.version, &copy.version) {
            (None, _) => true,
            (Some(range), Some(version)) => range.holds(&Version::new(version)),
            (Some(_), None) => false,
        };
        let below =
            |part: &str| copy.place.ancestors().find(|folder| folder.file_name().is_some_and(|name| name == part));
        let folder = below("lib").or_else(|| below("lib64")).or_else(|| below("include")).or_else(|| below("bin"));
        if let Some(folder) = folder.and_then(Path::parent).filter(|_| fits) {
            list.push(Provider::Folder(folder.to_path_buf()));
        }
    }
    list
}

/// Returns the one command that installs packages, `None` when there is nothing to install or the distribution is not known.
pub fn install_command(here: &Distribution, packages: &[Package], as_root: bool) -> Option<String> {
    let family = here.family?;
    let sorted: BTreeSet<&Package> = packages.iter().collect();
    if sorted.is_empty() {
        return None;
    }
    let mut words: Vec<&str> = if as_root { vec![] } else { vec!["sudo"] };
    words.extend(family.install_words());
    words.extend(sorted.iter().map(|package| package.as_str()));
    Some(words.join(" "))
}
