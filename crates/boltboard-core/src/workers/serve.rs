//! The worker's side: it takes steps until it is told to end, or nobody speaks to it any more.

use std::collections::{HashSet, VecDeque};
use std::io::{Read, Result, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::time::{Duration, Instant};

use super::mirror::Mirror;
use super::talk::{Answer, Ask, Begin, Done, FORMAT, Hello, Input, Made, Work, announce, receive, send};
use crate::base::{Digest, parse_dependencies};
use crate::launch::{Exit, Job, Launch, RealLaunch};
use crate::step::Look;
use crate::work::{Folders, StatusMemo};

/// How often a worker says that all is well.
pub(super) const BEAT: Duration = Duration::from_secs(2);
/// After how long without a word a worker ends.
const PATIENCE: Duration = Duration::from_secs(60);
/// How often something may be gone again, or spoilt, that was sent.
const VANISHED: usize = 8;

/// What a worker is started with.
#[derive(Debug, Clone)]
pub struct ServeSettings {
    /// Where it keeps what it is sent.
    pub folder: PathBuf,
    /// The machine's name for itself.
    pub host: String,
    /// How many processors it has.
    pub cores: usize,
    /// Stands for its processor.
    pub processor: Digest,
}

/// What happens to a worker.
enum Event {
    /// It is told something.
    Told(Ask),
    /// Nobody is there any more.
    Silence,
    /// A step is done.
    Ended(u64, std::result::Result<Done, String>),
}

/// Takes steps until it is told to end or `from` ends; then all that it started is ended, and what was laid out is removed.
///
/// # Errors
/// Its folder cannot be used, or nobody takes what it says.
pub fn serve_worker(
    from: impl Read + Send + 'static,
    mut to: impl Write,
    settings: &ServeSettings,
    launch: &Arc<RealLaunch>,
) -> Result<()> {
    let mirror = Mirror::open(&settings.folder, &settings.host)?;
    announce(&mut to)?;
    send(&mut to, &Answer::Hello(hello(settings, &mirror.folders)))?;
    let (tell, told) = channel();
    let listener = tell.clone();
    std::thread::spawn(move || listen(from, &listener));
    let serving = Serving {
        mirror,
        jobs: settings.cores.max(1),
        launch: Arc::clone(launch),
        status: Arc::default(),
        tell,
        waiting: VecDeque::new(),
        wanted: HashSet::new(),
        vanished: 0,
        running: 0,
    };
    let ended = serving.go_on(&mut to, &told);
    launch.stopper().stop();
    // Nobody waits for what ends politely.
    launch.stopper().stop();
    ended
}

fn hello(settings: &ServeSettings, folders: &Folders) -> Hello {
    Hello {
        format: FORMAT,
        program: env!("CARGO_PKG_VERSION").into(),
        host: settings.host.clone(),
        cores: u32::try_from(settings.cores).unwrap_or(u32::MAX),
        processor: settings.processor,
        tree: folders.tree.clone(),
        build: folders.build.clone(),
    }
}

fn listen(mut from: impl Read, tell: &Sender<Event>) {
    loop {
        match receive::<Ask>(&mut from) {
            Ok(ask) => {
                if tell.send(Event::Told(ask)).is_err() {
                    return;
                }
            }
            Err(_) => {
                let _ = tell.send(Event::Silence);
                return;
            }
        }
    }
}

/// A worker at work.
struct Serving {
    mirror: Mirror,
    jobs: usize,
    launch: Arc<RealLaunch>,
    status: Arc<StatusMemo>,
    tell: Sender<Event>,
    /// Steps in their order: one may stand on what was sent for an earlier one.
    waiting: VecDeque<Waiting>,
    /// Contents that were asked for and have not come yet.
    wanted: HashSet<Digest>,
    /// How often something was gone again that had come.
    vanished: usize,
    running: usize,
}

/// A step that waits.
struct Waiting {
    number: u64,
    inputs: Vec<Input>,
    work: Box<Work>,
}

impl Serving {
    fn go_on(mut self, to: &mut impl Write, told: &Receiver<Event>) -> Result<()> {
        let mut heard = Instant::now();
        let mut beat = Instant::now();
        loop {
            if beat.elapsed() >= BEAT {
                send(to, &Answer::Beat)?;
                beat = Instant::now();
            }
            let event = match told.recv_timeout(BEAT) {
                Ok(event) => event,
                Err(RecvTimeoutError::Timeout) if heard.elapsed() > PATIENCE => return Ok(()),
                Err(RecvTimeoutError::Timeout) => continue,
                Err(RecvTimeoutError::Disconnected) => return Ok(()),
            };
            match event {
                Event::Silence | Event::Told(Ask::End) => return Ok(()),
                Event::Ended(number, done) => {
                    self.running -= 1;
                    send(to, &Answer::Done { number, done })?;
                }
                Event::Told(ask) => {
                    heard = Instant::now();
                    match ask {
                        Ask::Begin(Begin { jobs, .. }) => {
                            self.jobs = jobs.map_or(self.jobs, |jobs| jobs.max(1) as usize)
                        }
                        Ask::Content(content) => drop(self.wanted.remove(&self.mirror.keep(&content)?)),
                        Ask::Work { number, inputs, work } => {
                            self.waiting.push_back(Waiting { number, inputs, work });
                        }
                        Ask::Holds { number, looks, absent } => {
                            let differs = self.differs(&looks, &absent);
                            send(to, &Answer::Holds { number, differs })?;
                        }
                        Ask::Beat | Ask::End => {}
                    }
                }
            }
            self.advance(to)?;
        }
    }

    /// Starts what can be started, first come, first served.
    fn advance(&mut self, to: &mut impl Write) -> Result<()> {
        while let Some(next) = self.waiting.front() {
            // One that waits for its turn has its contents got meanwhile. What was here can be gone: others keep contents in the same
            // folder, and take away what is spoilt.
            let missing = self.mirror.missing(&next.inputs);
            if !missing.is_empty() {
                let contents: Vec<Digest> = missing.into_iter().filter(|digest| self.wanted.insert(*digest)).collect();
                if !contents.is_empty() {
                    send(to, &Answer::Wants { number: next.number, contents })?;
                }
                return Ok(());
            }
            // Who is reading a file is to see the same one to the end.
            if self.running >= self.jobs || self.running > 0 && self.mirror.would_change(&next.inputs) {
                return Ok(());
            }
            self.mirror.make_folders(&next.work.folders)?;
            match self.mirror.lay_out(&next.inputs) {
                Err(_) if self.vanished < VANISHED && !self.mirror.missing(&next.inputs).is_empty() => {
                    self.vanished += 1;
                    continue;
                }
                laid => laid?,
            }
            let Some(Waiting { number, work, .. }) = self.waiting.pop_front() else { return Ok(()) };
            self.start(number, *work);
        }
        Ok(())
    }

    fn start(&mut self, number: u64, work: Work) {
        self.running += 1;
        let places = work.makes.iter().chain(work.lists.iter().flatten()).chain([&work.aside]);
        let outside = places.into_iter().find(|place| !self.mirror.is_aside(place)).cloned();
        let (tell, launch, status) = (self.tell.clone(), Arc::clone(&self.launch), Arc::clone(&self.status));
        let folders = self.mirror.folders.clone();
        std::thread::spawn(move || {
            let done = match outside {
                Some(place) => Err(format!("{} is no place for a result", place.display())),
                None => {
                    let run = std::panic::AssertUnwindSafe(|| run(&work, &launch, &status, &folders));
                    // Without a word somebody would wait for this step for ever.
                    let ran = std::panic::catch_unwind(run)
                        .unwrap_or_else(|_| Err(std::io::Error::other("the worker failed")));
                    let done = ran.map_err(|e| e.to_string());
                    // The folder stays, for the next one: making it anew costs more than all else.
                    let files = work.makes.iter().chain(work.lists.iter().flatten());
                    files.for_each(|file| drop(std::fs::remove_file(file)));
                    done
                }
            };
            // Who no longer listens needs no telling.
            let _ = tell.send(Event::Ended(number, done));
        });
    }

    /// The first thing that is not here as it is there.
    fn differs(&self, looks: &[(String, Digest)], absent: &[PathBuf]) -> Option<String> {
        let other = |(look, there): &&(String, Digest)| {
            let here = look.parse::<Look>().ok().and_then(|look| look.alone(&self.mirror.folders, &self.status));
            here != Some(*there)
        };
        let named = |look: &str| look.parse::<Look>().ok().and_then(|look| look.place().map(ToString::to_string));
        let look = looks.iter().find(other).map(|(look, _)| named(look).unwrap_or_else(|| look.clone()));
        look.or_else(|| {
            absent.iter().find(|path| path.symlink_metadata().is_ok()).map(|path| path.display().to_string())
        })
    }
}

/// Runs a step and gathers what came of it.
fn run(work: &Work, launch: &RealLaunch, status: &StatusMemo, folders: &Folders) -> Result<Done> {
    for folder in work.makes.iter().filter_map(|place| place.parent()).chain([work.aside.as_path()]) {
        std::fs::create_dir_all(folder)?;
    }
    let job = Job {
        program: work.program.clone(),
        arguments: work.arguments.clone(),
        folder: folders.tree.clone(),
        environment: work.environment.clone(),
        ..Job::default()
    };
    let outcome = launch.run(&job).map_err(|e| e.source)?;
    let mut done = Done {
        exit: outcome.exit,
        stdout: outcome.stdout,
        stderr: outcome.stderr,
        wall_us: micros(outcome.wall),
        cpu_us: micros(outcome.used.cpu),
        memory: outcome.used.memory,
        read: Vec::new(),
        lists: [None, None],
        made: Vec::new(),
    };
    if done.exit != Exit::Code(0) {
        return Ok(done);
    }
    for (number, list) in work.lists.iter().enumerate() {
        let Some(list) = list else { continue };
        let text = std::fs::read(list)?;
        for file in parse_dependencies(&text).files {
            let path = folders.tree.join(&file);
            let digest = status.digest(&path);
            match (number, digest) {
                (0, Some(digest)) => done.read.push((file, digest)),
                // What the compiler handed its assembler is gone by now.
                (_, None) => {}
                (_, Some(_)) if path.starts_with(&work.aside) => {}
                (_, Some(_)) => {
                    // It stands in the result already, which therefore stays here.
                    return Err(std::io::Error::other(format!("its assembler takes in {}", file.display())));
                }
            }
        }
        done.lists[number] = Some(text);
    }
    for place in &work.makes {
        let status = std::fs::symlink_metadata(place)?;
        if !status.is_file() {
            return Err(std::io::Error::other(format!("{} is no file", place.display())));
        }
        done.made.push(Made { content: std::fs::read(place)?, mode: status.permissions().mode() & 0o777 });
    }
    Ok(done)
}

fn micros(time: Duration) -> u64 {
    u64::try_from(time.as_micros()).unwrap_or(u64::MAX)
}

/// Holds an allocation of a workload manager: tells its number, and ends when nobody listens any more, so that the manager takes it back.
///
/// # Errors
/// Nobody takes what it says.
pub fn hold_allocation(mut from: impl Read, mut to: impl Write, number: &str) -> Result<()> {
    writeln!(to, "{number}")?;
    to.flush()?;
    // Nothing is ever said.
    std::io::copy(&mut from, &mut std::io::sink()).map(drop)
}
