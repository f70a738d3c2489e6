//! `boltboard install` and `boltboard uninstall`

use std::path::{Path, PathBuf};

use boltboard_core::base::{Digest, shell_word};
use boltboard_core::install::{
    Acted, After, Begun, Believed, BuiltFrom, CanAct, ChangeFault, Doing, DueAction, InstallAsk, InstallFault,
    Installable, Lock, Manifest, Record, Recorded, Recovered, Searching, Unready, act, due_actions,
    install as core_install, manifest_path, plan_install, uninstall as core_uninstall, unready,
};
use boltboard_core::plan::PlanInput;
use boltboard_core::session::{Planned, Resolved};
use boltboard_core::step::StepId;
use boltboard_core::survey::Compiler;
use clap::Args;

use super::build::{BuildArgs, build_first};
use super::parts::made_parts;
use crate::args::Global;
use crate::complete;
use crate::fault::{Diagnostic, Exit, FaultKind, Stop};
use crate::render::text::count;
use crate::render::{Screen, deliver, json};
use crate::session::Session;

/// Install what was built
#[derive(Debug, Args)]
pub struct InstallArgs {
    /// Install only these parts [default: everything]
    #[arg(value_name = "PART", add = complete::parts())]
    parts: Vec<String>,
    /// Only show what would go where; nothing is built
    #[arg(long)]
    preview: bool,
    /// Leave out what the tree has done after an installation
    #[arg(long)]
    no_actions: bool,
    /// Only check whether what is installed is what would run
    #[arg(long, conflicts_with_all = ["preview", "staging", "parts"])]
    check: bool,
    /// Put everything below DIR, for a package; no record is kept
    #[arg(long, value_name = "DIR")]
    staging: Option<PathBuf>,
}

/// Remove what was installed
#[derive(Debug, Args)]
pub struct UninstallArgs {
    /// Leave out what the tree has done after a removal
    #[arg(long)]
    no_actions: bool,
    /// Only show what would be removed
    #[arg(long)]
    preview: bool,
}

impl From<InstallFault> for Stop {
    fn from(fault: InstallFault) -> Stop {
        let diagnostic = Diagnostic::new(fault.to_string());
        let stop = match fault {
            InstallFault::File(error) => return error.into(),
            InstallFault::Relative { .. } => {
                Stop::new(Exit::WrongUse, diagnostic.next(own_prefix(), "an absolute prefix of your own"))
            }
            InstallFault::Owner { .. } => Stop::new(
                Exit::Wrong,
                diagnostic.help("write `owner` of that entry of `empty-folders` in one of these ways"),
            ),
            InstallFault::Detour { .. } => Stop::new(Exit::Wrong, diagnostic),
            InstallFault::LeavesStaging { .. } => {
                Stop::new(Exit::No, diagnostic.note("Nothing was installed.").help("use an empty staging folder"))
            }
            InstallFault::Damaged(path) => {
                let aside = format!("{}.damaged", path.display());
                let diagnostic = diagnostic
                    .note("Without it nobody knows which files are this tree's, so nothing was installed or removed.")
                    .next(
                        format!("mv {} {}", shell_word(&path.display().to_string()), shell_word(&aside)),
                        "put it aside; installing again leaves out what is there already and names what differs",
                    );
                Stop::new(Exit::No, diagnostic)
            }
            InstallFault::Foreign(_) => {
                let diagnostic = diagnostic.note("Nothing was installed.").help("move those files away");
                Stop::new(Exit::No, diagnostic.next(own_prefix(), "or install below your home"))
            }
            InstallFault::Busy(_) => {
                Stop::new(Exit::No, diagnostic.note("Nothing was changed.").help("wait until it is done"))
            }
            InstallFault::NotKept(_) => Stop::new(Exit::No, diagnostic.note("Nothing was changed.")),
            InstallFault::Change(ChangeFault::File(error)) => return error.into(),
            InstallFault::Change(ref change @ ChangeFault::TakenBack(ref error)) => {
                Stop::new(Exit::of_file(error), Diagnostic::new(change.to_string()))
            }
            InstallFault::Change(ref change @ ChangeFault::Stuck(ref error, _)) => Stop::new(
                Exit::of_file(error),
                Diagnostic::new(change.to_string()).next("boltboard install", "try again; it goes on from there"),
            ),
            InstallFault::NotBuilt(_) => Stop::new(Exit::No, diagnostic.next("boltboard build", "build it first")),
            InstallFault::Nothing | InstallFault::NoPrefix | InstallFault::Twice(_) => {
                Stop::new(Exit::Wrong, diagnostic)
            }
        };
        stop.kind(FaultKind::Install)
    }
}

