//! The work folder: where everything of a tree lies, its lock, its ledger, and what is known of the contents of files.

mod add_ons;
mod folder;
mod ledger;
mod lock;
mod status;
mod why;

pub use add_ons::ADD_ONS_KEPT;
pub use folder::{Folders, MIRROR, PROFILE_IN_USE, Places, WorkFault, WorkFolder};
pub use ledger::{Course, CourseSpan, Disk, Ledger, LedgerEntry, LedgerOutcome, folder_bytes};
pub use lock::{LockFault, Locking, Waiting, WorkLock};
pub use status::{PathKey, Stamp, StatusMemo, time_of_files};
pub use why::Why;

#[cfg(test)]
mod tests;
