//! `boltboard build`

use std::collections::BTreeMap;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use boltboard_core::base::files::write_quickly;
use boltboard_core::board::Board;
use boltboard_core::launch::{Guard, RealLaunch};
use boltboard_core::step::Location;

use boltboard_core::plan::Plan;

use boltboard_core::judge::Reason;
use boltboard_core::profile::ProfileName;
use boltboard_core::reading::TokenMemo;
use boltboard_core::run::{
    AfterFailure, BuildInput, BuildReport, Jobs, Reads, Span, Watching, available_memory, build, verify,
};

use boltboard_core::judge::Since;
use boltboard_core::work::{
    Course, CourseSpan, Disk, Folders, Ledger, LedgerEntry, LedgerOutcome, StatusMemo, WorkLock, folder_bytes,
};

use boltboard_core::judge::{Standing, Sweep};

use boltboard_core::store::{Store, StoreLimits};
use boltboard_core::watch::Gate;
use clap::Args;

use super::options::remember_options;
use crate::args::Global;
use crate::exit::{Exit, Stop};
use crate::render::Screen;
use crate::render::build::{Progress, summary, verified};
use crate::render::preview::{reason as render_reason, without_place};
use crate::session::{Planned, Resolved, Session};
use crate::standing::{seal_wanted, standing};

/// How many reasons of a build the ledger keeps.
const REASONS: usize = 3;
/// How nice steps are with `--nice`, on the system's scale from 0 to 19.
const NICE: i32 = 10;

/// Bring everything up to date
#[derive(Debug, Default, Args)]
pub struct BuildArgs {
    /// Run so many steps at once [default: as cores and memory allow]
    #[arg(long, short, value_name = "N")]
    pub jobs: Option<usize>,
    /// Start no step beside others while the machine's load is above N
    #[arg(long, value_name = "N")]
    pub load: Option<f64>,
    /// Let other work on this machine go first
    #[arg(long)]
    pub nice: bool,
    /// Go on after a failure with what does not depend on it
    #[arg(long, short)]
    pub keep_going: bool,
    /// Name each step as it starts
    #[arg(long, short)]
    pub verbose: bool,
    /// Print nothing but failures
    #[arg(long, short)]
    pub quiet: bool,
    /// First tell why what reads or makes FILE runs, or does not
    #[arg(long, value_name = "FILE")]
    pub explain: Option<String>,
    /// Afterwards build everything anew on the side, and compare each file byte for byte
    #[arg(long)]
    pub verify: bool,
    /// The same, and a generator fails that reads what it does not declare; the file is named
    #[arg(long)]
    pub check_reads: bool,
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
    let standing = if args.explain.is_some() { None } else { standing(global)? };
    let verifies = args.verify || args.check_reads;
    if let Some((Standing::Whole(sealed), place)) = &standing {
        let report = BuildReport { current: sealed.steps, ..BuildReport::default() };
        let wall_ms = millis(started.elapsed());
        let entry = ledger_entry(&place.profile, None, &report, began, wall_ms, sealed.output_bytes);
        Ledger::append(&place.work.ledger(), &entry)?;
        if !args.quiet {
            screen.out(&summary(None, &report, wall_ms, sealed.output_bytes));
        }
        if !verifies {
            return Ok(Exit::Done);
        }
        let session = Session::open(global, screen)?;
        guard(&session, args);
        return verify_now(&session, screen, args, &session.resolve()?);
    }
    let session = Session::open(global, screen)?;
    let changed = match standing {
        Some((Standing::Changed(sweep), _)) => Some(sweep),
        Some((Standing::Whole(_), _)) | None => None,
    };
    let built = build_since(&session, screen, args, changed.as_ref())?;
    match built.exit {
        Exit::Done if verifies => verify_now(&session, screen, args, &built.resolved),
        other => Ok(other),
    }
}

/// Builds the profile in use.
pub fn build_now(session: &Session, screen: &Screen, args: &BuildArgs) -> Result<Built, Stop> {
    build_since(session, screen, args, None)
}

