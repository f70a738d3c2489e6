//! `boltboard compare`

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use boltboard_core::base::Version;
use boltboard_core::base::files::write_whole;
use boltboard_core::board::{Board, OptionId, PartId, SectionId, Value};
use boltboard_core::carry::{carry, renamed};
use boltboard_core::compare::{
    self, Cause, CauseKind, Causes, PartState, PlanSide, Row, Rows, Side, contents, plans, sizes,
};
use boltboard_core::judge::{Judge, Verdict, WorkKnown};
use boltboard_core::plan::Plan;
use boltboard_core::profile::{Choices, ProfileName};
use boltboard_core::resolve::{Effect, resolved};
use boltboard_core::search::{Filter, read_filters};
use boltboard_core::session::{Memory, Planned, Resolved, Session as Core, SessionFault};
use boltboard_core::step::StepId;
use boltboard_core::survey::HostRecord;
use clap::Args;

use crate::args::Global;
use crate::complete;
use crate::fault::{Exit, Stop};
use crate::render::compare::{
    CauseTold, ChangeTold, Comparison, ContentsTold, FlagsTold, PartSide, PartTold, StepsTold, ToBuild, Topic,
    ValueSide, ValueTold, page, text,
};
use crate::render::options::origin_word;
use crate::render::text::next_line;
use crate::render::{Screen, json};
use crate::session::{Session, other_version, profile_name};

/// Compare two or more profiles: what differs, and what lies behind it
#[derive(Debug, Args)]
pub struct CompareArgs {
    /// The profiles; a single one is compared with the one in use
    #[arg(required = true, value_name = "PROFILE", add = complete::profiles())]
    profiles: Vec<String>,
    /// Compare also with the first profile on the host that FILE was saved on
    #[arg(long, value_name = "FILE")]
    with_facts: Vec<PathBuf>,
    /// Compare also with the first profile in the tree at DIR, another version of this one
    #[arg(long, value_name = "DIR")]
    with_tree: Vec<PathBuf>,
    /// Show only these
    #[arg(long, value_enum, value_delimiter = ',')]
    only: Vec<Topic>,
    /// Only options of this section and of those within it
    #[arg(long, value_name = "NAME", add = complete::sections())]
    section: Option<String>,
    /// Only options, parts, sources and steps with this text in their names
    #[arg(long, value_name = "TEXT")]
    find: Option<String>,
    /// Write a page with all of it, to be opened in a browser
    #[arg(long, value_name = "FILE")]
    html: Option<PathBuf>,
}

/// One side: a profile, resolved.
struct Compared {
    name: String,
    profile: ProfileName,
    resolved: Resolved,
    /// What is planned; only of this version of the tree.
    built: Option<Built>,
    /// The tree in another version.
    other: Option<Other>,
}

/// A plan, with what was built by it.
struct Built {
    planned: Planned,
    memory: Memory,
}

/// The tree in another version, with the names that its options have in the latest one.
struct Other {
    core: Core,
    renamed: BTreeMap<String, String>,
}

/// Runs the command. It ends with 1 when anything differs.
pub fn run(global: &Global, screen: &Screen, args: &CompareArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let mut names = args.profiles.iter().map(|name| profile_name(name)).collect::<Result<Vec<_>, _>>()?;
    let more = !(args.with_facts.is_empty() && args.with_tree.is_empty());
    if names.len() == 1 && !more {
        names.push(session.profile.clone());
    }
    if names.windows(2).all(|pair| pair[0] == pair[1]) && !more && !global.json {
        screen.out(&format!("{} on both sides: a profile does not differ from itself.\n", names[0]));
        screen.out(&next_line("boltboard profile list", "the profiles that there are"));
        return Ok(Exit::Done);
    }
    let mut sides = Vec::new();
    for name in &names {
        sides.push(side(&session, name.to_string(), name, session.resolve_profile(name)?)?);
    }
    for file in &args.with_facts {
        let facts = HostRecord::load(file, &session.board.tree.name)?.facts(&session.board);
        let resolved = session.resolve_these(sides[0].resolved.choices.clone(), facts)?;
        let shown = file.file_stem().map_or_else(|| file.display().to_string(), |n| n.to_string_lossy().into_owned());
        sides.push(side(&session, format!("{} on {shown}", names[0]), &names[0], resolved)?);
    }
    for folder in &args.with_tree {
        sides.push(in_other_tree(&session, &names[0], &session.around.path_here(folder))?);
    }
    let all = comparison(&session, &sides)?;
    let exit = if all.differs() { Exit::No } else { Exit::Done };
    let told = narrowed(all, &session, args)?;
    if let Some(file) = &args.html {
        let path = session.around.folder.join(file);
        write_whole(&path, page(&told).as_bytes())?;
        screen.done(&format!("Wrote {}; a browser shows it.\n", file.display()), global.json);
    } else if global.json {
        screen.json(&told);
    } else {
        screen.out(&text(&told, &args.only, screen.width));
    }
    Ok(exit)
}

