//! `boltboard build`

use boltboard_core::board::PartId;
use boltboard_core::judge::{Standing, Sweep};
use boltboard_core::launch::RealLaunch;
use boltboard_core::plan::Plan;
use boltboard_core::run::{AfterFailure, BuildReport, Cause, Reads};
use boltboard_core::session::{Begun, BuildAsk, Built as CoreBuilt, Planned, Resolved, Start, Verified};
use boltboard_core::work::{LedgerEntry, LedgerOutcome};
use boltboard_core::workers::{CrewFile, CrewReport};
use clap::Args;

use super::parts::made_parts;
use crate::args::Global;
use crate::complete;
use crate::ending::on_end;
use crate::fault::{Exit, Stop};
use crate::render::build::{Progress, summary, verified};
use crate::render::shared::{not_allowed, of_build as told_of_others};
use crate::render::text::next_line;
use crate::render::workers::of_build as told_of_workers;
use crate::render::{Screen, json};
use crate::session::{LastBuild, Session, crew_file};

/// The end of the system's scale of niceness.
const NICEST: i32 = 19;
/// How much nicer than we steps are with `--nice`.
const NICE: i32 = 10;

/// Build what is not current
#[derive(Debug, Default, Args)]
pub struct BuildArgs {
    /// Build only these parts and what they need [default: everything]
    #[arg(value_name = "PART", add = complete::parts(), conflicts_with_all = ["verify", "check_reads"])]
    pub parts: Vec<String>,
    /// Run up to N steps at once [default: as cores and memory allow]
    #[arg(long, short, value_name = "N")]
    pub jobs: Option<usize>,
    /// Run one step at a time while the machine's load is above N
    #[arg(long, value_name = "N")]
    pub load: Option<f64>,
    /// Give other work on this machine priority
    #[arg(long)]
    pub nice: bool,
    /// After a failure, go on with what does not depend on it
    #[arg(long, short)]
    pub keep_going: bool,
    /// Send steps to the machines that NAME stands for as well (see `boltboard workers`)
    #[arg(long, value_name = "NAME", add = complete::crews(), conflicts_with_all = ["verify", "check_reads"])]
    pub on: Option<String>,
    /// Print each step as it starts
    #[arg(long, short)]
    pub verbose: bool,
    /// Print nothing but failures
    #[arg(long, short)]
    pub quiet: bool,
    /// First explain why the steps that read or make FILE run or not
    #[arg(long, value_name = "FILE")]
    pub why: Option<String>,
    /// Then build everything again aside, and compare each file byte for byte
    #[arg(long)]
    pub verify: bool,
    /// Like --verify, and generators fail that read a file they do not declare
    #[arg(long)]
    pub check_reads: bool,
}

/// What is told of a build.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Telling {
    /// How it goes, and what it came to.
    All,
    /// The same, when anything was to do.
    WhenDone,
    /// Failures.
    Failures,
    /// Nothing: what it came to is told as JSON.
    Json,
}

/// What a build came to.
pub struct Built {
    /// The values it was built with.
    pub resolved: Resolved,
    /// The plan.
    pub planned: Planned,
    /// What was done.
    pub report: BuildReport,
    /// What the ledger says of it.
    pub entry: LedgerEntry,
    /// What came of other machines, where any were asked for.
    pub crew: Option<CrewReport>,
    /// How it ended.
    pub exit: Exit,
}

impl BuildArgs {
    fn ask(&self, parts: Vec<PartId>) -> Result<BuildAsk, Stop> {
        let on = self.on.as_ref().map(|name| CrewFile::read(&crew_file())?.get(name).cloned()).transpose()?;
        Ok(BuildAsk {
            parts,
            jobs: self.jobs,
            load: self.load,
            after_failure: if self.keep_going { AfterFailure::GoOn } else { AfterFailure::Stop },
            reads: if self.check_reads { Reads::Declared } else { Reads::Free },
            on,
        })
    }

