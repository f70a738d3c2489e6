//! Several builds of one tree held against each other by running the same command on each: what differs, and what is only noise.

mod rank;

use std::time::Duration;

use crate::launch::{Exit, Job, Launch, LaunchError, Used};

pub use rank::{MOST_CHANCE, chance};

/// One run of the command.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Run {
    /// How it ended.
    pub exit: Exit,
    /// How long it ran.
    pub wall: Duration,
    /// What it took of the machine.
    pub used: Used,
}

/// The runs on one build, in their order; those that only warm up are not among them.
#[derive(Debug, Clone, Default)]
pub struct Runs {
    /// The runs.
    pub runs: Vec<Run>,
    /// What the first run that failed said last.
    pub said: String,
}

/// A quantity of several runs.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Spread {
    /// The least.
    pub least: f64,
    /// The one in the middle.
    pub median: f64,
    /// The most.
    pub most: f64,
}

impl Spread {
    /// Of numbers; `None` of none.
    pub fn of(numbers: &[f64]) -> Option<Spread> {
        let mut sorted = numbers.to_vec();
        sorted.sort_by(f64::total_cmp);
        let middle = sorted.len() / 2;
        let median = match sorted.len() {
            0 => return None,
            length if length % 2 == 1 => sorted[middle],
            _ => f64::midpoint(sorted[middle - 1], sorted[middle]),
        };
        Some(Spread { least: sorted[0], median, most: sorted[sorted.len() - 1] })
    }
}

impl Runs {
    /// Tells whether every run ended with success.
    pub fn all_succeeded(&self) -> bool {
        self.runs.iter().all(|run| run.exit == Exit::Code(0))
    }

    /// How long the runs took, in milliseconds.
    pub fn walls(&self) -> Vec<f64> {
        self.runs.iter().map(|run| run.wall.as_secs_f64() * 1000.0).collect()
    }

    /// How much processor time they took, in milliseconds.
    pub fn cpus(&self) -> Vec<f64> {
        self.runs.iter().map(|run| run.used.cpu.as_secs_f64() * 1000.0).collect()
    }

    /// How much memory they took at most, in bytes.
    pub fn memories(&self) -> Vec<f64> {
        self.runs.iter().map(|run| run.used.memory as f64).collect()
    }
}

/// What a trial runs.
pub struct Trial<'a> {
    /// Starts the runs.
    pub launch: &'a dyn Launch,
    /// The command on each build.
    pub jobs: Vec<Job>,
    /// How often each is run and measured.
    pub rounds: usize,
    /// How often each is run before that.
    pub warm_ups: usize,
}

/// Runs the command on each build in turn, round after round, so that what changes on the machine meanwhile falls on all of them. A build on
/// which it does not succeed is not run again. `told` hears of each run before it starts: the build, and which round of how many.
///
/// # Errors
/// A command could not be started.
pub fn run(trial: &Trial<'_>, told: &mut dyn FnMut(usize, usize, usize)) -> Result<Vec<Runs>, LaunchError> {
    let mut all = vec![Runs::default(); trial.jobs.len()];
    let rounds = trial.warm_ups + trial.rounds;
    for round in 0..rounds {
        for (at, job) in trial.jobs.iter().enumerate() {
            if !all[at].said.is_empty() || !all[at].all_succeeded() {
                continue;
            }
            told(at, round + 1, rounds);
            let outcome = trial.launch.run(job)?;
            let failed = outcome.exit != Exit::Code(0);
            if failed {
                let words = if outcome.stderr.is_empty() { &outcome.stdout } else { &outcome.stderr };
                let words = String::from_utf8_lossy(words);
                all[at].said = words.trim_end().lines().next_back().unwrap_or_default().to_string();
            }
            if round >= trial.warm_ups || failed {
                all[at].runs.push(Run { exit: outcome.exit, wall: outcome.wall, used: outcome.used });
            }
            if outcome.exit == Exit::Stopped {
                return Ok(all);
            }
        }
    }
    Ok(all)
}

/// Returns which of several lists of numbers is the least beyond the noise: its median is the least, and of no other list it is likely to be
/// the same by chance. `None` where no list stands out.
pub fn best(lists: &[Vec<f64>]) -> Option<usize> {
    let medians: Vec<(usize, f64)> =
        lists.iter().enumerate().filter_map(|(at, list)| Some((at, Spread::of(list)?.median))).collect();
    let (best, _) = medians.iter().copied().min_by(|one, other| one.1.total_cmp(&other.1))?;
    let beyond = |(at, _): &(usize, f64)| *at == best || chance(&lists[best], &lists[*at]) <= MOST_CHANCE;
    (medians.len() > 1 && medians.iter().all(beyond)).then_some(best)
}

#[cfg(test)]
mod tests;
