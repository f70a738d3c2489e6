//! Real processes, each in a process group of its own so that it can be ended with all its children.

use std::collections::BTreeSet;
use std::io::Read;
use std::os::fd::AsFd;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStderr, ChildStdout, Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{Pid, PidfdFlags, Signal, WaitId, WaitIdOptions, kill_process_group, pidfd_open, waitid};
use tracing::{debug, trace};
use wait4::Wait4;

use super::{Exit, Guard, Job, Launch, LaunchError, Outcome, Used};
use crate::watch::{Blind, Depth, Followed, Gate, Interest, Sight, follow};

/// How much of a process's output is kept, in bytes; the rest is read and dropped.
const MAX_OUTPUT: usize = 16 * 1024 * 1024;

/// How often a program that is busy being written is tried again, and how long each time is waited.
const BUSY_TRIES: u32 = 50;
const BUSY_PAUSE: Duration = Duration::from_millis(4);

/// How long processes that are asked to end may take before they are made to.
const GRACE: Duration = Duration::from_secs(2);

/// Runs real processes, until it is told to stop.
#[derive(Debug, Default)]
pub struct RealLaunch {
    stopper: Stopper,
    guard: std::sync::OnceLock<Guard>,
    gate: std::sync::OnceLock<Gate>,
    /// Why nothing can be watched here.
    unwatched: std::sync::OnceLock<String>,
}

/// Stops a [`RealLaunch`] from anywhere, such as a signal's handler.
#[derive(Debug, Clone, Default)]
pub struct Stopper {
    state: Arc<State>,
}

#[derive(Debug, Default)]
struct State {
    stopped: AtomicBool,
    running: Mutex<BTreeSet<i32>>,
}

impl Stopper {
    /// Asks all running processes to end, makes them after a while, and starts no more.
    pub fn stop(&self) {
        if self.state.stopped.swap(true, Ordering::SeqCst) {
            // Asked twice: somebody is in a hurry.
            self.running().iter().for_each(|pid| signal_group(*pid, Signal::KILL));
            return;
        }
        self.running().iter().for_each(|pid| signal_group(*pid, Signal::TERM));
        let later = self.clone();
        std::thread::spawn(move || {
            std::thread::sleep(GRACE);
            later.running().iter().for_each(|pid| signal_group(*pid, Signal::KILL));
        });
    }

    fn running(&self) -> std::sync::MutexGuard<'_, BTreeSet<i32>> {
        // The set is whole after every single operation, so a panic elsewhere does not make it wrong.
        self.state.running.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

impl RealLaunch {
    /// Returns what stops this launcher.
    pub fn stopper(&self) -> Stopper {
        self.stopper.clone()
    }

    /// Tells whether it was stopped.
    pub fn is_stopped(&self) -> bool {
        self.stopper.state.stopped.load(Ordering::SeqCst)
    }

    /// Has what runs from now on ended even if this process is killed.
    pub fn guard_with(&self, guard: Guard) {
        // A second guard would guard the same.
        let _ = self.guard.set(guard);
    }

    /// Has what is to be watched run behind this gate; without one, nothing is watched.
    pub fn watch_with(&self, gate: Gate) {
        // A second gate would be the same.
        let _ = self.gate.set(gate);
    }

    /// Returns why nothing can be watched on this machine, once that has turned out.
    pub fn unwatched(&self) -> Option<&str> {
        self.unwatched.get().map(String::as_str)
    }

    fn running(&self) -> std::sync::MutexGuard<'_, BTreeSet<i32>> {
        self.stopper.running()
    }

    fn finish(&self, mut child: Child, job: &Job, started: Instant) -> std::io::Result<Outcome> {
        let pid = i32::try_from(child.id()).unwrap_or(i32::MAX);
        self.begins(pid);
        let pipes = (child.stdout.take(), child.stderr.take());
        let heard = hear(pipes, pid, job.limit.map(|limit| started + limit), Leftovers::Ours);
        // It is left unreaped until its group is ended, so that its number cannot be another one's by then: a step must not leave
        // anything behind that could still write.
        if let Some(id) = Pid::from_raw(pid) {
            let _ = waitid(WaitId::Pid(id), WaitIdOptions::EXITED | WaitIdOptions::NOWAIT);
            end_group(pid);
        }
        let waited = child.wait4();
        self.ends(pid);
        let waited = waited?;
        let status = waited.status;
        let used = Used { cpu: waited.rusage.utime + waited.rusage.stime, memory: waited.rusage.maxrss };
        let exit = match (status.code(), status.signal()) {
            _ if heard.timed_out => Exit::TimedOut,
            (Some(0), _) => Exit::Code(0),
            _ if self.is_stopped() => Exit::Stopped,
            (Some(code), _) => Exit::Code(code),
            (None, signal) => Exit::Signal(signal.unwrap_or(0)),
        };
        let (stdout, stderr) = (heard.stdout.kept, heard.stderr.kept);
        Ok(Outcome { exit, stdout, stderr, wall: started.elapsed(), used, sight: None })
    }
}

