//! Small things that every other folder builds on; this folder knows none of them.

pub mod c_name;
pub mod depfile;
pub mod digest;
mod encode;
pub mod epoch;
pub mod files;
pub mod glob;
pub mod id;
pub mod lazy;
pub mod names;
pub mod near;
pub mod op;
pub mod relpath;
pub mod severity;
pub mod shell;
pub mod text;
pub mod version;
pub mod walk;

pub use c_name::is_c_name;
pub use depfile::{Dependencies, parse_dependencies};
pub use digest::{Digest, DigestOf};
pub use encode::{json_text, packed_bytes};
pub use epoch::Epoch;
pub use files::FileError;
pub use glob::{Depth, Glob, GlobFault};
pub use id::{Arena, Id};
pub use lazy::{LazyArena, Packed};
pub use names::NameTable;
pub use near::near_matches;
pub use op::Op;
pub use relpath::{RelPath, RelPathFault, is_source};
pub use severity::Severity;
pub use shell::{shell_word, shell_words};
pub use text::{Excerpt, FileId, Place, SourceFiles};
pub use version::{Version, VersionRange};
pub use walk::{Walk, components};
