//! What a stopped process is about to do: its call, read from its registers and memory.

use std::io::IoSliceMut;
use std::os::unix::ffi::OsStringExt;
use std::path::{Component, Path, PathBuf};

use nix::libc;
use nix::sys::ptrace;
use nix::sys::uio::{RemoteIoVec, process_vm_readv};
use nix::unistd::Pid;

use super::{Blind, Deed, DeedSort};

/// The longest path that is read, in bytes: more than the kernel takes.
const MAX_PATH: usize = 8192;
const PAGE: usize = 4096;

/// What a call comes to.
pub(super) enum Call {
    /// Things that it does with places; none when they do not concern us.
    Deeds(Vec<Deed>),
    /// It will run this.
    Runs(PathBuf),
    /// It blinds us.
    Blinds(Blind),
}

/// A call's number and arguments.
struct Registers {
    call: libc::c_long,
    words: [u64; 5],
}

#[cfg(target_arch = "x86_64")]
fn registers(pid: Pid) -> Option<Registers> {
    let all = ptrace::getregs(pid).ok()?;
    let call = libc::c_long::try_from(all.orig_rax).ok()?;
    Some(Registers { call, words: [all.rdi, all.rsi, all.rdx, all.r10, all.r8] })
}

#[cfg(target_arch = "aarch64")]
fn registers(pid: Pid) -> Option<Registers> {
    let all = ptrace::getregset::<ptrace::regset::NT_PRSTATUS>(pid).ok()?;
    let call = libc::c_long::try_from(all.regs[8]).ok()?;
    Some(Registers { call, words: [all.regs[0], all.regs[1], all.regs[2], all.regs[3], all.regs[4]] })
}

#[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
fn registers(_: Pid) -> Option<Registers> {
    None
}

/// Reads the call before which a process has stopped. `None` when the process is gone.
pub(super) fn read(pid: Pid) -> Option<Call> {
    let Registers { call, words } = registers(pid)?;
    let caller = Caller { pid };
    #[cfg(target_arch = "x86_64")]
    if let Some(deeds) = caller.old(call, words) {
        return Some(deeds);
    }
    Some(caller.known(call, words))
}

struct Caller {
    pid: Pid,
}

/// A folder's descriptor, as calls hand it over: an `int` in a register.
#[allow(clippy::cast_possible_truncation, clippy::cast_possible_wrap, reason = "the kernel reads just these bits")]
fn descriptor(word: u64) -> i32 {
    word as u32 as i32
}

impl Caller {
    /// Calls that name a folder's descriptor and a path.
    fn known(&self, call: libc::c_long, words: [u64; 5]) -> Call {
        let at = |folder: usize, path: usize| self.place(descriptor(words[folder]), words[path]);
        let (first, second) = (|| at(0, 1), || at(2, 3));
        match call {
            libc::SYS_openat => self.opens(first(), descriptor(words[2])),
            libc::SYS_openat2 => self.opens(first(), descriptor(self.word(words[2]))),
            libc::SYS_execve => self.runs(self.place(libc::AT_FDCWD, words[0])),
            libc::SYS_execveat => self.runs(first()),
            libc::SYS_renameat | libc::SYS_renameat2 => renames(first(), second()),
            libc::SYS_unlinkat => one(DeedSort::Removed, first()),
            libc::SYS_mkdirat => one(DeedSort::Wrote, first()),
            libc::SYS_linkat => {
                let read = first().map(|path| Deed { sort: DeedSort::Opened, path });
                let made = second().map(|path| Deed { sort: DeedSort::Wrote, path });
                Call::Deeds(read.into_iter().chain(made).collect())
            }
            libc::SYS_symlinkat => one(DeedSort::Wrote, at(1, 2)),
            libc::SYS_truncate => one(DeedSort::Wrote, self.place(libc::AT_FDCWD, words[0])),
            libc::SYS_newfstatat if descriptor(words[3]) & libc::AT_SYMLINK_NOFOLLOW != 0 => asks_link(first()),
            libc::SYS_statx if descriptor(words[2]) & libc::AT_SYMLINK_NOFOLLOW != 0 => asks_link(first()),
            libc::SYS_newfstatat | libc::SYS_statx | libc::SYS_faccessat | libc::SYS_faccessat2 => asks(first()),
            libc::SYS_readlinkat => asks_link(first()),
            libc::SYS_ptrace => Call::Blinds(Blind::Traces),
            libc::SYS_io_uring_setup => Call::Blinds(Blind::Queues),
            _ => Call::Deeds(vec![]),
        }
    }

