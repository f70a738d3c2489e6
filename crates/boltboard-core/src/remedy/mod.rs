//! The ways out of what a host lacks: which packages bring it, what they take, what does without it.

mod catalogue;
mod distribution;
mod price;
mod ways;

pub use distribution::{Distribution, Family};
pub use price::{Price, PriceFault, price};
pub use ways::{Gap, Gravity, Lost, Situation, install_command, is_packaged, obtainable, packages, wanted_by};

#[cfg(test)]
mod tests;
