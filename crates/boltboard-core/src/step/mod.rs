//! Steps: single commands with all that they read and write. Each kind has a file of its own that says what its key is, how what it
//! sees comes to be known, how it runs and what it leaves.

mod archive;
mod check;
mod compile;
mod copy;
mod flags;
mod generate;
mod kind;
mod link;
mod location;
mod look;
mod process;
mod search;
mod symlink;
mod tool;
mod word;
mod write;

pub use archive::Archive;
pub use check::{Check, OpenName, Unloadable, Usable};
pub use compile::{Compile, Form, Setting, TEXT, profiles_beside_objects};
pub use copy::Copy;
pub use flags::{Flags, Known};
pub use generate::{Generate, RunFolder, Stage};
pub use kind::{Acts, Kind, Made, MakeFault, Makes, Runs, Sees, Step, StepId};
pub use link::Link;
pub use location::{Location, LocationFault};
pub use look::Look;
pub use process::{AbsentTool, ByHand, Ends, Lists, Process, Setup, repeatable};
pub use search::HeaderSearch;
pub use symlink::Symlink;
pub use tool::{Tool, ToolPlace};
pub use word::{Fragment, Word};
pub use write::Write;
