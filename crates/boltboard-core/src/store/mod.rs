//! What is kept between runs: results by content, what each step last did, the ledger, locks. Everything is written
//! aside and moved, or appended line by line, so that it is whole after a kill at any instant.

mod content;
mod footing;
mod journal;
mod ledger;
mod limits;
mod lock;
mod record;
mod records;
mod seal;
mod status;
mod work;

pub use content::Store;
pub use footing::Footing;
pub use journal::{Journal, Opening};
pub use ledger::{Course, CourseSpan, Disk, Ledger, LedgerEntry, LedgerOutcome, folder_bytes};
pub use limits::{StoreLimits, Trimmed};
pub use lock::{LockFault, WorkLock};
pub use record::{Note, Number, Output, PackedNote, PackedRecord, StepRecord};
pub use seal::{Concern, Saying, SealFile, SealMaker, Sealed, Standing, Sweep, break_seal};
pub use status::{PathKey, Stamp, StatusMemo, time_of_files};
pub use work::{Folders, PROFILE_IN_USE, WorkFault, WorkFolder};

#[cfg(test)]
mod tests;
