//! A tree that nobody has described: one ordinary build is watched, and what it did becomes a description.
//!
//! `watched` is what is kept of the build (or `database`, where none can be watched), `story` what its processes did (`words` are those of compilers, `files` who
//! wrote what), `made` where generated files come
//! from (`command` draws what made them), `model` the parts that a person would have named (`names` are theirs), `shared` what several of them say
//! alike, `doubts` what is not known, `text` the description, `prove` holds a build by it against the watched one. Between
//! two builds lies an option: `delta` is in what they differ, `differ` writes it; `hints` are macros that look like options.
//! A tree that has moved on is drawn `again`; one that is only begun needs no build to watch: `begin`.

mod again;
mod align;
mod begin;
mod code;
mod command;
mod database;
mod delivered;
mod delta;
mod differ;
mod doubts;
mod draw;
mod edit;
mod files;
mod hinted;
mod hints;
mod kept;
mod made;
mod model;
mod names;
mod needs;
mod paths;
mod patterns;
mod prove;
mod questions;
mod shared;
mod story;
mod text;
mod toml;
mod watched;
mod watching;
mod ways;
mod words;

pub use again::{Again, again};
pub use begin::{First, FirstKind, FirstLanguage, begin};
pub use database::from_database;
pub use differ::{DifferAsk, DifferFault, Differed, differ};
pub use draw::{Counts, Drawing, Theirs, draw};
pub use hinted::families_to_ask;
pub use hints::{Effect, Hint, hints};
pub use names::NameClash;
pub use needs::{Host, plain_name};
pub use prove::{Difference, Proof, Why, prove};
pub use questions::{AnswerFault, Answers, FlagsAnswer, NamesAnswer, Question};
pub use story::Doubt;
pub use watched::{PathId, Watched};
pub use watching::{Said, WatchAsk, WatchFault, watch};
