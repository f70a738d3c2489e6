//! A build while it runs and when it is over.

use std::collections::BTreeMap;
use std::path::Path;
use std::time::{Duration, Instant};

use boltboard_core::plan::Plan;
use boltboard_core::run::{BuildReport, Diagnosis, Failure, Ran, Unlike, Verification, Watch};
use boltboard_core::session::{Planned, Resolved};
use boltboard_core::step::{Location, Step, StepId};
use boltboard_core::work::LedgerEntry;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

use super::Screen;
use super::failure::{changed_since, failed, place, subject};
use super::text::{ENDLESS, Role, count, duration, harmless, next_line, paint};
use crate::commands::build::Telling;
use crate::session::Session;

/// How many files that were put right are named.
const MENDED: usize = 5;

/// How often a plain line is written where no bar can be drawn.
const PLAIN_EVERY: Duration = Duration::from_secs(10);
/// How many running steps are named.
const RUNNING_LINES: usize = 8;
/// Draws progress to standard error: one live line on a terminal, else a plain line now and then.
pub struct Progress<'a> {
    session: &'a Session,
    resolved: &'a Resolved,
    planned: &'a Planned,
    bar: ProgressBar,
    jobs: u64,
    screen: Screen,
    told: Instant,
    steps: usize,
    done: usize,
    left_ms: u64,
    began: Instant,
    warnings: usize,
    running: Vec<(StepId, String, Instant)>,
    /// Print each step's command as it starts.
    pub verbose: bool,
    /// What is told.
    pub telling: Telling,
    /// Errors in files that several steps read, with how many steps they broke and why the first of them ran.
    broken: BTreeMap<String, (usize, Option<String>)>,
}

impl<'a> Progress<'a> {
    /// Makes a progress that has not begun.
    pub fn new(
        session: &'a Session,
        resolved: &'a Resolved,
        planned: &'a Planned,
        jobs: usize,
        screen: Screen,
    ) -> Progress<'a> {
        let live = screen.live;
        let target = if live { ProgressDrawTarget::stderr_with_hz(15) } else { ProgressDrawTarget::hidden() };
        let bar = ProgressBar::with_draw_target(Some(0), target);
        let style = ProgressStyle::with_template("{pos:>4} of {len} steps  {bar:24.green/dim}  {msg}");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()).progress_chars(if screen.ascii {
            "##-"
        } else {
            "■■·"
        }));
        Progress {
            session,
            resolved,
            planned,
            bar,
            jobs: u64::try_from(jobs.max(1)).unwrap_or(1),
            screen,
            told: Instant::now(),
            steps: 0,
            done: 0,
            left_ms: 0,
            began: Instant::now(),
            warnings: 0,
            running: Vec::new(),
            verbose: false,
            telling: Telling::All,
            broken: BTreeMap::new(),
        }
    }

    /// Takes the live line away.
    pub fn finish(&self) {
        self.bar.finish_and_clear();
        for (place, (steps, because)) in self.broken.iter().filter(|(_, (steps, _))| *steps > 1) {
            let because = because.as_ref().map_or(String::new(), |because| format!("; {because}"));
            self.screen.remark(&format!("{} {place} broke {steps} files{because}.", paint(Role::Bad, "error:")));
        }
    }

    fn line(&self, text: &str) {
        if self.screen.live {
            self.bar.suspend(|| self.screen.remark(text));
        } else {
            self.screen.remark(text);
        }
    }

    /// How long the rest will take: from earlier runs where they are known, else at the pace so far.
    fn left(&self) -> Option<String> {
        const STEADY: usize = 5;
        let ms = if self.left_ms > 0 {
            self.left_ms / self.jobs
        } else if self.done >= STEADY {
            let elapsed = u64::try_from(self.began.elapsed().as_millis()).unwrap_or(0);
            let rest = u64::try_from(self.steps.saturating_sub(self.done)).unwrap_or(0);
            elapsed * rest / u64::try_from(self.done).unwrap_or(1)
        } else {
            return None;
        };
        (ms > 500).then(|| format!("{} left", duration(ms)))
    }

    fn message(&mut self) {
        if !self.screen.live {
            return;
        }
        let mut told: Vec<String> = self.left().into_iter().collect();
        if self.warnings > 0 {
            told.push(count(self.warnings, "warning", "warnings"));
        }
        let mut message = told.join(", ");
        for (_, name, since) in self.running.iter().take(RUNNING_LINES) {
            let age = duration(u64::try_from(since.elapsed().as_millis()).unwrap_or(0));
            message.push_str(&format!("\n  {age:>7}  {name}"));
        }
        if self.running.len() > RUNNING_LINES {
            message.push_str(&format!("\n           and {} more", self.running.len() - RUNNING_LINES));
        }
        self.bar.set_message(harmless(&message));
    }
}

