//! What would happen with many workers and many files: a simulation by events, fed with what a build on this machine was measured to take.
//!
//! `simulated [FILES [TIMES]]`: what is measured is a tree of so many files (400), and steps are taken to last so many times longer (1).
//!
//! Three things can be the limit: the first thread of the program that builds, which decides about each step and notes it (one step after
//! the other); its other threads, which send, receive and put away (as many at once as it has processors); and its line (all bytes through
//! one, both ways alike). A step occupies them in turn: decided, sent, over the line, run by its worker, back over the line, received.
//! Links and archives, which run at home, are left out, and so is what they would wait for.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::error::Error;

use super::workers::{Trial, of};

/// How many files the simulated tree has.
const FILES: usize = 500_000;
/// Processors of the machine that builds, and steps at once on each worker.
const CORES: usize = 16;
const JOBS: usize = 16;
/// What a local network does: bytes a second, and seconds there and back. These are assumed.
const LINE: f64 = 1.25e9;
const THERE_AND_BACK: f64 = 0.0002;

/// What one step takes.
#[derive(Debug, Clone)]
struct Costs {
    /// Of the first thread, in seconds.
    decide: f64,
    /// Of the other threads, in seconds.
    send: f64,
    /// Bytes that are sent for each, and that come back.
    moved: (f64, f64),
    /// Bytes that each worker is sent once: headers.
    once: f64,
    /// How long steps last, in seconds.
    steps: Vec<f64>,
}

/// What came of it.
struct Outcome {
    /// In seconds.
    wall: f64,
    /// The share of the time in which each was busy: the first thread, the other threads, the line, the workers.
    busy: [f64; 4],
}

pub fn measured(words: &[String]) -> Result<(), Box<dyn Error>> {
    let number = |at: usize, otherwise: f64| words.get(at).and_then(|word| word.parse().ok()).unwrap_or(otherwise);
    let (files, times) = (number(0, 400.0) as usize, number(1, 1.0));
    let trial = Trial::new(files, None)?;
    let first = trial.away()?;
    let (mut here, mut away) = (Vec::new(), Vec::new());
    for _ in 0..5 {
        here.push(trial.here()?);
        away.push(trial.away()?);
    }
    let all = here[0].steps.len() as f64;
    let sent = of(&away, |took| took.away);
    // What the program takes for a step that it runs itself is part of what it takes for one that it sends.
    let per_step = |took: f64| took / all;
    let decide = per_step(of(&away, |took| took.first));
    let own = of(&away, |took| took.own) / all;
    let again = of(&away, |took| took.moved.0) / sent;
    let costs = Costs {
        decide,
        send: (own - decide).max(0.0),
        moved: (again, of(&away, |took| took.moved.1) / sent),
        once: (first.moved.0 - again * first.away).max(0.0) / 2.0,
        steps: here.iter().flat_map(|took| took.steps.iter().map(|step| step * times)).collect(),
    };
    let mean = costs.steps.iter().sum::<f64>() / costs.steps.len() as f64;
    println!("measured with {files} files and two workers on this machine, a step:");
    println!(
        "  decided in {:.2} ms of the first thread, sent and received in {:.2} ms of others",
        costs.decide * 1e3,
        costs.send * 1e3
    );
    println!(
        "  {:.1} KiB sent, {:.1} KiB back; each worker at first {:.0} KiB; it lasts {:.1} ms{}",
        costs.moved.0 / 1024.0,
        costs.moved.1 / 1024.0,
        costs.once / 1024.0,
        mean * 1e3,
        if times > 1.0 { format!(" ({times} times what was measured)") } else { String::new() }
    );
    println!(
        "simulated: {FILES} files, {JOBS} steps at once on each worker, {CORES} processors at home, 10 Gbit/s, 0.2 ms there and back"
    );
    println!(
        "{:>8} {:>10} {:>8} {:>10} {:>8} {:>8} {:>8}",
        "workers", "time", "faster", "deciding", "sending", "line", "workers"
    );
    let alone = mean * FILES as f64 / JOBS as f64;
    for workers in [1, 4, 16, 64, 256, 1000] {
        let Outcome { wall, busy: [first, others, line, there] } = simulate(&costs, workers);
        println!(
            "{workers:>8} {:>8.0} s {:>8.1} {:>9.0}% {:>7.0}% {:>7.0}% {:>7.0}%",
            wall,
            alone / wall,
            first * 100.0,
            others * 100.0,
            line * 100.0,
            there * 100.0
        );
    }
    Ok(())
}

/// Something that serves some at once, first come, first served.
struct Served {
    free_at: BinaryHeap<Reverse<u64>>,
    busy: f64,
    count: usize,
}

/// Times are counted in nanoseconds, so that they can be put in order.
const UNIT: f64 = 1e9;

impl Served {
    fn by(count: usize) -> Served {
        Served { free_at: (0..count).map(|_| Reverse(0)).collect(), busy: 0.0, count }
    }

    /// Returns when somebody is done who comes at `time` and needs so long.
    fn serve(&mut self, time: u64, seconds: f64) -> u64 {
        let Reverse(free) = self.free_at.pop().unwrap_or(Reverse(0));
        let end = free.max(time) + (seconds * UNIT) as u64;
        self.free_at.push(Reverse(end));
        self.busy += seconds;
        end
    }

    fn share(&self, wall: f64) -> f64 {
        self.busy / wall / self.count as f64
    }
}

/// A step on its way, or a seat of a worker that is free.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Stage {
    Free,
    Decided,
    Sent,
    Arrived,
    Ran,
    Back,
}

fn simulate(costs: &Costs, workers: usize) -> Outcome {
    let mut chance = fastrand::Rng::with_seed(7);
    let (mut first, mut others, mut line) = (Served::by(1), Served::by(CORES), Served::by(1));
    let mut machines: Vec<Served> = (0..workers).map(|_| Served::by(JOBS)).collect();
    // One more waits at each, so that none idles while a result travels.
    let seats = (JOBS + 1) * workers;
    let mut events: BinaryHeap<Reverse<(u64, usize, Stage)>> =
        (0..seats.min(FILES)).map(|seat| Reverse((0, seat, Stage::Free))).collect();
    let (mut begun, mut end) = (0, 0);
    let mut met = vec![false; workers];
    let travels = (THERE_AND_BACK / 2.0 * UNIT) as u64;
    while let Some(Reverse((time, seat, stage))) = events.pop() {
        let worker = seat % workers;
        let next = match stage {
            Stage::Free if begun == FILES => continue,
            Stage::Free => {
                begun += 1;
                (first.serve(time, costs.decide), Stage::Decided)
            }
            Stage::Decided => (others.serve(time, costs.send / 2.0), Stage::Sent),
            Stage::Sent => {
                let once = if std::mem::replace(&mut met[worker], true) { 0.0 } else { costs.once };
                (line.serve(time, (costs.moved.0 + once) / LINE) + travels, Stage::Arrived)
            }
            Stage::Arrived => {
                let step = costs.steps[chance.usize(0..costs.steps.len())];
                (machines[worker].serve(time, step), Stage::Ran)
            }
            Stage::Ran => (line.serve(time, costs.moved.1 / LINE) + travels, Stage::Back),
            Stage::Back => (others.serve(time, costs.send / 2.0), Stage::Free),
        };
        end = end.max(next.0);
        events.push(Reverse((next.0, seat, next.1)));
    }
    let wall = end as f64 / UNIT;
    let there = machines.iter().map(|machine| machine.share(wall)).sum::<f64>() / workers as f64;
    Outcome { wall, busy: [first.share(wall), others.share(wall), line.share(wall), there] }
}
