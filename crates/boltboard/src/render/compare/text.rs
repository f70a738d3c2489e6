//! A comparison in a terminal: causes first, then what follows from them, then parts and steps.

use std::collections::{HashMap, HashSet};

use boltboard_core::compare::CauseKind;
use clap::ValueEnum;

use super::{CauseTold, Comparison, PartMade, PartSide, StepsTold, ValueTold, contents};
use crate::fault::Next;
use crate::render::text::{Cell, Role, bytes, columns, count, duration, next_lines, paint, wrap};

/// How many steps of a kind are listed.
const LISTED: usize = 15;
/// How many moved options are named beside a cause.
pub(super) const NAMED: usize = 4;
/// How many values that follow are listed, unless a person asks for values alone.
const FOLLOWING: usize = 40;

/// What can be shown by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Topic {
    /// What lies behind the differences
    Causes,
    /// All values that differ
    Values,
    /// Parts that differ, with their sizes
    Parts,
    /// Sources and flags of parts
    Sources,
    /// Steps, and what a build would do
    Steps,
}

/// Draws it; only some topics where a person asks for these.
pub fn text(compared: &Comparison, only: &[Topic], width: usize) -> String {
    let wanted = |topic: Topic| only.is_empty() || only.contains(&topic);
    let mut text = String::new();
    if compared.values.is_empty() && compared.causes.is_empty() {
        text += &format!("{} give every option the same value.\n", list(&compared.sides, "and"));
    }
    if wanted(Topic::Causes) && !compared.causes.is_empty() {
        causes(compared, width, &mut text);
    }
    if wanted(Topic::Values) {
        values(compared, only.contains(&Topic::Values), width, &mut text);
    }
    if wanted(Topic::Parts) {
        changes(compared, &mut text);
        parts(compared, only.contains(&Topic::Parts), width, &mut text);
    }
    if wanted(Topic::Sources) {
        text += &contents::text(compared, only.contains(&Topic::Sources), width);
    }
    if wanted(Topic::Steps) {
        compared.steps.iter().for_each(|one| steps(compared, one, &mut text));
    }
    text.trim_start_matches('\n').to_string()
}

fn list(names: &[String], and: &str) -> String {
    match names {
        [] => String::new(),
        [one] => one.clone(),
        [others @ .., last] => format!("{} {and} {last}", others.join(", ")),
    }
}

pub(super) fn title(text: &str) -> String {
    format!("\n{}\n", paint(Role::Title, text))
}

fn head(compared: &Comparison) -> Vec<Cell> {
    let names = compared.sides.iter().map(|name| (Role::Faint, name.clone()));
    [(Role::Faint, String::new())].into_iter().chain(names).chain([(Role::Faint, String::new())]).collect()
}

fn causes(compared: &Comparison, width: usize, text: &mut String) {
    let differing = compared.values.len();
    let kinds = |kind: CauseKind| compared.causes.iter().filter(|cause| cause.kind == kind).count();
    let words = [
        (kinds(CauseKind::Choice) + kinds(CauseKind::Provider), "choice", "choices"),
        (kinds(CauseKind::Need), "need that only one host meets", "needs that only some hosts meet"),
        (kinds(CauseKind::Default), "changed default", "changed defaults"),
        (kinds(CauseKind::Presence), "option that only one version has", "options that only some versions have"),
        (kinds(CauseKind::Definition), "changed rule", "changed rules"),
    ];
    let words: Vec<String> =
        words.iter().filter(|(number, ..)| *number > 0).map(|(number, one, many)| count(*number, one, many)).collect();
    let options = count(differing, "option differs", "options differ");
    *text += &title(&format!("{options}, because of {}", list(&words, "and")));
    let valued = compared.values.iter().filter(|value| !is_only_effect(value));
    let valued: HashSet<&str> = valued.map(|value| value.option.as_str()).collect();
    let mut rows = vec![head(compared)];
    for cause in &compared.causes {
        let mut row = vec![(Role::Name, cause.shown_name())];
        row.extend(cause.sides.iter().map(|said| {
            let role = if said.is_some() { Role::Value } else { Role::Faint };
            (role, said.clone().unwrap_or_else(|| "-".into()))
        }));
        row.push((Role::Faint, beside(cause, &valued)));
        rows.push(row);
    }
    *text += &columns(&rows, 2, width);
}

/// Where a cause is said, and what it moves.
fn beside(cause: &CauseTold, valued: &HashSet<&str>) -> String {
    let mut said: Vec<String> = Vec::new();
    for one in cause.said.iter().flatten() {
        if !said.contains(one) {
            said.push(one.clone());
        }
    }
    let mut words = said.join("; ");
    let moved: Vec<&str> = cause.moves.iter().map(String::as_str).filter(|name| valued.contains(name)).collect();
    if !moved.is_empty() {
        let named = &moved[..moved.len().min(NAMED)];
        let more = moved.len() - named.len();
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let begin = if words.is_empty() { "" } else { "; " };
        words += &format!("{begin}moves {}{more}", named.join(", "));
    }
    words
}

