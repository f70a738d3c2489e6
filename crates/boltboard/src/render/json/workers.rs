//! Answers about other machines.

use boltboard_core::workers::{CrewFile, CrewReport, Reach, WorkerReport};
use serde::Serialize;

use super::FORMAT;
use crate::render::workers::Looked;

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct CrewsAnswer {
    format: u32,
    file: String,
    crews: Vec<CrewWritten>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct CrewWritten {
    name: String,
    hosts: Vec<String>,
    manager: Option<&'static str>,
    machines: usize,
    jobs: Option<usize>,
}

/// What came of the other machines of a build.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct WorkersAnswer {
    reached: Vec<WorkerAnswer>,
    not_reached: Vec<NotReached>,
    not_counted: Vec<NotCounted>,
    not_sent: usize,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct WorkerAnswer {
    name: String,
    host: String,
    jobs: usize,
    steps: usize,
    sent_bytes: u64,
    got_bytes: u64,
    lost: Option<String>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct NotCounted {
    why: String,
    results: usize,
}

/// Puts together what came of the other machines of a build.
pub fn workers(report: &CrewReport) -> WorkersAnswer {
    let worker = |worker: &WorkerReport| WorkerAnswer {
        name: worker.name.clone(),
        host: worker.host.clone(),
        jobs: worker.jobs,
        steps: worker.steps,
        sent_bytes: worker.sent,
        got_bytes: worker.got,
        lost: worker.lost.clone(),
    };
    let counted = |(why, results): &(String, usize)| NotCounted { why: why.clone(), results: *results };
    WorkersAnswer {
        reached: report.workers.iter().map(worker).collect(),
        not_reached: not_reached(report),
        not_counted: report.not_counted.iter().map(counted).collect(),
        not_sent: report.stayed,
    }
}

fn not_reached(report: &CrewReport) -> Vec<NotReached> {
    report.unreached.iter().map(|(name, why)| NotReached { name: name.clone(), why: why.clone() }).collect()
}

/// Answers `workers`.
pub fn crews(file: &CrewFile) -> CrewsAnswer {
    let crew = |(name, crew): (&String, &boltboard_core::workers::CrewConfig)| {
        let (hosts, manager, machines) = match &crew.reach {
            Reach::Hosts { hosts, .. } => (hosts.clone(), None, hosts.len()),
            Reach::Slurm { workers, .. } => (vec![], Some("slurm"), *workers),
        };
        CrewWritten { name: name.clone(), hosts, manager, machines, jobs: crew.jobs }
    };
    CrewsAnswer {
        format: FORMAT,
        file: file.file().display().to_string(),
        crews: file.crews().iter().map(crew).collect(),
    }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct CrewAnswer {
    format: u32,
    reached: Vec<Reached>,
    not_reached: Vec<NotReached>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Reached {
    name: String,
    host: String,
    jobs: usize,
    differs: Option<String>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct NotReached {
    name: String,
    why: String,
}

/// Answers `workers check`.
pub fn crew(report: &CrewReport, looked: &[Looked]) -> CrewAnswer {
    let differs = |name: &str| looked.iter().find(|one| one.name == name).and_then(|one| one.differs.clone());
    CrewAnswer {
        format: FORMAT,
        reached: report
            .workers
            .iter()
            .map(|worker| Reached {
                name: worker.name.clone(),
                host: worker.host.clone(),
                jobs: worker.jobs,
                differs: differs(&worker.name),
            })
            .collect(),
        not_reached: not_reached(report),
    }
}
