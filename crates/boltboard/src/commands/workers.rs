//! `boltboard workers`, and this program as a worker.

use std::collections::BTreeSet;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;
use std::time::Duration;

use boltboard_core::base::Digest;
use boltboard_core::launch::RealLaunch;
use boltboard_core::step::{Location, Look, ToolPlace};
use boltboard_core::work::StatusMemo;
use boltboard_core::workers::{Crew, CrewFile, ServeSettings, Worker, hold_allocation, serve_worker};
use clap::{Args, Subcommand};

use crate::args::Global;
use crate::complete;
use crate::fault::{Exit, Stop};
use crate::render::workers::{Looked, looked, written};
use crate::render::{Screen, json};
use crate::session::{Session, cores, crew_file, surroundings};

/// The folder in which a worker keeps what it is sent, below that for caches.
const FOLDER: &str = "boltboard-worker";
/// How long machines may take to be reached when somebody waits for it.
const PATIENCE: Duration = Duration::from_secs(60);
/// The number of an allocation, as the workload manager tells those that run in it.
const ALLOCATION: &str = "SLURM_JOB_ID";

/// Show the other machines that can take steps of a build
#[derive(Debug, Args)]
#[command(after_long_help = "Machines are written down by name in ~/.config/boltboard/workers.toml:\n\n\
    [office]                         reached one by one:\n\
    hosts = [\"lamp-1\", \"lamp-2\"]     by `ssh -o BatchMode=yes`, or\n\
    reach = [\"ssh\", \"-p\", \"2222\"]    by another command before the host's name\n\n\
    [cluster]                        reached through its workload manager,\n\
    manager = \"slurm\"                as one allocation\n\
    workers = 4                      of so many machines\n\
    options = [\"--time=30\"]          with further words for the manager\n\n\
    Both take jobs (steps at once on each), program (boltboard over there),\n\
    folder (where it keeps what it is sent) and wait (for how many seconds a build\n\
    waits for them before it begins; else it begins at once).\n\
    `boltboard build --on office` sends compiles there, and builds here as well.")]
pub struct WorkersArgs {
    #[command(subcommand)]
    what: Option<What>,
}

#[derive(Debug, Subcommand)]
enum What {
    /// List what is written down
    List,
    /// Reach the machines that NAME stands for, and see whether they have what is here
    Check {
        /// The name
        #[arg(value_name = "NAME", add = complete::crews())]
        name: String,
    },
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &WorkersArgs) -> Result<Exit, Stop> {
    let file = CrewFile::read(&crew_file())?;
    match &args.what {
        None | Some(What::List) => {
            if global.json {
                screen.json(&json::crews(&file));
            } else {
                screen.out(&written(&file));
            }
            Ok(Exit::Done)
        }
        Some(What::Check { name }) => check(global, screen, &file, name),
    }
}

fn check(global: &Global, screen: &Screen, file: &CrewFile, name: &str) -> Result<Exit, Stop> {
    let config = file.get(name)?;
    let tools = tools_here(Session::open_if_any(global, screen)?)?;
    let around = surroundings()?;
    let own = around.own.as_ref().ok_or_else(|| Stop::usage("this program's own file is not known"))?;
    let crew = Crew::start(config, own.on_others());
    crew.wait(PATIENCE, &|| false);
    let differs: Vec<Looked> = crew.workers().iter().map(|worker| look_at(worker, &tools)).collect();
    let report = crew.end();
    let sound = report.unreached.is_empty() && differs.iter().all(|looked| looked.differs.is_none());
    if global.json {
        screen.json(&json::crew(&report, &differs));
    } else {
        screen.out(&looked(&report, &differs, tools.len()));
    }
    Ok(if sound { Exit::Done } else { Exit::No })
}

fn look_at(worker: &Arc<Worker>, tools: &[(String, Digest)]) -> Looked {
    let differs = worker.differs(tools, &[], &|| false);
    Looked { name: worker.name().into(), differs: differs.unwrap_or_else(|gone| Some(gone.to_string())) }
}

