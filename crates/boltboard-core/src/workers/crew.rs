//! All workers of a build: reached beside it, given back at its end.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use super::config::{CrewConfig, Reach};
use super::held;
use super::serve::BEAT;
use super::slurm::{Allocation, Wanted, lead_to};
use super::worker::Worker;
use crate::base::shell_word;

/// This program, as it is started on other machines.
#[derive(Debug, Clone, Copy)]
pub struct OwnWords<'a> {
    /// Its file here.
    pub file: &'a Path,
    /// The word that starts it as a worker.
    pub serve: &'a str,
    /// The word that has it hold an allocation.
    pub hold: &'a str,
}

/// How often it is looked whether something has come about.
const TICK: Duration = Duration::from_millis(50);
/// How long it may take to let go what is just being reached.
const TO_LET_GO: Duration = Duration::from_secs(2);
/// Why there are no machines of a workload manager that did not say no.
const QUEUED: &str = "the request was still in the queue when everything was done";

/// The workers of a build. They come when they can be reached; the build does not wait for them.
#[derive(Debug)]
pub struct Crew {
    inner: Arc<Inner>,
    /// What reaches them.
    reaching: Vec<JoinHandle<()>>,
}

#[derive(Debug, Default)]
struct Inner {
    workers: Mutex<Vec<Arc<Worker>>>,
    /// Those that could not be reached, with why.
    unreached: Mutex<Vec<(String, String)>>,
    allocation: Mutex<Option<Allocation>>,
    /// What made results not count, with how often.
    not_counted: Mutex<BTreeMap<String, usize>>,
    /// Why steps were not sent, with how many.
    stayed: Mutex<BTreeMap<String, usize>>,
    ended: AtomicBool,
}

/// A free place at a worker, until it is dropped.
#[derive(Debug)]
pub struct Seat {
    /// The worker.
    pub worker: Arc<Worker>,
    /// Which place.
    pub number: usize,
}

impl Drop for Seat {
    fn drop(&mut self) {
        self.worker.free_seat(self.number);
    }
}

/// What came of the workers of a build.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CrewReport {
    /// Those that were reached, by name.
    pub workers: Vec<WorkerReport>,
    /// Those that were not, with why.
    pub unreached: Vec<(String, String)>,
    /// What made results not count, each once, with how often.
    pub not_counted: Vec<(String, usize)>,
    /// How many steps were not sent because of what they may read.
    pub stayed: usize,
    /// Why the first of them was not, in the order of reasons.
    pub stayed_for: Option<String>,
}

/// What came of one worker.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WorkerReport {
    /// Its name.
    pub name: String,
    /// The machine's name for itself.
    pub host: String,
    /// How many steps it ran at once.
    pub jobs: usize,
    /// How many results were taken from it.
    pub steps: usize,
    /// What was sent to it, in bytes.
    pub sent: u64,
    /// What came from it, in bytes.
    pub got: u64,
    /// Why it was given up, if so.
    pub lost: Option<String>,
}

impl Crew {
    /// Begins to reach all workers.
    pub fn start(config: &CrewConfig, own: OwnWords<'_>) -> Crew {
        let inner = Arc::new(Inner::default());
        let mut reaching = Vec::new();
        let program = config.program.clone().unwrap_or_else(|| own.file.display().to_string());
        let mut worker = vec![program.clone(), own.serve.to_string()];
        worker.extend(config.folder.clone());
        match &config.reach {
            Reach::Hosts { hosts, command } => {
                for (number, host) in hosts.iter().enumerate() {
                    let (shell, first) = (command.clone(), worker.clone());
                    let (inner, host, jobs) = (Arc::clone(&inner), host.clone(), config.jobs);
                    let again = hosts[..number].iter().filter(|other| **other == host).count();
                    let name = if again == 0 { host.clone() } else { format!("{host} ({})", again + 1) };
                    reaching.push(std::thread::spawn(move || {
                        let mut words = shell.into_iter();
                        let mut remote = Command::new(words.next().unwrap_or_default());
                        let line: Vec<String> = first.iter().map(|word| shell_word(word)).collect();
                        remote.args(words).arg(&host).arg(line.join(" "));
                        inner.reach(&name, remote, jobs);
                    }));
                }
            }
            Reach::Slurm { workers, options } => {
                let hold = [program, own.hold.into()];
                let wanted = Wanted { workers: *workers, jobs: config.jobs, options, hold: &hold };
                match Allocation::ask(&wanted) {
                    Ok(mut allocation) => {
                        let wait = allocation.waiting();
                        *held(&inner.allocation) = Some(allocation);
                        let (inner, count, jobs) = (Arc::clone(&inner), *workers, config.jobs);
                        reaching.push(std::thread::spawn(move || inner.reach_allocated(wait, count, jobs, &worker)));
                    }
                    Err(why) => held(&inner.unreached).push(("slurm".into(), why)),
                }
            }
        }
        let keeping = Arc::clone(&inner);
        std::thread::spawn(move || keeping.keep());
        Crew { inner, reaching }
    }

