//! Follows a command and all that it starts, from one stop to the next.

use std::collections::BTreeMap;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use foldhash::{HashMap, HashMapExt, HashSet, HashSetExt};
use nix::libc;
use nix::sys::ptrace::{self, Options};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use rustix::process::{WaitOptions, wait, waitpid};

use super::calls::{Call, interpreters, read};
use super::{Blind, Deed, DeedSort, Depth, Gate, Interest, Process, Sight};

/// What came of following a command.
#[derive(Debug)]
pub struct Followed {
    /// What was seen.
    pub sight: Sight,
    /// The exit code of the first process, or the negative number of the signal that ended it.
    pub exit: i32,
    /// Whether the program was ever started; if not, `exit` is that of the gate.
    pub started: bool,
    /// Processor time of all processes; counted for [`Interest::Result`].
    pub cpu: Duration,
    /// The most memory that one of them held, in bytes; likewise.
    pub memory: u64,
}

/// The process of a child.
fn pid_of(child: &Child) -> Pid {
    Pid::from_raw(i32::try_from(child.id()).unwrap_or(i32::MAX))
}

/// Takes hold of a gate that stops.
fn seize(pid: Pid) -> std::io::Result<()> {
    let options = WaitOptions::UNTRACED;
    let id = rustix::process::Pid::from_raw(pid.as_raw());
    let stopped = waitpid(id, options)?.is_some_and(|(_, status)| status.stopped());
    if !stopped {
        return Err(std::io::Error::from(std::io::ErrorKind::Unsupported));
    }
    let all = Options::PTRACE_O_TRACEFORK
        | Options::PTRACE_O_TRACEVFORK
        | Options::PTRACE_O_TRACECLONE
        | Options::PTRACE_O_TRACEEXEC
        | Options::PTRACE_O_TRACEEXIT
        | Options::PTRACE_O_TRACESECCOMP
        | Options::PTRACE_O_EXITKILL;
    ptrace::seize(pid, all)?;
    kill(pid, Signal::SIGCONT)?;
    Ok(())
}

impl Gate {
    /// Starts a program behind the gate, watched from its first call on. Its standard output and error are pipes, and nothing is its
    /// input; `set` adds its words, folder and environment. The same thread must then call [`follow`].
    ///
    /// # Errors
    /// It cannot be started, or the kernel does not let us watch.
    pub fn start(&self, depth: Depth, program: &Path, set: impl FnOnce(&mut Command)) -> std::io::Result<Child> {
        let mut command = self.before(depth, program)?;
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).process_group(0);
        set(&mut command);
        let mut child = command.spawn()?;
        let watched = seize(pid_of(&child));
        if watched.is_err() {
            let _ = child.kill();
            let _ = child.wait();
        }
        watched.map(|()| child)
    }
}

/// Follows a child that [`Gate::start`] has started to its end, with all that it starts; what it leaves behind is ended with it.
/// `environment` is what it was given.
pub fn follow(child: &Child, environment: &BTreeMap<String, String>, interest: Interest) -> Followed {
    let mut tracer = Tracer {
        root: pid_of(child),
        environment,
        differing: (Vec::new(), BTreeMap::new()),
        interest,
        moment: 0,
        sight: Sight::default(),
        seen: Vec::new(),
        current: HashMap::new(),
        leaders: HashMap::new(),
        threads: HashSet::new(),
        asked: HashMap::new(),
        exit: None,
        started: false,
        cpu: Duration::ZERO,
        memory: 0,
    };
    tracer.run();
    let Tracer { sight, exit, started, cpu, memory, .. } = tracer;
    Followed { sight, exit: exit.unwrap_or(-libc::SIGKILL), started, cpu, memory }
}