    /// Calls of before, that go from the current folder.
    #[cfg(target_arch = "x86_64")]
    fn old(&self, call: libc::c_long, words: [u64; 5]) -> Option<Call> {
        let at = |path: usize| self.place(libc::AT_FDCWD, words[path]);
        Some(match call {
            libc::SYS_open => self.opens(at(0), descriptor(words[1])),
            libc::SYS_creat => one(DeedSort::Wrote, at(0)),
            libc::SYS_rename => renames(at(0), at(1)),
            libc::SYS_unlink | libc::SYS_rmdir => one(DeedSort::Removed, at(0)),
            libc::SYS_mkdir => one(DeedSort::Wrote, at(0)),
            libc::SYS_link => {
                let read = at(0).map(|path| Deed { sort: DeedSort::Opened, path });
                Call::Deeds(read.into_iter().chain(at(1).map(|path| Deed { sort: DeedSort::Wrote, path })).collect())
            }
            libc::SYS_symlink => one(DeedSort::Wrote, at(1)),
            libc::SYS_stat | libc::SYS_access => asks(at(0)),
            libc::SYS_lstat | libc::SYS_readlink => asks_link(at(0)),
            _ => return None,
        })
    }

    fn opens(&self, path: Option<PathBuf>, flags: i32) -> Call {
        let Some(path) = path else { return Call::Deeds(vec![]) };
        let writes = flags & libc::O_ACCMODE != libc::O_RDONLY || flags & (libc::O_CREAT | libc::O_TRUNC) != 0;
        let status = std::fs::metadata(&path);
        let read = match &status {
            Ok(status) if status.is_dir() => DeedSort::Listed,
            Ok(_) => DeedSort::Opened,
            Err(_) if flags & libc::O_NOFOLLOW != 0 && path.is_symlink() => DeedSort::AskedLink,
            Err(_) => DeedSort::Missed,
        };
        let read = Deed { sort: read, path: path.clone() };
        // Also what is only there: without `O_TRUNC`, what is written to a file depends on what is in it.
        let keeps = flags & (libc::O_TRUNC | libc::O_EXCL) == 0 && status.is_ok();
        let mut deeds = Vec::new();
        if !writes || keeps {
            deeds.push(read);
        }
        if writes {
            deeds.push(Deed { sort: DeedSort::Wrote, path });
        }
        Call::Deeds(deeds)
    }

    fn runs(&self, path: Option<PathBuf>) -> Call {
        match path {
            Some(path) if path.is_file() => Call::Runs(path),
            Some(path) => Call::Deeds(vec![Deed { sort: DeedSort::Missed, path }]),
            None => Call::Deeds(vec![]),
        }
    }

    /// The place that a call names; `None` for an empty path, which means an open file.
    fn place(&self, folder: i32, path: u64) -> Option<PathBuf> {
        let path = self.text(path).filter(|path| !path.as_os_str().is_empty())?;
        if path.is_absolute() {
            return Some(tidy(self.behind_process(path)));
        }
        let of = if folder == libc::AT_FDCWD { "cwd".into() } else { format!("fd/{folder}") };
        let folder = std::fs::read_link(format!("/proc/{}/{of}", self.pid)).ok()?;
        Some(tidy(folder.join(path)))
    }

    /// Where a path leads that goes through what the kernel tells of a process (`/proc/self/cwd/x`): to files like any other.
    fn behind_process(&self, path: PathBuf) -> PathBuf {
        let Ok(below) = path.strip_prefix("/proc") else { return path };
        let mut steps = below.components();
        let who = steps.next().and_then(|step| step.as_os_str().to_str()).unwrap_or_default();
        let own = self.pid.to_string();
        let who = if matches!(who, "self" | "thread-self") { own.as_str() } else { who };
        let link = match steps.next().and_then(|step| step.as_os_str().to_str()) {
            Some(what @ ("cwd" | "root" | "exe")) => format!("/proc/{who}/{what}"),
            Some("fd") => match steps.next().and_then(|step| step.as_os_str().to_str()) {
                Some(number) => format!("/proc/{who}/fd/{number}"),
                None => return path,
            },
            _ => return path,
        };
        match std::fs::read_link(link) {
            Ok(led) if led.is_absolute() => led.join(steps.as_path()),
            Ok(_) | Err(_) => path.clone(),
        }
    }

    fn text(&self, mut at: u64) -> Option<PathBuf> {
        let mut text = Vec::new();
        while text.len() < MAX_PATH {
            // No more than the rest of a page: the next one may not be there.
            let mut buffer = [0u8; 256];
            let here = usize::try_from(at).ok()?;
            let room = buffer.len().min(PAGE - here % PAGE);
            let local = &mut [IoSliceMut::new(&mut buffer[..room])];
            let count = process_vm_readv(self.pid, local, &[RemoteIoVec { base: here, len: room }]).ok()?;
            match buffer[..count].iter().position(|byte| *byte == 0) {
                Some(end) => {
                    text.extend(&buffer[..end]);
                    return Some(std::ffi::OsString::from_vec(text).into());
                }
                None if count == 0 => return None,
                None => text.extend(&buffer[..count]),
            }
            at += count as u64;
        }
        None
    }