    fn verifies(&self) -> bool {
        self.verify || self.check_reads
    }
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &BuildArgs) -> Result<Exit, Stop> {
    let start = Start::now();
    let last = LastBuild::read(global)?;
    let standing = if args.why.is_some() || !args.parts.is_empty() { None } else { last.standing() };
    let sweep = match &standing {
        Some(Standing::Whole(sealed)) => {
            let (report, entry) = last.place().note_whole(sealed, start)?;
            let outputs = last.place().outputs();
            if !args.verifies() {
                if global.json {
                    screen.json(&json::built(None, &outputs, &report, &entry, None));
                } else if !args.quiet {
                    screen.out(&summary(None, &[], &outputs, &report, &entry));
                }
                return Ok(Exit::Done);
            }
            let session = Session::open(global, screen)?;
            let resolved = session.resolve()?;
            return verify_now(&session, screen, args, &resolved, (&report, &entry));
        }
        Some(Standing::Changed(sweep)) => Some(sweep),
        None => None,
    };
    let session = Session::open(global, screen)?;
    let telling = match (global.json, args.quiet) {
        (true, _) => Telling::Json,
        (false, true) => Telling::Failures,
        (false, false) => Telling::All,
    };
    let built = build_since(&session, screen, args, telling, sweep, start)?;
    if built.exit == Exit::Done && args.verifies() {
        return verify_now(&session, screen, args, &built.resolved, (&built.report, &built.entry));
    }
    if global.json {
        let Built { planned, report, entry, crew, .. } = &built;
        let answer =
            json::built(Some((&session.board, &planned.plan)), &planned.folders.outputs(), report, entry, None);
        screen.json(&answer.and_workers(crew.as_ref()));
    }
    Ok(built.exit)
}

impl Built {
    /// Answers with a build that failed, where a command needed it first and answers as JSON.
    pub fn answer(&self, session: &Session, screen: &Screen) {
        if session.global.json {
            let plan = Some((&session.board, &self.planned.plan));
            screen.json(&json::built(plan, &self.planned.folders.outputs(), &self.report, &self.entry, None));
        }
    }
}

/// Builds what a command needs first. It is told when anything is to do.
pub fn build_first(session: &Session, screen: &Screen, args: &BuildArgs) -> Result<Built, Stop> {
    let telling = if session.global.json { Telling::Json } else { Telling::WhenDone };
    build_since(session, screen, args, telling, None, Start::now())
}

/// Builds the profile in use. Where it is known what has changed since the last build, only what that touches is looked at.
fn build_since(
    session: &Session,
    screen: &Screen,
    args: &BuildArgs,
    telling: Telling,
    sweep: Option<&Sweep<'_>>,
    start: Start,
) -> Result<Built, Stop> {
    session.only_real()?;
    let resolved = session.resolve()?;
    let parts = made_parts(session, &resolved, &args.parts)?;
    let begun = session.begin(resolved, sweep, start)?;
    if let Some(file) = &args.why {
        screen.out(&super::preview::explain(session, &begun.resolved, &begun.planned, file)?);
    }
    let lock = session.lock()?;
    let begun = session.settle(begun)?;
    if args.verbose && begun.is_partial() && telling == Telling::All {
        let (some, all) = (begun.planned.plan.steps.len(), begun.planned.plan.count());
        screen.out(&format!("Checking {some} of {all} steps: what has changed touches no others.\n"));
    }
    let ask = args.ask(parts)?;
    let plan = &begun.planned.plan;
    let mut progress = progress(session, screen, args.verbose, telling, (&begun.resolved, &begun.planned), &ask);
    be_nice(args);
    stop_on_signal(&session.launch);
    let built = session.build(&begun, &lock, &ask, &mut progress);
    progress.finish();
    let CoreBuilt { report, entry, shared, crew } = built?;
    if telling != Telling::Json {
        tell_unexpected(screen, plan, &report);
        if report.damaged {
            screen.remark(
                "Some records of earlier builds were damaged. They were dropped, and their steps checked again.",
            );
        }
    }
    let lists = [report.from_store.len(), report.spared.len(), report.written.len(), report.removed.len()];
    let done = report.interrupted || report.failures.len() + report.ran.len() + lists.iter().sum::<usize>() > 0;
    if telling == Telling::All || telling == Telling::WhenDone && done {
        screen.out(&summary(Some(plan), &args.parts, &begun.planned.folders.outputs(), &report, &entry));
    }
    let told = shared.as_ref().map_or_else(String::new, told_of_others);
    if telling != Telling::Json && !told.is_empty() {
        screen.remark(told.trim_end());
    }
    let told = crew.as_ref().zip(args.on.as_ref()).map_or_else(String::new, |(crew, on)| told_of_workers(crew, on));
    if telling != Telling::Json && !told.is_empty() {
        screen.remark(told.trim_end());
    }
    if let (Telling::All, Some(named)) = (telling, session.around.sharing.refused(begun.planned.store.as_ref())) {
        screen.remark(not_allowed(named).trim_end());
    }
    let exit = exit_of(&report, entry.outcome);
    let Begun { resolved, planned, .. } = begun;
    Ok(Built { resolved, planned, report, entry, crew, exit })
}

