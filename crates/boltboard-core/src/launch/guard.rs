//! A process that ends the steps when the tool is gone without having ended them: killed, or out of memory itself.
//!
//! It holds one end of a pipe, is told of each process group that starts and ends, and ends those that are left when the other
//! end is closed, which the system does however the tool dies.

use std::collections::BTreeSet;
use std::io::{BufRead, Write};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::Mutex;

use rustix::process::{Pid, Signal, kill_process_group};

/// The tool's end of the pipe.
#[derive(Debug)]
pub struct Guard {
    child: Child,
    pipe: Mutex<Option<ChildStdin>>,
}

impl Guard {
    /// Starts a guard: `program` with `arguments` must come to call [`serve_guard`].
    ///
    /// # Errors
    /// It cannot be started.
    pub fn start(program: &Path, arguments: &[&str]) -> std::io::Result<Guard> {
        let mut child = Command::new(program)
            .args(arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()?;
        let pipe = Mutex::new(child.stdin.take());
        Ok(Guard { child, pipe })
    }

    pub(super) fn started(&self, group: i32) {
        self.tell(&format!("+{group}\n"));
    }

    pub(super) fn ended(&self, group: i32) {
        self.tell(&format!("-{group}\n"));
    }

    fn tell(&self, line: &str) {
        let mut pipe = self.pipe.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        // A guard that is gone guards nothing, which is no reason to stop the work.
        let _ = pipe.as_mut().map(|pipe| pipe.write_all(line.as_bytes()));
    }
}

impl Drop for Guard {
    fn drop(&mut self) {
        drop(self.pipe.lock().unwrap_or_else(std::sync::PoisonError::into_inner).take());
        let _ = self.child.wait();
    }
}

/// Listens until the other end is closed, then ends the groups that are left.
pub fn serve_guard(pipe: impl BufRead) {
    let mut groups: BTreeSet<i32> = BTreeSet::new();
    for line in pipe.lines().map_while(Result::ok) {
        let group = line.get(1..).and_then(|text| text.parse::<i32>().ok());
        match (line.as_bytes().first(), group) {
            (Some(b'+'), Some(group)) => {
                groups.insert(group);
            }
            (Some(b'-'), Some(group)) => {
                groups.remove(&group);
            }
            _ => {}
        }
    }
    for group in groups.into_iter().filter_map(Pid::from_raw) {
        let _ = kill_process_group(group, Signal::KILL);
    }
}
