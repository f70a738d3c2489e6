//! `boltboard preview`

use std::collections::BTreeSet;

use boltboard_core::base::near_matches;
use boltboard_core::board::LeftOut;
use boltboard_core::judge::{Standing, preview};
use boltboard_core::profile::ChangeSort;
use boltboard_core::session::{BuildAsk, HandingAhead, Planned, Resolved};
use boltboard_core::step::{Location, Step, StepId};
use clap::Args;

use super::parts::made_parts;
use crate::args::Global;
use crate::complete;
use crate::fault::{Diagnostic, Exit, Next, Stop};
use crate::render::shared::not_allowed;
use crate::render::text::{Role, next_lines, paint};
use crate::render::{Screen, json, names, preview as render};
use crate::session::{LastBuild, Session};

/// Show what a build would do, and why
#[derive(Debug, Args)]
pub struct PreviewArgs {
    /// Show only what these parts need [default: everything]
    #[arg(value_name = "PART", add = complete::parts())]
    parts: Vec<String>,
    /// List every step
    #[arg(long)]
    verbose: bool,
    /// Expect this many jobs
    #[arg(long, short, value_name = "N")]
    jobs: Option<usize>,
    /// Only explain why the steps that read or make FILE would run or not
    #[arg(long, value_name = "FILE")]
    why: Option<String>,
}

/// A preview of everything.
pub fn usual() -> PreviewArgs {
    PreviewArgs { parts: vec![], verbose: false, jobs: None, why: None }
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &PreviewArgs) -> Result<Exit, Stop> {
    if let Some(file) = &args.why {
        let session = Session::open(global, screen)?;
        let resolved = session.resolve()?;
        let planned = session.plan(&resolved)?;
        screen.out(&explain(&session, &resolved, &planned, file)?);
        return Ok(Exit::Done);
    }
    let last = LastBuild::read(global)?;
    let standing = if args.parts.is_empty() { last.standing() } else { None };
    let changed = match standing {
        Some(Standing::Whole(sealed)) if !global.json => {
            screen.out(&render::nothing_to_do(sealed.steps));
            return Ok(Exit::Done);
        }
        Some(Standing::Changed(sweep)) => Some(sweep),
        Some(Standing::Whole(_)) | None => None,
    };
    let session = Session::open(global, screen)?;
    let resolved = session.resolve()?;
    let (planned, touched) = session.plan_since(&resolved, changed.as_ref())?;
    let parts = made_parts(&session, &resolved, &args.parts)?;
    let mut preview = session.preview(&planned, touched.as_ref())?;
    if !parts.is_empty() {
        let wanted = planned.plan.needed_for(&parts);
        preview.steps.retain(|step| wanted.contains(&step.step));
        preview.stale.clear();
        preview.current = wanted.len() - preview.steps.len();
    }
    let handing = if parts.is_empty() { session.handing_ahead(&resolved, &planned) } else { HandingAhead::default() };
    let jobs = session.jobs(&BuildAsk { jobs: args.jobs, ..BuildAsk::default() }).count;
    if global.json {
        screen.json(&json::preview(&session, &planned.plan, (&preview, &handing), jobs));
    } else {
        let ahead = (&preview, &handing);
        screen.out(&render::preview(&session.board, &planned.plan, ahead, jobs, args.verbose, screen.width));
        let (sharing, named) = (&session.around.sharing, planned.store.as_ref());
        if let Some(address) = sharing.address(named) {
            screen.out(&render::from_others(session.of_others(&planned.plan, &preview), address));
        }
        if let Some(named) = sharing.refused(named) {
            screen.remark(not_allowed(named).trim_end());
        }
    }
    Ok(Exit::Done)
}