impl Watch for Progress<'_> {
    fn begins(&mut self, steps: usize) {
        self.steps = steps;
        self.bar.set_length(u64::try_from(steps).unwrap_or(0));
    }

    fn starts(&mut self, id: StepId, step: &Step) {
        self.running.push((id, subject(step), Instant::now()));
        if self.verbose && step.has_process() {
            self.line(&format!(
                "{:<9} {}  {}",
                step.verb(),
                subject(step),
                paint(Role::Faint, self.planned.plan.owner(step))
            ));
        }
        self.message();
    }

    fn ends(&mut self, id: StepId, step: &Step, ran: &Ran, work_left_ms: u64) {
        self.done += 1;
        self.left_ms = work_left_ms;
        self.running.retain(|(running, ..)| *running != id);
        self.bar.set_position(u64::try_from(self.done).unwrap_or(0));
        let said = match ran {
            Ran::Current => "",
            Ran::FromStore { said } | Ran::Spared { said } | Ran::Now { said, .. } => said.trim_end(),
        };
        if self.verbose && matches!(ran, Ran::Spared { .. }) {
            let why = paint(Role::Faint, "its text after preprocessing is the same");
            self.line(&format!("{:<9} {}  {why}", "same text", subject(step)));
        }
        self.warnings += said.matches("warning: ").count();
        let told = matches!(self.telling, Telling::All | Telling::WhenDone);
        if !said.is_empty() && told {
            self.line(&format!("{} {}\n{}", paint(Role::Warn, "output of"), subject(step), said));
        }
        if !self.screen.live && told && self.told.elapsed() > PLAIN_EVERY {
            self.told = Instant::now();
            let left = self.left().map_or(String::new(), |left| format!(", {left}"));
            self.line(&format!("{} of {} steps{left}", self.done, self.steps));
        }
        self.message();
    }

    fn passes(&mut self) {
        self.message();
    }

    fn fails(&mut self, failure: &Failure, step: &Step) {
        if self.telling == Telling::Json {
            return;
        }
        // What many read is told once.
        if let Some(first) = failure.first.as_ref().filter(|first| first.line.is_some() && first.file != subject(step))
        {
            let because = || changed_since(&self.session.board, &self.planned.plan, failure, step);
            let (steps, _) = self.broken.entry(place(first)).or_insert_with(|| (0, because()));
            *steps += 1;
            if *steps > 1 {
                return;
            }
        }
        // It is copied from a terminal, and read by programs elsewhere.
        let width = if self.screen.live { self.screen.width } else { ENDLESS };
        let hints = hints(self.session, self.resolved, self.planned, failure, step);
        self.line(&failed(&self.session.board, &self.planned.plan, failure, step, &hints, width));
    }
}

/// Tells whether a plan makes nothing but generated files.
fn made_only(plan: Option<&Plan>) -> bool {
    let mut made = plan.into_iter().flat_map(|plan| plan.steps.iter()).flat_map(|(_, step)| &step.writes);
    made.all(|file| matches!(file, Location::Made(_)))
}

