//! Our side of one worker: the process that reaches it, what was sent to it, and who waits for its answers.

use std::collections::{HashMap, HashSet};
use std::path::PathBuf;
use std::process::{Child, Command};
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex, OnceLock};
use std::time::{Duration, Instant};

use super::held;
use super::line::{From, Line, TO_END, To, end_all, kill_all};
use super::talk::{Answer, Ask, Done, Hello, Input, Work, receive, send};
use crate::base::Digest;

/// After how long without a word a worker counts as lost.
const SILENT: Duration = Duration::from_secs(20);
/// How often somebody who waits looks whether all is to stop.
const TICK: Duration = Duration::from_millis(100);
/// How many results in a row may not count before a worker is asked for no more.
const FUTILE: usize = 8;

/// Why there is no answer.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Gone {
    /// The worker is lost.
    #[error("{0}")]
    Lost(String),
    /// It did not run the step.
    #[error("{0}")]
    Refused(String),
    /// Everything stops.
    #[error("everything stops")]
    Stopped,
}

/// A worker that was reached.
#[derive(Debug)]
pub struct Worker {
    name: String,
    hello: Hello,
    jobs: usize,
    talk: Mutex<Talk>,
    /// Who waits for which answer.
    waiting: Mutex<HashMap<u64, Sender<Answer>>>,
    heard: Mutex<Instant>,
    gone: OnceLock<String>,
    child: Mutex<Child>,
    next: AtomicU64,
    /// Which of its seats are taken.
    seats: Mutex<Vec<bool>>,
    /// What was asked and holds there.
    holds: Mutex<HashSet<Digest>>,
    steps: AtomicUsize,
    futile: AtomicUsize,
    got: Arc<AtomicU64>,
}

/// What we say to a worker.
#[derive(Debug)]
struct Talk {
    to: To,
    /// What lies there, by its place.
    laid: HashMap<String, Input>,
}

impl Worker {
    /// Reaches a worker by a command whose standard input and output lead to it, until `ended` says that nobody wants it any more.
    ///
    /// # Errors
    /// It cannot be reached, or is of another version; in words.
    pub(super) fn reach(
        name: &str,
        command: Command,
        jobs: Option<usize>,
        ended: &AtomicBool,
    ) -> Result<Arc<Worker>, String> {
        let Line { hello, to, from, complaints, child, got } = Line::open(command, jobs, ended)?;
        let jobs = jobs.unwrap_or(hello.cores as usize).max(1);
        let worker = Arc::new(Worker {
            name: name.into(),
            jobs,
            hello,
            talk: Mutex::new(Talk { to, laid: HashMap::new() }),
            waiting: Mutex::default(),
            heard: Mutex::new(Instant::now()),
            gone: OnceLock::new(),
            child: Mutex::new(child),
            next: AtomicU64::new(0),
            // One more waits there, so that none idles while a result travels.
            seats: Mutex::new(vec![false; jobs + 1]),
            holds: Mutex::default(),
            steps: AtomicUsize::new(0),
            futile: AtomicUsize::new(0),
            got,
        });
        let listening = Arc::clone(&worker);
        std::thread::spawn(move || listening.listen(from, &complaints));
        Ok(worker)
    }

    /// Returns its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Returns what it says of itself.
    pub fn hello(&self) -> &Hello {
        &self.hello
    }

    /// Returns how many steps it runs at once.
    pub fn jobs(&self) -> usize {
        self.jobs
    }

    /// Returns why it is not asked any more, if so.
    pub fn gone(&self) -> Option<&str> {
        self.gone.get().map(String::as_str)
    }

    /// Returns how many of its results were taken.
    pub(super) fn steps(&self) -> usize {
        self.steps.load(Ordering::Relaxed)
    }

    /// Returns how many bytes were sent to it and came from it.
    pub(super) fn bytes(&self) -> (u64, u64) {
        let sent = held(&self.talk).to.bytes();
        (sent, self.got.load(Ordering::Relaxed))
    }

