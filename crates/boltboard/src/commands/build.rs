//! `boltboard build`

use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use boltboard_core::launch::RealLaunch;
use boltboard_core::plan::{Plan, TokenMemo};
use boltboard_core::profile::ProfileName;
use boltboard_core::run::{AfterFailure, BuildInput, BuildReport, Jobs, build, default_jobs, verify};
use boltboard_core::store::{Ledger, LedgerEntry, LedgerOutcome, StatusMemo, Store, WorkLock};
use clap::Args;

use super::options::remember_options;
use crate::args::Global;
use crate::exit::{Exit, Stop};
use crate::render::Screen;
use crate::render::build::{Progress, summary, verified};
use crate::session::{Planned, Resolved, Session};
use crate::standing::{seal_wanted, standing};

/// Bring everything up to date
#[derive(Debug, Args)]
pub struct BuildArgs {
    /// Run so many steps at once [default: as cores and memory allow]
    #[arg(long, short, value_name = "N")]
    pub jobs: Option<usize>,
    /// Go on after a failure with what does not depend on it
    #[arg(long, short)]
    pub keep_going: bool,
    /// Name each step as it starts
    #[arg(long, short)]
    pub verbose: bool,
    /// Print nothing but failures
    #[arg(long, short)]
    pub quiet: bool,
    /// Afterwards build everything anew on the side, and compare each file byte for byte
    #[arg(long)]
    pub verify: bool,
}

/// What a build came to.
pub struct Built {
    /// The values it was built with.
    pub resolved: Resolved,
    /// The plan.
    pub planned: Planned,
    /// How it ended.
    pub exit: Exit,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &BuildArgs) -> Result<Exit, Stop> {
    let (started, began) = (Instant::now(), SystemTime::now());
    if !args.verify
        && let Some((sealed, place)) = standing(global)?
    {
        let report = BuildReport { current: sealed.steps, ..BuildReport::default() };
        let wall_ms = millis(started.elapsed());
        let entry = ledger_entry(&place.profile, None, &report, began, wall_ms, sealed.output_bytes);
        Ledger::append(&place.work.ledger(), &entry)?;
        if !args.quiet {
            screen.out(&summary(None, &report, wall_ms, sealed.output_bytes));
        }
        return Ok(Exit::Done);
    }
    let session = Session::open(global, screen)?;
    Ok(build_now(&session, screen, args)?.exit)
}

/// Builds the profile in use.
pub fn build_now(session: &Session, screen: &Screen, args: &BuildArgs) -> Result<Built, Stop> {
    let started = Instant::now();
    let began = SystemTime::now();
    crate::host::only_real(session)?;
    let resolved = session.resolve()?;
    let planned = session.plan(&resolved)?;
    session.work.prepare(&session.board.tree.name)?;
    session.keep_probes();
    crate::host::accept(session, &resolved.choices, &resolved.facts)?;
    remember_options(session)?;
    let _lock = WorkLock::take(&session.work, &mut |holder| {
        let who = holder.map_or(String::new(), |pid| format!(" (process {pid})"));
        screen.remark(&format!(
            "Another build is at work in {}{who}; waiting for it to end.",
            session.work.root().display()
        ));
    })?;
    let status = StatusMemo::load(&session.work.status());
    let jobs = jobs(args.jobs);
    let mut progress = Progress::new(session.board, &planned.plan, jobs.count, screen.live && !args.quiet);
    progress.verbose = args.verbose;
    progress.quiet = args.quiet;
    let stopped = stop_on_signal(&session.launch);
    let input = BuildInput {
        plan: &planned.plan,
        store: &Store::at(&session.work.store()),
        status: &status,
        tokens: &TokenMemo::default(),
        launch: &session.launch,
        tools: &planned.tools,
        logs: session.work.logs(),
        jobs,
        seal: seal_wanted(session, &resolved.choices, &planned, began),
        after_failure: if args.keep_going { AfterFailure::GoOn } else { AfterFailure::Stop },
        stopped: &stopped,
    };
    let report = build(&input, &mut progress);
    progress.finish();
    let report = report?;
    status.save(&session.work.status())?;
    let wall_ms = millis(started.elapsed());
    let size = folder_bytes(&planned.folders.outputs());
    let entry = ledger_entry(&session.profile, Some(&planned.plan), &report, began, wall_ms, size);
    Ledger::append(&session.work.ledger(), &entry)?;
    if !args.quiet {
        screen.out(&summary(Some(&planned.plan), &report, wall_ms, size));
    }
    let exit = match entry.outcome {
        LedgerOutcome::Done => Exit::Done,
        LedgerOutcome::Failed
            if report.failures.iter().all(|f| matches!(f.cause, boltboard_core::run::Cause::NoTool(_))) =>
        {
            Exit::HostLacks
        }
        LedgerOutcome::Failed => Exit::No,
        LedgerOutcome::Interrupted => Exit::Interrupted,
    };
    let exit = match exit {
        Exit::Done if args.verify => verify_now(session, screen, args, &input)?,
        other => other,
    };
    Ok(Built { resolved, planned, exit })
}

