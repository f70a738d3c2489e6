//! One thing to measure each.

pub mod asks;
pub mod boards;
pub mod carried;
pub mod flips;
pub mod floors;
pub mod lists;
pub mod memory;
pub mod scale;
pub mod screen;
pub mod seen;
pub mod sharing;
pub mod simulated;
pub mod trees;
pub mod verdicts;
pub mod workers;
