//! How many steps run at once: as cores, memory and load allow.

use std::collections::HashMap;
use std::path::Path;

use crate::base::Digest;
use crate::judge::Judge;

use crate::journal::Journal;
use crate::step::Step;

/// How many steps run at once.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Jobs {
    /// At most so many; at least one.
    pub count: usize,
    /// All together are to hold no more memory than this, in bytes; not limited without.
    pub memory: Option<u64>,
    /// None starts beside others while the machine's load is above this; not limited without.
    pub load: Option<f64>,
}

/// What a step of which nothing is known may want, in bytes: the C++ compiles of large trees seldom take more.
const UNKNOWN: u64 = 512 * 1024 * 1024;

impl Jobs {
    /// So many, without other limits.
    pub fn of(count: usize) -> Jobs {
        Jobs { count: count.max(1), memory: None, load: None }
    }

    /// Tells whether a step that wants so much memory may start beside others that are expected to hold `taken`. One always
    /// may.
    pub fn have_room(&self, taken: u64, wanted: u64, running: usize) -> bool {
        let memory = self.memory.is_none_or(|limit| taken.saturating_add(wanted) <= limit);
        let load = || self.load.is_none_or(|limit| machine_load().is_none_or(|load| load <= limit));
        running == 0 || (memory && load())
    }
}

/// How much memory steps want, from the journal.
#[derive(Debug)]
pub(super) struct Memory {
    /// The most that a step of each tool has held.
    of_tools: HashMap<Digest, u64>,
}

impl Memory {
    pub fn of_journal(journal: &Journal) -> Memory {
        let mut of_tools: HashMap<Digest, u64> = HashMap::new();
        for record in journal.all() {
            let held = record.note.as_ref().map_or(0, |note| note.memory);
            let most = of_tools.entry(journal.digest(record.tool)).or_default();
            *most = held.max(*most);
        }
        Memory { of_tools }
    }

    /// Returns how much a step is expected to hold, in bytes.
    pub fn of(&self, judge: &Judge<'_>, step: &Step) -> u64 {
        if !step.has_process() {
            return 0;
        }
        let own = judge.journal.packed(&step.name).and_then(|record| record.note.as_ref()).map(|note| note.memory);
        let of_tool = || self.of_tools.get(&step.tool_identity()).copied();
        own.filter(|held| *held > 0).or_else(|| of_tool().filter(|held| *held > 0)).unwrap_or(UNKNOWN)
    }
}

/// Returns the memory that can be had now, in bytes: of the machine, and of the control groups that this process is in.
pub fn available_memory() -> Option<u64> {
    let text = std::fs::read_to_string("/proc/meminfo").ok()?;
    let line = text.lines().find_map(|line| line.strip_prefix("MemAvailable:"))?;
    let machine = line.split_whitespace().next()?.parse::<u64>().ok()? * 1024;
    let groups = std::fs::read_to_string("/proc/self/cgroup").unwrap_or_default();
    Some(left_to_groups(&groups, Path::new("/sys/fs/cgroup")).map_or(machine, |left| left.min(machine)))
}

/// Returns what is left of the tightest limit of the groups and those above them; `groups` is the text that the system gives.
fn left_to_groups(groups: &str, root: &Path) -> Option<u64> {
    let mut least: Option<u64> = None;
    for line in groups.lines() {
        let mut fields = line.splitn(3, ':');
        let (Some(_), Some(kinds), Some(path)) = (fields.next(), fields.next(), fields.next()) else { continue };
        let (mount, limit, used) = match kinds {
            "" => (root.to_path_buf(), "memory.max", "memory.current"),
            "memory" => (root.join("memory"), "memory.limit_in_bytes", "memory.usage_in_bytes"),
            _ => continue,
        };
        let own = mount.join(path.trim_start_matches('/'));
        for folder in own.ancestors().take_while(|folder| folder.starts_with(&mount)) {
            let number = |name: &str| std::fs::read_to_string(folder.join(name)).ok()?.trim().parse::<u64>().ok();
            if let (Some(limit), Some(used)) = (number(limit), number(used)) {
                let left = limit.saturating_sub(used);
                least = Some(least.map_or(left, |least| least.min(left)));
            }
        }
    }
    least
}

fn machine_load() -> Option<f64> {
    std::fs::read_to_string("/proc/loadavg").ok()?.split_whitespace().next()?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn memory_limits_jobs_but_one_always_runs() {
        let jobs = Jobs { memory: Some(100), ..Jobs::of(8) };
        for (taken, wanted, running, want) in [(0, 500, 0, true), (40, 60, 1, true), (41, 60, 1, false)] {
            assert_eq!(jobs.have_room(taken, wanted, running), want, "{taken} + {wanted} beside {running}");
        }
        assert!(Jobs::of(0).have_room(u64::MAX, u64::MAX, 5), "without a limit nothing is held back");
        assert_eq!(Jobs::of(0).count, 1);
    }

    #[test]
    fn a_load_above_the_limit_starts_nothing_beside_others() {
        let jobs = Jobs { load: Some(-1.0), ..Jobs::of(8) };
        assert!(jobs.have_room(0, 0, 0));
        assert!(!jobs.have_room(0, 0, 1));
    }

    #[test]
    fn the_tightest_control_group_counts() {
        let folder = tempfile::tempdir().unwrap();
        let write = |path: &str, text: &str| {
            let path = folder.path().join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        };
        write("user/build/memory.max", "max\n");
        write("user/build/memory.current", "10\n");
        write("user/memory.max", "1000\n");
        write("user/memory.current", "400\n");
        write("memory/old/memory.limit_in_bytes", "700\n");
        write("memory/old/memory.usage_in_bytes", "650\n");
        assert_eq!(left_to_groups("0::/user/build\n", folder.path()), Some(600));
        assert_eq!(left_to_groups("4:memory:/old\n0::/user/build\n", folder.path()), Some(50));
        assert_eq!(left_to_groups("3:cpu:/x\n0::/none\n", folder.path()), None);
    }
}
