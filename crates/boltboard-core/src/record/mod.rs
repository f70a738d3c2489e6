//! What a built file says about how it was made: in a section of its own, so that the file tells it wherever it is taken.
//!
//! The file is what the link left, and behind it three things: the section's content, a table of section names that knows
//! its name, and a table of sections that knows it. Nothing that was there moves, nothing of it is loaded, and strippers leave it.

mod ask;
mod elf;
mod handed;
mod profile;
mod read;
mod text;

pub use ask::{Answer, AskFault, Inspected, inspect};
pub use elf::Packed;
pub use handed::{Amiss, Carried, Handed, Item, Recorded, content, mark_of};
pub use profile::{FromRecord, Places};
pub use read::{ReadFault, Seen, Standing, read_records};
pub use text::{Covers, FileMark, Record, RecordFault, Rest, Said, framed, records_in};

#[cfg(test)]
mod tests;

/// The name of the section.
pub const SECTION: &str = ".boltboard";
/// The name of the section with what many records say alike.
pub const REST: &str = ".boltboard.rest";

/// How many bytes at the beginning of a file its mark leaves out: there lies where the table of sections is, which a record moves.
const HEADER: u64 = 64;