impl Launch for RealLaunch {
    fn run(&self, job: &Job) -> Result<Outcome, LaunchError> {
        trace!(program = %job.program.display(), arguments = ?job.arguments, folder = %job.folder.display(), watch = ?job.watch, "starts");
        let ran = match (job.watch, self.gate.get()) {
            (Some(depth), Some(gate)) if self.unwatched().is_none() && !self.is_stopped() => {
                self.run_watched(job, depth, gate)
            }
            _ => self.run_here(job),
        };
        match &ran {
            Ok(outcome) => debug!(
                program = %job.program.display(), exit = ?outcome.exit, wall = ?outcome.wall, watched = outcome.sight.is_some(), "ended"
            ),
            Err(error) => debug!(program = %job.program.display(), %error, "did not start"),
        }
        ran
    }

    fn watches(&self) -> bool {
        self.gate.get().is_some() && self.unwatched().is_none()
    }

    fn unwatched(&self) -> Option<String> {
        self.unwatched().map(str::to_string)
    }
}

impl RealLaunch {
    fn run_watched(&self, job: &Job, depth: Depth, gate: &Gate) -> Result<Outcome, LaunchError> {
        let started = Instant::now();
        let streams = job.streams().map_err(|source| LaunchError { program: job.program.clone(), source })?;
        let set = |command: &mut Command| {
            command
                .stdin(streams.0)
                .stdout(streams.1)
                .args(&job.arguments)
                .current_dir(&job.folder)
                .env_clear()
                .envs(&job.environment);
        };
        let mut child = match gate.start(depth, &job.program, set) {
            Ok(child) => child,
            Err(error) => {
                // A wrong folder or program is told by the plain way; else nothing can be watched here.
                let outcome = self.run_here(job)?;
                let _ = self.unwatched.set(error.to_string());
                return Ok(outcome);
            }
        };
        let pid = i32::try_from(child.id()).unwrap_or(i32::MAX);
        self.begins(pid);
        let pipes = (child.stdout.take(), child.stderr.take());
        let (followed, heard) = std::thread::scope(|scope| {
            let hearing = scope.spawn(|| hear(pipes, pid, job.limit.map(|limit| started + limit), Leftovers::Followed));
            (follow(&child, &job.environment, Interest::Result), hearing.join())
        });
        self.ends(pid);
        let heard = heard.map_err(|_| LaunchError {
            program: job.program.clone(),
            source: std::io::Error::other("what it wrote could not be read"),
        })?;
        let Followed { sight, exit, started: program_ran, cpu, memory } = followed;
        if let Some(blind @ (Blind::Traces | Blind::Signals)) = sight.blind
            && !self.is_stopped()
        {
            // It was ended, so it runs once more by itself.
            let sight = Some(Sight { blind: Some(blind), ..Sight::default() });
            return Ok(Outcome { sight, ..self.run_here(job)? });
        }
        if !program_ran && !heard.timed_out && !self.is_stopped() {
            // The plain way tells why.
            return self.run_here(job);
        }
        let exit = match exit {
            _ if heard.timed_out => Exit::TimedOut,
            0 => Exit::Code(0),
            _ if self.is_stopped() => Exit::Stopped,
            code if code > 0 => Exit::Code(code),
            signal => Exit::Signal(-signal),
        };
        let (stdout, stderr) = (heard.stdout.kept, heard.stderr.kept);
        let used = Used { cpu, memory };
        Ok(Outcome { exit, stdout, stderr, wall: started.elapsed(), used, sight: Some(sight) })
    }

    fn begins(&self, pid: i32) {
        self.running().insert(pid);
        if let Some(guard) = self.guard.get() {
            guard.started(pid);
        }
        if self.is_stopped() {
            end_group(pid);
        }
    }

    fn ends(&self, pid: i32) {
        self.running().remove(&pid);
        if let Some(guard) = self.guard.get() {
            guard.ended(pid);
        }
    }
}

impl RealLaunch {
    fn run_here(&self, job: &Job) -> Result<Outcome, LaunchError> {
        let failed = |source| LaunchError { program: job.program.clone(), source };
        let started = Instant::now();
        if self.is_stopped() {
            let (wall, used) = (started.elapsed(), Used::default());
            return Ok(Outcome { exit: Exit::Stopped, stdout: vec![], stderr: vec![], wall, used, sight: None });
        }
        let (input, output) = job.streams().map_err(failed)?;
        let mut command = Command::new(&job.program);
        command
            .args(&job.arguments)
            .current_dir(&job.folder)
            .env_clear()
            .envs(&job.environment)
            .stdin(input)
            .stdout(output)
            .stderr(Stdio::piped())
            .process_group(0);
        // A program that was written a moment ago can still be held open by a child that another thread is about to start.
        let mut child = command.spawn();
        for _ in 0..BUSY_TRIES {
            match &child {
                Err(e) if e.kind() == std::io::ErrorKind::ExecutableFileBusy => std::thread::sleep(BUSY_PAUSE),
                Ok(_) | Err(_) => break,
            }
            child = command.spawn();
        }
        let child = child.map_err(failed)?;
        self.finish(child, job, started).map_err(failed)
    }
}