    fn word(&self, at: u64) -> u64 {
        let mut buffer = [0u8; 8];
        let base = usize::try_from(at).unwrap_or(0);
        let _ = process_vm_readv(self.pid, &mut [IoSliceMut::new(&mut buffer)], &[RemoteIoVec { base, len: 8 }]);
        u64::from_ne_bytes(buffer)
    }
}

fn one(sort: DeedSort, path: Option<PathBuf>) -> Call {
    Call::Deeds(path.map(|path| Deed { sort, path }).into_iter().collect())
}

fn asks(path: Option<PathBuf>) -> Call {
    let sort = |path: &PathBuf| if path.exists() { DeedSort::Asked } else { DeedSort::Missed };
    Call::Deeds(path.map(|path| Deed { sort: sort(&path), path }).into_iter().collect())
}

fn asks_link(path: Option<PathBuf>) -> Call {
    let sort = |path: &PathBuf| match path.symlink_metadata() {
        Ok(status) if status.is_symlink() => DeedSort::AskedLink,
        Ok(_) => DeedSort::Asked,
        Err(_) => DeedSort::Missed,
    };
    Call::Deeds(path.map(|path| Deed { sort: sort(&path), path }).into_iter().collect())
}

fn renames(from: Option<PathBuf>, to: Option<PathBuf>) -> Call {
    let deed = from.zip(to).map(|(from, path)| Deed { sort: DeedSort::Renamed { from }, path });
    Call::Deeds(deed.into_iter().collect())
}

/// Spells a path without `.` and, where no link stands before one, without `..`. Links stay, because they may come to lead elsewhere.
pub(super) fn tidy(path: PathBuf) -> PathBuf {
    let plain = path.as_os_str().as_encoded_bytes();
    let dotted = plain.windows(2).any(|pair| pair == b"/.") || plain.windows(2).any(|pair| pair == b"//");
    if !dotted && !plain.ends_with(b"/") {
        return path;
    }
    let mut spelt = PathBuf::new();
    for part in path.components() {
        match part {
            Component::CurDir => {}
            Component::ParentDir if spelt.is_symlink() => spelt = spelt.canonicalize().unwrap_or(spelt).join(".."),
            Component::ParentDir => {
                spelt.pop();
            }
            Component::RootDir | Component::Prefix(_) | Component::Normal(_) => spelt.push(part),
        }
    }
    let led_up = spelt.components().any(|part| part == Component::ParentDir);
    if led_up { spelt.canonicalize().unwrap_or(spelt) } else { spelt }
}

/// The interpreters that the kernel starts for a script, by the scripts' first lines.
pub(super) fn interpreters(script: &Path) -> Vec<PathBuf> {
    use std::io::Read;
    let mut found = Vec::new();
    let mut at = script.to_path_buf();
    // The kernel follows so many as well.
    while found.len() < 4 {
        let mut head = [0u8; 256];
        let Ok(count) = std::fs::File::open(&at).and_then(|mut file| file.read(&mut head)) else { break };
        let line = head[..count].split(|byte| *byte == b'\n').next().unwrap_or_default();
        let Some(rest) = line.strip_prefix(b"#!") else { break };
        let word = rest.trim_ascii().split(u8::is_ascii_whitespace).next().unwrap_or_default();
        at = std::ffi::OsString::from_vec(word.to_vec()).into();
        if !at.is_absolute() {
            break;
        }
        found.push(at.clone());
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_spelt_without_detours() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().canonicalize().unwrap();
        std::fs::create_dir_all(root.join("far/inner")).unwrap();
        std::os::unix::fs::symlink("far/inner", root.join("near")).unwrap();
        for (path, want) in [
            ("a/b", "a/b"),
            ("a/./b", "a/b"),
            ("a//b/", "a/b"),
            ("a/../b", "b"),
            ("near/x", "near/x"),
            ("near/../x", "far/../x"),
        ] {
            let want = root.join(want);
            let want =
                if want.components().any(|part| part == Component::ParentDir) { root.join("far/x") } else { want };
            let found = tidy(root.join(path));
            let same = found == want
                || found.parent().and_then(|at| at.canonicalize().ok()) == want.parent().map(Path::to_path_buf);
            assert!(same, "{path}: {} is not {}", found.display(), want.display());
        }
    }
}
