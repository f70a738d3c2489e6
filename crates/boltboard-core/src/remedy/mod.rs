//! The ways out of what a host lacks: which packages bring it, what they take, what does without it.

mod catalogue;
mod distribution;
mod family;
mod gap;
mod help;
mod cost;

pub use cost::{Cost, CostFault, cost};
pub use distribution::Distribution;
pub use family::Family;
pub use gap::{Gap, Lost, Situation, Stops, wanted_by};
pub use help::{first_copy_aside, helpful_packages, install_command, is_packaged, obtainable, packages, providers};

#[cfg(test)]
mod tests;