fn side(session: &Session, name: String, profile: &ProfileName, resolved: Resolved) -> Result<Compared, Stop> {
    let planned = session.plan_of(profile, &resolved)?;
    let memory = session.memory_of(&planned)?;
    Ok(Compared { name, profile: profile.clone(), resolved, built: Some(Built { planned, memory }), other: None })
}

/// The profile in another version of the tree; to a later one it is carried over.
fn in_other_tree(session: &Session, profile: &ProfileName, folder: &Path) -> Result<Compared, Stop> {
    let core = other_version(session, folder)?;
    let told = |fault| Stop::of(fault, Some(&core));
    let draft = session.shelf.flatten(profile, profile, &session.board);
    let text = draft.map_err(|fault| super::profile::told(fault, session))?.text();
    let later = Version::new(&core.board.tree.version) > Version::new(&session.board.tree.version);
    let text = if later {
        let carried = carry(&text, Some(&session.board.tree.version), &core.board, &mut |_| None);
        carried.map_or(text, |written| written.text)
    } else {
        // An earlier version does not know this one; its own version stands in the file.
        text.replacen(&format!("\"{}\"", session.board.tree.version), &format!("\"{}\"", core.board.tree.version), 1)
    };
    let read = core.shelf.read_with(profile, &[(profile.clone(), text)].into(), &core.board);
    let choices = read.map_err(|(problems, files)| told(SessionFault::Profile { problems, files }))?;
    let facts = core.facts(&choices).map_err(told)?;
    let resolved = core.resolve(choices, facts).map_err(told)?;
    let renamed = if later { BTreeMap::new() } else { renamed(&session.board) };
    let name = format!("{profile} in {}", core.board.tree.version);
    Ok(Compared { name, profile: profile.clone(), resolved, built: None, other: Some(Other { core, renamed }) })
}

