//! A build while it runs and when it is over.

use std::path::Path;
use std::time::{Duration, Instant};

use boltboard_core::board::Board;
use boltboard_core::plan::Plan;

use boltboard_core::run::{BuildReport, Failure, Ran, Unlike, Verification, Watch};
use boltboard_core::step::{Location, Step, StepId};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

use super::text::{Role, count, duration, paint};

/// How often a plain line is written where no bar can be drawn.
const PLAIN_EVERY: Duration = Duration::from_secs(10);
/// How many running steps are named.
const RUNNING_LINES: usize = 8;
/// How many lines of what a step said are shown.
const SAID_LINES: usize = 30;

/// Draws progress to standard error: one live line on a terminal, else a plain line now and then.
pub struct Progress<'a> {
    board: &'a Board,
    plan: &'a Plan,
    bar: ProgressBar,
    jobs: u64,
    live: bool,
    told: Instant,
    steps: usize,
    done: usize,
    left_ms: u64,
    began: Instant,
    warnings: usize,
    running: Vec<(StepId, String, Instant)>,
    /// Print each step's command as it starts.
    pub verbose: bool,
    /// Print nothing but failures.
    pub quiet: bool,
}

impl<'a> Progress<'a> {
    /// Makes a progress that has not begun.
    pub fn new(board: &'a Board, plan: &'a Plan, jobs: usize, live: bool) -> Progress<'a> {
        let target = if live { ProgressDrawTarget::stderr_with_hz(15) } else { ProgressDrawTarget::hidden() };
        let bar = ProgressBar::with_draw_target(Some(0), target);
        let style = ProgressStyle::with_template("{pos:>4} of {len} steps  {bar:24.green/dim}  {msg}");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()).progress_chars("■■·"));
        Progress {
            board,
            plan,
            bar,
            jobs: u64::try_from(jobs.max(1)).unwrap_or(1),
            live,
            told: Instant::now(),
            steps: 0,
            done: 0,
            left_ms: 0,
            began: Instant::now(),
            warnings: 0,
            running: Vec::new(),
            verbose: false,
            quiet: false,
        }
    }

    /// Takes the live line away.
    pub fn finish(&self) {
        self.bar.finish_and_clear();
    }

    fn line(&self, text: &str) {
        if self.live {
            self.bar.suspend(|| write_error(text));
        } else {
            write_error(text);
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
        if !self.live {
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
        self.bar.set_message(message);
    }
}

fn write_error(text: &str) {
    use std::io::Write;
    let _ = anstream::stderr().lock().write_all(format!("{text}\n").as_bytes());
}

fn subject(step: &Step) -> String {
    step.source().map_or_else(|| step.name.clone(), |source| source.to_string())
}

impl Watch for Progress<'_> {
    fn begins(&mut self, steps: usize) {
        self.steps = steps;
        self.bar.set_length(u64::try_from(steps).unwrap_or(0));
    }

    fn starts(&mut self, id: StepId, step: &Step) {
        self.running.push((id, subject(step), Instant::now()));
        if self.verbose && step.has_process() {
            self.line(&format!("{:<9} {}  {}", step.verb(), subject(step), paint(Role::Faint, self.plan.owner(step))));
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
        if !said.is_empty() && !self.quiet {
            self.line(&format!("{} {}\n{}", paint(Role::Warn, "said by"), subject(step), said));
        }
        if !self.live && !self.quiet && self.told.elapsed() > PLAIN_EVERY {
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
        self.line(&failed(self.board, self.plan, failure, step));
    }
}

/// Tells of a failed step: the first error with its place, what brought the file in, the command that repeats it.
pub fn failed(board: &Board, plan: &Plan, failure: &Failure, step: &Step) -> String {
    let mut text = format!(
        "{} {} {} of part {}\n",
        paint(Role::Bad, "failed:"),
        step.verb(),
        paint(Role::Title, &subject(step)),
        plan.owner(step)
    );
    text.push_str(&format!("  {}\n", failure.cause));
    if let Some(first) = &failure.first {
        let number = |n: Option<usize>| n.map_or(String::new(), |n| format!(":{n}"));
        let place = format!("{}{}{}", first.file, number(first.line), number(first.column));
        text.push_str(&format!(
            "  {} {place}: {}\n",
            paint(Role::Bad, "first error:"),
            paint(Role::Title, &first.message)
        ));
    }
    if let Some(condition) = &failure.brought_by {
        text.push_str(&format!(
            "  it is in the build because {} holds\n",
            paint(Role::Name, &board.print(&condition.expr))
        ));
    }
    let lines: Vec<&str> = failure.said.lines().collect();
    for line in lines.iter().take(SAID_LINES) {
        text.push_str(&format!("    {line}\n"));
    }
    if lines.len() > SAID_LINES {
        text.push_str(&format!("    and {} more lines in the log\n", lines.len() - SAID_LINES));
    }
    if let Some(log) = &failure.log {
        text.push_str(&format!("  {} {}\n", paint(Role::Faint, "log:"), log.display()));
    }
    if !failure.command.is_empty() {
        text.push_str(&format!("  {} {}", paint(Role::Faint, "command:"), failure.command));
    }
    text.trim_end().to_string()
}

/// Sums a build up: what there is now and where it lies, then what was done for it. Without a plan, nothing had to be looked at but
/// status. `outputs` is the folder of the finished parts.
pub fn summary(plan: Option<&Plan>, outputs: &Path, report: &BuildReport, wall_ms: u64, output_bytes: u64) -> String {
    let done = done(report);
    let (took, size) = (duration(wall_ms), super::text::bytes(output_bytes));
    if report.interrupted {
        let left = count(report.left, "step", "steps");
        let done = if done.is_empty() { String::new() } else { format!(" {};", done.join(", ")) };
        return format!(
            "{}{done} {left} not done. Build again to go on from here.\n",
            paint(Role::Warn, "Interrupted:")
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
        return format!("{} all {all} current; {size} in {place} ({took}).\n", paint(Role::Good, "Nothing to do:"));
    }
    let finished = |plan: &&Plan| plan.rest == 0;
    let has_output = |files: &&Vec<Location>| files.iter().any(|file| matches!(file, Location::Output(_)));
    let what = match plan.filter(finished).map(|plan| plan.parts.values().filter(has_output).count()) {
        Some(0) => "objects".to_string(),
        Some(parts) => format!("{} ({size})", count(parts, "part", "parts")),
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
            [] => {
                "looks at the same as before: does it give other bytes each time (a date, a random name)?".to_string()
            }
            [one] => format!("looks at {one}, which was not known"),
            [one, more @ ..] => format!("looks at {one} and {} more, which were not known", more.len()),
        };
        text.push_str(&format!("  {} {} {} {cause}\n", paint(Role::Faint, "cause:"), step.verb(), subject(step)));
    }
    if !dropped.is_empty() {
        text.push_str(&format!(
            "The results of {} were dropped, here and in the store.\n{} boltboard build   make them again\n",
            count(dropped.len(), "step", "steps"),
            paint(Role::Faint, "→")
        ));
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