/// Compares what was built with a clean build, which is removed afterwards.
fn verify_now(session: &Session, screen: &Screen, args: &BuildArgs, input: &BuildInput<'_>) -> Result<Exit, Stop> {
    let started = Instant::now();
    let side = session.work.scratch()?;
    let mut progress = Progress::new(session.board, input.plan, input.jobs.count, screen.live && !args.quiet);
    progress.quiet = args.quiet;
    let verification = verify(input, side.path(), &mut progress);
    progress.finish();
    let verification = verification?;
    let wall_ms = millis(started.elapsed());
    let same = verification.differences.is_empty() && verification.report.failures.is_empty();
    if !args.quiet || !same {
        screen.out(&verified(input.plan, &verification, wall_ms));
    }
    Ok(match (verification.report.interrupted, same) {
        (true, _) => Exit::Interrupted,
        (false, true) => Exit::Done,
        (false, false) => Exit::No,
    })
}

/// How many jobs: as told, else as cores and free memory allow.
pub fn jobs(told: Option<usize>) -> Jobs {
    match told {
        Some(count) => Jobs { count: count.max(1) },
        None => {
            let cores = std::thread::available_parallelism().map_or(1, usize::from);
            default_jobs(cores, available_memory())
        }
    }
}

fn available_memory() -> Option<u64> {
    let text = std::fs::read_to_string("/proc/meminfo").ok()?;
    let line = text.lines().find_map(|line| line.strip_prefix("MemAvailable:"))?;
    line.split_whitespace().next()?.parse::<u64>().ok().map(|kib| kib * 1024)
}

/// Ends all steps on the first interrupt. The returned function tells whether one came.
fn stop_on_signal(launch: &RealLaunch) -> impl Fn() -> bool + Sync + use<'_> {
    let stopper = launch.stopper();
    // A second handler cannot be set in one process; the first one serves.
    let _ = ctrlc::set_handler(move || stopper.stop());
    move || launch.is_stopped()
}

fn millis(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

/// Puts the record of a build together; one whose seal stood has no plan.
fn ledger_entry(
    profile: &ProfileName,
    plan: Option<&Plan>,
    report: &BuildReport,
    began: SystemTime,
    wall_ms: u64,
    output_bytes: u64,
) -> LedgerEntry {
    let name = |id| plan.map_or(String::new(), |plan: &Plan| plan.steps[id].name.clone());
    let mut slowest: Vec<(String, u64)> = report.ran.iter().map(|(id, wall)| (name(*id), millis(*wall))).collect();
    slowest.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    slowest.truncate(5);
    LedgerEntry {
        started_s: began.duration_since(UNIX_EPOCH).map_or(0, |d| d.as_secs()),
        profile: profile.to_string(),
        outcome: if report.interrupted {
            LedgerOutcome::Interrupted
        } else if report.failures.is_empty() {
            LedgerOutcome::Done
        } else {
            LedgerOutcome::Failed
        },
        steps: plan.map_or(report.current, |plan| plan.steps.len()),
        ran: report.ran.len(),
        from_store: report.from_store.len(),
        wall_ms,
        output_bytes,
        slowest,
    }
}

/// Returns how large the files below a folder are.
pub fn folder_bytes(folder: &std::path::Path) -> u64 {
    let Ok(entries) = std::fs::read_dir(folder) else { return 0 };
    let sizes = entries.filter_map(Result::ok).map(|entry| match entry.metadata() {
        Ok(status) if status.is_dir() => folder_bytes(&entry.path()),
        Ok(status) if status.is_file() => status.len(),
        _ => 0,
    });
    sizes.sum()
}
