//! Tests of the tree while they run and when they are over.

use std::time::{Duration, Instant};

use boltboard_core::board::{Board, TestId};
use boltboard_core::run::{TestEvent, TestOutcome, TestReport};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

use super::Screen;
use super::text::{Role, count, duration, pad, paint};

/// From when on a test that runs is named where no line can be drawn anew, and how often.
const LONG: Duration = Duration::from_secs(10);

/// Tells of tests while they run.
pub struct Course<'a> {
    board: &'a Board,
    screen: &'a Screen,
    /// Whether nothing is told but the answer.
    silent: bool,
    bar: ProgressBar,
    running: Vec<(TestId, Instant)>,
    told: Instant,
}

fn millis(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

impl<'a> Course<'a> {
    /// One that has not begun.
    pub fn new(board: &'a Board, screen: &'a Screen, silent: bool) -> Course<'a> {
        let live = screen.live && !silent;
        let target = if live { ProgressDrawTarget::stderr_with_hz(5) } else { ProgressDrawTarget::hidden() };
        let bar = ProgressBar::with_draw_target(None, target);
        bar.set_style(ProgressStyle::with_template("{msg}").unwrap_or_else(|_| ProgressStyle::default_spinner()));
        Course { board, screen, silent, bar, running: Vec::new(), told: Instant::now() }
    }

    /// Tells what happens.
    pub fn tell(&mut self, event: &TestEvent<'_>) {
        if self.silent {
            return;
        }
        match event {
            TestEvent::Starts(test) => self.running.push((*test, Instant::now())),
            TestEvent::Ends(report) => {
                self.running.retain(|(test, _)| *test != report.test);
                let text = one(self.board, report);
                self.bar.suspend(|| self.screen.out(&text));
            }
            TestEvent::Passes => {}
        }
        self.age();
    }

    /// Names the tests that run, with their age.
    fn age(&mut self) {
        let names: Vec<String> = self
            .running
            .iter()
            .map(|(test, since)| format!("{} {}", self.board.tests[*test].name, duration(millis(since.elapsed()))))
            .collect();
        if self.screen.live {
            self.bar.set_message(if names.is_empty() {
                String::new()
            } else {
                format!("running: {}", names.join(", "))
            });
        } else if self.told.elapsed() > LONG && self.running.iter().any(|(_, since)| since.elapsed() > LONG) {
            self.told = Instant::now();
            self.screen.remark(&format!("running: {}", names.join(", ")));
        }
    }

    /// Takes the live line away.
    pub fn finish(&self) {
        self.bar.finish_and_clear();
    }
}

/// Tells of one test that has ended; of one that failed with its words, its log and how to run it again.
fn one(board: &Board, report: &TestReport) -> String {
    let test = &board.tests[report.test];
    let (word, more) = match &report.outcome {
        TestOutcome::Passed => (paint(Role::Good, &pad("passed", 9)), String::new()),
        TestOutcome::Failed(why) => (paint(Role::Bad, &pad("failed", 9)), format!("  {why}")),
        TestOutcome::Unchanged => (paint(Role::Faint, &pad("unchanged", 9)), String::new()),
        TestOutcome::NotThere(Some(condition)) => {
            (paint(Role::Faint, &pad("left out", 9)), format!("  runs only while {condition}"))
        }
        TestOutcome::NotThere(None) => (paint(Role::Faint, &pad("left out", 9)), String::new()),
    };
    let ran = matches!(report.outcome, TestOutcome::Passed | TestOutcome::Failed(_));
    let time = if ran { duration(millis(report.wall)) } else { String::new() };
    let line = format!("{word} {}  {}{more}", pad(&test.name, 16), paint(Role::Faint, &time));
    let mut text = format!("{}\n", line.trim_end());
    if matches!(report.outcome, TestOutcome::Failed(_)) {
        report.said.lines().for_each(|line| text.push_str(&format!("    {line}\n")));
        if let Some(log) = &report.log {
            text.push_str(&format!("  {} {}\n", paint(Role::Faint, "log:"), log.display()));
        }
        if !report.command.is_empty() {
            text.push_str(&format!("  {} {}\n", paint(Role::Faint, "command:"), report.command));
        }
    }
    text
}

/// Sums tests up.
pub fn summary(reports: &[TestReport]) -> String {
    let number = |is: &dyn Fn(&TestOutcome) -> bool| reports.iter().filter(|report| is(&report.outcome)).count();
    let failed = number(&|outcome| matches!(outcome, TestOutcome::Failed(_)));
    let passed = number(&|outcome| *outcome == TestOutcome::Passed);
    let told = match number(&|outcome| *outcome == TestOutcome::Unchanged) {
        0 => String::new(),
        n => format!(", {n} unchanged since they passed (--all runs them too)"),
    };
    format!("{} passed, {failed} failed{told}\n", count(passed, "test", "tests"))
}