/// How a build ends: what the machine lacks or refuses is told apart from what is wrong with a step.
fn exit_of(report: &BuildReport, outcome: LedgerOutcome) -> Exit {
    let all = |is: &dyn Fn(&Cause) -> bool| report.failures.iter().all(|failure| is(&failure.cause));
    match outcome {
        LedgerOutcome::Done => Exit::Done,
        LedgerOutcome::Interrupted => Exit::Interrupted,
        LedgerOutcome::Failed if all(&|cause| matches!(cause, Cause::NoTool(_))) => Exit::HostLacks,
        LedgerOutcome::Failed if report.failures.iter().any(|failure| matches!(failure.cause, Cause::DiskFull(_))) => {
            Exit::DiskFull
        }
        LedgerOutcome::Failed => Exit::No,
    }
}

/// Compares what was built with a clean build by a plan of everything; the clean build is removed afterwards.
fn verify_now(
    session: &Session,
    screen: &Screen,
    args: &BuildArgs,
    resolved: &Resolved,
    (report, entry): (&BuildReport, &LedgerEntry),
) -> Result<Exit, Stop> {
    let planned = session.plan_to_build(resolved)?;
    let lock = session.lock()?;
    let ask = args.ask(vec![])?;
    let telling = match (session.global.json, args.quiet) {
        (true, _) => Telling::Json,
        (false, true) => Telling::Failures,
        (false, false) => Telling::All,
    };
    let mut progress = progress(session, screen, args.verbose, telling, (resolved, &planned), &ask);
    be_nice(args);
    stop_on_signal(&session.launch);
    let done = session.verify((resolved, &planned), &lock, &ask, &mut progress);
    progress.finish();
    let Verified { verification, wall_ms } = done?;
    let same = verification.differences.is_empty() && verification.report.failures.is_empty();
    if telling == Telling::Json {
        let outputs = planned.folders.outputs();
        screen.json(&json::built(Some((&session.board, &planned.plan)), &outputs, report, entry, Some(&verification)));
    } else if telling == Telling::All || !same {
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
    verbose: bool,
    telling: Telling,
    (resolved, planned): (&'a Resolved, &'a Planned),
    ask: &BuildAsk,
) -> Progress<'a> {
    let jobs = session.jobs(ask).count;
    let shown = matches!(telling, Telling::All | Telling::WhenDone);
    let mut progress =
        Progress::new(session, resolved, planned, jobs, Screen { live: screen.live && shown, ..*screen });
    progress.verbose = verbose && shown;
    progress.telling = telling;
    progress
}

/// Lets steps go behind other work, if asked.
fn be_nice(args: &BuildArgs) {
    if args.nice {
        // Steps inherit it. What cannot be had is not worth stopping for.
        let now = rustix::process::getpriority_process(None).unwrap_or(0);
        let _ = rustix::process::setpriority_process(None, (now + NICE).min(NICEST));
    }
}

/// Tells what steps did that we did not reckon with, and where nothing could be seen.
fn tell_unexpected(screen: &Screen, plan: &Plan, report: &BuildReport) {
    for (id, deeds) in &report.unexpected {
        let more = if deeds.len() > 1 { format!(" (and {} more)", deeds.len() - 1) } else { String::new() };
        let name = &plan.steps[*id].name;
        let first = deeds.first().map_or("", String::as_str);
        screen.remark(&format!(
            "boltboard did not expect this of {name}: {first}{more}. It counts now, and compiles like it are watched from now \
             on. Please report it with what this prints:\n{}",
            next_line(format!("boltboard preview --why {name}"), "what this step depends on").trim_end()
        ));
    }
    for moved in &report.set_aside {
        screen.remark(&format!("Something else lay where a result goes. It was moved to {}.", moved.display()));
    }
    if let Some(why) = &report.unwatched {
        screen.remark(&format!(
            "Commands cannot be watched here ({why}): what they read is known only from what they declare and list."
        ));
    }
}

/// Ends all steps on the first interrupt.
pub fn stop_on_signal(launch: &RealLaunch) {
    let stopper = launch.stopper();
    on_end(move || stopper.stop());
}
