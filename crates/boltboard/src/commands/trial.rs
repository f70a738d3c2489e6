//! `boltboard trial`

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use boltboard_core::base::files::write_whole;
use boltboard_core::base::{FileError, shell_word};
use boltboard_core::launch::{Job, Launch};
use boltboard_core::session::{Scope, Session as Core};
use boltboard_core::trial::{Runs, Trial, run as run_trial};
use clap::Args;

use super::build::stop_on_signal;
use crate::args::Global;
use crate::complete;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::trial::{TrialTold, Variant, picture, text};
use crate::render::{Screen, json};
use crate::session::{Session, profile_name, surroundings};

/// What stands for the folder of what was built in the command's words.
const OUT: &str = "{out}";
/// The most builds of one trial.
const MOST: usize = 64;

/// Build several profiles, or one with varied choices, and run the same command on each
#[derive(Debug, Args)]
pub struct TrialArgs {
    /// The profiles [default: the one in use]
    #[arg(value_name = "PROFILE", add = complete::profiles())]
    profiles: Vec<String>,
    /// Vary this option: each value makes a build of its own
    #[arg(long, value_name = "OPTION=VALUE,VALUE…")]
    vary: Vec<String>,
    /// Run and measure the command N times on each
    #[arg(long, value_name = "N", default_value_t = 7, value_parser = clap::value_parser!(u16).range(1..=1000))]
    runs: u16,
    /// Run it N times on each before that
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u16).range(0..=100))]
    warm_up: u16,
    /// End a run after so many seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 60, value_parser = clap::value_parser!(u64).range(1..))]
    limit: u64,
    /// Write a picture of the runs
    #[arg(long, value_name = "FILE")]
    svg: Option<PathBuf>,
    /// The command: a program below what was built, as bin/NAME, or any; {out} stands for the folder of what was built
    #[arg(last = true, required = true, value_name = "COMMAND")]
    command: Vec<String>,
}

/// Runs the command. It ends with 1 when a build or a run fails.
pub fn run(global: &Global, screen: &Screen, args: &TrialArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    session.only_real()?;
    let mut variants = variants(&session, args)?;
    session.prepare_work()?;
    let place = tempfile::Builder::new().prefix("trial-").tempdir_in(session.work.root());
    let place = place.map_err(FileError::on("make a folder in", session.work.root()))?;
    let mut jobs = Vec::new();
    for (at, variant) in variants.iter_mut().enumerate() {
        screen.remark(&format!("Building {}.", variant.name));
        build(&session, variant)?;
        let out = place.path().join(at.to_string());
        copy(&outputs(variant)?, &out)?;
        variant.out = out.clone();
        jobs.push(job(&session, args, &out)?);
    }
    stop_on_signal(&session.launch);
    let trial =
        Trial { launch: &session.launch, jobs, rounds: usize::from(args.runs), warm_ups: usize::from(args.warm_up) };
    let all = run_trial(&trial, &mut |at, round, rounds| {
        if at == 0 {
            screen.remark(&format!("Round {round} of {rounds}."));
        }
    });
    let all: Vec<Runs> = all.map_err(|e| Stop::new(Exit::WrongUse, Diagnostic::new(e.to_string())))?;
    let told = TrialTold::new(json::FORMAT, &args.command, variants, &all, floor(&session));
    if let Some(file) = &args.svg {
        write_whole(&session.around.folder.join(file), picture(&told)?.as_bytes())?;
    }
    if global.json {
        screen.json(&told);
    } else {
        screen.out(&text(&told, screen.width));
    }
    Ok(if told.all_ran() { Exit::Done } else { Exit::No })
}

/// All builds: each profile with each combination of varied values.
fn variants(session: &Session, args: &TrialArgs) -> Result<Vec<Variant>, Stop> {
    let profiles = if args.profiles.is_empty() {
        // One that lies elsewhere is named by its file.
        vec![session.scope.profile.clone().unwrap_or_else(|| session.profile.to_string())]
    } else {
        args.profiles.iter().map(|name| profile_name(name).map(|name| name.to_string())).collect::<Result<_, _>>()?
    };
    let mut combinations: Vec<Vec<String>> = vec![session.scope.tried.clone()];
    for text in &args.vary {
        let Some((name, values)) = text.split_once('=') else {
            let diagnostic = Diagnostic::new(format!("`{text}` is not OPTION=VALUE,VALUE"));
            return Err(Stop::new(
                Exit::WrongUse,
                diagnostic.help("write the option, `=` and its values, as in optimise=size,speed"),
            ));
        };
        let choices: Vec<String> = values.split(',').map(|value| format!("{}={}", name.trim(), value.trim())).collect();
        for choice in &choices {
            session.read_asked(choice)?;
        }
        combinations = combinations
            .into_iter()
            .flat_map(|before| choices.iter().map(move |choice| [before.clone(), vec![choice.clone()]].concat()))
            .collect();
    }
    let mut variants = Vec::new();
    for profile in &profiles {
        for tried in &combinations {
            let name = if tried.is_empty() {
                profile.clone()
            } else if profiles.len() == 1 {
                tried.join(" ")
            } else {
                format!("{profile} {}", tried.join(" "))
            };
            variants.push(Variant::new(name, profile.clone(), tried.clone()));
        }
    }
    if variants.len() > MOST {
        let diagnostic =
            Diagnostic::new(format!("that would be {} builds; a trial has at most {MOST}", variants.len()));
        return Err(Stop::new(Exit::WrongUse, diagnostic.help("vary fewer values at once")));
    }
    Ok(variants)
}

