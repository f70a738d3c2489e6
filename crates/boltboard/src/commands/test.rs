//! `boltboard test`

use std::collections::BTreeSet;
use std::path::PathBuf;

use boltboard_core::base::near_matches;
use boltboard_core::board::{Pace, TestDef};
use boltboard_core::run::{Rerun, TestOutcome, TestsInput, run_tests};
use boltboard_core::session::BuildAsk;
use boltboard_core::work::StatusMemo;
use clap::Args;

use super::build::{BuildArgs, build_first};
use crate::args::Global;
use crate::complete;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::{Screen, json, junit, tests};
use crate::session::Session;

/// Run the tree's own tests
#[derive(Debug, Default, Args)]
pub struct TestArgs {
    /// Run these tests, or those of a part [default: those that did not pass since something changed]
    #[arg(value_name = "TEST|PART", add = complete::tests())]
    names: Vec<String>,
    /// Run all tests, changed or not
    #[arg(long)]
    all: bool,
    /// Run slow tests as well
    #[arg(long)]
    slow: bool,
    /// Run up to N tests at once [default: as many as there are cores]
    #[arg(long, short, value_name = "N")]
    jobs: Option<usize>,
    /// Write a report to FILE as well, in the XML form that build servers read (JUnit)
    #[arg(long, value_name = "FILE")]
    report: Option<PathBuf>,
}

/// Builds what is not current, then runs the tests. It ends with 1 when one fails.
pub fn run(global: &Global, screen: &Screen, args: &TestArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let wanted = wanted(&session, &args.names)?;
    let built = build_first(&session, screen, &BuildArgs::default())?;
    if built.exit != Exit::Done {
        built.answer(&session, screen);
        return Ok(built.exit);
    }
    let input = session.plan_input(&built.resolved, &built.planned);
    let status = StatusMemo::load(&session.work.status());
    let input = TestsInput {
        plan_input: &input,
        plan: &built.planned.plan,
        status: &status,
        launch: &session.launch,
        logs: session.work.logs(),
        jobs: session.jobs(&BuildAsk { jobs: args.jobs, ..BuildAsk::default() }).count,
        wanted: &|test: &TestDef| match &wanted {
            Some(names) => names.contains(&test.name),
            None => args.slow || test.pace == Pace::Usual,
        },
        rerun: if args.all || !args.names.is_empty() { Rerun::All } else { Rerun::Changed },
    };
    let mut course = tests::Course::new(&session.board, screen, global.json);
    let reports = run_tests(&input, &mut |event| course.tell(&event))?;
    course.finish();
    if let Some(file) = &args.report {
        let text = junit::report(&session.board, &reports);
        boltboard_core::base::files::write_whole(file, text.as_bytes())?;
    }
    if global.json {
        screen.json(&json::tests(&session.board, &reports));
    } else {
        screen.out(&tests::summary(&reports));
    }
    let failed = reports.iter().any(|report| matches!(report.outcome, TestOutcome::Failed(_)));
    Ok(if failed { Exit::No } else { Exit::Done })
}

/// The tests that are asked for: by their own names, or by parts that they run. `None` means all.
fn wanted(session: &Session, names: &[String]) -> Result<Option<BTreeSet<String>>, Stop> {
    let board = &session.board;
    let mut wanted = BTreeSet::new();
    for name in names {
        let all = || board.tests.iter().map(|(_, test)| test);
        let of_part = |test: &&TestDef| board.part(name).is_some_and(|part| test.parts.contains(&part));
        let own: Vec<&TestDef> = all().filter(|test| test.name == *name).collect();
        let found = if own.is_empty() { all().filter(of_part).collect() } else { own };
        if found.is_empty() {
            let near = near_matches(name, board.tests.iter().map(|(_, test)| test.name.as_str()));
            let what = if board.part(name).is_some() { "no test runs the part" } else { "there is no test" };
            let diagnostic = Diagnostic::new(format!("{what} `{name}`")).near(&near);
            return Err(Stop::new(Exit::WrongUse, diagnostic.next("boltboard test", "run all tests that are due")));
        }
        wanted.extend(found.into_iter().map(|test| test.name.clone()));
    }
    Ok((!names.is_empty()).then_some(wanted))
}