/// The command that chooses a prefix which a person may write to.
fn own_prefix() -> String {
    let home = std::env::var("HOME").unwrap_or_else(|_| "/tmp".into());
    format!("boltboard set {}", shell_word(&format!("prefix={home}/.local")))
}

/// Installs. What stands against it is told before anything is built; what is not current is built first.
pub fn install(global: &Global, screen: &Screen, args: &InstallArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let resolved = session.resolve()?;
    if args.check {
        return check(&session, screen, &resolved);
    }
    let parts = made_parts(&session, &resolved, &args.parts)?;
    let planned = session.plan_to_build(&resolved)?;
    if args.staging.is_none() && !args.preview {
        finish_begun(&session, screen, &resolved)?;
    }
    let ahead = session.preview(&planned, None)?;
    let staging = args.staging.as_ref().map(|folder| session.around.folder.join(folder));
    let wanted = (!parts.is_empty()).then(|| planned.plan.needed_for(&parts));
    let is_wanted = |id: &StepId| wanted.as_ref().is_none_or(|wanted| wanted.contains(id));
    let due: Vec<StepId> = ahead.steps.iter().map(|step| step.step).filter(|id| is_wanted(id)).collect();
    let mut stale = session.to_hand_over(&resolved, &planned);
    stale.extend(due.iter().flat_map(|id| &planned.plan.steps[*id].writes).cloned());
    let wrote = |seal: &_| session.work.wrote_record(seal);
    let (of_parts, below) = (&parts, staging.as_deref());
    let before =
        InstallAsk { parts: of_parts, staging: below, is_stale: &|output| stale.contains(output), wrote: &wrote };
    let plan = plan_install(&session.plan_input(&resolved, &planned), &planned.plan, &before)?;
    let acts = staging.is_none() && !args.no_actions;
    let actions = if acts { actions_after(&session, &resolved, &planned, After::Installing) } else { vec![] };
    if args.preview {
        if global.json {
            screen.json(&json::install(&session.board, &plan, &actions));
        } else {
            screen.out(&deliver::preview(&session.board, &plan, (due.len(), &actions), screen.width));
        }
        return Ok(Exit::Done);
    }
    let in_the_way = plan.in_the_way();
    if !in_the_way.is_empty() {
        return Err(InstallFault::Foreign(in_the_way).into());
    }
    if let Some(action) = actions.iter().find(|action| action.can == CanAct::Needed) {
        return Err(needed_program(action));
    }
    if let Some(folder) = plan.barred(staging.is_none()) {
        return Err(barred(&session, &folder));
    }
    if !due.is_empty() && !global.json {
        screen
            .remark(&format!("Building first: {}.", count(due.len(), "step is not current", "steps are not current")));
    }
    let built = build_first(&session, screen, &BuildArgs { parts: args.parts.clone(), ..BuildArgs::default() })?;
    if built.exit != Exit::Done {
        built.answer(&session, screen);
        return Ok(built.exit);
    }
    let input = session.plan_input(&built.resolved, &built.planned);
    let now = InstallAsk { parts: of_parts, staging: below, is_stale: &|_| false, wrote: &wrote };
    let manifest = manifest_path(&session.board, &prefix_of(&session, &built.resolved)?);
    let lock = staging.is_none().then(|| Lock::take(&manifest)).transpose()?;
    let record = lock.as_ref().map_or(Record::Leave, Record::Write);
    let plan = plan_install(&input, &built.planned.plan, &now)?;
    let note = &mut |seal| session.work.note_record(&seal);
    let patches = built.resolved.choices.changes.iter().map(|change| change.name.clone()).collect();
    let tools = &built.planned.tools;
    let from = BuiltFrom {
        profile: session.profile.to_string(),
        patches,
        compiler: tools.target.c.as_ref().map_or_else(|_| String::new(), Compiler::in_words),
        environment: tools.environment.clone(),
        record: session.common_record(&built.resolved, &built.planned),
        now_s: now_s(),
    };
    let report = core_install(&session.board, &from, &plan, record, note)?;
    drop(lock);
    let acted = if report.generation > 0 { act_all(&session, &input, &actions)? } else { vec![] };
    let unready = if staging.is_none() { unready_now(&session, &manifest)? } else { vec![] };
    if global.json {
        screen.json(&json::installed(&plan, &report, &unready, &acted));
    } else {
        screen.out(&deliver::acted(&acted));
        screen.out(&deliver::unready(&unready));
        screen.out(&deliver::installed(&report, staging.is_none()));
    }
    Ok(exit_of_actions(&acted))
}

