//! Answers about builds.

use boltboard_core::plan::Plan;
use boltboard_core::session::HandingAhead;

use boltboard_core::judge::{Preview, Verdict, Work, WorkKnown};

use boltboard_core::work::{Disk, Ledger, LedgerEntry, LedgerOutcome, Why};
use serde::Serialize;

use super::FORMAT;
use crate::session::Session;

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct PreviewAnswer {
    format: u32,
    profile: String,
    jobs: usize,
    current: usize,
    expected_work_ms: Option<u64>,
    most_work_ms: Option<u64>,
    expectation_guessed: bool,
    steps: Vec<StepAnswer>,
    stale: Vec<String>,
    put_right: Vec<String>,
    new_records: usize,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct StepAnswer {
    step: String,
    does: &'static str,
    source: Option<String>,
    part: String,
    verdict: &'static str,
    reasons: Vec<Why>,
    expected_ms: u64,
    may_be_same_text: bool,
}

/// Answers `preview`.
pub fn preview(
    session: &Session,
    plan: &Plan,
    (preview, handing): (&Preview, &HandingAhead),
    jobs: usize,
) -> PreviewAnswer {
    let steps = preview.steps.iter().map(|s| {
        let step = &plan.steps[s.step];
        StepAnswer {
            step: step.name.clone(),
            does: step.verb(),
            source: step.source().map(ToString::to_string),
            part: plan.owner(step).to_string(),
            verdict: match s.verdict {
                Verdict::Current => "current",
                Verdict::FromStore(_) => "reused",
                Verdict::Run => "run",
                Verdict::Follows => "follows",
            },
            reasons: s.reasons.iter().map(|r| r.why(&session.board, plan)).collect(),
            expected_ms: s.timing.ms(),
            may_be_same_text: s.may_be_spared,
        }
    });
    let Work { sure_ms, most_ms, known } = preview.work();
    let told = known != WorkKnown::Unknown;
    PreviewAnswer {
        format: FORMAT,
        profile: session.profile.to_string(),
        jobs,
        current: preview.current,
        expected_work_ms: told.then_some(sure_ms),
        most_work_ms: told.then_some(most_ms),
        expectation_guessed: known != WorkKnown::Measured,
        steps: steps.collect(),
        stale: preview.stale.clone(),
        put_right: handing.amiss.iter().map(|(path, _)| format!("out/{path}")).collect(),
        new_records: handing.records,
    }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct LedgerAnswer {
    format: u32,
    builds: Vec<BuildAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct BuildAnswer {
    started_s: u64,
    profile: String,
    outcome: LedgerOutcome,
    steps: usize,
    ran: usize,
    reused: usize,
    same_text: usize,
    flaky: usize,
    reasons: Vec<Why>,
    wall_ms: u64,
    cpu_ms: u64,
    memory_bytes: u64,
    output_bytes: u64,
    disk: Disk,
    slowest: Vec<SlowAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct SlowAnswer {
    step: String,
    wall_ms: u64,
}

impl From<&LedgerEntry> for BuildAnswer {
    fn from(entry: &LedgerEntry) -> BuildAnswer {
        let slow = |(step, wall_ms): &(String, u64)| SlowAnswer { step: step.clone(), wall_ms: *wall_ms };
        BuildAnswer {
            started_s: entry.started_s,
            profile: entry.profile.clone(),
            outcome: entry.outcome,
            steps: entry.steps,
            ran: entry.ran,
            reused: entry.reused,
            same_text: entry.same_text,
            flaky: entry.flaky,
            reasons: entry.reasons.clone(),
            wall_ms: entry.wall_ms,
            cpu_ms: entry.cpu_ms,
            memory_bytes: entry.memory,
            disk: entry.disk,
            output_bytes: entry.output_bytes,
            slowest: entry.slowest.iter().map(slow).collect(),
        }
    }
}

/// Answers `ledger`.
pub fn ledger(ledger: &Ledger) -> LedgerAnswer {
    LedgerAnswer { format: FORMAT, builds: ledger.entries.iter().map(BuildAnswer::from).collect() }
}
