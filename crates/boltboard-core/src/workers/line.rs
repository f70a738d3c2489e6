//! The line to one worker: the process that leads there, its first word, and what goes through.

use std::io::{BufReader, Read, Write};
use std::os::unix::process::CommandExt;
use std::process::{Child, ChildStderr, ChildStdin, ChildStdout, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process_group};

use super::talk::{Answer, Ask, Begin, FORMAT, Hello, find_beginning, receive, send};

/// How long a worker may take to say its first word.
const TO_BEGIN: Duration = Duration::from_secs(60);
/// How often it is looked whether somebody still waits for it.
const TICK: Duration = Duration::from_millis(100);
/// How long what was told to end may take.
pub(super) const TO_END: Duration = Duration::from_secs(2);
/// How much of what a connection complains about is kept, in bytes.
const MOST_COMPLAINT: usize = 4096;

/// What is said to a worker, and what it says.
pub(super) type To = Counted<ChildStdin>;
pub(super) type From = BufReader<Counted<ChildStdout>>;

/// A line on which both sides have said their first word.
pub(super) struct Line {
    /// What the worker says of itself.
    pub hello: Hello,
    pub to: To,
    pub from: From,
    /// Tells, when the line is closed, what was complained about.
    pub complaints: Receiver<String>,
    /// The process that leads there.
    pub child: Child,
    /// How many bytes came.
    pub got: Arc<AtomicU64>,
}

/// Counts the bytes that go through.
#[derive(Debug)]
pub(super) struct Counted<T> {
    inner: T,
    bytes: Arc<AtomicU64>,
}

impl<T: Read> Read for Counted<T> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let count = self.inner.read(buffer)?;
        self.bytes.fetch_add(count as u64, Ordering::Relaxed);
        Ok(count)
    }
}

impl<T: Write> Write for Counted<T> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let count = self.inner.write(bytes)?;
        self.bytes.fetch_add(count as u64, Ordering::Relaxed);
        Ok(count)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}

impl<T> Counted<T> {
    /// Returns how many there were.
    pub fn bytes(&self) -> u64 {
        self.bytes.load(Ordering::Relaxed)
    }
}

impl Line {
    /// Opens it by a command, until `ended` says that nobody wants it any more.
    ///
    /// # Errors
    /// It leads nowhere, or to another version; in words.
    pub fn open(mut command: Command, jobs: Option<usize>, ended: &AtomicBool) -> Result<Line, String> {
        let piped = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        // An interrupt at our terminal is for us alone.
        let mut child = piped.process_group(0).spawn().map_err(|e| {
            let program = std::path::Path::new(command.get_program()).display().to_string();
            format!("{program} cannot be started: {e}")
        })?;
        let (Some(to), Some(from), Some(complaints)) = (child.stdin.take(), child.stdout.take(), child.stderr.take())
        else {
            return Err("it has no pipes".into());
        };
        let complaints = gather(complaints);
        let got = Arc::new(AtomicU64::new(0));
        let from = BufReader::new(Counted { inner: from, bytes: Arc::clone(&got) });
        let greeted = greet(from);
        let mut to = Counted { inner: to, bytes: Arc::default() };
        let begin = Begin {
            format: FORMAT,
            program: env!("CARGO_PKG_VERSION").into(),
            jobs: jobs.and_then(|jobs| u32::try_from(jobs).ok()),
        };
        let began = Instant::now();
        let met = loop {
            match greeted.recv_timeout(TICK) {
                Ok(Ok((hello, from))) => break check(&hello).map(|()| (hello, from)),
                Ok(Err(why)) => break Err(why),
                Err(_) if ended.load(Ordering::SeqCst) => break Err("nobody wants it any more".into()),
                Err(_) if began.elapsed() < TO_BEGIN => {}
                Err(_) => break Err(format!("it says nothing for {} seconds", TO_BEGIN.as_secs())),
            }
        };
        let met = met.and_then(|met| send(&mut to, &Ask::Begin(begin)).map(|()| met).map_err(|e| e.to_string()));
        let (hello, from) = match met {
            Ok(met) => met,
            Err(why) => {
                end_all(&mut child);
                let said = complaints.recv_timeout(TO_END).unwrap_or_default();
                return Err(if said.is_empty() { why } else { said });
            }
        };
        Ok(Line { hello, to, from, complaints, child, got })
    }
}

/// Ends what reaches a worker, with all that it started here.
pub(super) fn kill_all(child: &Child) {
    if let Some(group) = i32::try_from(child.id()).ok().and_then(Pid::from_raw) {
        // It may have ended by itself, which is as good.
        let _ = kill_process_group(group, Signal::KILL);
    }
}

pub(super) fn end_all(child: &mut Child) {
    if matches!(child.try_wait(), Ok(None)) {
        kill_all(child);
    }
    let _ = child.wait();
}

/// Waits aside for a worker's first word.
fn greet(mut from: From) -> Receiver<Result<(Hello, From), String>> {
    let (tell, told) = channel();
    std::thread::spawn(move || {
        let met = find_beginning(&mut from).and_then(|()| receive::<Answer>(&mut from));
        let met = match met {
            Ok(Answer::Hello(hello)) => Ok((hello, from)),
            Ok(_) => Err("what answers there is no worker".into()),
            Err(error) if error.kind() == std::io::ErrorKind::UnexpectedEof => {
                Err("it ended before its first word".into())
            }
            Err(error) => Err(error.to_string()),
        };
        let _ = tell.send(met);
    });
    told
}

/// Checks that a worker is of our version.
fn check(hello: &Hello) -> Result<(), String> {
    let ours = env!("CARGO_PKG_VERSION");
    if hello.format != FORMAT || hello.program != ours {
        return Err(format!("the boltboard there is {}, this one is {ours}", hello.program));
    }
    if !hello.tree.is_absolute() || !hello.build.is_absolute() {
        return Err("it does not say where its files lie".into());
    }
    Ok(())
}

/// Gathers the end of what a connection complains about, told when it is closed: one line.
fn gather(mut complaints: ChildStderr) -> Receiver<String> {
    let (tell, told) = channel();
    std::thread::spawn(move || {
        let (mut kept, mut buffer) = (Vec::new(), [0; 1024]);
        while let Ok(count @ 1..) = complaints.read(&mut buffer) {
            kept.extend_from_slice(&buffer[..count]);
            let over = kept.len().saturating_sub(MOST_COMPLAINT);
            kept.drain(..over);
        }
        let text = String::from_utf8_lossy(&kept).into_owned();
        let lines: Vec<&str> = text.lines().map(str::trim).filter(|line| !line.is_empty()).collect();
        let _ = tell.send(lines.join("; "));
    });
    told
}