fn end_group(pid: i32) {
    signal_group(pid, Signal::KILL);
}

fn signal_group(pid: i32, signal: Signal) {
    if let Some(group) = Pid::from_raw(pid) {
        // It may have ended by itself in between, which is as good.
        let _ = kill_process_group(group, signal);
    }
}

/// Who ends what a process leaves running.
#[derive(Clone, Copy)]
enum Leftovers {
    /// Who hears it.
    Ours,
    /// Who follows it, and knows all of them.
    Followed,
}

/// Its standard output and error.
type Pipes = (Option<ChildStdout>, Option<ChildStderr>);

/// What a process wrote until it ended.
struct Heard {
    stdout: Hearing<ChildStdout>,
    stderr: Hearing<ChildStderr>,
    timed_out: bool,
}

/// One of its pipes.
struct Hearing<P> {
    pipe: Option<P>,
    kept: Vec<u8>,
}

impl<P: Read + AsFd> Hearing<P> {
    fn to(pipe: Option<P>) -> Hearing<P> {
        Hearing { pipe, kept: Vec::new() }
    }

    /// Reads what is there; waits if nothing is.
    fn read(&mut self) {
        let mut buffer = [0; 8192];
        let count = self.pipe.as_mut().and_then(|pipe| pipe.read(&mut buffer).ok()).unwrap_or(0);
        if count == 0 {
            self.pipe = None;
        }
        // A process must not be blocked on a full pipe, so what is too much is read all the same.
        let room = MAX_OUTPUT.saturating_sub(self.kept.len());
        self.kept.extend_from_slice(&buffer[..count.min(room)]);
    }
}

/// Reads what a process writes until it has ended, and ends it at its limit. What it leaves running ends with it, so that
/// nobody waits for pipes that such a one holds.
fn hear(pipes: Pipes, pid: i32, limit: Option<Instant>, left: Leftovers) -> Heard {
    let mut heard = Heard { stdout: Hearing::to(pipes.0), stderr: Hearing::to(pipes.1), timed_out: false };
    // Without it, as on an old kernel, the ends of the pipes tell.
    let mut ending = Pid::from_raw(pid).and_then(|id| pidfd_open(id, PidfdFlags::empty()).ok());
    loop {
        let (out, err) = (heard.stdout.pipe.as_ref(), heard.stderr.pipe.as_ref());
        let places = [out.map(AsFd::as_fd), err.map(AsFd::as_fd), ending.as_ref().map(AsFd::as_fd)];
        let mut asked: Vec<PollFd<'_>> =
            places.iter().flatten().map(|fd| PollFd::from_borrowed_fd(*fd, PollFlags::IN)).collect();
        if asked.is_empty() {
            return heard;
        }
        let time = limit.filter(|_| !heard.timed_out).map(|limit| limit.saturating_duration_since(Instant::now()));
        let wait = time.and_then(|time| Timespec::try_from(time).ok());
        let count = match poll(&mut asked, wait.as_ref()) {
            Ok(count) => count,
            Err(rustix::io::Errno::INTR) => continue,
            Err(_) => return heard,
        };
        let mut answers = asked.iter().map(|fd| !fd.revents().is_empty());
        let ready = places.map(|place| place.is_some() && answers.next().unwrap_or(false));
        let [out, err, ended] = ready;
        if count == 0 {
            heard.timed_out = true;
            end_group(pid);
        }
        if out {
            heard.stdout.read();
        }
        if err {
            heard.stderr.read();
        }
        if ended {
            ending = None;
            match left {
                Leftovers::Ours => end_group(pid),
                Leftovers::Followed => {}
            }
        }
    }
}

/// Finds a program in a search path; a name with a `/` is taken as it is, below `folder`.
pub fn find_program(name: &str, search_path: &str, folder: &Path) -> Option<PathBuf> {
    use std::os::unix::fs::PermissionsExt;
    let runs = |path: &PathBuf| {
        std::fs::metadata(path).is_ok_and(|status| status.is_file() && status.permissions().mode() & 0o111 != 0)
    };
    if name.contains('/') {
        return Some(folder.join(name)).filter(runs);
    }
    search_path.split(':').filter(|f| !f.is_empty()).map(|f| Path::new(f).join(name)).find(runs)
}
