//! A program in a pseudo-terminal of its own, with its screen as a terminal would show it: for the bench and for the tests.

use std::fs::File;
use std::io::{Read, Write};
use std::num::NonZeroU16;
use std::os::unix::process::CommandExt;
use std::process::{Child, Command};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};

/// How a program says that a frame is whole.
const FRAME_END: &[u8] = b"\x1b[?2026l";
/// A title that we give to the terminal once the program has ended.
const ENDED: &[u8] = b"\x1b]2;ended\x07";

/// What came out of the program so far.
pub struct Shown {
    parser: vt100::Parser,
    /// Everything that was written since it was last asked for.
    pub written: Vec<u8>,
    /// How many frames were whole.
    pub frames: usize,
    begun: Vec<u8>,
}

impl Shown {
    /// The screen.
    pub fn screen(&self) -> &vt100::Screen {
        self.parser.screen()
    }

    /// Takes in what the program wrote, up to the ends of frames; what comes after the last of them waits for its own.
    fn take(&mut self, bytes: &[u8]) {
        self.written.extend_from_slice(bytes);
        self.begun.extend_from_slice(bytes);
        let ends = self.begun.windows(FRAME_END.len()).filter(|window| *window == FRAME_END).count();
        self.parser.process(bytes);
        if ends > 0 {
            self.frames += ends;
            let from = self.begun.windows(FRAME_END.len()).rposition(|window| window == FRAME_END).unwrap_or(0);
            self.begun.drain(..from + FRAME_END.len());
        }
    }
}

/// A program at work in its terminal. It is ended with the sitting.
pub struct Sitting {
    /// The program.
    pub child: Child,
    keys: File,
    /// The terminal's own end, for asking how it is set.
    pub end: File,
    shown: Arc<(Mutex<Shown>, Condvar)>,
}

impl Sitting {
    /// Starts a program in a terminal of this size.
    ///
    /// # Errors
    /// There is no terminal to be had, or the program cannot be started.
    pub fn start(mut command: Command, columns: u16, rows: u16) -> std::io::Result<Sitting> {
        let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY)?;
        grantpt(&master)?;
        unlockpt(&master)?;
        tcsetwinsize(&master, Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 })?;
        let name = ptsname(&master, Vec::new())?;
        let name = name.to_string_lossy().into_owned();
        let end = || File::options().read(true).write(true).open(&name);
        // In a group of its own, it can be stopped as a shell's job can.
        let child = command.process_group(0).stdin(end()?).stdout(end()?).stderr(end()?).spawn()?;
        let shown = Shown {
            parser: vt100::Parser::new(at_least_one(rows), at_least_one(columns), 0),
            written: Vec::new(),
            frames: 0,
            begun: Vec::new(),
        };
        let shown = Arc::new((Mutex::new(shown), Condvar::new()));
        let (mut reads, sink) = (File::from(master), shown.clone());
        let keys = reads.try_clone()?;
        std::thread::spawn(move || {
            let mut bytes = [0; 65536];
            while let Ok(read) = reads.read(&mut bytes) {
                sink.0.lock().unwrap_or_else(PoisonError::into_inner).take(&bytes[..read]);
                sink.1.notify_all();
            }
        });
        Ok(Sitting { child, keys, end: end()?, shown })
    }

    /// What is shown now.
    pub fn shown(&self) -> MutexGuard<'_, Shown> {
        self.shown.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The text on the screen, line by line.
    pub fn text(&self) -> String {
        self.shown().screen().contents()
    }

    /// Types.
    ///
    /// # Errors
    /// The terminal is gone.
    pub fn press(&mut self, keys: &str) -> std::io::Result<()> {
        self.keys.write_all(keys.as_bytes())
    }

    /// Waits until what is shown is as wanted; returns when that came, or nothing when it did not.
    pub fn wait(&self, limit: Duration, is_so: impl Fn(&Shown) -> bool) -> Option<Instant> {
        let until = Instant::now() + limit;
        let mut shown = self.shown();
        while !is_so(&shown) {
            let left = until.checked_duration_since(Instant::now())?;
            shown = self.shown.1.wait_timeout(shown, left).unwrap_or_else(PoisonError::into_inner).0;
        }
        Some(Instant::now())
    }

    /// Gives the terminal another size, without a word to the program.
    ///
    /// # Errors
    /// The terminal is gone.
    pub fn resize_untold(&mut self, columns: u16, rows: u16) -> std::io::Result<()> {
        self.shown().parser.screen_mut().set_size(at_least_one(rows), at_least_one(columns));
        Ok(tcsetwinsize(&self.keys, Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 })?)
    }

    /// Tells the program that its terminal has another size now.
    ///
    /// # Errors
    /// The terminal is gone.
    pub fn resize(&mut self, columns: u16, rows: u16) -> std::io::Result<()> {
        self.resize_untold(columns, rows)?;
        rustix::process::kill_process(rustix::process::Pid::from_child(&self.child), rustix::process::Signal::WINCH)?;
        Ok(())
    }

    /// Waits for the program's end, and until all that it wrote is shown; nothing when that does not come.
    pub fn ends(&mut self, limit: Duration) -> Option<i32> {
        let until = Instant::now() + limit;
        while Instant::now() < until {
            if let Ok(Some(status)) = self.child.try_wait() {
                // A terminal keeps the order: what is written now is read after what the program wrote.
                self.end.write_all(ENDED).ok()?;
                self.wait(limit, |shown| shown.written.ends_with(ENDED))?;
                return status.code();
            }
            std::thread::sleep(Duration::from_millis(10));
        }
        None
    }
}

fn at_least_one(number: u16) -> NonZeroU16 {
    NonZeroU16::new(number).unwrap_or(NonZeroU16::MIN)
}

impl Drop for Sitting {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
