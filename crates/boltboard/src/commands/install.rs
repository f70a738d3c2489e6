//! `boltboard install`

use std::path::{Path, PathBuf};

use boltboard_core::base::shell_word;
use boltboard_core::install::{
    After, Against, BuiltFrom, CanAct, Contents, DueAction, InstallAsk, InstallFault, Lock, Record, Running, Searching,
    ServiceHost, Smoked, Unready, header_runs, install as core_install, installed_services, manifest_path, misfits,
    plan_install, smoke, smoke_runs, system_program, unready, unready_services,
};
use boltboard_core::session::{Planned, Resolved};
use boltboard_core::step::StepId;
use boltboard_core::survey::Compiler;
use clap::Args;

use super::build::{BuildArgs, build_first};
use super::installed::{act_all, actions_after, exit_of_actions, finish_begun, in_place, now_s, own_prefix, prefix_of};
use super::parts::made_parts;
use crate::args::Global;
use crate::complete;
use crate::fault::{Diagnostic, Exit, FaultKind, Stop};
use crate::render::text::count;
use crate::render::{Screen, deliver, json, ready};
use crate::session::Session;

/// Install what was built
#[derive(Debug, Args)]
pub struct InstallArgs {
    /// Install only these parts [default: everything]
    #[arg(value_name = "PART", add = complete::parts())]
    parts: Vec<String>,
    /// Only show what would go where; nothing is built
    #[arg(long)]
    preview: bool,
    /// Leave out what the tree has done after an installation
    #[arg(long)]
    no_actions: bool,
    /// Only check whether what is installed is what would run, and works; with --staging, what was unpacked there
    #[arg(long, conflicts_with_all = ["preview", "parts"])]
    check: bool,
    /// Put everything below DIR, for a package; no record is kept
    #[arg(long, value_name = "DIR")]
    staging: Option<PathBuf>,
}

/// Installs. What stands against it is told before anything is built; what is not current is built first.
pub fn run(global: &Global, screen: &Screen, args: &InstallArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let resolved = session.resolve()?;
    if args.check {
        return check(&session, screen, &resolved, args.staging.as_deref());
    }
    let parts = made_parts(&session, &resolved, &args.parts)?;
    let planned = session.plan_to_build(&resolved)?;
    if args.staging.is_none() && !args.preview {
        finish_begun(&session, screen, &resolved)?;
    }
    let ahead = session.preview(&planned, None)?;
    let staging = args.staging.as_ref().map(|folder| session.around.folder.join(folder));
    let wanted = (!parts.is_empty()).then(|| planned.plan.needed_for(&parts));
    let is_wanted = |id: &StepId| wanted.as_ref().is_none_or(|wanted| wanted.contains(id));
    let due: Vec<StepId> = ahead.steps.iter().map(|step| step.step).filter(|id| is_wanted(id)).collect();
    let mut stale = session.to_hand_over(&resolved, &planned);
    stale.extend(due.iter().flat_map(|id| &planned.plan.steps[*id].writes).cloned());
    let wrote = |seal: &_| session.work.wrote_record(seal);
    let (of_parts, below, running) = (&parts, staging.as_deref(), &Running::here());
    let before = InstallAsk {
        parts: of_parts,
        staging: below,
        is_stale: &|output| stale.contains(output),
        wrote: &wrote,
        running,
    };
    let plan = plan_install(&session.plan_input(&resolved, &planned), &planned.plan, &before)?;
    let acts = staging.is_none() && !args.no_actions;
    let actions = if acts { actions_after(&session, &resolved, &planned, After::Installing) } else { vec![] };
    if args.preview {
        if global.json {
            screen.json(&json::install(&session.board, &plan, &actions));
        } else {
            screen.out(&deliver::preview(&session.board, &plan, (due.len(), &actions), screen.width));
        }
        return Ok(Exit::Done);
    }
    let in_the_way = plan.in_the_way();
    if !in_the_way.is_empty() {
        return Err(InstallFault::Foreign(in_the_way).into());
    }
    if let Some(action) = actions.iter().find(|action| action.can == CanAct::Needed) {
        return Err(needed_program(action));
    }
    if let Some(folder) = plan.barred(staging.is_none()) {
        return Err(barred(&session, &folder));
    }
    if !due.is_empty() && !global.json {
        screen
            .remark(&format!("Building first: {}.", count(due.len(), "step is not current", "steps are not current")));
    }
    let built = build_first(&session, screen, &BuildArgs { parts: args.parts.clone(), ..BuildArgs::default() })?;
    if built.exit != Exit::Done {
        built.answer(&session, screen);
        return Ok(built.exit);
    }
    let input = session.plan_input(&built.resolved, &built.planned);
    let now = InstallAsk { parts: of_parts, staging: below, is_stale: &|_| false, wrote: &wrote, running };
    let manifest = manifest_path(&session.board, &prefix_of(&session, &built.resolved)?);
    let lock = staging.is_none().then(|| Lock::take(&manifest)).transpose()?;
    let record = lock.as_ref().map_or(Record::Leave, Record::Write);
    let plan = plan_install(&input, &built.planned.plan, &now)?;
    let note = &mut |seal| session.work.note_record(&seal);
    let tools = &built.planned.tools;
    let from = BuiltFrom {
        compiler: tools.target.c.as_ref().map_or_else(|_| String::new(), Compiler::in_words),
        environment: tools.environment.clone(),
        against: Against::of(&session.board, &built.resolved.resolution),
        record: session.common_record(&built.resolved, &built.planned),
        now_s: now_s(),
    };
    let report = core_install(&session.board, &from, &plan, record, note)?;
    drop(lock);
    let acted = if report.generation > 0 { act_all(&session, &input, &actions)? } else { vec![] };
    let unready = if staging.is_none() { unready_now(&session, &built.resolved, &built.planned)? } else { vec![] };
    if global.json {
        screen.json(&json::installed(&plan, &report, &unready, &acted));
    } else {
        screen.out(&deliver::acted(&acted));
        screen.out(&ready::unready(&unready, &has_program));
        screen.out(&deliver::installed(&plan, &report, staging.is_none()));
    }
    Ok(exit_of_actions(&acted))
}