/// Sums a build up: what there is now and where it lies, then what was done for it. Without a plan, nothing had to be looked at but
/// status. `outputs` is the folder of the finished parts; `parts` are those
/// that were asked for, if not all were.
pub fn summary(
    plan: Option<&Plan>,
    parts: &[String],
    outputs: &Path,
    report: &BuildReport,
    entry: &LedgerEntry,
) -> String {
    let done = done(report);
    let (took, size) = (duration(entry.wall_ms), super::text::bytes(entry.output_bytes));
    if report.interrupted {
        let left = count(report.left, "step", "steps");
        let done = if done.is_empty() { String::new() } else { format!(" {};", done.join(", ")) };
        return format!(
            "{}{done} {left} not done.\n{}",
            paint(Role::Warn, "Interrupted:"),
            next_line("boltboard build", "go on from here")
        );
    }
    if !report.failures.is_empty() {
        let mut all = vec![format!("{} failed", count(report.failures.len(), "step", "steps"))];
        all.extend((report.left > 0).then(|| format!("{} not done", report.left)));
        all.extend(done);
        return format!("{} in {took}: {}.\n", paint(Role::Bad, "Not built"), all.join(", "));
    }
    let place = from_here(outputs);
    if done.is_empty() {
        let all = count(report.current, "step is", "steps are");
        let nothing = if report.mended.is_empty() { "Nothing to do:" } else { "No step had to run:" };
        let nothing = paint(Role::Good, nothing);
        return format!("{}{nothing} all {all} current; {size} in {place} ({took}).\n", mended(report));
    }
    let finished = |plan: &&Plan| plan.rest == 0;
    let has_output = |files: &&Vec<Location>| files.iter().any(|file| matches!(file, Location::Output(_)));
    let what = match plan
        .filter(|plan| parts.is_empty() && finished(plan))
        .map(|plan| plan.parts.values().filter(has_output).count())
    {
        Some(0) if made_only(plan) => "generated files".to_string(),
        Some(0) => "objects".to_string(),
        Some(parts) => format!("{} ({size})", count(parts, "part", "parts")),
        None if !parts.is_empty() => parts.join(", "),
        None => size,
    };
    let mut done = done;
    done.extend((report.current > 0).then(|| format!("{} current", report.current)));
    let mut text = format!("{} {what} into {place} in {took}: {}.\n", paint(Role::Good, "Built"), done.join(", "));
    if let Some(plan) = plan
        && !report.unsteady.is_empty()
    {
        let names: Vec<String> = report.unsteady.iter().map(|id| subject(&plan.steps[*id])).collect();
        let told = paint(Role::Warn, "Flaky:");
        text.push_str(&format!("{told} {} failed beside others and passed alone.\n", names.join(", ")));
    }
    text.push_str(&mended(report));
    let mut slow: Vec<_> = report.ran.iter().filter(|(_, wall)| wall.as_millis() > 200).collect();
    slow.sort_by(|a, b| b.1.cmp(&a.1).then(a.0.cmp(&b.0)));
    if let Some(plan) = plan
        && report.ran.len() > 3
        && !slow.is_empty()
    {
        let names: Vec<String> = slow
            .iter()
            .take(3)
            .map(|(id, wall)| {
                let ms = u64::try_from(wall.as_millis()).unwrap_or(0);
                format!("{} {}", subject(&plan.steps[*id]), duration(ms))
            })
            .collect();
        text.push_str(&paint(Role::Faint, &format!("Slowest: {}.\n", names.join(", "))));
    }
    text
}

/// Says which files were put in place again, though no step had to run.
fn mended(report: &BuildReport) -> String {
    if report.mended.is_empty() {
        return String::new();
    }
    let names: Vec<String> = report.mended.iter().take(MENDED).map(|path| format!("out/{path}")).collect();
    let more = report.mended.len() - names.len();
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let lay = if report.mended.len() == 1 { "was" } else { "were" };
    format!("{} {}{more}, which {lay} changed or gone.\n", paint(Role::Good, "Put right:"), names.join(", "))
}

