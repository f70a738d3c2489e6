//! Reading needs.

mod checks;
mod sort;

use std::collections::BTreeMap;

use super::entry::{Entry, machine};
use super::fields::Fields;
use super::keys::{Key, Shape, key};
use super::lookup::Names;
use super::problem::Fault;
use crate::base::VersionRange;
use crate::board::{Importance, NeedCheck, NeedDef, NeedId};
use crate::checks::Package;
use checks::{CHECKS, Tells, host_check};
use sort::{Sort, checked};

pub(crate) use checks::version_regex;

/// The distributions that packages can be named for.
pub const DISTRIBUTIONS: [&str; 5] = ["debian", "fedora", "opensuse", "arch", "alpine"];

/// What a need says of itself, whatever it looks for.
const OWN: [Key; 12] = [
    key("summary", Shape::Text, "what it is for"),
    key("for", Shape::Word(&["target", "host"]), "the machine that is asked"),
    key("required", Shape::Flag, "nothing can be built without it"),
    key("bundled", Shape::Text, "the part that is built when the host has none"),
    key(
        "packages",
        Shape::Named,
        "packages that bring it, by distribution: `debian`, `fedora`, `opensuse`, `arch`, `alpine`",
    ),
    key("version", Shape::Text, "the versions that fit, as in `>= 3.20, < 4, != 3.22`"),
    key("any-of", Shape::Texts, "needs of which the first that is met counts"),
    key("all-of", Shape::Texts, "needs that must all be met"),
    key("static", Shape::Flag, "link the library into programs"),
    key("language", Shape::Word(&["c", "c++"]), "which compiler is asked"),
    key("define", Shape::Texts, "macros before the headers"),
    key("accept", Shape::Named, "findings of `lint` that are known"),
];

/// All keys of a need.
pub(super) const KEYS: &[Key] = &{
    let mut keys = [OWN[0]; OWN.len() + CHECKS.len() + checks::MORE.len()];
    let mut at = 0;
    while at < keys.len() {
        keys[at] = if at < OWN.len() {
            OWN[at]
        } else if at < OWN.len() + CHECKS.len() {
            CHECKS[at - OWN.len()].key
        } else {
            checks::MORE[at - OWN.len() - CHECKS.len()]
        };
        at += 1;
    }
    keys
};

/// Reads a need.
pub(super) fn need(entry: &Entry<'_>, names: &Names) -> NeedDef {
    let fields = entry.fields("need");
    fields.get("accept");
    let any_of = members(&fields, names, "any-of");
    let all_of = members(&fields, names, "all-of");
    let version = version_range(&fields, "version");
    let (host, given) = host_check(&fields);
    let wrong = |text: String| fields.problem(fields.place, Fault::Combination(text));
    let ways = [!given.is_empty(), any_of.is_some(), all_of.is_some()].into_iter().filter(|way| *way).count();
    if ways == 0 {
        wrong(format!(
            "{} says nothing to look for: give `library`, `header`, `link`, `function`, `tool` or another check",
            fields.context
        ));
    } else if ways > 1 {
        wrong(
            "a need is made of other needs or looks for things itself: give one of `any-of`, `all-of` and checks"
                .into(),
        );
    }
    if version.is_some() && !given.contains(&Tells::Version) {
        let told_by = CHECKS.iter().filter(|check| check.tells == Tells::Version);
        let told_by: Vec<String> = told_by.map(|check| format!("`{}`", check.key.name)).collect();
        let (last, others) = told_by.split_last().expect("some checks tell a version");
        wrong(format!("nothing here has a version: give {} or {last} too", others.join(", ")));
    }
    let check = match (any_of, all_of) {
        (Some(members), _) => NeedCheck::AnyOf(members),
        (None, Some(members)) => NeedCheck::AllOf(members),
        (None, None) => NeedCheck::Host(Box::new(host)),
    };
    let need = NeedDef {
        name: entry.name.text.clone(),
        summary: fields.text_or_empty("summary"),
        machine: machine(&fields),
        check,
        version,
        packages: packages(&fields),
        bundled: fields.text("bundled").and_then(|text| names.parts.find(&text, fields.log())),
        importance: if fields.flag("required") { Importance::Required } else { Importance::Optional },
        place: entry.name.place,
    };
    fields.finish();
    need
}

fn members(fields: &Fields<'_>, names: &Names, key: &'static str) -> Option<Vec<NeedId>> {
    fields.get(key)?;
    Some(fields.texts(key).iter().filter_map(|text| names.needs.find(text, fields.log())).collect())
}

fn version_range(fields: &Fields<'_>, key: &'static str) -> Option<VersionRange> {
    let text = fields.text(key)?;
    match text.text.parse::<VersionRange>() {
        Ok(range) => Some(range),
        Err(fault) => {
            fields.problem(text.place, Fault::Combination(fault.to_string()));
            None
        }
    }
}

fn packages(fields: &Fields<'_>) -> BTreeMap<String, Vec<Package>> {
    let Some(found) = fields.get("packages") else { return BTreeMap::new() };
    let Some(sub) = fields.sub(&found, "packages") else {
        fields.wrong_type(&found, "a table such as { debian = \"…\", fedora = \"…\" }");
        return BTreeMap::new();
    };
    let mut packages = BTreeMap::new();
    for distribution in DISTRIBUTIONS {
        if let Some(name) = checked(&sub, sub.text(distribution), &Sort::Packages) {
            packages.insert(distribution.to_string(), Package::all_of(&name));
        }
    }
    sub.finish();
    packages
}