/// The programs of this host that compile the tree which is asked about, with what they hold.
fn tools_here(session: Option<Session>) -> Result<Vec<(String, Digest)>, Stop> {
    let Some(session) = session else { return Ok(vec![]) };
    let planned = session.plan(&session.resolve()?)?;
    let compiles = planned.plan.steps.iter().map(|(_, step)| step).filter(|step| step.compile().is_some());
    let mut paths: Vec<PathBuf> = compiles
        .filter_map(|step| match &step.tool()?.place {
            ToolPlace::Host { path, .. } => Some(path.clone()),
            ToolPlace::Made(_) | ToolPlace::Absent(_) => None,
        })
        .collect();
    paths.sort();
    paths.dedup();
    let status = StatusMemo::default();
    let look = |path: &PathBuf| Some((Look::Content(Location::System(path.clone())).kept(), status.digest(path)?));
    let mut looks: Vec<(String, Digest)> = paths.iter().filter_map(look).collect();
    // Where anything was built here, it is known what else the compilers run and read.
    let classes: BTreeSet<Digest> =
        planned.plan.steps.iter().filter_map(|(_, step)| step.compile().and(step.class())).collect();
    for footing in classes.iter().filter_map(|class| session.store().own_footings(class).into_iter().next()) {
        let of_host = footing.looks.into_iter().filter(|(look, _)| {
            look.parse::<Look>().is_ok_and(|look| matches!(look.place(), Some(Location::System(_))))
        });
        looks.extend(of_host);
    }
    Ok(looks)
}

/// Is a worker for whoever started it and speaks to it here.
pub fn serve(folder: Option<PathBuf>, from: impl Read + Send + 'static, to: impl Write) -> ExitCode {
    told(work(folder, from, to))
}

/// Holds an allocation for whoever started it.
pub fn hold(from: impl Read, to: impl Write) -> ExitCode {
    told(hold_allocation(from, to, &std::env::var(ALLOCATION).unwrap_or_default()))
}

fn told(ended: std::io::Result<()>) -> ExitCode {
    match ended {
        Ok(()) => ExitCode::SUCCESS,
        // Nobody listens any more, which is how it ends.
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => ExitCode::SUCCESS,
        Err(error) => {
            // Whoever started it hears this.
            Screen::new().remark(&error.to_string());
            ExitCode::FAILURE
        }
    }
}

fn work(folder: Option<PathBuf>, from: impl Read + Send + 'static, to: impl Write) -> std::io::Result<()> {
    let around = surroundings().map_err(|_| std::io::Error::other("the current folder is gone"))?;
    let launch = Arc::new(RealLaunch::default());
    if let Some(own) = &around.own
        && let Ok(guard) = own.guard()
    {
        launch.guard_with(guard);
    }
    let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let settings = ServeSettings {
        folder: folder_of(folder, &|name| Some(around.variable(name)).filter(|value| !value.is_empty())),
        host: host.trim().to_string(),
        cores: cores(),
        processor: around.processor(),
    };
    serve_worker(from, to, &settings, &launch)
}

/// Where a worker keeps what it is sent.
fn folder_of<'v>(said: Option<PathBuf>, variable: &dyn Fn(&str) -> Option<&'v str>) -> PathBuf {
    let home = variable("HOME").map(Path::new);
    match (said, home) {
        (Some(said), Some(home)) => match said.strip_prefix("~") {
            Ok(rest) => home.join(rest),
            Err(_) => said,
        },
        (Some(said), None) => said,
        (None, home) => {
            let caches = variable("XDG_CACHE_HOME").map(PathBuf::from).or_else(|| Some(home?.join(".cache")));
            caches.unwrap_or_else(std::env::temp_dir).join(FOLDER)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_worker_keeps_what_it_is_sent_where_it_is_told_to() {
        let with = |said: Option<&str>, set: &[(&str, &'static str)]| {
            let variable = |name: &str| set.iter().find(|(key, _)| *key == name).map(|(_, value)| *value);
            folder_of(said.map(PathBuf::from), &variable).display().to_string()
        };
        assert_eq!(with(Some("/scratch"), &[("HOME", "/home/fog")]), "/scratch");
        assert_eq!(with(Some("~/kept"), &[("HOME", "/home/fog")]), "/home/fog/kept");
        assert_eq!(with(None, &[("HOME", "/home/fog")]), "/home/fog/.cache/boltboard-worker");
        assert_eq!(with(None, &[("HOME", "/home/fog"), ("XDG_CACHE_HOME", "/c")]), "/c/boltboard-worker");
        assert!(with(None, &[]).ends_with("/boltboard-worker"));
    }
}
