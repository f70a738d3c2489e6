//! Two profiles side by side.

use boltboard_core::compare::{PartState, ValueDifference};
use boltboard_core::plan::Plan;

use boltboard_core::resolve::Effect;
use boltboard_core::step::StepId;

use super::json::Compared;
use super::text::{Cell, Role, bytes, columns, count, duration, next_lines, paint, wrap};
use crate::fault::Next;

const LISTED: usize = 15;

/// Draws a comparison. Of the profiles in `never` nothing was built here, so that only what follows from choices is known.
pub fn text(compared: &Compared<'_>, never: &[String], width: usize) -> String {
    let (left, right) = (&compared.names.0, &compared.names.1);
    let plans = &compared.plans;
    let mut text = String::new();
    let (moved, effects): (Vec<_>, Vec<_>) =
        compared.values.iter().partition(|(difference, ..)| difference.left.value != difference.right.value);
    if compared.values.is_empty() {
        text.push_str(&format!("{left} and {right} give every option the same value.\n"));
    } else {
        let title = format!("{} with another value", count(moved.len(), "option", "options"));
        text.push_str(&format!("{}\n", paint(Role::Title, &title)));
        let head = ["", left.as_str(), "", right.as_str(), ""].map(|t| (Role::Faint, t.to_string())).to_vec();
        let mut rows: Vec<Vec<Cell>> = vec![head];
        for (difference, left_origin, right_origin) in moved {
            rows.push(vec![
                (Role::Name, compared.board.options[difference.option].name.clone()),
                (Role::Value, difference.left.value.to_string()),
                (Role::Faint, left_origin.clone()),
                (Role::Value, difference.right.value.to_string()),
                (Role::Faint, right_origin.clone()),
            ]);
        }
        text.push_str(&columns(&rows, 2, width));
        for (side, idle_left) in [(left, true), (right, false)] {
            let here = |d: &ValueDifference| (d.left.effect == Effect::NoEffect) == idle_left;
            let names: Vec<&str> = effects
                .iter()
                .filter(|(d, ..)| here(d))
                .map(|(d, ..)| compared.board.options[d.option].name.as_str())
                .collect();
            if !names.is_empty() {
                let line = format!("no effect in {side}: {}", names.join(", "));
                wrap(&line, width.saturating_sub(4))
                    .iter()
                    .for_each(|l| text.push_str(&format!("  {}\n", paint(Role::Faint, l))));
            }
        }
    }
    if !plans.parts.is_empty() {
        text.push_str(&format!(
            "\n{}\n",
            paint(Role::Title, &format!("{} that differ", count(plans.parts.len(), "part", "parts")))
        ));
        let state = |state: PartState| match state {
            PartState::NotMade => "not made".to_string(),
            PartState::Within => "built in".to_string(),
            PartState::Made(Some(size)) => bytes(size),
            PartState::Made(None) => "made".to_string(),
        };
        let rows: Vec<Vec<Cell>> = plans
            .parts
            .iter()
            .map(|p| {
                let name = compared.board.parts[p.part].name.clone();
                vec![(Role::Name, name), (Role::Value, state(p.left)), (Role::Value, state(p.right))]
            })
            .collect();
        text.push_str(&columns(&rows, 2, width));
    }
    let (left_plan, right_plan) = compared.both;
    text.push_str(&format!("\n{}\n", paint(Role::Title, "Steps")));
    let mut list = |label: String, plan: &Plan, steps: &[StepId]| {
        if steps.is_empty() {
            return;
        }
        text.push_str(&format!("  {} {}\n", paint(Role::Warn, &count(steps.len(), "step", "steps")), label));
        for id in steps.iter().take(LISTED) {
            let step = &plan.steps[*id];
            let subject = step.source().map_or_else(|| step.name.clone(), ToString::to_string);
            text.push_str(&format!("    {:<9} {subject}\n", step.verb()));
        }
        if steps.len() > LISTED {
            text.push_str(&format!("    and {} more\n", steps.len() - LISTED));
        }
    };
    list(format!("only for {left}"), left_plan, &plans.left_only);
    list(format!("only for {right}"), right_plan, &plans.right_only);
    list("for both, with another result".into(), right_plan, &plans.differ);
    if never.is_empty() {
        list("for both, not known to differ until built once".into(), right_plan, &plans.unknown);
    }
    if plans.same > 0 {
        text.push_str(&format!("  {} the same for both\n", count(plans.same, "step is", "steps are")));
    }
    if !never.is_empty() && !plans.unknown.is_empty() {
        let unknown = count(plans.unknown.len(), "step", "steps");
        let were = if never.len() > 1 { "were" } else { "was" };
        let names = never.join(" and ");
        text.push_str(&format!("  {unknown} of both: not known, because {names} {were} never built here\n"));
        let build = |name: &String| {
            Next::new(format!("boltboard build --profile {name}"), "then their results can be compared")
        };
        text.push_str(&next_lines(&never.iter().map(build).collect::<Vec<_>>(), 2));
    }
    for (name, ms) in [(left, plans.left_ms), (right, plans.right_ms)] {
        if let Some(ms) = ms.filter(|ms| *ms > 0) {
            text.push_str(&format!("  what differs took {} of work for {name}\n", duration(ms)));
        }
    }
    text
}
