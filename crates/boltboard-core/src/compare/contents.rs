//! What parts are made of on two sides: sources, and the flags of their compiles and links.

use std::collections::{BTreeMap, BTreeSet};

use crate::plan::Plan;
use crate::step::Step;

/// Words of commands that only one side has.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct FlagDifference {
    /// What the commands do, as in `compile`.
    pub verb: &'static str,
    /// Words of the left side's command alone, in its order.
    pub left: Vec<String>,
    /// Words of the right side's command alone.
    pub right: Vec<String>,
}

/// A part, by its name, whose contents are not the same on both sides.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PartContents {
    /// Its name.
    pub part: String,
    /// Sources that only the left side compiles for it.
    pub left_sources: Vec<String>,
    /// Sources that only the right side compiles for it.
    pub right_sources: Vec<String>,
    /// Flags that differ, each with how many commands it is so for.
    pub flags: Vec<(FlagDifference, usize)>,
}

/// What a part is made of on one side: sources, and the flags of each command by the name of its step.
#[derive(Default)]
struct Made<'a> {
    sources: BTreeSet<String>,
    steps: BTreeMap<&'a str, &'a Step>,
}

fn made(plan: &Plan) -> BTreeMap<&str, Made<'_>> {
    let mut parts: BTreeMap<&str, Made<'_>> = BTreeMap::new();
    for (_, step) in plan.steps.iter().filter(|(_, step)| step.part.is_some()) {
        let part = parts.entry(plan.owner(step)).or_default();
        part.sources.extend(step.source().map(ToString::to_string));
        part.steps.insert(&step.name, step);
    }
    parts
}

/// The words of a step's command that a person would call flags; the files that it reads are told as sources and parts.
fn flags(step: &Step) -> Vec<String> {
    let words = |words: &[crate::step::Word]| -> Vec<String> {
        words.iter().filter(|word| !word.is_place()).map(|word| word.neutral(&step.writes)).collect()
    };
    if let Some(compile) = step.compile() {
        let defines = compile.setting.defines.iter();
        let defines = defines.map(|(name, value)| match value {
            Some(value) => format!("-D{name}={value}"),
            None => format!("-D{name}"),
        });
        return words(&compile.setting.words).into_iter().chain(defines).collect();
    }
    step.link().map_or(Vec::new(), |link| words(&link.words))
}

/// What is in one list and not in the other, each word as often as it is there more often.
fn only_in(one: &[String], other: &[String]) -> Vec<String> {
    let mut left: BTreeMap<&str, usize> = BTreeMap::new();
    other.iter().for_each(|word| *left.entry(word).or_default() += 1);
    let spare = |word: &&String| match left.get_mut(word.as_str()) {
        Some(count) if *count > 0 => {
            *count -= 1;
            false
        }
        _ => true,
    };
    one.iter().filter(spare).cloned().collect()
}

/// Compares what the parts that both sides make are made of, in the order of their names. A part of one side only is not among them.
pub fn contents(left: &Plan, right: &Plan) -> Vec<PartContents> {
    let (left, right) = (made(left), made(right));
    let mut parts = Vec::new();
    for (part, one) in &left {
        let Some(other) = right.get(part) else { continue };
        let sources = |one: &Made<'_>, other: &Made<'_>| one.sources.difference(&other.sources).cloned().collect();
        let mut differing: BTreeMap<FlagDifference, usize> = BTreeMap::new();
        for (name, step) in &one.steps {
            let Some(same) = other.steps.get(name) else { continue };
            let (l, r) = (flags(step), flags(same));
            if l != r {
                let difference = FlagDifference { verb: step.verb(), left: only_in(&l, &r), right: only_in(&r, &l) };
                if !(difference.left.is_empty() && difference.right.is_empty()) {
                    *differing.entry(difference).or_default() += 1;
                }
            }
        }
        let contents = PartContents {
            part: (*part).to_string(),
            left_sources: sources(one, other),
            right_sources: sources(other, one),
            flags: differing.into_iter().collect(),
        };
        if !(contents.left_sources.is_empty() && contents.right_sources.is_empty() && contents.flags.is_empty()) {
            parts.push(contents);
        }
    }
    parts
}