/// What a failed step's words lead to.
pub fn hints(
    session: &Session,
    resolved: &Resolved,
    planned: &Planned,
    failure: &Failure,
    step: &Step,
) -> Vec<boltboard_core::run::Hint> {
    let folders = planned.tools.target.c.as_ref().map_or(&[][..], |compiler| &compiler.library_folders);
    let diagnosis = Diagnosis {
        board: &session.board,
        resolution: &resolved.resolution,
        facts: &resolved.facts,
        listing: &planned.listing,
        plan: &planned.plan,
        library_folders: folders,
    };
    diagnosis.hints(failure, step)
}

/// How many differences are shown.
const DIFFERENCES: usize = 10;

/// Tells what a comparison with a clean build came to.
pub fn verified(plan: &Plan, verification: &Verification, wall_ms: u64) -> String {
    let Verification { report, files, differences, wrong, dropped } = verification;
    if report.interrupted || !report.failures.is_empty() {
        let why = if report.interrupted { "it was interrupted" } else { "the clean build on the side failed" };
        return format!("{} {why}.\n", paint(Role::Bad, "Not compared:"));
    }
    if differences.is_empty() {
        return format!(
            "{} a clean build on the side made the same {}, byte for byte, in {}.\n",
            paint(Role::Good, "Verified:"),
            count(*files, "file", "files"),
            duration(wall_ms)
        );
    }
    let mut text = format!(
        "{} {} not as in a clean build, of {files} compared.\n",
        paint(Role::Bad, "Different:"),
        count(differences.len(), "file is", "files are")
    );
    for difference in differences.iter().take(DIFFERENCES) {
        let how = match difference.how {
            Unlike::From(byte) => format!("differs from byte {byte} on"),
            Unlike::Missing => "is missing".to_string(),
            Unlike::Extra => "would not be there".to_string(),
        };
        let maker = difference.step.map_or("no step makes it".to_string(), |id| {
            let step = &plan.steps[id];
            format!("made by {} {} ({})", step.verb(), subject(step), plan.owner(step))
        });
        text.push_str(&format!("  {} {how}; {maker}\n", paint(Role::Title, &difference.file)));
    }
    if differences.len() > DIFFERENCES {
        text.push_str(&format!("  and {} more\n", differences.len() - DIFFERENCES));
    }
    for (id, unknown) in wrong.iter().take(DIFFERENCES) {
        let step = &plan.steps[*id];
        let cause = match unknown.as_slice() {
            [] => "reads the same as before: does it write other bytes each time, such as a date or a random name?"
                .to_string(),
            [one] => format!("depends on {one}, which was not known"),
            [one, more @ ..] => format!("depends on {one} and {} more, which were not known", more.len()),
        };
        text.push_str(&format!("  {} {} {} {cause}\n", paint(Role::Faint, "cause:"), step.verb(), subject(step)));
    }
    if !dropped.is_empty() {
        text.push_str(&format!(
            "The results of {} were dropped, here and in the store.\n",
            count(dropped.len(), "step", "steps")
        ));
        text.push_str(&next_line("boltboard build", "make them again"));
    }
    text
}

/// What was done, without what was not.
fn done(report: &BuildReport) -> Vec<String> {
    let some = |number: usize, text: &dyn Fn(usize) -> String| (number > 0).then(|| text(number));
    let parts = [
        some(report.ran.len(), &|n| format!("{} ran", count(n, "step", "steps"))),
        some(report.from_store.len(), &|n| format!("{n} reused")),
        some(report.spared.len(), &|n| format!("{n} of the same text")),
        some(report.written.len(), &|n| format!("{} written", count(n, "file", "files"))),
        some(report.removed.len(), &|n| format!("{} removed", count(n, "stale file", "stale files"))),
    ];
    parts.into_iter().flatten().collect()
}

/// A path as a person types it here.
fn from_here(path: &Path) -> String {
    let here = std::env::current_dir().unwrap_or_default();
    path.strip_prefix(&here).unwrap_or(path).display().to_string()
}