/// Tells why the steps that compile, read or make a file would run or not, down to the input that differs.
pub fn explain(session: &Session, resolved: &Resolved, planned: &Planned, file: &str) -> Result<String, Stop> {
    let plan = &planned.plan;
    let here = std::env::current_dir().unwrap_or_default();
    let typed = Location::of(&here.join(file), &plan.folders);
    let of_tree = names::file_of_tree(session, file);
    let named = |location: &Location| {
        let is_of_tree = || of_tree.as_ref().is_some_and(|path| *location == Location::Tree(path.clone()));
        *location == typed || location.to_string() == file || is_of_tree()
    };
    let memory = session.memory(planned)?;
    let judge = memory.judge(plan);
    let preview = preview(&judge);
    let seen = |step: &Step| -> Vec<Location> {
        let note = judge.journal.get(&step.name).and_then(|record| record.note);
        let inputs = note.iter().flat_map(|note| note.inputs.iter());
        inputs.filter_map(|(text, _)| text.parse().ok()).collect()
    };
    let concerned = |step: &Step| step.reads.iter().chain(&step.writes).any(named);
    let mut steps: Vec<(StepId, &Step)> = plan.steps.iter().filter(|(_, step)| concerned(step)).collect();
    if steps.is_empty() {
        steps = plan.steps.iter().filter(|(_, step)| seen(step).iter().any(named)).collect();
    }
    if steps.is_empty()
        && let Some(told) = left_out(session, resolved, file)
    {
        return Ok(told);
    }
    if steps.is_empty() {
        let names = plan.steps.iter().flat_map(|(_, step)| step.reads.iter().chain(&step.writes));
        let names: Vec<String> = names.map(Location::to_string).collect();
        let near = near_matches(file, names.iter().map(String::as_str));
        let diagnostic =
            Diagnostic::new(format!("no step compiles, reads or makes `{file}` with these options")).near(&near);
        return Err(Stop::new(Exit::WrongUse, names::lead_on(diagnostic, session, file)));
    }
    let mut text = String::new();
    if !resolved.choices.changes.is_empty() {
        let mut read: BTreeSet<String> = of_tree.iter().map(ToString::to_string).collect();
        for (_, step) in &steps {
            read.extend(step.reads.iter().chain(&seen(step)).map(Location::to_string));
        }
        text = carried(session, resolved, &read)?;
    }
    text.extend(steps.iter().map(|(id, step)| render::explained(&session.board, plan, &judge, *id, step, &preview)));
    Ok(text)
}

/// Tells which changes to the sources stand in what is read.
fn carried(session: &Session, resolved: &Resolved, read: &BTreeSet<String>) -> Result<String, Stop> {
    let mut text = String::new();
    for one in session.carried(&resolved.choices)? {
        let name = &one.change.name;
        for file in one.files.iter().filter(|file| read.contains(*file)) {
            text.push_str(&match one.change.sort {
                ChangeSort::Patch => format!("{file} is read as {name} changes it.\n"),
                ChangeSort::Replaced(_) => format!("{file} is read as the profile replaces it.\n"),
            });
        }
    }
    Ok(text)
}

/// Tells why a source of the tree is not built: what would have to hold, and what does not.
fn left_out(session: &Session, resolved: &Resolved, file: &str) -> Option<String> {
    let board = &session.board;
    let path = names::file_of_tree(session, file)?;
    let mut text = format!("not built: {}\n", paint(Role::Title, path.as_str()));
    let mut next = Vec::new();
    for LeftOut { part, conditions } in board.source_of(&path) {
        let part = &board.parts[part].name;
        let broken = conditions.iter().filter(|condition| !resolved.resolution.holds(&resolved.facts, condition));
        for condition in broken {
            text.push_str(&format!("  part {part} has it only while {}\n", board.print(condition)));
            for option in names::options_of(condition) {
                let (name, value) = (&board.options[option].name, resolved.resolution.value(option));
                text.push_str(&format!("    {name} is {value}\n"));
                next.push(Next::new(format!("boltboard why {name}"), "where that value comes from"));
            }
        }
    }
    if next.is_empty() {
        text.push_str("  no part names it in its `sources`\n");
        next.push(Next::new("boltboard lint", "all sources that belong to no part"));
    }
    next.dedup();
    text.push_str(&next_lines(&next, 0));
    Some(text)
}