struct Tracer<'a> {
    root: Pid,
    /// What the command was given.
    environment: &'a BTreeMap<String, String>,
    /// The environment that a program began with last, and what of it is not as given: most begin with the same.
    differing: (Vec<u8>, BTreeMap<String, Option<String>>),
    interest: Interest,
    /// How many things were done so far.
    moment: u32,
    sight: Sight,
    /// What each process was seen to do.
    seen: Vec<HashSet<Deed>>,
    /// The entry of each process that runs.
    current: HashMap<i32, usize>,
    /// The process that each thread belongs to.
    leaders: HashMap<i32, i32>,
    /// All threads that run.
    threads: HashSet<i32>,
    /// What processes asked to run.
    asked: HashMap<i32, PathBuf>,
    exit: Option<i32>,
    started: bool,
    cpu: Duration,
    memory: u64,
}

/// Waits for threads as well, and only for what this very thread has started or watches.
const ALL_OF_MINE: u32 = (libc::__WALL | libc::__WNOTHREAD) as u32;

impl Tracer<'_> {
    fn run(&mut self) {
        let options = WaitOptions::from_bits_retain(ALL_OF_MINE);
        loop {
            let (pid, status) = match wait(options) {
                Ok(Some((pid, status))) => (pid.as_raw_pid(), status),
                Ok(None) | Err(rustix::io::Errno::INTR) => continue,
                Err(_) => return,
            };
            let raw = status.as_raw();
            if status.stopped() {
                self.stopped(pid, (raw >> 8) & 0xff, raw >> 16);
            } else if let Some(exit) = status.exit_status().or_else(|| status.terminating_signal().map(|s| -s)) {
                self.ended(pid, exit);
            }
        }
    }

    fn stopped(&mut self, thread: i32, signal: i32, event: i32) {
        self.threads.insert(thread);
        let pid = Pid::from_raw(thread);
        let mut hand_on = None;
        match event {
            0 => match Signal::try_from(signal) {
                Ok(signal) => hand_on = Some(signal),
                Err(_) => self.blinded(Blind::Signals),
            },
            libc::PTRACE_EVENT_SECCOMP => self.calls(thread),
            libc::PTRACE_EVENT_EXEC => self.became(thread),
            libc::PTRACE_EVENT_FORK | libc::PTRACE_EVENT_VFORK => self.forked(thread),
            libc::PTRACE_EVENT_EXIT => self.leaves(thread),
            _ => {}
        }
        // It may have been killed in between, which the next wait tells.
        let _ = ptrace::cont(pid, hand_on);
    }

    /// What can no longer be watched is ended; whoever called runs it without us.
    fn blinded(&mut self, blind: Blind) {
        self.sight.blind.get_or_insert(blind);
        self.end_all();
    }

    fn end_all(&self) {
        for thread in &self.threads {
            let _ = kill(Pid::from_raw(*thread), Signal::SIGKILL);
        }
    }

    fn calls(&mut self, thread: i32) {
        let Some(call) = read(Pid::from_raw(thread)) else { return };
        let leader = self.leader(thread);
        if !self.started && leader == self.root.as_raw() {
            // The gate's own.
            if let Call::Runs(path) = call {
                self.asked.insert(leader, path);
            }
            return;
        }
        match call {
            Call::Deeds(deeds) => {
                let entry = self.entry(leader);
                deeds.into_iter().for_each(|deed| self.add(entry, deed));
            }
            Call::Runs(path) => {
                self.asked.insert(leader, path);
            }
            Call::Blinds(blind @ (Blind::Queues | Blind::Foreign)) => {
                self.sight.blind.get_or_insert(blind);
            }
            Call::Blinds(blind) => self.blinded(blind),
        }
    }

    fn add(&mut self, entry: usize, deed: Deed) {
        let of_processes = self.interest == Interest::Processes;
        if of_processes && deed.sort == DeedSort::Missed {
            return;
        }
        self.moment += 1;
        if self.seen[entry].insert(deed.clone()) {
            let process = &mut self.sight.processes[entry];
            process.deeds.push(deed);
            process.moments.extend(of_processes.then_some(self.moment));
        }
    }

    /// A process has become another program. All its other threads are gone, and it goes by the leader's number.
    fn became(&mut self, pid: i32) {
        let first = !self.started && pid == self.root.as_raw();
        self.started |= first;
        let parent = if first { None } else { Some(self.entry(pid)) };
        let arguments = split(&read_proc(pid, "cmdline"));
        let folder = link_of(pid, "cwd");
        let program = link_of(pid, "exe");
        let environment = self.differing(pid);
        let mut own =
            Process { parent, program: program.clone(), arguments, folder, environment, ..Process::default() };
        if self.interest == Interest::Processes {
            own.streams = (0..2).map(|stream| link_of(pid, &format!("fd/{stream}"))).collect();
            own.responses = responses(&own.arguments, &own.folder);
        }
        let entry = self.begin(pid, own);
        if is_foreign(&program) {
            self.sight.blind.get_or_insert(Blind::Foreign);
        }
        let asked = self.asked.remove(&pid);
        // What runs by its own name is no script.
        let by_script = asked.iter().filter(|path| **path != program);
        let by_script = by_script.flat_map(|path| interpreters(path)).collect::<Vec<_>>();
        for path in asked.into_iter().chain(by_script).chain([program]) {
            self.add(entry, Deed { sort: DeedSort::Ran, path });
        }
    }

    fn begin(&mut self, pid: i32, process: Process) -> usize {
        let entry = self.sight.processes.len();
        self.sight.processes.push(process);
        self.seen.push(HashSet::new());
        self.current.insert(pid, entry);
        entry
    }

    fn forked(&mut self, thread: i32) {
        let Some(child) = ptrace::getevent(Pid::from_raw(thread)).ok().and_then(|child| i32::try_from(child).ok())
        else {
            return;
        };
        self.leaders.insert(child, child);
        self.threads.insert(child);
        if !self.current.contains_key(&child) {
            let parent = self.leader(thread);
            self.fork(child, parent);
        }
    }

    fn fork(&mut self, child: i32, parent: i32) -> usize {
        let parent = self.entry(parent);
        let Process { program, arguments, folder, environment, .. } = self.sight.processes[parent].clone();
        let copy = Process { parent: Some(parent), program, arguments, folder, environment, ..Process::default() };
        self.begin(child, Process { forked: true, ..copy })
    }

    /// The entry of a process. A child's first call can be told before its parent's fork.
    fn entry(&mut self, pid: i32) -> usize {
        if let Some(entry) = self.current.get(&pid) {
            return *entry;
        }
        let parent = status_of(pid, "PPid:").filter(|parent| self.current.contains_key(parent));
        match parent {
            Some(parent) => self.fork(pid, parent),
            None => self.begin(pid, Process { parent: Some(0), ..Process::default() }),
        }
    }

    fn leader(&mut self, thread: i32) -> i32 {
        *self.leaders.entry(thread).or_insert_with(|| status_of(thread, "Tgid:").unwrap_or(thread))
    }

    /// A thread is about to be gone: the last moment to ask what it took.
    fn leaves(&mut self, thread: i32) {
        // Only a step's result tells of it.
        if self.interest == Interest::Processes || self.leader(thread) != thread {
            return;
        }
        self.cpu += cpu_of(thread);
        let memory = status_of::<u64>(thread, "VmHWM:").unwrap_or(0) * 1024;
        self.memory = self.memory.max(memory);
    }

    fn ended(&mut self, thread: i32, exit: i32) {
        self.threads.remove(&thread);
        if self.leaders.remove(&thread).is_some_and(|leader| leader != thread) {
            return;
        }
        if let Some(entry) = self.current.remove(&thread) {
            self.sight.processes[entry].exit = Some(exit);
        }
        if thread == self.root.as_raw() {
            self.exit = Some(exit);
            // Nobody waits for what it leaves running, and nothing of it may still write.
            self.end_all();
        }
    }

    fn differing(&mut self, pid: i32) -> BTreeMap<String, Option<String>> {
        let given = self.environment;
        let begun = read_proc(pid, "environ");
        if begun == self.differing.0 && !begun.is_empty() {
            return self.differing.1.clone();
        }
        let now: BTreeMap<String, String> = split(&begun)
            .into_iter()
            .filter_map(|line| line.split_once('=').map(|(name, value)| (name.to_string(), value.to_string())))
            .collect();
        let other = now.iter().filter(|(name, value)| given.get(*name) != Some(value));
        let other = other.map(|(name, value)| (name.clone(), Some(value.clone())));
        let gone = given.keys().filter(|name| !now.contains_key(*name)).map(|name| (name.clone(), None));
        self.differing = (begun, other.chain(gone).collect());
        self.differing.1.clone()
    }
}