    /// Takes a free seat.
    pub(super) fn take_seat(&self) -> Option<usize> {
        let mut seats = held(&self.seats);
        let free = seats.iter().position(|taken| !taken)?;
        seats[free] = true;
        Some(free)
    }

    pub(super) fn free_seat(&self, number: usize) {
        if let Some(seat) = held(&self.seats).get_mut(number) {
            *seat = false;
        }
    }

    /// How many of its seats are taken.
    pub(super) fn taken(&self) -> usize {
        held(&self.seats).iter().filter(|taken| **taken).count()
    }

    /// Notes that a result of it counts.
    pub fn counts(&self) {
        self.steps.fetch_add(1, Ordering::Relaxed);
        self.futile.store(0, Ordering::Relaxed);
    }

    /// Notes that a result of it does not count; after too many in a row it is asked for no more.
    pub fn is_futile(&self) {
        if self.futile.fetch_add(1, Ordering::Relaxed) + 1 >= FUTILE {
            self.lose(&format!("none of its last {FUTILE} results counts"));
        }
    }

    /// Gives it up.
    pub fn lose(&self, why: &str) {
        let _ = self.gone.set(why.into());
        held(&self.waiting).clear();
        kill_all(&held(&self.child));
    }

    fn listen(&self, mut from: From, complaints: &Receiver<String>) {
        loop {
            let answer = receive::<Answer>(&mut from);
            *held(&self.heard) = Instant::now();
            let number = match &answer {
                Ok(Answer::Wants { number, .. } | Answer::Done { number, .. } | Answer::Holds { number, .. }) => {
                    *number
                }
                Ok(Answer::Hello(_) | Answer::Beat) => continue,
                Err(error) => {
                    let said = complaints.recv_timeout(TO_END).unwrap_or_default();
                    let why = match error.kind() {
                        std::io::ErrorKind::UnexpectedEof => "the connection ended".to_string(),
                        _ => error.to_string(),
                    };
                    self.lose(&if said.is_empty() { why } else { format!("{why}: {said}") });
                    return;
                }
            };
            // Who no longer waits needs no answer.
            let waiting = held(&self.waiting).get(&number).cloned();
            if let (Some(waiting), Ok(answer)) = (waiting, answer) {
                let _ = waiting.send(answer);
            }
        }
    }

    /// Says that all is well, and looks whether the worker does.
    pub(super) fn beat(&self) {
        if self.gone().is_some() {
            return;
        }
        if held(&self.heard).elapsed() > SILENT {
            self.lose(&format!("it said nothing for {} seconds", SILENT.as_secs()));
            return;
        }
        // Whoever holds it is just saying something.
        if let Ok(mut talk) = self.talk.try_lock() {
            let _ = send(&mut talk.to, &Ask::Beat);
        }
    }

    /// Tells it to end, and waits a little until it has.
    pub(super) fn end(&self) {
        let _ = self.say(&Ask::End);
        let began = Instant::now();
        while began.elapsed() < TO_END {
            if !matches!(held(&self.child).try_wait(), Ok(None)) {
                return;
            }
            std::thread::sleep(Duration::from_millis(5));
        }
        end_all(&mut held(&self.child));
    }

    fn number(&self) -> (u64, Receiver<Answer>) {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        let (tell, told) = channel();
        held(&self.waiting).insert(number, tell);
        if self.gone().is_some() {
            // It may have been lost just before we began to wait.
            held(&self.waiting).remove(&number);
        }
        (number, told)
    }

    fn lost(&self) -> Gone {
        Gone::Lost(self.gone().unwrap_or("the connection ended").into())
    }

    fn say(&self, ask: &Ask) -> Result<(), Gone> {
        let said = send(&mut held(&self.talk).to, ask);
        said.map_err(|_| self.lost())
    }

    fn hear(&self, told: &Receiver<Answer>, stopped: &dyn Fn() -> bool) -> Result<Answer, Gone> {
        loop {
            match told.recv_timeout(TICK) {
                Ok(answer) => return Ok(answer),
                Err(RecvTimeoutError::Timeout) if stopped() => return Err(Gone::Stopped),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return Err(self.lost()),
            }
        }
    }

