//! What was found out about the sides, put into the answer.

use std::collections::BTreeMap;

use boltboard_core::board::{OptionId, PartId, Value};
use boltboard_core::carry::renamed;
use boltboard_core::compare::{
    self, PartState, PlanSide, RootCause, RootCauses, Row, Rows, Side, contents, plans, sizes,
};
use boltboard_core::judge::{Judge, Verdict, WorkKnown, preview};
use boltboard_core::plan::Plan;
use boltboard_core::profile::Choices;
use boltboard_core::resolve::{Effect, resolved};
use boltboard_core::session::Resolved;
use boltboard_core::step::StepId;

use super::{Built, Compared};
use crate::fault::Stop;
use crate::render::compare::{
    CauseTold, ChangeTold, Comparison, ContentsTold, FlagsTold, PartMade, PartSide, PartTold, StepsTold, ToBuild,
    ValueSide, ValueTold,
};
use crate::render::json;
use crate::render::options::origin_word;
use crate::session::Session;

/// Puts everything side by side.
pub(super) fn comparison(session: &Session, sides: &[Compared], again: String) -> Result<Comparison, Stop> {
    let board = &session.board;
    // Where another side is a later version, its names count.
    let names = sides.iter().filter_map(|side| side.other.as_ref()).find(|other| other.renamed.is_empty());
    let names = names.map(|other| renamed(&other.core.board));
    let seen: Vec<Side<'_>> = sides
        .iter()
        .map(|side| {
            let Resolved { choices, facts, resolution } = &side.resolved;
            let (board, renamed) = match &side.other {
                Some(other) => (&other.core.board, Some(&other.renamed)),
                None => (board, names.as_ref()),
            };
            Side { board, choices, facts, resolution, renamed }
        })
        .collect();
    let rows = compare::rows(&seen);
    let resolve =
        |side: usize, choices: &Choices| resolved(board, &session.logic, choices, &sides[side].resolved.facts);
    let causes = compare::causes(&rows, Some(&resolve));
    let built: Vec<(&Compared, &Built)> = sides.iter().filter_map(|side| Some((side, side.built.as_ref()?))).collect();
    let plans_of: Vec<&Plan> = built.iter().map(|(_, built)| &built.planned.plan).collect();
    let judges: Vec<Judge<'_>> = built.iter().map(|(_, built)| built.memory.judge(&built.planned.plan)).collect();
    let parts = compare::parts(board, &plans_of);
    let parts = parts.iter().map(|part| {
        let side = |(state, plan): (&PartState, &&Plan)| part_side(*state, plan, part.part);
        PartTold {
            part: board.parts[part.part].name.clone(),
            sides: pad(sides, part.states.iter().zip(&plans_of).map(side)),
        }
    });
    let mut told = Comparison {
        format: json::FORMAT,
        tree: format!("{} {}", board.tree.name, board.tree.version),
        sides: sides.iter().map(|side| side.name.clone()).collect(),
        options: rows.rows.len(),
        causes: causes.causes.iter().map(|cause| cause_told(cause, &rows)).collect(),
        values: rows.differing().map(|(at, row)| value_told(at, row, &rows, &causes)).collect(),
        changes: changes(sides),
        parts: parts.collect(),
        again,
        ..Comparison::default()
    };
    for (at, (other, _)) in built.iter().enumerate().skip(1) {
        let difference = plans(&PlanSide { judge: &judges[0] }, &PlanSide { judge: &judges[at] });
        let names = |side: usize, steps: &[StepId]| -> Vec<String> {
            steps.iter().map(|id| plans_of[side].steps[*id].name.clone()).collect()
        };
        let never = [0, at].into_iter().filter(|side| built[*side].1.memory.journal.all().next().is_none());
        told.steps.push(StepsTold {
            side: other.name.clone(),
            left_only: names(0, &difference.left_only),
            right_only: names(at, &difference.right_only),
            differ: names(at, &difference.differ),
            unknown: names(at, &difference.unknown),
            same: difference.same,
            left_ms: difference.left_ms,
            right_ms: difference.right_ms,
            does: does(&[
                (plans_of[0], &difference.left_only),
                (plans_of[at], &difference.right_only),
                (plans_of[at], &difference.differ),
                (plans_of[at], &difference.unknown),
            ]),
            to_build: built[at].1.goes_on.then(|| to_build(&judges[at])),
            never_built: never.map(|side| built[side].0.profile.to_string()).collect(),
        });
        told.contents.extend(contents(plans_of[0], plans_of[at]).into_iter().map(|one| {
            ContentsTold {
                part: one.part,
                side: other.name.clone(),
                left_sources: one.left_sources,
                right_sources: one.right_sources,
                flags: one
                    .flags
                    .into_iter()
                    .map(|(flags, commands)| FlagsTold {
                        verb: flags.verb,
                        left: flags.left,
                        right: flags.right,
                        commands,
                    })
                    .collect(),
            }
        }));
    }
    Ok(told)
}

/// What steps do, and to what, by their names.
fn does(lists: &[(&Plan, &Vec<StepId>)]) -> BTreeMap<String, String> {
    let steps = lists.iter().flat_map(|(plan, steps)| steps.iter().map(|id| &plan.steps[*id]));
    let said = steps.map(|step| {
        let subject = step.source().map_or_else(|| step.name.clone(), ToString::to_string);
        (step.name.clone(), format!("{:<9} {subject}", step.verb()))
    });
    said.collect()
}

