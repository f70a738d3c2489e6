//! What was last seen of files: a file whose status is the same has the same content, so it is not read again.

use std::collections::HashMap;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::Mutex;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use foldhash::fast::FixedState;
use rustix::time::{ClockId, clock_gettime};
use serde::{Deserialize, Serialize};

use crate::base::files::{read_regular, unsealed, write_sealed};
use crate::base::{Digest, FileError};

/// What the kept file begins with.
const MARK: &[u8] = b"boltboard status 2\n";

/// A status is trusted only when the file was last changed this long before it was read: within that time a second
/// change could leave the same time stamp.
const SETTLED: Duration = Duration::from_millis(50);

/// What tells whether a file was changed, without reading it. It is kept as a row of numbers, because there are many.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "(u64, u64, i64, i64)", into = "(u64, u64, i64, i64)")]
pub struct Stamp {
    size: u64,
    inode: u64,
    modified_ns: i64,
    changed_ns: i64,
}

#[derive(Debug, Clone, Copy)]
struct Seen {
    stamp: Stamp,
    digest: Digest,
    settled: bool,
}

/// Contents of files, looked up by their status where that is enough. There are many, so that a digest stands for each path.
#[derive(Debug, Default)]
pub struct StatusMemo {
    seen: Mutex<AllSeen>,
}

type AllSeen = HashMap<PathKey, Seen, FixedState>;

/// Stands for a path where there are many.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct PathKey([u8; 16]);

impl PathKey {
    /// Returns the key of a path: half a digest.
    pub fn of(path: &Path) -> PathKey {
        PathKey(Digest::of(path.as_os_str().as_bytes()).half())
    }
}

impl StatusMemo {
    /// Reads what was kept; a missing or damaged file is an empty memo.
    pub fn load(path: &Path) -> StatusMemo {
        let bytes = read_regular(path).unwrap_or_default();
        let seen = unsealed(&bytes, MARK).and_then(read_all).unwrap_or_default();
        StatusMemo { seen: Mutex::new(seen) }
    }