/// The longest file of arguments that is read, in bytes.
const LONGEST_RESPONSE: u64 = 4 << 20;

/// The texts of files that arguments name as `@FILE`, as far as they are there.
fn responses(arguments: &[String], folder: &Path) -> BTreeMap<String, String> {
    let named = arguments.iter().skip(1).filter(|argument| argument.len() > 1 && argument.starts_with('@'));
    let read = |argument: &String| {
        let path = folder.join(&argument[1..]);
        let short = std::fs::metadata(&path).is_ok_and(|s| s.is_file() && s.len() <= LONGEST_RESPONSE);
        let text = short.then(|| std::fs::read_to_string(path).ok()).flatten()?;
        Some((argument.clone(), text))
    };
    named.filter_map(read).collect()
}

fn read_proc(pid: i32, name: &str) -> Vec<u8> {
    std::fs::read(format!("/proc/{pid}/{name}")).unwrap_or_default()
}

fn link_of(pid: i32, name: &str) -> PathBuf {
    std::fs::read_link(format!("/proc/{pid}/{name}")).unwrap_or_default()
}

/// The strings of a list that zeros end.
fn split(bytes: &[u8]) -> Vec<String> {
    let ended = bytes.strip_suffix(&[0]).unwrap_or(bytes);
    if ended.is_empty() {
        return Vec::new();
    }
    ended.split(|byte| *byte == 0).map(|text| String::from_utf8_lossy(text).into_owned()).collect()
}

