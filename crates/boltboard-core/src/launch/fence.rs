//! Files that a process may not read, told to the kernel (Landlock): what it tries all the same fails there and then.

use std::path::{Path, PathBuf};

use landlock::{
    AccessFs, CompatLevel, Compatible, Ruleset, RulesetAttr, RulesetCreatedAttr, RulesetStatus, path_beneath_rules,
};

/// Folders of which a process may read only some files. Listing folders, and everything outside of them, is free.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fence {
    /// The fenced folders.
    pub around: Vec<PathBuf>,
    /// Files and folders within that may be read.
    pub open: Vec<PathBuf>,
}

/// The kernel cannot fence processes.
#[derive(Debug, thiserror::Error)]
#[error("this kernel cannot keep a process from reading files (Landlock)")]
pub(super) struct NoFence;

impl Fence {
    /// Fences the calling thread and all processes that it starts, for good.
    ///
    /// # Errors
    /// The kernel cannot do that.
    pub(super) fn raise(&self) -> Result<(), NoFence> {
        let around: Vec<PathBuf> = self.around.iter().map(|folder| real(folder)).collect();
        let mut free = Vec::new();
        beside(Path::new("/"), &around, &mut free);
        free.extend(self.open.iter().map(|path| real(path)));
        let raised = Ruleset::default()
            .set_compatibility(CompatLevel::HardRequirement)
            .handle_access(AccessFs::ReadFile)
            .and_then(Ruleset::create)
            .and_then(|rules| rules.add_rules(path_beneath_rules(&free, AccessFs::ReadFile)))
            .and_then(|rules| rules.restrict_self());
        match raised {
            Ok(status) if status.ruleset == RulesetStatus::FullyEnforced => Ok(()),
            Ok(_) | Err(_) => Err(NoFence),
        }
    }
}

fn real(path: &Path) -> PathBuf {
    path.canonicalize().unwrap_or_else(|_| path.to_path_buf())
}

/// Collects what lies beside the fenced folders: rules only ever allow, so all else must be named.
fn beside(folder: &Path, around: &[PathBuf], free: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok) {
        let path = entry.path();
        if around.contains(&path) {
            continue;
        }
        if around.iter().any(|fenced| fenced.starts_with(&path)) {
            beside(&path, around, free);
        } else {
            free.push(path);
        }
    }
}