/// What the tree has done after an installation or a removal.
pub fn actions_after(session: &Session, resolved: &Resolved, planned: &Planned, after: After) -> Vec<DueAction> {
    due_actions(&session.plan_input(resolved, planned), after, is_root())
}

/// Does all of it, in its order.
pub fn act_all(
    session: &Session,
    input: &PlanInput<'_>,
    actions: &[DueAction],
) -> Result<Vec<(DueAction, Acted)>, Stop> {
    let mut acted = Vec::new();
    for action in actions {
        acted.push((action.clone(), act(action, input, &session.launch)?));
    }
    Ok(acted)
}

/// How a command ends after what was done for it.
pub fn exit_of_actions(acted: &[(DueAction, Acted)]) -> Exit {
    let failed = acted.iter().any(|(_, acted)| matches!(acted, Acted::Failed { .. }));
    if failed { Exit::No } else { Exit::Done }
}

fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

fn needed_program(action: &DueAction) -> Stop {
    let text = format!("there is no `{}`, which {} needs ({})", action.words[0], action.name, action.summary);
    let diagnostic = Diagnostic::new(text).note("Nothing was built or installed.");
    let diagnostic =
        diagnostic.next("boltboard install --no-actions", "install all the same, without what comes after");
    Stop::new(Exit::HostLacks, diagnostic).kind(FaultKind::Install)
}

/// What stands against what is installed being what runs.
fn unready_now(session: &Session, manifest: &Path) -> Result<Vec<Unready>, Stop> {
    let Recorded::Whole(found) = Manifest::read(manifest, &session.board)? else { return Ok(vec![]) };
    let variable = |name: &str| std::env::var(name).unwrap_or_default();
    let searching = Searching::of(&variable("PATH"), &variable("LD_LIBRARY_PATH"), Path::new("/"));
    Ok(unready(&found, &searching))
}

/// Checks whether what is installed is what would run.
fn check(session: &Session, screen: &Screen, resolved: &Resolved) -> Result<Exit, Stop> {
    let prefix = prefix_of(session, resolved)?;
    let manifest = manifest_path(&session.board, &prefix);
    if !manifest.exists() {
        return Err(not_installed(session, &prefix));
    }
    let unready = unready_now(session, &manifest)?;
    if session.global.json {
        screen.json(&json::checked(&unready));
    } else if unready.is_empty() {
        screen.out("What is installed is what runs: it comes first, and finds its libraries.\n");
    } else {
        screen.out(&deliver::unready(&unready));
    }
    Ok(if unready.is_empty() { Exit::Done } else { Exit::No })
}

/// Tells that a folder may not be written to, and the ways around it.
fn barred(session: &Session, folder: &Path) -> Stop {
    let tree = &session.board.tree;
    let staging = std::env::temp_dir().join(format!("{}-{}", tree.name, tree.version));
    let staging = shell_word(&staging.display().to_string());
    let diagnostic = Diagnostic::new(format!("you may not write to {}", folder.display()))
        .note("Nothing was built or installed.")
        .next(own_prefix(), "install below your home instead")
        .next("boltboard build && sudo env PATH=\"$PATH\" boltboard install", "install as administrator")
        .next(format!("boltboard install --staging {staging}"), "put the files below a folder, for a package");
    Stop::new(Exit::NoPermission, diagnostic).kind(FaultKind::Install)
}