    /// Keeps what was seen.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn save(&self, path: &Path) -> Result<(), FileError> {
        let seen = self.lock();
        let settled = seen.iter().filter(|(_, seen)| seen.settled);
        let mut kept: Vec<(&PathKey, &Seen)> = settled.collect();
        kept.sort_unstable_by_key(|(path, _)| *path);
        let failed = |e| FileError::on("pack what belongs into", path)(std::io::Error::other(e));
        let mut content = postcard::to_extend(&kept.len(), Vec::with_capacity(kept.len() * 80)).map_err(failed)?;
        for (key, seen) in kept {
            content = postcard::to_extend(&(key, seen.stamp, seen.digest), content).map_err(failed)?;
        }
        write_sealed(path, MARK, &content)
    }

    /// Returns the digest of a file's content, `None` when it is not a readable file.
    pub fn digest(&self, path: &Path) -> Option<Digest> {
        Some(self.digest_of(path, Stamp::of(path)?)?.0)
    }

    /// Returns the digest of the content that a file has had since `time`, `None` when it was changed since then.
    pub fn digest_since(&self, path: &Path, time: SystemTime) -> Option<Digest> {
        let stamp = Stamp::of(path).filter(|stamp| !stamp.changed_since(time))?;
        let (digest, same) = self.digest_of(path, stamp)?;
        same.then_some(digest)
    }

    /// Returns the content of a file that was just seen with a status, and whether it still has that status once it is read.
    fn digest_of(&self, path: &Path, now: Stamp) -> Option<(Digest, bool)> {
        let key = PathKey::of(path);
        if let Some(seen) = self.lock().get(&key)
            && seen.stamp == now
        {
            return Some((seen.digest, true));
        }
        let digest = Digest::of_file(path).ok()?;
        let read_at = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        let age = i64::try_from(read_at.as_nanos()).unwrap_or(0).saturating_sub(now.changed_ns);
        let same = Stamp::of(path) == Some(now);
        let settled = age > i64::try_from(SETTLED.as_nanos()).unwrap_or(0) && same;
        self.lock().insert(key, Seen { stamp: now, digest, settled });
        Some((digest, same))
    }

    /// Takes in a file that was just made here, with the digest of its content.
    pub fn learn(&self, path: &Path, digest: Digest) {
        if let Some(stamp) = Stamp::of(path) {
            self.trust(path, stamp, digest);
        }
    }

    /// Takes in a file that has this content as long as its status is this one.
    pub fn trust(&self, path: &Path, stamp: Stamp, digest: Digest) {
        self.lock().insert(PathKey::of(path), Seen { stamp, digest, settled: true });
    }

    /// Returns what was last seen of a file: its status, if that is enough to tell a change, and its content.
    pub fn seen(&self, path: &Path) -> Option<(Option<Stamp>, Digest)> {
        self.lock().get(&PathKey::of(path)).map(|seen| (seen.settled.then_some(seen.stamp), seen.digest))
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, AllSeen> {
        self.seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

/// Reads one entry after the other: all together would lie in memory twice.
fn read_all(content: &[u8]) -> Option<AllSeen> {
    let (count, mut rest) = postcard::take_from_bytes::<usize>(content).ok()?;
    let mut all = AllSeen::with_capacity_and_hasher(count.min(content.len()), FixedState::default());
    for _ in 0..count {
        let ((path, stamp, digest), after) = postcard::take_from_bytes::<(PathKey, Stamp, Digest)>(rest).ok()?;
        all.insert(path, Seen { stamp, digest, settled: true });
        rest = after;
    }
    Some(all)
}

/// The time by the clock that the kernel puts into the status of files that change: it goes on in steps of some milliseconds, so
/// that a file which changes after a fine time may seem to have changed before.
pub fn time_of_files() -> SystemTime {
    let now = clock_gettime(ClockId::RealtimeCoarse);
    let since = u64::try_from(now.tv_sec).ok().zip(u32::try_from(now.tv_nsec).ok());
    since.map_or_else(SystemTime::now, |(seconds, rest)| UNIX_EPOCH + Duration::new(seconds, rest))
}

impl From<(u64, u64, i64, i64)> for Stamp {
    fn from((size, inode, modified_ns, changed_ns): (u64, u64, i64, i64)) -> Stamp {
        Stamp { size, inode, modified_ns, changed_ns }
    }
}

impl From<Stamp> for (u64, u64, i64, i64) {
    fn from(stamp: Stamp) -> Self {
        (stamp.size, stamp.inode, stamp.modified_ns, stamp.changed_ns)
    }
}

impl From<&rustix::fs::Stat> for Stamp {
    #[allow(clippy::unnecessary_cast, reason = "the sorts of the fields differ between machines")]
    fn from(status: &rustix::fs::Stat) -> Stamp {
        Stamp {
            size: u64::try_from(status.st_size).unwrap_or(0),
            inode: status.st_ino as u64,
            modified_ns: nanoseconds(status.st_mtime as i64, status.st_mtime_nsec as i64),
            changed_ns: nanoseconds(status.st_ctime as i64, status.st_ctime_nsec as i64),
        }
    }
}

impl Stamp {
    /// Looks at a file, `None` when there is none.
    pub fn of(path: &Path) -> Option<Stamp> {
        std::fs::metadata(path).ok().filter(|s| s.is_file()).map(|status| Stamp::from_status(&status))
    }

    /// Looks at a file, folder or device; a folder's stamp changes with the names in it.
    pub fn of_any(path: &Path) -> Option<Stamp> {
        std::fs::metadata(path).ok().map(|status| Stamp::from_status(&status))
    }

    /// Tells whether the file was changed at or after a time.
    pub fn changed_since(&self, time: SystemTime) -> bool {
        let time = time.duration_since(UNIX_EPOCH).unwrap_or_default();
        self.changed_ns >= i64::try_from(time.as_nanos()).unwrap_or(0)
    }

    /// Returns how large the file was, in bytes.
    pub fn size(&self) -> u64 {
        self.size
    }

    /// Tells whether the last change lies so long before `time` that a later one leaves another stamp.
    pub fn is_settled(&self, time: SystemTime) -> bool {
        let time = time.duration_since(UNIX_EPOCH).unwrap_or_default().saturating_sub(SETTLED);
        self.changed_ns < i64::try_from(time.as_nanos()).unwrap_or(0)
    }

    fn from_status(status: &std::fs::Metadata) -> Stamp {
        Stamp {
            size: status.len(),
            inode: status.ino(),
            modified_ns: nanoseconds(status.mtime(), status.mtime_nsec()),
            changed_ns: nanoseconds(status.ctime(), status.ctime_nsec()),
        }
    }
}

/// Since 1970. A file can claim a time that is too far away for that; what comes of it still tells it from other times.
fn nanoseconds(seconds: i64, rest: i64) -> i64 {
    seconds.wrapping_mul(1_000_000_000).wrapping_add(rest)
}
