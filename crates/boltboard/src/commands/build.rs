//! `boltboard build`

use boltboard_core::judge::{Standing, Sweep};
use boltboard_core::launch::RealLaunch;
use boltboard_core::plan::Plan;
use boltboard_core::run::{AfterFailure, BuildReport, Cause, Reads};
use boltboard_core::session::{Begun, BuildAsk, Built as CoreBuilt, Planned, Resolved, Start, Verified};
use boltboard_core::work::LedgerOutcome;
use clap::Args;

use crate::args::Global;
use crate::exit::{Exit, Stop};
use crate::render::Screen;
use crate::render::build::{Progress, summary, verified};
use crate::session::{LastBuild, Session};

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
    pub why: Option<String>,
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

impl BuildArgs {
    fn ask(&self) -> BuildAsk {
        BuildAsk {
            jobs: self.jobs,
            load: self.load,
            after_failure: if self.keep_going { AfterFailure::GoOn } else { AfterFailure::Stop },
            reads: if self.check_reads { Reads::Declared } else { Reads::Free },
        }
    }

    fn verifies(&self) -> bool {
        self.verify || self.check_reads
    }
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &BuildArgs) -> Result<Exit, Stop> {
    let start = Start::now();
    let last = LastBuild::read(global)?;
    let standing = if args.why.is_some() { None } else { last.standing() };
    let sweep = match &standing {
        Some(Standing::Whole(sealed)) => {
            let (report, entry) = last.place().note_whole(sealed, start)?;
            if !args.quiet {
                let outputs = last.place().outputs();
                screen.out(&summary(None, &outputs, &report, entry.wall_ms, entry.output_bytes));
            }
            if !args.verifies() {
                return Ok(Exit::Done);
            }
            let session = Session::open(global, screen)?;
            let resolved = session.resolve()?;
            return verify_now(&session, screen, args, &resolved);
        }
        Some(Standing::Changed(sweep)) => Some(sweep),
        None => None,
    };
    let session = Session::open(global, screen)?;
    let built = build_since(&session, screen, args, sweep, start)?;
    match built.exit {
        Exit::Done if args.verifies() => verify_now(&session, screen, args, &built.resolved),
        other => Ok(other),
    }
}

/// Builds the profile in use.
pub fn build_now(session: &Session, screen: &Screen, args: &BuildArgs) -> Result<Built, Stop> {
    build_since(session, screen, args, None, Start::now())
}

/// Builds the profile in use. Where it is known what has changed since the last build, only what that touches is looked at.
fn build_since(
    session: &Session,
    screen: &Screen,
    args: &BuildArgs,
    sweep: Option<&Sweep<'_>>,
    start: Start,
) -> Result<Built, Stop> {
    session.only_real()?;
    let begun = session.begin(session.resolve()?, sweep, start)?;
    if let Some(file) = &args.why {
        screen.out(&super::preview::explain(session, &begun.planned, file)?);
    }
    let lock = session.lock()?;
    let begun = session.settle(begun)?;
    if args.verbose && begun.is_partial() {
        let (some, all) = (begun.planned.plan.steps.len(), begun.planned.plan.count());
        screen.out(&format!("Looking at {some} of {all} steps: what has changed touches no others.\n"));
    }
    let ask = args.ask();
    let plan = &begun.planned.plan;
    let mut progress = progress(session, screen, args, plan, &ask);
    be_nice(args);
    stop_on_signal(&session.launch);
    let built = session.build(&begun, &lock, &ask, &mut progress);
    progress.finish();
    let CoreBuilt { report, entry } = built?;
    tell_unexpected(screen, plan, &report);
    if report.damaged {
        screen.remark("Some records of earlier builds were damaged; they were dropped, and their steps judged anew.");
    }
    if !args.quiet {
        let outputs = begun.planned.folders.outputs();
        screen.out(&summary(Some(plan), &outputs, &report, entry.wall_ms, entry.output_bytes));
    }
    let no_tool = || report.failures.iter().all(|failure| matches!(failure.cause, Cause::NoTool(_)));
    let exit = match entry.outcome {
        LedgerOutcome::Done => Exit::Done,
        LedgerOutcome::Failed if no_tool() => Exit::HostLacks,
        LedgerOutcome::Failed => Exit::No,
        LedgerOutcome::Interrupted => Exit::Interrupted,
    };
    let Begun { resolved, planned, .. } = begun;
    Ok(Built { resolved, planned, exit })
}

/// Compares what was built with a clean build by a plan of everything; the clean build is removed afterwards.
fn verify_now(session: &Session, screen: &Screen, args: &BuildArgs, resolved: &Resolved) -> Result<Exit, Stop> {
    let planned = session.plan(resolved)?;
    let lock = session.lock()?;
    let ask = args.ask();
    let mut progress = progress(session, screen, args, &planned.plan, &ask);
    be_nice(args);
    stop_on_signal(&session.launch);
    let done = session.verify(&planned, &lock, &ask, &mut progress);
    progress.finish();
    let Verified { verification, wall_ms } = done?;
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

fn progress<'a>(
    session: &'a Session,
    screen: &Screen,
    args: &BuildArgs,
    plan: &'a Plan,
    ask: &BuildAsk,
) -> Progress<'a> {
    let jobs = session.jobs(ask).count;
    let mut progress = Progress::new(&session.board, plan, jobs, screen.live && !args.quiet);
    progress.verbose = args.verbose;
    progress.quiet = args.quiet;
    progress
}

/// Lets steps go behind other work, if asked.
fn be_nice(args: &BuildArgs) {
    if args.nice {
        // Steps inherit it. What cannot be had is not worth stopping for.
        let _ = rustix::process::setpriority_process(None, NICE);
    }
}

/// Tells what steps did that we did not reckon with, and where nothing could be seen.
fn tell_unexpected(screen: &Screen, plan: &Plan, report: &BuildReport) {
    for (id, deeds) in &report.unexpected {
        let more = if deeds.len() > 1 { format!(" (and {} more)", deeds.len() - 1) } else { String::new() };
        screen.remark(&format!(
            "We did not expect this of {}: {}{more}. It counts now, and compiles like it are watched from now on. \
             Please report it with the command: boltboard preview --why {}",
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

/// Ends all steps on the first interrupt.
fn stop_on_signal(launch: &RealLaunch) {
    let stopper = launch.stopper();
    // A second handler cannot be set in one process; the first one serves.
    let _ = ctrlc::set_handler(move || stopper.stop());
}
