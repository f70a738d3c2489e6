//! `boltboard test`

use std::path::PathBuf;

use boltboard_core::run::{Rerun, TestOutcome, TestsInput, run_tests};
use boltboard_core::work::StatusMemo;
use clap::Args;

use super::build::{BuildArgs, build_now};
use crate::args::Global;
use crate::exit::{Exit, Stop};
use crate::render::text::{Role, count, duration, pad, paint};
use crate::render::{Screen, junit};
use crate::session::Session;
use boltboard_core::session::BuildAsk;

/// Run the tree's own tests
#[derive(Debug, Args)]
pub struct TestArgs {
    /// Run these tests [default: those of which something changed since they passed]
    #[arg(value_name = "NAME")]
    names: Vec<String>,
    /// Run all tests, changed or not
    #[arg(long)]
    all: bool,
    /// Run so many at once [default: as many as there are cores]
    #[arg(long, short, value_name = "N")]
    jobs: Option<usize>,
    /// Also write the reports to FILE, in the XML form that test runners and build servers share (JUnit)
    #[arg(long, value_name = "FILE")]
    report: Option<PathBuf>,
}

/// Builds what is not current, then runs the tests. It ends with 1 when one fails.
pub fn run(global: &Global, screen: &Screen, args: &TestArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    for name in &args.names {
        let known = || session.board.tests.iter().map(|(_, test)| test.name.as_str());
        if !known().any(|test| test == name) {
            let near = boltboard_core::base::near_matches(name, known());
            let diagnostic = crate::exit::Diagnostic::new(format!("there is no test `{name}`")).near(&near);
            return Err(Stop::new(Exit::WrongUse, diagnostic));
        }
    }
    let quietly = BuildArgs { quiet: true, ..BuildArgs::default() };
    let built = build_now(&session, screen, &quietly)?;
    if built.exit != Exit::Done {
        return Ok(built.exit);
    }
    let input = session.plan_input(&built.resolved, &built.planned);
    let wanted = |name: &str| args.names.is_empty() || args.names.iter().any(|n| n == name);
    let mut ended = |report: &boltboard_core::run::TestReport| {
        let test = &session.board.tests[report.test];
        let (word, more) = match &report.outcome {
            TestOutcome::Passed => (paint(Role::Good, &pad("passed", 9)), String::new()),
            TestOutcome::Failed(why) => (paint(Role::Bad, &pad("failed", 9)), format!("  {why}")),
            TestOutcome::Unchanged => (paint(Role::Faint, &pad("unchanged", 9)), String::new()),
            TestOutcome::NotThere(Some(condition)) => {
                (paint(Role::Faint, &pad("left out", 9)), format!("  only while {condition}"))
            }
            TestOutcome::NotThere(None) => (paint(Role::Faint, &pad("left out", 9)), String::new()),
        };
        let ran = matches!(report.outcome, TestOutcome::Passed | TestOutcome::Failed(_));
        let time = if ran { duration(u64::try_from(report.wall.as_millis()).unwrap_or(0)) } else { String::new() };
        screen.out(&format!("{word} {}  {}{more}\n", pad(&test.name, 16), paint(Role::Faint, &time)));
        if matches!(report.outcome, TestOutcome::Failed(_)) {
            for line in report.said.lines() {
                screen.out(&format!("    {line}\n"));
            }
        }
    };
    let rerun = if args.all || !args.names.is_empty() { Rerun::All } else { Rerun::Changed };
    let status = StatusMemo::load(&session.work.status());
    let input = TestsInput {
        plan_input: &input,
        plan: &built.planned.plan,
        status: &status,
        launch: &session.launch,
        jobs: session.jobs(&BuildAsk { jobs: args.jobs, ..BuildAsk::default() }).count,
        wanted: &wanted,
        rerun,
    };
    let reports = run_tests(&input, &mut ended)?;
    if let Some(file) = &args.report {
        let text = junit::report(&session.board, &reports);
        boltboard_core::base::files::write_whole(file, text.as_bytes())?;
    }
    let failed = reports.iter().filter(|r| matches!(r.outcome, TestOutcome::Failed(_))).count();
    let passed = reports.iter().filter(|r| r.outcome == TestOutcome::Passed).count();
    let unchanged = reports.iter().filter(|r| r.outcome == TestOutcome::Unchanged).count();
    let told = match unchanged {
        0 => String::new(),
        n => format!(", {n} unchanged since passing (--all runs them too)"),
    };
    screen.out(&format!("{} passed, {failed} failed{told}\n", count(passed, "test", "tests")));
    Ok(if failed == 0 { Exit::Done } else { Exit::No })
}
