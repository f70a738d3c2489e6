//! The core of Bolt Board: everything that knows, and nothing that shows.
//!
//! Data flows one way, and each arrow is a folder with a small public face:
//!
//! [`definitions`] → [`board`] → [`profile`] + [`survey`] → [`resolve`] (told by [`reason`]) → [`plan`] → [`run`] →
//! [`install`]. [`store`] keeps results, [`compare`] puts two of anything side by side, [`launch`] is the only door to
//! other processes. A folder uses only those above it in this list:

#![warn(missing_docs)]

pub mod base;
pub mod expr;
pub mod board;
pub mod definitions;
pub mod profile;
pub mod store;
pub mod launch;
pub mod survey;
pub mod resolve;
pub mod reason;
pub mod plan;
pub mod compare;
pub mod run;
pub mod install;

#[cfg(test)]
mod testing;
