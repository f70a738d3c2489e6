//! How many steps run at once.

/// How many steps run at once, and why so many.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Jobs {
    /// The number; at least one.
    pub count: usize,
}

/// What a compile may need, in bytes: the C++ compiles of large trees seldom take more.
const PER_JOB: u64 = 768 * 1024 * 1024;

/// Returns as many jobs as cores allow and as the memory that is free now can feed.
pub fn default_jobs(cores: usize, available_bytes: Option<u64>) -> Jobs {
    let by_memory = available_bytes.map_or(usize::MAX, |bytes| usize::try_from(bytes / PER_JOB).unwrap_or(usize::MAX));
    Jobs { count: cores.min(by_memory).max(1) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn memory_limits_jobs_but_one_always_runs() {
        for (cores, memory, want) in [(8, None, 8), (8, Some(2 << 30), 2), (8, Some(1 << 20), 1), (0, None, 1)] {
            assert_eq!(default_jobs(cores, memory).count, want, "{cores} cores, {memory:?}");
        }
    }
}