fn needed_program(action: &DueAction) -> Stop {
    let text = format!("there is no `{}`, which {} needs ({})", action.words[0], action.name, action.summary);
    let diagnostic = Diagnostic::new(text).note("Nothing was built or installed.");
    let diagnostic =
        diagnostic.next("boltboard install --no-actions", "install all the same, without what comes after");
    Stop::new(Exit::HostLacks, diagnostic).kind(FaultKind::Install)
}

/// What stands against what is installed being what runs.
fn unready_now(session: &Session, resolved: &Resolved, planned: &Planned) -> Result<Vec<Unready>, Stop> {
    let manifest = in_place(session, resolved)?;
    let variable = |name: &str| std::env::var(name).unwrap_or_default();
    let searching = Searching::of(&variable("PATH"), &variable("LD_LIBRARY_PATH"), Path::new("/"));
    let services = installed_services(&session.plan_input(resolved, planned), &manifest);
    let mut all = unready(&manifest, &searching);
    all.extend(misfits(&session.plan_input(resolved, planned))?.into_iter().map(Unready::Misfit));
    all.extend(unready_services(&manifest, &services, &ServiceHost::here()).into_iter().map(Unready::Service));
    Ok(all)
}

fn has_program(name: &str) -> bool {
    system_program(name, &std::env::var("PATH").unwrap_or_default()).is_some()
}

/// Checks whether what is installed, or was unpacked below a folder, is what would run, and whether it works.
fn check(session: &Session, screen: &Screen, resolved: &Resolved, below: Option<&Path>) -> Result<Exit, Stop> {
    // What is not installed is told before anything is planned.
    if below.is_none() {
        in_place(session, resolved)?;
    }
    let planned = session.plan_to_build(resolved)?;
    let below = below.map(|folder| session.around.folder.join(folder));
    let unready = if below.is_none() { unready_now(session, resolved, &planned)? } else { vec![] };
    let input = session.plan_input(resolved, &planned);
    let contents = Contents::of(&input, &planned.plan, &[], &|_| true)?;
    let libraries = match &below {
        Some(folder) => contents.library_folders(folder),
        None => vec![],
    };
    let mut smoked = Vec::new();
    let headers = header_runs(&input, &contents, below.as_deref());
    for run in smoke_runs(&input, below.as_deref()).into_iter().chain(headers) {
        let outcome = smoke(&run, &libraries, &session.launch)?;
        smoked.push((run, outcome));
    }
    let is_well = unready.is_empty() && smoked.iter().all(|(_, outcome)| *outcome == Smoked::Works);
    if session.global.json {
        screen.json(&json::checked(&unready, &smoked));
    } else {
        if below.is_none() && unready.is_empty() {
            screen.out("What is installed is what runs: it comes first, and finds its libraries.\n");
        }
        screen.out(&ready::smoked(&smoked));
        screen.out(&ready::unready(&unready, &has_program));
    }
    Ok(if is_well { Exit::Done } else { Exit::No })
}

/// Tells that a folder may not be written to, and the ways around it.
fn barred(session: &Session, folder: &Path) -> Stop {
    let tree = &session.board.tree;
    let staging = std::env::temp_dir().join(format!("{}-{}", tree.name, tree.version));
    let staging = shell_word(&staging.display().to_string());
    let diagnostic = Diagnostic::new(format!("you may not write to {}", folder.display()))
        .note("Nothing was built or installed.")
        .next(own_prefix(), "install below your home instead")
        .next("boltboard build && sudo env PATH=\"$PATH\" boltboard install", "install as administrator")
        .next(format!("boltboard install --staging {staging}"), "put the files below a folder, for a package");
    Stop::new(Exit::NoPermission, diagnostic).kind(FaultKind::Install)
}
