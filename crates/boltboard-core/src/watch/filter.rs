//! Which calls stop a watched process: a program for the kernel's filter.

use std::collections::BTreeMap;

use nix::libc;
use seccompiler::{
    BpfProgram, SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter, SeccompRule,
};

use super::Depth;

/// The instruction that returns a verdict, and two verdicts, as the kernel's header numbers them.
const RETURN: u16 = 0x06;
const KILL: u32 = 0x8000_0000;
const ALLOW: u32 = 0x7fff_0000;

/// Calls that open, run or change something, and those that blind us.
#[cfg(target_arch = "x86_64")]
const DEEDS: &[libc::c_long] = &[
    libc::SYS_open,
    libc::SYS_openat,
    libc::SYS_openat2,
    libc::SYS_creat,
    libc::SYS_execve,
    libc::SYS_execveat,
    libc::SYS_rename,
    libc::SYS_renameat,
    libc::SYS_renameat2,
    libc::SYS_unlink,
    libc::SYS_unlinkat,
    libc::SYS_rmdir,
    libc::SYS_mkdir,
    libc::SYS_mkdirat,
    libc::SYS_link,
    libc::SYS_linkat,
    libc::SYS_symlink,
    libc::SYS_symlinkat,
    libc::SYS_truncate,
    libc::SYS_ptrace,
    libc::SYS_io_uring_setup,
];
#[cfg(target_arch = "aarch64")]
const DEEDS: &[libc::c_long] = &[
    libc::SYS_openat,
    libc::SYS_openat2,
    libc::SYS_execve,
    libc::SYS_execveat,
    libc::SYS_renameat,
    libc::SYS_renameat2,
    libc::SYS_unlinkat,
    libc::SYS_mkdirat,
    libc::SYS_linkat,
    libc::SYS_symlinkat,
    libc::SYS_truncate,
    libc::SYS_ptrace,
    libc::SYS_io_uring_setup,
];
#[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
const DEEDS: &[libc::c_long] = &[];

/// Calls that only ask.
#[cfg(target_arch = "x86_64")]
const LOOKS: &[libc::c_long] = &[
    libc::SYS_stat,
    libc::SYS_lstat,
    libc::SYS_newfstatat,
    libc::SYS_statx,
    libc::SYS_access,
    libc::SYS_faccessat,
    libc::SYS_faccessat2,
    libc::SYS_readlink,
    libc::SYS_readlinkat,
];
#[cfg(target_arch = "aarch64")]
const LOOKS: &[libc::c_long] =
    &[libc::SYS_newfstatat, libc::SYS_statx, libc::SYS_faccessat, libc::SYS_faccessat2, libc::SYS_readlinkat];
#[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
const LOOKS: &[libc::c_long] = &[];

/// When a call stops a process: always, or, where it asks about a file that is open already when it has no path, only when it has one.
fn rules_of(call: libc::c_long) -> Option<Vec<SeccompRule>> {
    let flags = match call {
        libc::SYS_newfstatat => 3,
        libc::SYS_statx => 2,
        _ => return Some(vec![]),
    };
    let no_path = u64::try_from(libc::AT_EMPTY_PATH).ok()?;
    let without = SeccompCondition::new(flags, SeccompCmpArgLen::Dword, SeccompCmpOp::MaskedEq(no_path), 0).ok()?;
    Some(vec![SeccompRule::new(vec![without]).ok()?])
}

/// Returns the filter; `None` on machines whose calls we cannot read.
pub(super) fn program(depth: Depth) -> Option<BpfProgram> {
    let looks = match depth {
        Depth::Opens => &[][..],
        Depth::Looks => LOOKS,
    };
    let rules: BTreeMap<libc::c_long, Vec<SeccompRule>> =
        DEEDS.iter().chain(looks).map(|call| Some((*call, rules_of(*call)?))).collect::<Option<_>>()?;
    if rules.is_empty() {
        return None;
    }
    let arch = std::env::consts::ARCH.try_into().ok()?;
    let filter = SeccompFilter::new(rules, SeccompAction::Allow, SeccompAction::Trace(0), arch).ok()?;
    let mut program: BpfProgram = filter.try_into().ok()?;
    // As it comes, it ends processes of another architecture. They run, and are told of as not seen.
    for step in program.iter_mut().filter(|step| step.code == RETURN && step.k == KILL) {
        step.k = ALLOW;
    }
    Some(program)
}