/// Builds the profile in use. Where it is known what has changed since the last build, only what that touches is looked at.
fn build_since(
    session: &Session,
    screen: &Screen,
    args: &BuildArgs,
    sweep: Option<&Sweep<'static>>,
) -> Result<Built, Stop> {
    let started = Instant::now();
    let began = SystemTime::now();
    crate::host::only_real(session)?;
    let resolved = session.resolve()?;
    let (mut planned, mut touched) = session.plan_since(&resolved, sweep)?;
    if let Some(file) = &args.explain {
        screen.out(&super::preview::explain(session, &planned, file)?);
    }
    session.work.prepare(&session.board.tree.name)?;
    if session.work.active()?.is_none() {
        // From now on, a work folder that names none has lost it.
        session.use_first_profile()?;
    }
    session.keep_probes();
    crate::host::accept(session, &resolved.choices, &resolved.facts)?;
    remember_options(session)?;
    let _lock = lock(session, screen)?;
    if touched.is_some() && sweep.is_some_and(|sweep| !sweep.is_fresh()) {
        // Another build has ended since.
        (planned, touched) = (session.plan(&resolved)?, None);
    }
    if args.verbose && touched.is_some() {
        let (some, all) = (planned.plan.steps.len(), planned.plan.count());
        screen.out(&format!("Looking at {some} of {all} steps: what has changed touches no others.\n"));
    }
    let status = match &mut touched {
        Some(touched) => std::mem::take(&mut touched.status),
        None => StatusMemo::load(&session.work.status()),
    };
    let jobs = jobs(args.jobs, args.load);
    let mut progress = Progress::new(session.board, &planned.plan, jobs.count, screen.live && !args.quiet);
    progress.verbose = args.verbose;
    progress.quiet = args.quiet;
    guard(session, args);
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
        seal: seal_wanted(session, &resolved, &planned, touched.as_ref()),
        since: touched.as_ref().zip(sweep).map(|(touched, sweep)| Since {
            journal: &touched.journal,
            parts: &touched.parts,
            sweep,
        }),
        reads: Reads::Free,
        watching: watching(began),
        after_failure: if args.keep_going { AfterFailure::GoOn } else { AfterFailure::Stop },
        stopped: &stopped,
    };
    let report = build(&input, &mut progress);
    progress.finish();
    let report = report?;
    tell_unexpected(screen, &planned.plan, &report);
    if report.damaged {
        screen.remark("Some records of earlier builds were damaged; they were dropped, and their steps judged anew.");
    }
    if touched.is_none() {
        status.save(&session.work.status())?;
    }
    let wall_ms = millis(started.elapsed());
    let size = folder_bytes(&planned.folders.outputs());
    let mut entry = ledger_entry(&session.profile, Some(&planned.plan), &report, began, wall_ms, size);
    entry.change = change(session.board, &planned.plan, &report);
    entry.disk = disk(session, &planned.folders, &report, entry.steps)?;
    Ledger::append(&session.work.ledger(), &entry)?;
    trim_store(session)?;
    if !report.spans.is_empty() {
        course(&planned.plan, &report, entry.started_s).save(&planned.folders.build)?;
    }
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
    Ok(Built { resolved, planned, exit })
}

/// Waits for other builds in the work folder to end.
fn lock(session: &Session, screen: &Screen) -> Result<WorkLock, Stop> {
    Ok(WorkLock::take(&session.work, &mut |holder| {
        let who = holder.map_or(String::new(), |pid| format!(" (process {pid})"));
        screen.remark(&format!(
            "Another build is at work in {}{who}; waiting for it to end.",
            session.work.root().display()
        ));
    })?)
}

/// Sees to it that steps end with this process, and go behind other work if asked.
fn guard(session: &Session, args: &BuildArgs) {
    if args.nice {
        // Steps inherit it. What cannot be had is not worth stopping for.
        let _ = rustix::process::setpriority_process(None, NICE);
    }
    if let Ok(program) = std::env::current_exe() {
        session.launch.watch_with(Gate { program, word: crate::GATE });
    }
    if let Some(guard) = std::env::current_exe().ok().and_then(|program| Guard::start(&program, &[crate::GUARD]).ok()) {
        session.launch.guard_with(guard);
    }
}

/// Compares what was built with a clean build by a plan of everything; the clean build is removed afterwards.
fn verify_now(session: &Session, screen: &Screen, args: &BuildArgs, resolved: &Resolved) -> Result<Exit, Stop> {
    let started = Instant::now();
    let planned = session.plan(resolved)?;
    let _lock = lock(session, screen)?;
    let side = session.work.scratch()?;
    let jobs = jobs(args.jobs, args.load);
    let mut progress = Progress::new(session.board, &planned.plan, jobs.count, screen.live && !args.quiet);
    progress.quiet = args.quiet;
    let stopped = stop_on_signal(&session.launch);
    let clean = BuildInput {
        plan: &planned.plan,
        store: &Store::at(&session.work.store()),
        status: &StatusMemo::load(&session.work.status()),
        tokens: &TokenMemo::default(),
        launch: &session.launch,
        tools: &planned.tools,
        logs: session.work.logs(),
        jobs,
        seal: None,
        since: None,
        watching: Watching::All,
        reads: if args.check_reads { Reads::Declared } else { Reads::Free },
        after_failure: if args.keep_going { AfterFailure::GoOn } else { AfterFailure::Stop },
        stopped: &stopped,
    };
    let verification = verify(&clean, side.path(), &mut progress);
    progress.finish();
    let verification = verification?;
    let wall_ms = millis(started.elapsed());
    let same = verification.differences.is_empty() && verification.report.failures.is_empty();
    if !args.quiet || !same {
        screen.out(&verified(&planned.plan, &verification, wall_ms));
    }
    Ok(match (verification.report.interrupted, same) {
        (true, _) => Exit::Interrupted,
        (false, true) => Exit::Done,
        (false, false) => Exit::No,
    })
}

