//! A process that ends the steps when the tool is gone without having ended them: killed, or out of memory itself.
//!
//! It holds one end of a pipe, whose other end the system closes however the tool dies, and a list in memory of the process
//! groups that run, which the tool keeps. It sleeps until then: to be told of each step would cost as much as the rest of starting one.

use std::fs::File;
use std::io::Read;
use std::os::unix::fs::FileExt;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::{Mutex, MutexGuard, PoisonError};

use rustix::fs::{MemfdFlags, memfd_create};
use rustix::process::{Pid, Signal, kill_process_group};

/// Each group takes so many bytes of the list: its number and a line's end, or blanks.
const ENTRY: usize = 12;

/// The tool's side.
#[derive(Debug)]
pub struct Guard {
    child: Child,
    pipe: Option<ChildStdin>,
    list: File,
    /// The groups in the list, by their entries.
    groups: Mutex<Vec<Option<i32>>>,
}

impl Guard {
    /// Starts a guard: `program` with `arguments` must come to call [`serve_guard`] with its standard input, and its standard
    /// output as the list.
    ///
    /// # Errors
    /// It cannot be started.
    pub fn start(program: &Path, arguments: &[&str]) -> std::io::Result<Guard> {
        let list = File::from(memfd_create("groups", MemfdFlags::CLOEXEC)?);
        let mut child = Command::new(program)
            .args(arguments)
            .stdin(Stdio::piped())
            .stdout(list.try_clone()?)
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()?;
        Ok(Guard { pipe: child.stdin.take(), child, list, groups: Mutex::default() })
    }

    pub(super) fn started(&self, group: i32) {
        let mut groups = self.groups();
        let free = groups.iter().position(Option::is_none);
        let entry = free.unwrap_or(groups.len());
        if free.is_none() {
            groups.push(None);
        }
        groups[entry] = Some(group);
        self.put(entry, &format!("{group:<11}\n"));
    }

    pub(super) fn ended(&self, group: i32) {
        let mut groups = self.groups();
        if let Some(entry) = groups.iter().position(|known| *known == Some(group)) {
            groups[entry] = None;
            self.put(entry, &format!("{:<11}\n", ""));
        }
    }

    fn put(&self, entry: usize, text: &str) {
        // A list that cannot be written guards nothing, which is no reason to stop the work.
        let _ = self.list.write_all_at(text.as_bytes(), (entry * ENTRY) as u64);
    }

    fn groups(&self) -> MutexGuard<'_, Vec<Option<i32>>> {
        self.groups.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for Guard {
    fn drop(&mut self) {
        drop(self.pipe.take());
        let _ = self.child.wait();
    }
}

/// Waits until the other end of the pipe is closed, then ends the groups of the list that are left.
pub fn serve_guard(mut pipe: impl Read, mut list: impl Read) {
    let mut text = String::new();
    // Nothing is ever said.
    let _ = std::io::copy(&mut pipe, &mut std::io::sink());
    let _ = list.read_to_string(&mut text);
    for group in text.lines().filter_map(|line| Pid::from_raw(line.trim().parse().ok()?)) {
        let _ = kill_process_group(group, Signal::KILL);
    }
}
