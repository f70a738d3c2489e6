//! One allocation of the Slurm workload manager, asked for and given back through its public commands.
//!
//! `salloc` runs a program of ours that only holds the allocation: it ends as soon as nobody listens to it, however this one ended, and
//! with it the allocation. What the manager says of how anything ended is never taken for a result.

use std::io::{BufRead, BufReader, Read};
use std::os::unix::process::CommandExt;
use std::process::{Child, ChildStdin, Command, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};

/// How long the manager may take to take an allocation back.
const TO_END: Duration = Duration::from_secs(5);
/// The name of our allocations in its lists.
const NAME: &str = "boltboard";

/// What is asked for.
pub(super) struct Wanted<'a> {
    /// How many machines.
    pub workers: usize,
    /// How many processors of each.
    pub jobs: Option<usize>,
    /// Further words of the manager's own.
    pub options: &'a [String],
    /// The command that holds the allocation.
    pub hold: &'a [String],
}

/// An allocation, or the request for one.
#[derive(Debug)]
pub(super) struct Allocation {
    child: Child,
    /// As long as this is open, it is held.
    held: Option<ChildStdin>,
    granted: bool,
    refused: bool,
}

impl Allocation {
    /// Asks for it.
    ///
    /// # Errors
    /// The manager's command cannot be started; in words.
    pub fn ask(wanted: &Wanted<'_>) -> Result<Allocation, String> {
        let mut command = Command::new("salloc");
        command.args(["--quiet", "--no-kill", "--job-name", NAME]);
        command.args([format!("--nodes={}", wanted.workers), format!("--ntasks={}", wanted.workers)]);
        command.args(["--ntasks-per-node=1"]);
        command.args(wanted.jobs.map(|jobs| format!("--cpus-per-task={jobs}")));
        command.args(wanted.options).arg("--").args(wanted.hold);
        let piped = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = piped.process_group(0).spawn().map_err(|e| match e.kind() {
            std::io::ErrorKind::NotFound => "there is no `salloc` here: no Slurm is installed".to_string(),
            _ => format!("salloc cannot be started: {e}"),
        })?;
        Ok(Allocation { held: child.stdin.take(), child, granted: false, refused: false })
    }

    /// Returns what waits until it is granted, and then returns its number; else what the manager says.
    pub fn waiting(&mut self) -> impl FnOnce() -> Result<String, String> + use<> {
        let (from, complaints) = (self.child.stdout.take(), self.child.stderr.take());
        move || {
            let mut line = String::new();
            let read = from.map(|from| BufReader::new(from).read_line(&mut line));
            let number = line.trim();
            if matches!(read, Some(Ok(1..))) && !number.is_empty() && number.chars().all(|c| c.is_ascii_digit()) {
                return Ok(number.to_string());
            }
            let mut said = String::new();
            if let Some(complaints) = complaints {
                let _ = complaints.take(4096).read_to_string(&mut said);
            }
            let lines: Vec<&str> = said.lines().map(|line| line.trim().trim_start_matches("salloc: ")).collect();
            Err(if lines.is_empty() { "the allocation was refused".into() } else { lines.join("; ") })
        }
    }

    /// Tells whether it is still waited for.
    pub fn is_waiting(&self) -> bool {
        !self.granted && !self.refused
    }

    /// Notes that it was refused.
    pub fn is_refused(&mut self) {
        self.refused = true;
    }

    /// Notes that it is granted.
    pub fn is_granted(&mut self) {
        self.granted = true;
    }

    /// Gives it back.
    pub fn end(&mut self) {
        drop(self.held.take());
        if !self.granted {
            self.signal(Signal::TERM);
        }
        for signal in [Signal::TERM, Signal::KILL] {
            let began = Instant::now();
            while began.elapsed() < TO_END {
                if !matches!(self.child.try_wait(), Ok(None)) {
                    return;
                }
                std::thread::sleep(Duration::from_millis(10));
            }
            self.signal(signal);
        }
        let _ = self.child.wait();
    }

    fn signal(&self, signal: Signal) {
        if let Some(pid) = i32::try_from(self.child.id()).ok().and_then(Pid::from_raw) {
            let _ = kill_process(pid, signal);
        }
    }
}

impl Drop for Allocation {
    fn drop(&mut self) {
        if matches!(self.child.try_wait(), Ok(None)) {
            self.end();
        }
    }
}

/// The command that leads to one of its machines.
pub(super) fn lead_to(number: &str, machine: usize, jobs: Option<usize>, worker: &[String]) -> Command {
    let mut command = Command::new("srun");
    command.args(["--quiet", "--unbuffered", "--overlap", "--nodes=1", "--ntasks=1"]);
    command.args([format!("--jobid={number}"), format!("--relative={machine}")]);
    command.args(jobs.map(|jobs| format!("--cpus-per-task={jobs}"))).args(worker);
    command
}