    /// Returns a free place at a worker, at the one that has most.
    pub fn seat(&self) -> Option<Seat> {
        let workers = held(&self.inner.workers);
        let able = workers.iter().filter(|worker| worker.gone().is_none());
        let worker = able.min_by_key(|worker| worker.taken() * 1000 / (worker.jobs() + 1))?;
        Some(Seat { number: worker.take_seat()?, worker: Arc::clone(worker) })
    }

    /// Notes why a result does not count.
    pub fn not_counted(&self, why: String) {
        *held(&self.inner.not_counted).entry(why).or_default() += 1;
    }

    /// Notes why a step was not sent.
    pub fn stays(&self, why: String) {
        *held(&self.inner.stayed).entry(why).or_default() += 1;
    }

    /// Waits until everybody was reached who can be, but no longer than this.
    pub fn wait(&self, limit: Duration, stopped: &dyn Fn() -> bool) {
        let began = Instant::now();
        while began.elapsed() < limit && !stopped() && self.reaching.iter().any(|thread| !thread.is_finished()) {
            std::thread::sleep(TICK);
        }
    }

    /// Returns those that were reached.
    pub fn workers(&self) -> Vec<Arc<Worker>> {
        let mut all = held(&self.inner.workers).clone();
        all.sort_by(|a, b| a.name().cmp(b.name()));
        all
    }

    /// Ends all workers and gives everything back.
    pub fn end(self) -> CrewReport {
        if held(&self.inner.allocation).as_ref().is_some_and(Allocation::is_waiting) {
            held(&self.inner.unreached).push(("slurm".into(), QUEUED.into()));
        }
        self.inner.ended.store(true, Ordering::SeqCst);
        let report = self.report();
        let workers = self.workers();
        std::thread::scope(|scope| {
            workers.iter().filter(|worker| worker.gone().is_none()).for_each(|worker| {
                scope.spawn(|| worker.end());
            });
        });
        if let Some(allocation) = held(&self.inner.allocation).as_mut() {
            allocation.end();
        }
        // What is just being reached is let go in a moment.
        self.wait(TO_LET_GO, &|| false);
        report
    }

    fn report(&self) -> CrewReport {
        let of = |worker: &Arc<Worker>| {
            let (sent, got) = worker.bytes();
            WorkerReport {
                name: worker.name().into(),
                host: worker.hello().host.clone(),
                jobs: worker.jobs(),
                steps: worker.steps(),
                sent,
                got,
                lost: worker.gone().map(String::from),
            }
        };
        let mut unreached = held(&self.inner.unreached).clone();
        unreached.sort();
        let stayed = held(&self.inner.stayed);
        CrewReport {
            workers: self.workers().iter().map(of).collect(),
            unreached,
            not_counted: held(&self.inner.not_counted).clone().into_iter().collect(),
            stayed: stayed.values().sum(),
            stayed_for: stayed.keys().next().cloned(),
        }
    }
}

impl Inner {
    fn reach(&self, name: &str, command: Command, jobs: Option<usize>) {
        match Worker::reach(name, command, jobs, &self.ended) {
            Ok(worker) if self.ended.load(Ordering::SeqCst) => worker.end(),
            Ok(worker) => held(&self.workers).push(worker),
            Err(_) if self.ended.load(Ordering::SeqCst) => {}
            Err(why) => held(&self.unreached).push((name.into(), why)),
        }
    }

    fn reach_allocated(
        self: &Arc<Inner>,
        wait: impl FnOnce() -> Result<String, String>,
        count: usize,
        jobs: Option<usize>,
        worker: &[String],
    ) {
        match wait() {
            Ok(number) => {
                if let Some(allocation) = held(&self.allocation).as_mut() {
                    allocation.is_granted();
                }
                std::thread::scope(|scope| {
                    for machine in 0..count {
                        let number = &number;
                        scope.spawn(move || {
                            let command = lead_to(number, machine, jobs, worker);
                            self.reach(&format!("slurm {number}.{machine}"), command, jobs);
                        });
                    }
                });
            }
            Err(_) if self.ended.load(Ordering::SeqCst) => {}
            Err(why) => {
                if let Some(allocation) = held(&self.allocation).as_mut() {
                    allocation.is_refused();
                }
                held(&self.unreached).push(("slurm".into(), why));
            }
        }
    }

    /// Keeps up the connections until the end.
    fn keep(&self) {
        let mut waited = Duration::ZERO;
        while !self.ended.load(Ordering::SeqCst) {
            std::thread::sleep(TICK);
            waited += TICK;
            if waited >= BEAT {
                waited = Duration::ZERO;
                let workers = held(&self.workers).clone();
                workers.iter().for_each(|worker| worker.beat());
            }
        }
    }
}