/// Puts what built sides have into the places of all sides.
fn pad(sides: &[Compared], mut built: impl Iterator<Item = PartSide>) -> Vec<PartSide> {
    let none = || PartSide { state: PartMade::NotCompared, bytes: None, sections: Vec::new() };
    sides.iter().map(|side| side.built.as_ref().and_then(|_| built.next()).unwrap_or_else(none)).collect()
}

fn part_side(state: PartState, plan: &Plan, part: PartId) -> PartSide {
    match state {
        PartState::NotMade => PartSide { state: PartMade::NotMade, bytes: None, sections: Vec::new() },
        PartState::Within => PartSide { state: PartMade::Within, bytes: None, sections: Vec::new() },
        PartState::Made(bytes) => {
            let sections = sizes(plan, part).and_then(|sizes| sizes.sections);
            PartSide { state: PartMade::Made, bytes, sections: sections.map_or(Vec::new(), |s| s.named().to_vec()) }
        }
    }
}

fn to_build(judge: &Judge<'_>) -> ToBuild {
    let preview = preview(judge);
    let reused = preview.steps.iter().filter(|step| matches!(step.verdict, Verdict::FromStore(_))).count();
    let work = preview.work();
    ToBuild {
        run: preview.steps.len() - reused,
        reused,
        current: preview.current,
        expected_work_ms: (work.known != WorkKnown::Unknown).then_some(work.most_ms),
    }
}

fn changes(sides: &[Compared]) -> Vec<ChangeTold> {
    let mut names: Vec<&str> =
        sides.iter().flat_map(|side| side.resolved.choices.changes.iter().map(|one| one.name.as_str())).collect();
    names.sort_unstable();
    names.dedup();
    let carries = |name: &str| -> Vec<bool> {
        sides.iter().map(|side| side.resolved.choices.changes.iter().any(|one| one.name == name)).collect()
    };
    let told = names.iter().map(|name| ChangeTold { name: (*name).to_string(), sides: carries(name) });
    told.filter(|change| change.sides.iter().any(|has| !has)).collect()
}

fn cause_told(cause: &RootCause, rows: &Rows<'_>) -> CauseTold {
    let said = (0..rows.sides.len()).map(|side| said(cause, rows, side));
    let (values, said): (Vec<_>, Vec<_>) = said.unzip();
    let moves = cause.moves.iter().map(|row| rows.rows[*row].name.clone());
    CauseTold {
        kind: cause.kind,
        name: cause.name.clone(),
        sides: values,
        said,
        moves: moves.filter(|name| cause.kind.is_of_need() || *name != cause.name).collect(),
    }
}

/// What one side says about a cause, and where and why.
fn said(cause: &RootCause, rows: &Rows<'_>, side: usize) -> (Option<String>, Option<String>) {
    let Side { board, choices, facts, resolution, .. } = rows.sides[side];
    let place = |layer, place, reason: Option<&String>| {
        let because = reason.map_or(String::new(), |reason| format!(": \"{reason}\""));
        let line = choices.files.excerpt(place).line;
        Some(format!("{}, line {line}{because}", choices.layers[layer].name))
    };
    if cause.kind.is_of_need() {
        let Some(need) = board.need(&cause.name) else { return (None, None) };
        let met = if facts.has(need) { "met" } else { "not met" };
        let chosen = choices.providers.get(&need);
        let value = chosen.map_or(met.to_string(), |chosen| format!("{} ({met})", chosen.provider.text(board)));
        return (Some(value), chosen.and_then(|chosen| place(chosen.layer, chosen.place, chosen.reason.as_ref())));
    }
    let Some(option) = rows.option(&cause.name, side) else { return (None, None) };
    let value = resolution.value(option).to_string();
    match choices.get(option) {
        Some(choice) => (Some(value), place(choice.layer, choice.place, choice.reason.as_ref())),
        None => (Some(value), None),
    }
}

fn value_told(at: usize, row: &Row, rows: &Rows<'_>, causes: &RootCauses) -> ValueTold {
    let one = |(side, id): (&Side<'_>, &Option<OptionId>)| {
        let option = (*id)?;
        let resolved = side.resolution.get(option);
        Some(ValueSide {
            value: shown(&resolved.value),
            origin: origin_word(side.board, side.choices, option, resolved),
            applies: resolved.effect == Effect::Applies,
        })
    };
    let known = rows.sides.iter().zip(&row.ids).find_map(|(side, id)| Some((side.board, (*id)?)));
    let (summary, section) = known.map_or_else(Default::default, |(board, option)| {
        let definition = &board.options[option];
        (definition.summary.clone(), board.sections[definition.section].title.clone())
    });
    let because = causes.of.get(&at).into_iter().flatten().map(|cause| causes.causes[*cause].name.clone());
    ValueTold {
        option: row.name.clone(),
        summary,
        section,
        sides: rows.sides.iter().zip(&row.ids).map(one).collect(),
        causes: because.collect(),
    }
}

/// A value as a table shows it: one that is empty is told.
fn shown(value: &Value) -> String {
    let text = value.to_string();
    if text.is_empty() { "\"\"".into() } else { text }
}
