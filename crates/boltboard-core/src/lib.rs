//! The core of Bolt Board: everything that knows, and nothing that shows.
//!
//! Data flows one way, and each arrow is a folder with a small public face:
//!
//! [`definitions`] → [`board`] → [`profile`] + [`survey`] → [`resolve`] (told by [`reason`]) → [`plan`] (made of [`step`]s) →
//! [`judge`] → [`run`] → [`install`]. [`store`] and [`journal`] keep results, [`compare`] puts two of anything side by side, [`launch`]
//! is the only door to other processes. A front end starts from a [`session`].
//!
//! ```
//! use boltboard_core::{definitions::{Outside, read_tree}, logic::encode, profile::Choices, resolve::resolve, survey::Facts};
//!
//! let tree = tempfile::tempdir()?;
//! let board = r#"
//!     format = 1
//!     tree = { name = "station", version = "1" }
//!     [option.horn]
//!     kind = "switch"
//!     requires = "air"
//!     [option.air]
//!     kind = "switch"
//! "#;
//! std::fs::write(tree.path().join("boltboard.toml"), board)?;
//!
//! let board = read_tree(tree.path(), None, &Outside::default()).board.expect("nothing is wrong with it");
//! let choices = Choices::default().with_tried(&board, &["horn=on".to_string()])?;
//! let resolution = resolve(&board, &encode(&board), &choices, &Facts::default()).expect("nothing clashes");
//!
//! let air = board.find_option("air")?;
//! assert_eq!(resolution.value(air).to_string(), "on");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! A folder uses only those above it in this list:

#![warn(missing_docs)]

pub mod base;
pub mod expr;
pub mod board;
pub mod checks;
pub mod definitions;
pub mod search;
pub mod profile;
pub mod reading;
pub mod work;
pub mod store;
pub mod fetch;
pub mod journal;
pub mod watch;
pub mod launch;
pub mod survey;
pub mod logic;
pub mod load;
pub mod resolve;
pub mod tailor;
pub mod reason;
pub mod remedy;
pub mod record;
pub mod step;
pub mod patch;
pub mod carry;
pub mod plan;
pub mod shared;
pub mod judge;
pub mod lint;
pub mod compare;
pub mod workers;
pub mod run;
pub mod trial;
pub mod install;
pub mod package;
pub mod session;
pub mod slate;
pub mod adopt;

#[cfg(test)]
mod testing;