    /// Has it run a step. `inputs` is all that is to lie there; `content` returns what a file holds, if that is still what was said.
    ///
    /// # Errors
    /// See [`Gone`]. The step then counts as not run.
    pub fn run(
        &self,
        work: Work,
        inputs: &[Input],
        content: &dyn Fn(&Input) -> Option<Vec<u8>>,
        stopped: &dyn Fn() -> bool,
    ) -> Result<Done, Gone> {
        let (number, told) = self.number();
        let done = self.run_as(number, work, inputs, content, &|| self.hear(&told, stopped));
        held(&self.waiting).remove(&number);
        done
    }

    fn run_as(
        &self,
        number: u64,
        work: Work,
        inputs: &[Input],
        content: &dyn Fn(&Input) -> Option<Vec<u8>>,
        hear: &dyn Fn() -> Result<Answer, Gone>,
    ) -> Result<Done, Gone> {
        let fresh = {
            let mut talk = held(&self.talk);
            let fresh: Vec<Input> =
                inputs.iter().filter(|input| talk.laid.get(&input.at) != Some(input)).cloned().collect();
            talk.laid.extend(fresh.iter().map(|input| (input.at.clone(), input.clone())));
            // What one step lays out others stand on, so it is said in the order in which it is noted.
            let ask = Ask::Work { number, inputs: fresh.clone(), work: Box::new(work) };
            send(&mut talk.to, &ask).map_err(|_| self.lost())?;
            fresh
        };
        loop {
            match hear()? {
                Answer::Done { done, .. } => return done.map_err(Gone::Refused),
                Answer::Wants { contents, .. } => {
                    for wanted in contents {
                        let of = fresh.iter().find(|input| input.content == wanted);
                        let Some(bytes) = of.and_then(content).filter(|bytes| Digest::of(bytes) == wanted) else {
                            // Later steps would wait for it for ever.
                            self.lose("a file changed while it was sent");
                            return Err(self.lost());
                        };
                        self.say(&Ask::Content(bytes))?;
                    }
                }
                Answer::Hello(_) | Answer::Holds { .. } | Answer::Beat => {}
            }
        }
    }

    /// Tells whether it was found before that this holds there, whatever it stands for.
    pub fn is_known(&self, what: &Digest) -> bool {
        held(&self.holds).contains(what)
    }

    /// Notes that this was found to hold there.
    pub fn knows(&self, what: Digest) {
        held(&self.holds).insert(what);
    }

    /// Asks whether all of this holds there. Returns the first thing that does not. What was asked before is not asked again.
    ///
    /// # Errors
    /// See [`Gone`].
    pub fn differs(
        &self,
        looks: &[(String, Digest)],
        absent: &[PathBuf],
        stopped: &dyn Fn() -> bool,
    ) -> Result<Option<String>, Gone> {
        let of_look = |(look, digest): &(String, Digest)| Digest::of_parts([look.as_str(), &digest.to_string()]);
        let of_place = |path: &PathBuf| Digest::of_parts(["absent", &path.to_string_lossy()]);
        let (looks, absent): (Vec<_>, Vec<_>) = {
            let known = held(&self.holds);
            let looks = looks.iter().filter(|look| !known.contains(&of_look(look))).cloned().collect();
            (looks, absent.iter().filter(|path| !known.contains(&of_place(path))).cloned().collect())
        };
        if looks.is_empty() && absent.is_empty() {
            return Ok(None);
        }
        let known: Vec<Digest> = looks.iter().map(of_look).chain(absent.iter().map(of_place)).collect();
        let (number, told) = self.number();
        let asked = self.say(&Ask::Holds { number, looks, absent });
        let answer = asked.and_then(|()| self.hear(&told, stopped));
        held(&self.waiting).remove(&number);
        match answer? {
            Answer::Holds { differs: None, .. } => {
                held(&self.holds).extend(known);
                Ok(None)
            }
            Answer::Holds { differs, .. } => Ok(differs),
            _ => Err(Gone::Refused("it answers something else".into())),
        }
    }
}

impl Drop for Worker {
    fn drop(&mut self) {
        end_all(&mut held(&self.child));
    }
}