/// Puts everything side by side.
fn comparison(session: &Session, sides: &[Compared]) -> Result<Comparison, Stop> {
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
            does: [
                (0, &difference.left_only),
                (at, &difference.right_only),
                (at, &difference.differ),
                (at, &difference.unknown),
            ]
            .into_iter()
            .flat_map(|(side, steps)| steps.iter().map(move |id| (side, *id)))
            .map(|(side, id)| {
                let step = &plans_of[side].steps[id];
                let subject = step.source().map_or_else(|| step.name.clone(), ToString::to_string);
                (step.name.clone(), format!("{:<9} {subject}", step.verb()))
            })
            .collect(),
            to_build: to_build(session, built[at].1)?,
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

/// Puts what built sides have into the places of all sides.
fn pad(sides: &[Compared], mut built: impl Iterator<Item = PartSide>) -> Vec<PartSide> {
    let none = || PartSide { state: "not-compared", bytes: None, sections: Vec::new() };
    sides.iter().map(|side| side.built.as_ref().and_then(|_| built.next()).unwrap_or_else(none)).collect()
}

fn part_side(state: PartState, plan: &Plan, part: PartId) -> PartSide {
    match state {
        PartState::NotMade => PartSide { state: "not-made", bytes: None, sections: Vec::new() },
        PartState::Within => PartSide { state: "within", bytes: None, sections: Vec::new() },
        PartState::Made(bytes) => {
            let sections = sizes(plan, part).and_then(|sizes| sizes.sections);
            PartSide { state: "made", bytes, sections: sections.map_or(Vec::new(), |s| s.named().to_vec()) }
        }
    }
}

fn to_build(session: &Session, side: &Built) -> Result<ToBuild, Stop> {
    let preview = session.preview(&side.planned, None)?;
    let reused = preview.steps.iter().filter(|step| matches!(step.verdict, Verdict::FromStore(_))).count();
    let work = preview.work();
    Ok(ToBuild {
        run: preview.steps.len() - reused,
        reused,
        current: preview.current,
        expected_work_ms: (work.known != WorkKnown::Unknown).then_some(work.most_ms),
    })
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

fn kind_word(kind: CauseKind) -> &'static str {
    match kind {
        CauseKind::Choice => "choice",
        CauseKind::Provider => "provider",
        CauseKind::Fact => "need",
        CauseKind::Default => "default",
        CauseKind::Presence => "presence",
        CauseKind::Definition => "definition",
    }
}

fn cause_told(cause: &Cause, rows: &Rows<'_>) -> CauseTold {
    let said = (0..rows.sides.len()).map(|side| said(cause, rows, side));
    let (values, said): (Vec<_>, Vec<_>) = said.unzip();
    let moves = cause.moves.iter().map(|row| rows.rows[*row].name.clone());
    let is_need = matches!(cause.kind, CauseKind::Fact | CauseKind::Provider);
    CauseTold {
        kind: kind_word(cause.kind),
        name: cause.name.clone(),
        sides: values,
        said,
        moves: moves.filter(|name| is_need || *name != cause.name).collect(),
    }
}

/// What one side says about a cause, and where and why.
fn said(cause: &Cause, rows: &Rows<'_>, side: usize) -> (Option<String>, Option<String>) {
    let Side { board, choices, facts, resolution, .. } = rows.sides[side];
    let place = |layer, place, reason: Option<&String>| {
        let because = reason.map_or(String::new(), |reason| format!(": \"{reason}\""));
        let line = choices.files.excerpt(place).line;
        Some(format!("{}, line {line}{because}", choices.layers[layer].name))
    };
    if matches!(cause.kind, CauseKind::Fact | CauseKind::Provider) {
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

fn value_told(at: usize, row: &Row, rows: &Rows<'_>, causes: &Causes) -> ValueTold {
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

/// Keeps what a person asked to see.
fn narrowed(mut told: Comparison, session: &Session, args: &CompareArgs) -> Result<Comparison, Stop> {
    if let Some(section) = &args.section {
        let wanted = names_in_section(&session.board, section)?;
        told.values.retain(|value| wanted.contains(&value.option));
        told.causes
            .retain(|cause| wanted.contains(&cause.name) || cause.moves.iter().any(|moved| wanted.contains(moved)));
    }
    if let Some(text) = &args.find {
        let has = |name: &String| name.to_lowercase().contains(&text.to_lowercase());
        told.values.retain(|value| has(&value.option) || value.summary.to_lowercase().contains(&text.to_lowercase()));
        told.causes.retain(|cause| has(&cause.name) || cause.moves.iter().any(has));
        told.parts.retain(|part| has(&part.part));
        told.contents.retain(|one| has(&one.part) || one.left_sources.iter().chain(&one.right_sources).any(has));
        for steps in &mut told.steps {
            for list in [&mut steps.left_only, &mut steps.right_only, &mut steps.differ, &mut steps.unknown] {
                list.retain(has);
            }
        }
    }
    Ok(told)
}

fn names_in_section(board: &Board, section: &str) -> Result<BTreeSet<String>, Stop> {
    let (filters, _) = read_filters(board, &[format!("in:{section}")])?;
    let within = |at: SectionId| {
        let path = board.section_path(at);
        filters.iter().all(|filter| matches!(filter, Filter::In(section) if path.contains(section)))
    };
    Ok(board.options.iter().filter(|(_, option)| within(option.section)).map(|(_, o)| o.name.clone()).collect())
}
