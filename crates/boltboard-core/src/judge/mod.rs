//! What does a build stand on, and can this step see that change?
//!
//! [`Judge`] answers it step by step, [`SealFile`] for a whole build at once, [`Touching`] for what lies between: which parts a change
//! touches at all.

mod basis;
mod footing;
mod interface;
mod macros;
mod note;
mod now;
mod preview;
mod quick;
mod seal;
mod step;
mod touched;
mod verdict;

pub use basis::Basis;
pub use interface::{DataBy, LibraryData, interface_digest};
pub use macros::{Forms, ReadFile};
pub use preview::{Preview, PreviewStep, Timing, Timings, Work, WorkKnown, preview};
pub use quick::QuickJudge;
pub use seal::{
    Concern, Saying, SealFile, SealMaker, SealWanted, Sealed, Since, Standing, Sweep, break_seal, seal_build,
};
pub use step::Judge;
pub use touched::{PartsToPlan, Touched, Touching};
pub use verdict::{Ahead, Alike, Judged, Reason, TextChanges, Verdict};

#[cfg(test)]
mod tests;
