//! `boltboard preview`

use boltboard_core::base::near_matches;
use boltboard_core::judge::{Standing, preview};
use boltboard_core::session::{BuildAsk, Planned};
use boltboard_core::step::{Location, Step, StepId};
use clap::Args;

use crate::args::Global;
use crate::exit::{Diagnostic, Exit, Stop};
use crate::render::{Screen, json, preview as render};
use crate::session::{LastBuild, Session};

/// Tell what a build would do, and why
#[derive(Debug, Args)]
pub struct PreviewArgs {
    /// List every step
    #[arg(long)]
    verbose: bool,
    /// Reckon with this many jobs
    #[arg(long, short, value_name = "N")]
    jobs: Option<usize>,
    /// Tell only why what reads or makes FILE would run, or would not
    #[arg(long, value_name = "FILE")]
    why: Option<String>,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &PreviewArgs) -> Result<Exit, Stop> {
    if let Some(file) = &args.why {
        let session = Session::open(global, screen)?;
        let resolved = session.resolve()?;
        let planned = session.plan(&resolved)?;
        screen.out(&explain(&session, &planned, file)?);
        return Ok(Exit::Done);
    }
    let last = LastBuild::read(global)?;
    let changed = match last.standing() {
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
    let preview = session.preview(&planned, touched.as_ref())?;
    let jobs = session.jobs(&BuildAsk { jobs: args.jobs, ..BuildAsk::default() }).count;
    if global.json {
        screen.json(&json::preview(&session, &planned.plan, &preview, jobs));
    } else {
        screen.out(&render::preview(&session.board, &planned.plan, &preview, jobs, args.verbose));
    }
    Ok(Exit::Done)
}

/// Tells why the steps that compile, read or make a file would run or not, down to the input that differs.
pub fn explain(session: &Session, planned: &Planned, file: &str) -> Result<String, Stop> {
    let plan = &planned.plan;
    let here = std::env::current_dir().unwrap_or_default();
    let typed = Location::of(&here.join(file), &plan.folders);
    let named = |location: &Location| *location == typed || location.to_string() == file;
    let memory = session.memory(planned)?;
    let judge = memory.judge(plan);
    let preview = preview(&judge);
    let reads = |step: &Step| {
        let note = judge.journal.get(&step.name).and_then(|record| record.note);
        note.is_some_and(|note| note.inputs.iter().any(|(text, _)| text.parse().is_ok_and(|input| named(&input))))
    };
    let concerned = |step: &Step| step.reads.iter().chain(&step.writes).any(named);
    let mut steps: Vec<(StepId, &Step)> = plan.steps.iter().filter(|(_, step)| concerned(step)).collect();
    if steps.is_empty() {
        steps = plan.steps.iter().filter(|(_, step)| reads(step)).collect();
    }
    if steps.is_empty() {
        let names = plan.steps.iter().flat_map(|(_, step)| step.reads.iter().chain(&step.writes));
        let names: Vec<String> = names.map(Location::to_string).collect();
        let near = near_matches(file, names.iter().map(String::as_str));
        let diagnostic = Diagnostic::new(format!("no step compiles, reads or makes `{file}` with these options"));
        return Err(Stop::new(Exit::WrongUse, diagnostic.near(&near)));
    }
    Ok(steps.iter().map(|(id, step)| render::explained(&session.board, plan, &judge, *id, step, &preview)).collect())
}
