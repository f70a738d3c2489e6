//! Answers of `build`, `test` and of what is built first.

use std::path::Path;

use boltboard_core::board::Board;
use boltboard_core::plan::Plan;
use boltboard_core::run::{BuildReport, Failure, TestOutcome, TestReport, Unlike, Verification};
use boltboard_core::work::{LedgerEntry, LedgerOutcome};
use boltboard_core::workers::CrewReport;
use serde::Serialize;

use super::FORMAT;
use super::workers::{WorkersAnswer, workers};

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct BuiltAnswer {
    format: u32,
    profile: String,
    outcome: LedgerOutcome,
    outputs: String,
    output_bytes: u64,
    wall_ms: u64,
    cpu_ms: u64,
    steps: usize,
    ran: usize,
    away: usize,
    reused: usize,
    from_others: usize,
    same_text: usize,
    written: usize,
    current: usize,
    not_done: usize,
    removed: Vec<String>,
    flaky: Vec<String>,
    put_right: Vec<String>,
    failures: Vec<FailureAnswer>,
    #[serde(skip_serializing_if = "Option::is_none")]
    workers: Option<WorkersAnswer>,
    verified: Option<VerifiedAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct FailureAnswer {
    step: String,
    does: &'static str,
    source: Option<String>,
    part: String,
    cause: String,
    file: Option<String>,
    line: Option<usize>,
    column: Option<usize>,
    message: Option<String>,
    said: String,
    log: Option<String>,
    command: String,
    because: Option<String>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct VerifiedAnswer {
    same: bool,
    files: usize,
    differences: Vec<DifferenceAnswer>,
    dropped: usize,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct DifferenceAnswer {
    file: String,
    how: &'static str,
    step: Option<String>,
}

fn failure(board: &Board, plan: &Plan, failure: &Failure) -> FailureAnswer {
    let step = &plan.steps[failure.step];
    let first = failure.first.as_ref();
    FailureAnswer {
        step: step.name.clone(),
        does: step.verb(),
        source: step.source().map(ToString::to_string),
        part: plan.owner(step).to_string(),
        cause: failure.cause.to_string(),
        file: first.map(|first| first.file.clone()),
        line: first.and_then(|first| first.line),
        column: first.and_then(|first| first.column),
        message: first.map(|first| first.message.clone()),
        said: failure.said.clone(),
        log: failure.log.as_ref().map(|log| log.display().to_string()),
        command: failure.command.clone(),
        because: failure.brought_by.as_ref().map(|condition| board.print(&condition.expr)),
    }
}

fn verified(plan: &Plan, verification: &Verification) -> VerifiedAnswer {
    let Verification { report, files, differences, dropped, .. } = verification;
    let difference = |difference: &boltboard_core::run::Difference| DifferenceAnswer {
        file: difference.file.clone(),
        how: match difference.how {
            Unlike::From(_) => "differs",
            Unlike::Missing => "missing",
            Unlike::Extra => "extra",
        },
        step: difference.step.map(|id| plan.steps[id].name.clone()),
    };
    VerifiedAnswer {
        same: differences.is_empty() && report.failures.is_empty() && !report.interrupted,
        files: *files,
        differences: differences.iter().map(difference).collect(),
        dropped: dropped.len(),
    }
}

impl BuiltAnswer {
    /// Adds what came of other machines.
    pub fn and_workers(self, report: Option<&CrewReport>) -> BuiltAnswer {
        BuiltAnswer { workers: report.map(workers), ..self }
    }
}

/// Answers `build`. Without a plan nothing had to be looked at but status.
pub fn built(
    plan: Option<(&Board, &Plan)>,
    outputs: &Path,
    report: &BuildReport,
    entry: &LedgerEntry,
    verification: Option<&Verification>,
) -> BuiltAnswer {
    let name = |id: &boltboard_core::step::StepId| plan.map(|(_, plan)| plan.steps[*id].name.clone());
    BuiltAnswer {
        format: FORMAT,
        profile: entry.profile.clone(),
        outcome: entry.outcome,
        outputs: outputs.display().to_string(),
        output_bytes: entry.output_bytes,
        wall_ms: entry.wall_ms,
        cpu_ms: entry.cpu_ms,
        steps: entry.steps,
        ran: report.ran.len(),
        away: entry.away,
        reused: report.from_store.len(),
        from_others: entry.shared,
        same_text: report.spared.len(),
        written: report.written.len(),
        current: report.current,
        not_done: report.left,
        removed: report.removed.clone(),
        flaky: report.unsteady.iter().filter_map(name).collect(),
        put_right: report.mended.iter().map(|path| format!("out/{path}")).collect(),
        failures: plan
            .map_or(vec![], |(board, plan)| report.failures.iter().map(|one| failure(board, plan, one)).collect()),
        workers: None,
        verified: plan.zip(verification).map(|((_, plan), verification)| verified(plan, verification)),
    }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct TestsAnswer {
    format: u32,
    passed: usize,
    failed: usize,
    unchanged: usize,
    left_out: usize,
    tests: Vec<TestAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct TestAnswer {
    test: String,
    outcome: &'static str,
    why: Option<String>,
    wall_ms: u64,
    said: String,
    log: Option<String>,
    command: String,
}

/// Answers `test`.
pub fn tests(board: &Board, reports: &[TestReport]) -> TestsAnswer {
    let number = |is: &dyn Fn(&TestOutcome) -> bool| reports.iter().filter(|report| is(&report.outcome)).count();
    let one = |report: &TestReport| {
        let (outcome, why) = match &report.outcome {
            TestOutcome::Passed => ("passed", None),
            TestOutcome::Failed(why) => ("failed", Some(why.clone())),
            TestOutcome::Unchanged => ("unchanged", None),
            TestOutcome::NotThere(condition) => ("left-out", condition.as_ref().map(|c| format!("only while {c}"))),
        };
        TestAnswer {
            test: board.tests[report.test].name.clone(),
            outcome,
            why,
            wall_ms: u64::try_from(report.wall.as_millis()).unwrap_or(u64::MAX),
            said: report.said.clone(),
            log: report.log.as_ref().map(|log| log.display().to_string()),
            command: report.command.clone(),
        }
    };
    TestsAnswer {
        format: FORMAT,
        passed: number(&|outcome| *outcome == TestOutcome::Passed),
        failed: number(&|outcome| matches!(outcome, TestOutcome::Failed(_))),
        unchanged: number(&|outcome| *outcome == TestOutcome::Unchanged),
        left_out: number(&|outcome| matches!(outcome, TestOutcome::NotThere(_))),
        tests: reports.iter().map(one).collect(),
    }
}