/// How many jobs: as told, else as there are cores; in either case as the memory that can be had now allows.
pub fn jobs(told: Option<usize>, load: Option<f64>) -> Jobs {
    let cores = || std::thread::available_parallelism().map_or(1, usize::from);
    Jobs { memory: available_memory(), load, ..Jobs::of(told.unwrap_or_else(cores)) }
}

/// Tells what steps did that we did not reckon with, and where nothing could be seen.
fn tell_unexpected(screen: &Screen, plan: &Plan, report: &BuildReport) {
    for (id, deeds) in &report.unexpected {
        let more = if deeds.len() > 1 { format!(" (and {} more)", deeds.len() - 1) } else { String::new() };
        screen.remark(&format!(
            "We did not expect this of {}: {}{more}. It counts now, and compiles like it are watched from now on. \
             Please report it with the command: boltboard preview --explain {}",
            plan.steps[*id].name,
            deeds.first().map_or("", String::as_str),
            plan.steps[*id].name,
        ));
    }
    for moved in &report.set_aside {
        screen.remark(&format!("Something lay where a result belongs; it was moved to {}.", moved.display()));
    }
    if let Some(why) = &report.unwatched {
        screen.remark(&format!(
            "Commands cannot be watched here ({why}): what they read is known only from what they declare and list."
        ));
    }
}

/// Which compiles are watched beside those that must be: others each time.
fn watching(now: SystemTime) -> Watching {
    Watching::Some { seed: now.duration_since(UNIX_EPOCH).map_or(0, |since| u64::from(since.subsec_nanos())) }
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
        steps: plan.map_or(report.current, Plan::count),
        ran: report.ran.len(),
        from_store: report.from_store.len(),
        spared: report.spared.len(),
        unsteady: report.unsteady.len(),
        change: Vec::new(),
        cpu_ms: millis(report.cpu),
        memory: report.memory,
        disk: Disk::default(),
        wall_ms,
        output_bytes,
        slowest,
    }
}

/// Keeps the store within its limits; a look a day is enough.
fn trim_store(session: &Session) -> Result<(), Stop> {
    const DAY: Duration = Duration::from_secs(24 * 60 * 60);
    let mark = session.work.root().join("store-trimmed");
    let last = std::fs::metadata(&mark).and_then(|status| status.modified()).ok();
    let now = SystemTime::now();
    if last.is_none_or(|last| now.duration_since(last).is_ok_and(|age| age > DAY)) {
        if last.is_some() {
            Store::at(&session.work.store()).trim(StoreLimits::load(&session.work.store_limits()), now)?;
        }
        write_quickly(&mark, b"")?;
    }
    Ok(())
}

/// The reasons for which steps were not current, the most frequent first.
fn change(board: &Board, plan: &Plan, report: &BuildReport) -> Vec<String> {
    let text = |reason: &Reason| without_place(&render_reason(board, plan, reason));
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    if report.new > 0 {
        counts.insert(text(&Reason::New), report.new);
    }
    for (_, reasons) in &report.reasons {
        // What a step reads of another one follows from reasons that are told there.
        let made = |file: &Location| !matches!(file, Location::Tree(_) | Location::System(_));
        let follows = |reason: &Reason| match reason {
            Reason::Follows(_) | Reason::Text => true,
            Reason::Edited(file) | Reason::Gone(file) | Reason::Added(file) | Reason::Dropped(file) => made(file),
            _ => false,
        };
        let own = reasons.iter().find(|reason| !follows(reason));
        if let Some(reason) = own {
            *counts.entry(text(reason)).or_default() += 1;
        }
    }
    let mut reasons: Vec<(String, usize)> = counts.into_iter().collect();
    reasons.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    reasons.into_iter().take(REASONS).map(|(reason, _)| reason).collect()
}

/// What lies on disk. After a small change it is taken to be as it was after the build before: adding up would take longer than
/// building.
fn disk(session: &Session, folders: &Folders, report: &BuildReport, steps: usize) -> Result<Disk, Stop> {
    const SMALL: usize = 20;
    let touched = report.ran.len() + report.from_store.len() + report.written.len();
    if touched * SMALL < steps {
        let ledger = Ledger::read(&session.work.ledger())?;
        let profile = session.profile.to_string();
        let known = |entry: &&LedgerEntry| entry.profile == profile && entry.disk != Disk::default();
        if let Some(entry) = ledger.entries.iter().rev().find(known) {
            return Ok(entry.disk);
        }
    }
    Ok(Disk::of(&folders.tree, &folders.build, &session.work.store()))
}

fn course(plan: &Plan, report: &BuildReport, started_s: u64) -> Course {
    let micros = |time: Duration| u64::try_from(time.as_micros()).unwrap_or(u64::MAX);
    let span = |span: &Span| {
        let step = &plan.steps[span.step];
        CourseSpan {
            subject: step.source().map_or_else(|| step.name.clone(), ToString::to_string),
            verb: step.verb().to_string(),
            part: plan.owner(step).to_string(),
            job: span.job,
            began_us: micros(span.began),
            wall_us: micros(span.wall),
        }
    };
    Course { started_s, spans: report.spans.iter().map(span).collect() }
}