/// What a build of its own would be asked with.
fn scope_of(session: &Session, variant: &Variant) -> Scope {
    Scope { profile: Some(variant.profile.clone()), tried: variant.tried.clone(), ..session.scope.clone() }
}

/// Builds one, by the program's own command, so that it is as ever.
fn build(session: &Session, variant: &mut Variant) -> Result<(), Stop> {
    let own = std::env::current_exe().map_err(|e| Stop::usage(format!("cannot find this program: {e}")))?;
    let mut command = Command::new(&own);
    command.arg("build").arg("--quiet").arg("--profile").arg(&variant.profile);
    command.arg("--tree").arg(&session.board.tree.board_root).arg("--work").arg(session.work.root());
    command.arg("--sources").arg(&session.board.tree.source_root);
    for choice in &variant.tried {
        command.arg("--try").arg(choice);
    }
    let status = command.stdin(Stdio::null()).stdout(Stdio::null()).status();
    let status = status.map_err(FileError::on("run", &own))?;
    if !status.success() {
        let tried: String = variant.tried.iter().map(|choice| format!(" --try {choice}")).collect();
        let diagnostic = Diagnostic::new(format!("{} cannot be built", variant.name)).note("Nothing was tried.");
        let command = format!("boltboard build --profile {}{tried}", shell_word(&variant.profile));
        return Err(Stop::new(Exit::No, diagnostic.next(command, "what stands against it")));
    }
    let fault = |fault| Stop::of(fault, None);
    let core = Core::open(scope_of(session, variant), surroundings()?).map_err(fault)?;
    let choices = core.choices_of(&core.profile).map_err(fault)?;
    let facts = core.facts(&choices).map_err(fault)?;
    let resolved = core.resolve(choices, facts).map_err(fault)?;
    let planned = core.plan_to_build(&resolved).map_err(fault)?;
    let memory = core.memory(&planned).map_err(fault)?;
    let times = planned.plan.steps.iter().filter(|(_, step)| step.has_process()).map(|(_, step)| {
        memory.journal.packed(&step.name).and_then(|record| record.note.as_ref()).map(|note| note.work_ms)
    });
    variant.build_work_ms = times.sum::<Option<u64>>();
    variant.out = planned.folders.outputs();
    Ok(())
}

fn outputs(variant: &Variant) -> Result<PathBuf, Stop> {
    if variant.out.is_dir() {
        return Ok(variant.out.clone());
    }
    Err(Stop::new(Exit::No, Diagnostic::new(format!("{} makes nothing that could be run", variant.name))))
}

/// Copies what was built, so that the next build does not change it.
fn copy(from: &Path, to: &Path) -> Result<(), Stop> {
    std::fs::create_dir_all(to).map_err(FileError::on("make", to))?;
    for entry in std::fs::read_dir(from).map_err(FileError::on("list", from))? {
        let entry = entry.map_err(FileError::on("list", from))?;
        let (path, target) = (entry.path(), to.join(entry.file_name()));
        let kind = entry.file_type().map_err(FileError::on("read", &path))?;
        if kind.is_dir() {
            copy(&path, &target)?;
        } else if kind.is_symlink() {
            let leads = std::fs::read_link(&path).map_err(FileError::on("read", &path))?;
            std::os::unix::fs::symlink(leads, &target).map_err(FileError::on("make", &target))?;
        } else {
            std::fs::copy(&path, &target).map_err(FileError::on("copy", &path))?;
        }
    }
    Ok(())
}

/// The least memory that can be seen of a process: before it becomes its program it is a copy of this one.
fn floor(session: &Session) -> u64 {
    let nothing = session.around.search_folders().map(|folder| folder.join("true")).find(|path| path.is_file());
    let job = |program| Job {
        program,
        arguments: Vec::new(),
        folder: session.around.folder.clone(),
        environment: BTreeMap::new(),
        limit: Some(Duration::from_secs(10)),
        watch: None,
        input: None,
        output: None,
    };
    nothing.and_then(|program| session.launch.run(&job(program)).ok()).map_or(0, |outcome| outcome.used.memory)
}

/// The command for one build.
fn job(session: &Session, args: &TrialArgs, out: &Path) -> Result<Job, Stop> {
    let place = out.display().to_string();
    let words: Vec<String> = args.command.iter().map(|word| word.replace(OUT, &place)).collect();
    let (first, rest) = words.split_first().map_or(("", &[][..]), |(first, rest)| (first.as_str(), rest));
    let built = out.join(first);
    let program = if built.is_file() {
        Some(built)
    } else if first.contains('/') {
        Some(session.around.path_here(Path::new(first))).filter(|path| path.is_file())
    } else {
        session.around.search_folders().map(|folder| folder.join(first)).find(|path| path.is_file())
    };
    let Some(program) = program else {
        let diagnostic = Diagnostic::new(format!("there is no program `{first}` among what was built, nor here"));
        return Err(Stop::new(Exit::WrongUse, diagnostic.next("boltboard overview", "what the tree makes")));
    };
    Ok(Job {
        program,
        arguments: rest.to_vec(),
        folder: session.around.folder.clone(),
        environment: session.around.variables.iter().map(|(k, v)| (k.clone(), v.clone())).collect::<BTreeMap<_, _>>(),
        limit: Some(Duration::from_secs(args.limit)),
        watch: None,
        input: None,
        output: None,
    })
}