/// Whether the value is the same everywhere and only its effect differs.
fn is_only_effect(value: &ValueTold) -> bool {
    let values: Vec<Option<&str>> =
        value.sides.iter().map(|side| side.as_ref().map(|side| side.value.as_str())).collect();
    values.windows(2).all(|pair| pair[0] == pair[1])
}

fn values(compared: &Comparison, all: bool, width: usize, text: &mut String) {
    let places: HashMap<&str, usize> =
        compared.causes.iter().enumerate().rev().map(|(at, cause)| (cause.name.as_str(), at)).collect();
    let own = compared.causes.iter().filter(|cause| !cause.kind.is_of_need());
    let own: HashSet<&str> = own.map(|cause| cause.name.as_str()).collect();
    let is_cause = |value: &ValueTold| own.contains(value.option.as_str());
    let (effects, valued): (Vec<_>, Vec<_>) = compared.values.iter().partition(|value| is_only_effect(value));
    let follow: Vec<&&ValueTold> = valued.iter().filter(|value| all || !is_cause(value)).collect();
    if !follow.is_empty() {
        *text += &title(if all { "Values that differ" } else { "What follows from that" });
        let mut rows = vec![head(compared)];
        let shown = if all { follow.len() } else { follow.len().min(FOLLOWING) };
        let mut ordered = follow;
        let first = |value: &ValueTold| value.causes.iter().filter_map(|name| places.get(name.as_str())).min().copied();
        if !all {
            ordered.sort_by_key(|value| first(value));
        }
        for value in ordered.iter().take(shown) {
            let mut row = vec![(Role::Name, value.option.clone())];
            row.extend(value.sides.iter().map(|side| match side {
                Some(side) if side.applies => (Role::Value, side.value.clone()),
                Some(side) => (Role::Faint, format!("{} (no effect)", side.value)),
                None => (Role::Faint, "no such option".into()),
            }));
            let causes: Vec<&str> =
                value.causes.iter().map(String::as_str).filter(|name| *name != value.option).collect();
            let because = if causes.is_empty() { String::new() } else { format!("because of {}", causes.join(", ")) };
            row.push((Role::Faint, because));
            rows.push(row);
        }
        *text += &columns(&rows, 2, width);
        if ordered.len() > shown {
            *text += &format!("  and {} more\n", ordered.len() - shown);
            *text += &next_lines(&[Next::new(again(compared, "--only values"), "all of them")], 2);
        }
    }
    no_effect(compared, &effects, width, text);
}

/// The command that shows the same in another way.
fn again(compared: &Comparison, how: &str) -> String {
    format!("{} {how}", compared.again)
}

/// Options with the same value that has an effect on some sides only, in a line for each set of such sides.
fn no_effect(compared: &Comparison, effects: &[&ValueTold], width: usize, text: &mut String) {
    let mut by_sides: Vec<(Vec<String>, Vec<&str>)> = Vec::new();
    for value in effects {
        let without = |(side, name): (&Option<super::ValueSide>, &String)| {
            side.as_ref().filter(|side| !side.applies).map(|_| name.clone())
        };
        let sides: Vec<String> = value.sides.iter().zip(&compared.sides).filter_map(without).collect();
        match by_sides.iter_mut().find(|(known, _)| *known == sides) {
            Some((_, names)) => names.push(&value.option),
            None => by_sides.push((sides, vec![&value.option])),
        }
    }
    for (sides, names) in by_sides {
        let line = format!("no effect in {}: {}", list(&sides, "and"), names.join(", "));
        for line in wrap(&line, width.saturating_sub(4)) {
            *text += &format!("  {}\n", paint(Role::Faint, &line));
        }
    }
}

fn changes(compared: &Comparison, text: &mut String) {
    let mut told: Vec<(Vec<String>, Vec<&str>)> = Vec::new();
    for change in &compared.changes {
        let carry: Vec<String> =
            compared.sides.iter().zip(&change.sides).filter(|(_, has)| **has).map(|(name, _)| name.clone()).collect();
        match told.iter_mut().find(|(sides, _)| *sides == carry) {
            Some((_, names)) => names.push(&change.name),
            None => told.push((carry, vec![&change.name])),
        }
    }
    for (sides, names) in told {
        let verb = if sides.len() == 1 { "carries" } else { "carry" };
        *text += &format!("\nOnly {} {verb} changes to the sources: {}\n", list(&sides, "and"), names.join(", "));
    }
}