fn status_of<T: std::str::FromStr>(pid: i32, line: &str) -> Option<T> {
    let text = std::fs::read_to_string(format!("/proc/{pid}/status")).ok()?;
    text.lines().find_map(|known| known.strip_prefix(line)?.split_whitespace().next()?.parse().ok())
}

/// The processor time of a process: of all its threads in steps of some milliseconds, or of its first one to the nanosecond,
/// whichever is more.
fn cpu_of(pid: i32) -> Duration {
    /// What the kernel counts such times in, on all architectures.
    const TICKS: u64 = 100;
    let fine = String::from_utf8_lossy(&read_proc(pid, "schedstat")).split(' ').next().and_then(|ns| ns.parse().ok());
    let text = read_proc(pid, "stat");
    // Its name comes first in brackets, and may hold anything.
    let rest = text.iter().rposition(|byte| *byte == b')').map_or(&[][..], |end| &text[end + 1..]);
    let fields: Vec<u64> = String::from_utf8_lossy(rest).split_whitespace().map(|n| n.parse().unwrap_or(0)).collect();
    let ticks: u64 = fields.get(11..13).unwrap_or_default().iter().sum();
    Duration::from_nanos(fine.unwrap_or(0)).max(Duration::from_millis(ticks * 1000 / TICKS))
}

/// Whether a program is made for machines with addresses of another width, whose calls the filter does not know.
fn is_foreign(program: &Path) -> bool {
    use std::io::Read;
    let mut head = [0u8; 5];
    let read = std::fs::File::open(program).and_then(|mut file| file.read_exact(&mut head));
    read.is_ok() && head.starts_with(b"\x7fELF") && head[4] != 2
}