/// Removes exactly what was installed below the prefix.
pub fn uninstall(global: &Global, screen: &Screen, args: &UninstallArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let resolved = session.resolve()?;
    let prefix = prefix_of(&session, &resolved)?;
    let path = manifest_path(&session.board, &prefix);
    if !args.preview && finish_begun(&session, screen, &resolved)? == Ended::Removed {
        return Ok(Exit::Done);
    }
    let manifest = match Manifest::read(&path, &session.board)? {
        Recorded::Whole(manifest) => *manifest,
        Recorded::Damaged => return Err(InstallFault::Damaged(path).into()),
        Recorded::Nothing => {
            // A killed command may have left something all the same.
            Lock::tidy(&path)?;
            return Err(not_installed(&session, &prefix));
        }
    };
    if args.preview && global.json {
        screen.json(&json::uninstall(&manifest));
        return Ok(Exit::Done);
    }
    if args.preview {
        let lines: String = manifest.files.iter().map(|file| format!("{}\n", file.path.display())).collect();
        screen.out(&lines);
        return Ok(Exit::Done);
    }
    let lock = Lock::take(&path)?;
    let note = &mut |seal| session.work.note_record(&seal);
    let installable = believed(&session, &resolved, &manifest.seal())?;
    let removal = core_uninstall(&manifest, &path, of(&installable), note)?;
    drop(lock);
    let acted = if args.no_actions || session.board.actions.is_empty() {
        vec![]
    } else {
        let planned = session.plan_to_build(&resolved)?;
        let actions = actions_after(&session, &resolved, &planned, After::Removing);
        act_all(&session, &session.plan_input(&resolved, &planned), &actions)?
    };
    if global.json {
        screen.json(&json::removed(&manifest, &removal, &acted));
    } else {
        screen.out(&deliver::acted(&acted));
        screen.out(&deliver::removed(&removal));
    }
    Ok(exit_of_actions(&acted))
}

/// The prefix of a tree with these values.
pub fn prefix_of(session: &Session, resolved: &Resolved) -> Result<PathBuf, Stop> {
    let option = session.board.prefix().ok_or(InstallFault::NoPrefix)?;
    Ok(PathBuf::from(resolved.resolution.value(option).to_string()))
}

/// Tells that nothing of the tree is installed there.
pub fn not_installed(session: &Session, prefix: &Path) -> Stop {
    let diagnostic =
        Diagnostic::new(format!("{} is not installed below {}", session.board.tree.name, prefix.display()));
    let diagnostic = diagnostic.help("name the prefix that it was installed with: --try prefix=DIR");
    let diagnostic = diagnostic.next("boltboard ledger", "what was built when");
    Stop::new(Exit::No, diagnostic).kind(FaultKind::Install)
}

/// The places of which a record is believed: all where it was written from here, which is told by `None`.
pub fn believed(session: &Session, resolved: &Resolved, seal: &Digest) -> Result<Option<Installable>, Stop> {
    if session.work.wrote_record(seal) {
        return Ok(None);
    }
    let planned = session.plan_to_build(resolved)?;
    Ok(Some(Installable::of(&session.plan_input(resolved, &planned))))
}

/// What is believed, as the core takes it.
pub fn of(installable: &Option<Installable>) -> Believed<'_> {
    installable.as_ref().map_or(Believed::All, Believed::Only)
}

/// What became of what was begun and not ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ended {
    /// There was nothing, or it is in place or not.
    Other,
    /// A removal was finished.
    Removed,
}

/// Finishes what was begun below the prefix and cut off, or takes it back, and says which.
pub fn finish_begun(session: &Session, screen: &Screen, resolved: &Resolved) -> Result<Ended, Stop> {
    let manifest = manifest_path(&session.board, &prefix_of(session, resolved)?);
    let Some(begun) = Begun::of(&manifest) else { return Ok(Ended::Other) };
    let _lock = Lock::take(&manifest)?;
    let installable = believed(session, resolved, &begun.seal)?;
    let ended = begun.end(of(&installable))?;
    let named = |doing: Doing| match doing {
        Doing::Install => "An installation",
        Doing::Back => "Going back",
        Doing::Remove => "A removal",
    };
    screen.remark(&match &ended {
        Recovered::Finished(doing) => format!("{} that was cut off is finished now.", named(*doing)),
        Recovered::TakenBack(doing, why) => {
            format!("{} that was cut off is taken back, because it could not be finished: {why}.", named(*doing))
        }
    });
    Ok(if matches!(ended, Recovered::Finished(Doing::Remove)) { Ended::Removed } else { Ended::Other })
}

/// Seconds since 1970.
pub fn now_s() -> u64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |since| since.as_secs())
}
