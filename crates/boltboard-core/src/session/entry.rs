//! What the ledger says of a build.

use std::collections::BTreeMap;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use super::open::Session;
use crate::base::FileError;
use crate::judge::Reason;
use crate::plan::Plan;
use crate::profile::ProfileName;
use crate::run::{BuildReport, Span};
use crate::step::Location;
use crate::work::{Course, CourseSpan, Disk, Folders, Ledger, LedgerEntry, LedgerOutcome, Why};

/// How many reasons of a build the ledger keeps.
const REASONS: usize = 3;
/// How many slow steps.
const SLOWEST: usize = 5;
/// A change is small when one step in so many, or fewer, was touched.
const SMALL: usize = 20;

pub(super) fn millis(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

/// Puts the record of a build together; one whose seal stood has no plan.
pub(super) fn entry_of(
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
    slowest.truncate(SLOWEST);
    LedgerEntry {
        shared: 0,
        started_s: began.duration_since(UNIX_EPOCH).map_or(0, |d| d.as_secs()),
        profile: profile.to_string(),
        outcome: match (report.interrupted, report.failures.is_empty()) {
            (true, _) => LedgerOutcome::Interrupted,
            (false, true) => LedgerOutcome::Done,
            (false, false) => LedgerOutcome::Failed,
        },
        steps: plan.map_or(report.current, Plan::count),
        ran: report.ran.len(),
        away: report.away.len(),
        reused: report.from_store.len(),
        same_text: report.spared.len(),
        flaky: report.unsteady.len(),
        reasons: Vec::new(),
        cpu_ms: millis(report.cpu),
        memory: report.memory,
        disk: Disk::default(),
        wall_ms,
        output_bytes,
        slowest,
    }
}

impl Session {
    /// The reasons for which steps were not current, the most frequent first.
    pub(super) fn main_reasons(&self, plan: &Plan, report: &BuildReport) -> Vec<Why> {
        let mut counts: BTreeMap<Why, usize> = BTreeMap::new();
        if report.new > 0 {
            counts.insert(Why::New, report.new);
        }
        for (_, reasons) in &report.reasons {
            if let Some(own) = reasons.iter().find(|reason| !follows(reason)) {
                *counts.entry(wherever_named(own.why(&self.board, plan))).or_default() += 1;
            }
        }
        let mut reasons: Vec<(Why, usize)> = counts.into_iter().collect();
        reasons.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        reasons.into_iter().take(REASONS).map(|(reason, _)| reason).collect()
    }

    /// What lies on disk. After a small change it is taken to be as it was after the build before: adding up would take longer than
    /// building.
    pub(super) fn disk(&self, folders: &Folders, report: &BuildReport, steps: usize) -> Result<Disk, FileError> {
        let touched = report.ran.len() + report.from_store.len() + report.written.len();
        if touched * SMALL < steps {
            let ledger = Ledger::read(&self.work.ledger())?;
            let profile = self.profile.to_string();
            let known = |entry: &&LedgerEntry| entry.profile == profile && entry.disk != Disk::default();
            if let Some(entry) = ledger.entries.iter().rev().find(known) {
                return Ok(entry.disk);
            }
        }
        Ok(Disk::of(&self.board.tree.source_root, &folders.build, &self.work.store()))
    }
}

/// Whether a reason only follows from what is told elsewhere: what a step reads of another one, and texts of values.
fn follows(reason: &Reason) -> bool {
    let made = |file: &Location| !matches!(file, Location::Tree(_) | Location::System(_));
    match reason {
        Reason::Follows(_) | Reason::Text => true,
        Reason::Edited(file) | Reason::Gone(file) | Reason::Added(file) | Reason::Dropped(file) => made(file),
        Reason::New
        | Reason::Macro { .. }
        | Reason::Looks(_)
        | Reason::Unseen
        | Reason::Appeared(_)
        | Reason::Command { .. }
        | Reason::Tool(_)
        | Reason::ToolUnseen(_)
        | Reason::OutputMissing(_)
        | Reason::OutputEdited(_)
        | Reason::Unsettled => false,
    }
}

/// A macro counts once, in whichever files it is named.
fn wherever_named(why: Why) -> Why {
    match why {
        Why::Option { option, r#macro, before, now, named_in: _ } => {
            Why::Option { option, r#macro, before, now, named_in: None }
        }
        other => other,
    }
}

/// Tells when which step ran.
pub(super) fn course_of(plan: &Plan, report: &BuildReport, started_s: u64) -> Course {
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
