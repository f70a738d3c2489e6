//! Macros that look like options, and of which a person says that they are: options that are off, so that nothing is built otherwise.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use super::hints::{Effect, Hint};
use super::model::Model;
use super::names::free_name;
use super::needs::plain_name;
use super::story::Story;
use super::toml::{comment, key, quoted};

/// So many families are asked about.
const FAMILIES: usize = 5;
/// What is less likely an option is not asked about; `adopt hints` shows it all the same.
const LIKELY: i64 = 25;

/// Returns the families of macros that are likely options, with their macros, the likeliest first.
pub fn families_to_ask(hints: &[Hint]) -> Vec<(String, Vec<String>)> {
    let mut order: Vec<String> = Vec::new();
    let mut families: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for hint in hints.iter().filter(|hint| hint.score() >= LIKELY && is_open(hint)) {
        let Some(family) = &hint.family else { continue };
        if !order.contains(family) {
            order.push(family.clone());
        }
        families.entry(family.clone()).or_default().push(hint.name.clone());
    }
    let named = order.into_iter().take(FAMILIES);
    named.filter_map(|family| families.remove(&family).map(|names| (family, names))).collect()
}

/// A macro that the build gave is there already.
fn is_open(hint: &Hint) -> bool {
    !hint.effects.contains(&Effect::Given)
}

/// The options for the macros of these families, and for these macros, each as its name and its text; and the names of which none was found.
pub(super) fn hinted_options(
    hints: &[Hint],
    wanted: &[String],
    story: &Story<'_>,
    model: &Model,
    apart: &dyn Fn(&str) -> bool,
) -> (Vec<String>, Vec<String>) {
    let mut parts_of: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for part in model.parts.iter().filter(|part| apart(&part.name)) {
        for source in &part.sources {
            parts_of.entry(source.object.path.as_str()).or_default().insert(&part.name);
        }
    }
    let mut taken: BTreeSet<String> = BTreeSet::new();
    let mut texts = Vec::new();
    let mut found: BTreeSet<&String> = BTreeSet::new();
    for hint in hints.iter().filter(|hint| is_open(hint)) {
        let of = wanted.iter().find(|name| **name == hint.name || Some(*name) == hint.family.as_ref());
        let Some(of) = of else { continue };
        found.insert(of);
        let objects = hint.reads.iter().filter_map(|at| story.compiles.get(*at)).map(|compile| compile.object.as_str());
        let parts: BTreeSet<&str> = objects.filter_map(|object| parts_of.get(object)).flatten().copied().collect();
        if parts.is_empty() {
            continue;
        }
        let name = free_name(plain_name(&hint.name.to_lowercase().replace('_', "-")), &mut taken);
        let mut text = String::new();
        let (file, line) = &hint.first;
        let tested = if hint.files == 1 { String::new() } else { format!(" and {} more", hint.files - 1) };
        comment(&mut text, &format!("looks like an option: {} is tested in {file}:{line}{tested}", hint.name));
        for effect in &hint.effects {
            if let Effect::Includes { headers, package } = effect {
                let brings = package.as_ref().map_or(String::new(), |package| format!(" (of {package})"));
                comment(&mut text, &format!("with it, <{}>{brings} is included", headers.join(">, <")));
            }
        }
        let _ = writeln!(text, "[option.{name}]");
        key(&mut text, "kind", "\"switch\"");
        key(&mut text, "summary", &quoted(&format!("{}, as the sources test it", hint.name)));
        let parts: Vec<String> = parts.into_iter().map(quoted).collect();
        key(&mut text, "macro", &format!("{{ name = {}, parts = [{}] }}", quoted(&hint.name), parts.join(", ")));
        texts.push(text);
    }
    let missing = wanted.iter().filter(|name| !found.contains(name)).cloned().collect();
    (texts, missing)
}
