//! Other machines that take steps of a build: what is said between this program and itself over there.
//!
//! A worker is this program, started by whatever reaches the machine: a remote shell, or the cluster's own workload manager. It is spoken to
//! through its standard input and output, so that no port is opened and whoever started it has proved who they are. `talk` is what is
//! said, `serve` the worker's side with `mirror` (what lies there), `worker` ours, over a `line`. `config` is what a person says, `crew` all workers of a
//! build, and `slurm` the one workload manager that is known. Nothing here decides whether a result counts; that is up to who asked for it.

use std::sync::{Mutex, MutexGuard, PoisonError};

mod config;
mod crew;
mod line;
mod mirror;
mod serve;
mod slurm;
mod talk;
mod worker;

pub use config::{CrewConfig, CrewFault, CrewFile, Reach};
pub use crew::{Crew, CrewReport, OwnWords, Seat, WorkerReport};
pub use serve::{ServeSettings, hold_allocation, serve_worker};
pub use talk::{Done, Hello, Input, Made, Work};
pub use worker::{Gone, Worker};

/// Takes a lock. What lies behind those of this room is whole after every single operation, so a panic elsewhere does not make it wrong.
fn held<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(test)]
mod tests;
