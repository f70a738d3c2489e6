//! How the plans of two profiles differ: parts and steps.

use crate::board::{Board, PartId};
use crate::judge::Judge;
use crate::plan::Plan;
use crate::step::{Location, StepId};

/// One side of a comparison of plans: the judge knows the plan and what was built.
pub struct PlanSide<'a> {
    /// Its judge.
    pub judge: &'a Judge<'a>,
}

/// How the plans of two profiles differ.
#[derive(Debug, Clone, Default)]
pub struct PlanDifference {
    /// Steps of the left plan only.
    pub left_only: Vec<StepId>,
    /// Steps of the right plan only.
    pub right_only: Vec<StepId>,
    /// Steps of both whose result differs; ids of the right plan.
    pub differ: Vec<StepId>,
    /// Steps of both that were never run, so that it is not known; ids of the right plan.
    pub unknown: Vec<StepId>,
    /// Steps of both that come out the same.
    pub same: usize,
    /// What the right side's differing steps took last time, in milliseconds, if each is known.
    pub right_ms: Option<u64>,
    /// The same for the left side.
    pub left_ms: Option<u64>,
}

/// A part that is not the same everywhere.
#[derive(Debug, Clone)]
pub struct PartDifference {
    /// The part.
    pub part: PartId,
    /// On each side.
    pub states: Vec<PartState>,
}

/// A part on one side.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PartState {
    /// It is not made.
    NotMade,
    /// It is made into something else, as a built-in module is.
    Within,
    /// It is made; its size in bytes, when it was built.
    Made(Option<u64>),
}

/// Returns the parts that are made on some sides only, or with files of another size.
pub fn parts(board: &Board, plans: &[&Plan]) -> Vec<PartDifference> {
    let differs = |states: &[PartState]| {
        // What was never built on one side has no size to compare.
        let made = |state: &PartState| matches!(state, PartState::Made(_));
        let sizes = states.iter().filter_map(|state| if let PartState::Made(size) = state { *size } else { None });
        let mut sizes: Vec<u64> = sizes.collect();
        sizes.dedup();
        sizes.len() > 1
            || states.iter().any(|state| made(state) != made(&states[0]) || (!made(state) && *state != states[0]))
    };
    let all = board
        .parts
        .iter()
        .map(|(part, _)| PartDifference { part, states: plans.iter().map(|plan| state(plan, part)).collect() });
    all.filter(|part| differs(&part.states)).collect()
}

/// Compares two plans step by step.
pub fn plans(left: &PlanSide<'_>, right: &PlanSide<'_>) -> PlanDifference {
    let (lp, rp) = (left.judge.plan, right.judge.plan);
    let mut difference = PlanDifference::default();
    let named: std::collections::HashMap<&str, StepId> = lp.steps.iter().map(|(id, s)| (s.name.as_str(), id)).collect();
    let mut shared = std::collections::HashSet::new();
    for (id, step) in rp.steps.iter() {
        let Some(other) = named.get(step.name.as_str()) else {
            difference.right_only.push(id);
            continue;
        };
        shared.insert(*other);
        match same(left, *other, right, id) {
            Some(true) => difference.same += 1,
            Some(false) => difference.differ.push(id),
            None => difference.unknown.push(id),
        }
    }
    difference.left_only = lp.steps.ids().filter(|id| !shared.contains(id)).collect();
    let time = |side: &PlanSide<'_>, steps: &mut dyn Iterator<Item = StepId>| {
        let each = steps.filter(|id| side.judge.plan.steps[*id].has_process()).map(|id| {
            let name = &side.judge.plan.steps[id].name;
            side.judge.journal.packed(name).and_then(|r| r.note.as_ref()).map(|n| n.work_ms)
        });
        each.sum::<Option<u64>>()
    };
    difference.right_ms = time(right, &mut difference.right_only.iter().chain(&difference.differ).copied());
    let left_differ: Vec<StepId> =
        difference.differ.iter().filter_map(|id| named.get(rp.steps[*id].name.as_str()).copied()).collect();
    difference.left_ms = time(left, &mut difference.left_only.iter().copied().chain(left_differ));
    difference
}

fn state(plan: &Plan, part: PartId) -> PartState {
    match plan.parts.get(&part) {
        None => PartState::NotMade,
        Some(outputs) if outputs.is_empty() => PartState::Within,
        Some(outputs) => {
            let size = |at: &Location| {
                std::fs::symlink_metadata(at.path(&plan.folders)).ok().filter(|s| s.is_file()).map(|s| s.len())
            };
            let known: Vec<u64> = outputs.iter().filter_map(size).collect();
            PartState::Made((!known.is_empty()).then(|| known.iter().sum()))
        }
    }
}

/// Tells whether a step comes out the same on both sides: by what was built there, else by what its files are known to
/// name.
fn same(left: &PlanSide<'_>, left_id: StepId, right: &PlanSide<'_>, right_id: StepId) -> Option<bool> {
    let (ls, rs) = (&left.judge.plan.steps[left_id], &right.judge.plan.steps[right_id]);
    let record = |side: &PlanSide<'_>| side.judge.journal.get(&ls.name).and_then(|r| r.note);
    let (ln, rn) = (record(left), record(right));
    let (lk, rk) = (ls.base_key(), rs.base_key());
    let current =
        |side: &PlanSide<'_>, step| side.judge.judge(step, &crate::judge::Ahead::default()).reasons.is_empty();
    if let (Some(l), Some(r)) = (&ln, &rn)
        && current(left, ls)
        && current(right, rs)
    {
        return Some(l.outputs == r.outputs);
    }
    if lk != rk {
        return Some(false);
    }
    let note = ln.or(rn)?;
    let stands = |side: &PlanSide<'_>, step| side.judge.macros_as_now(step, &note);
    Some(stands(left, ls) == stands(right, rs))
}