fn parts(compared: &Comparison, all: bool, width: usize, text: &mut String) {
    if compared.parts.is_empty() {
        return;
    }
    // Those that are not made everywhere come first, then those that have grown or shrunk most.
    let mut parts: Vec<&super::PartTold> = compared.parts.iter().collect();
    let by = |part: &super::PartTold| {
        let sizes: Vec<u64> = part.sides.iter().filter_map(|side| side.bytes).collect();
        let grown = sizes.iter().max().zip(sizes.iter().min()).map_or(0, |(most, least)| most - least);
        (part.sides.iter().all(|side| side.state == PartMade::Made), std::cmp::Reverse(grown))
    };
    parts.sort_by_key(|part| by(part));
    let shown = if all { parts.len() } else { parts.len().min(LISTED) };
    *text += &title(&count(compared.parts.len(), "part differs", "parts differ"));
    let mut rows = vec![head(compared)];
    let state = |side: &PartSide| (if side.is_there() { Role::Value } else { Role::Faint }, side.shown());
    for part in &parts[..shown] {
        let mut row = vec![(Role::Name, part.part.clone())];
        row.extend(part.sides.iter().map(state));
        row.push((Role::Faint, growth(&part.sides)));
        rows.push(row);
    }
    *text += &columns(&rows, 2, width);
    if parts.len() > shown {
        *text += &format!("  and {} more\n", parts.len() - shown);
        *text += &next_lines(&[Next::new(again(compared, "--only parts"), "all of them")], 2);
    }
}

/// How the last side's sections have grown against the first side's, most first.
fn growth(sides: &[PartSide]) -> String {
    let (Some(first), Some(last)) = (sides.first(), sides.last()) else { return String::new() };
    let mut grown: Vec<(&str, i128)> = first
        .sections
        .iter()
        .zip(&last.sections)
        .map(|((name, before), (_, after))| (*name, i128::from(*after) - i128::from(*before)))
        .filter(|(_, by)| *by != 0)
        .collect();
    grown.sort_by_key(|(name, by)| (-by.abs(), *name));
    let told = grown.iter().map(|(name, by)| {
        let size = bytes(u64::try_from(by.unsigned_abs()).unwrap_or(u64::MAX));
        format!("{name} {}{size}", if *by > 0 { "+" } else { "-" })
    });
    told.collect::<Vec<_>>().join(", ")
}

fn steps(compared: &Comparison, steps: &StepsTold, text: &mut String) {
    let (left, right) = (&compared.sides[0], &steps.side);
    *text += &title(&if compared.sides.len() > 2 { format!("Steps of {left} and {right}") } else { "Steps".into() });
    if let Some(to) = &steps.to_build
        && to.run + to.reused == 0
    {
        *text += &format!("  {right} is built: nothing would run now.\n");
    } else if let Some(to) = &steps.to_build {
        let work = to.expected_work_ms.map_or(String::new(), |ms| format!(", about {} of work", duration(ms)));
        let reused = match to.reused {
            0 => String::new(),
            reused => format!(", {reused} reused"),
        };
        let run = count(to.run, "step", "steps");
        *text += &format!("  To go over to {right}: {run} to run{reused}{work}.\n");
    }
    let mut list_of = |label: String, names: &[String]| {
        if names.is_empty() {
            return;
        }
        *text += &format!("  {} {label}\n", paint(Role::Warn, &count(names.len(), "step", "steps")));
        names.iter().take(LISTED).for_each(|name| *text += &format!("    {}\n", steps.does.get(name).unwrap_or(name)));
        if names.len() > LISTED {
            *text += &format!("    and {} more\n", names.len() - LISTED);
        }
    };
    list_of(format!("only for {left}"), &steps.left_only);
    list_of(format!("only for {right}"), &steps.right_only);
    list_of("for both, with another result".into(), &steps.differ);
    if steps.never_built.is_empty() {
        list_of("for both, not known to differ until built once".into(), &steps.unknown);
    }
    if steps.same > 0 {
        *text += &format!("  {} the same for both\n", count(steps.same, "step is", "steps are"));
    }
    if !steps.never_built.is_empty() && !steps.unknown.is_empty() {
        let unknown = count(steps.unknown.len(), "step", "steps");
        let were = if steps.never_built.len() > 1 { "were" } else { "was" };
        let names = list(&steps.never_built, "and");
        *text += &format!("  {unknown} of both: not known, because {names} {were} never built here\n");
        let build = |name: &String| {
            Next::new(format!("boltboard build --profile {name}"), "then their results can be compared")
        };
        *text += &next_lines(&steps.never_built.iter().map(build).collect::<Vec<_>>(), 2);
    }
    for (name, ms) in [(left, steps.left_ms), (right, steps.right_ms)] {
        if let Some(ms) = ms.filter(|ms| *ms > 0) {
            *text += &format!("  what differs took {} of work for {name}\n", duration(ms));
        }
    }
}
