//! What all commands about an installation share: where it is, whose records are believed, what was begun, what comes after.

use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

use boltboard_core::base::shell_word;
use boltboard_core::install::{
    Acted, After, Begun, Believed, ChangeFault, Doing, DueAction, InstallFault, Installable, Lock, Manifest, Recorded,
    Recovered, act, due_actions, manifest_path,
};
use boltboard_core::plan::PlanInput;
use boltboard_core::session::{Planned, Resolved, as_root};

use crate::fault::{Diagnostic, Exit, FaultKind, Stop};
use crate::render::Screen;
use crate::session::Session;

/// The prefix of a tree with these values.
pub fn prefix_of(session: &Session, resolved: &Resolved) -> Result<PathBuf, Stop> {
    let option = session.board.prefix().ok_or(InstallFault::NoPrefix)?;
    Ok(PathBuf::from(resolved.resolution.value(option).to_string()))
}

/// The record of what is installed with these values.
pub fn in_place(session: &Session, resolved: &Resolved) -> Result<Manifest, Stop> {
    let prefix = prefix_of(session, resolved)?;
    let path = manifest_path(&session.board, &prefix);
    match Manifest::read(&path, &session.board)? {
        Recorded::Whole(manifest) => Ok(*manifest),
        Recorded::Damaged => Err(InstallFault::Damaged(path).into()),
        Recorded::Nothing => Err(not_installed(session, &prefix)),
    }
}

/// Tells that nothing of the tree is installed there.
pub fn not_installed(session: &Session, prefix: &Path) -> Stop {
    let diagnostic =
        Diagnostic::new(format!("{} is not installed below {}", session.board.delivered().name, prefix.display()));
    let diagnostic = diagnostic.help("name the prefix that it was installed with: --try prefix=DIR");
    let diagnostic = diagnostic.next("boltboard ledger", "what was built when");
    Stop::new(Exit::No, diagnostic).kind(FaultKind::Install)
}

/// The places of which a record is believed: all where it was written from here, which is told by `None`.
pub fn believed(session: &Session, resolved: &Resolved, written_here: bool) -> Result<Option<Installable>, Stop> {
    if written_here {
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
    if !Begun::is_there(&manifest) {
        return Ok(Ended::Other);
    }
    let lock = Lock::take(&manifest)?;
    let Some(begun) = Begun::under(&lock) else { return Ok(Ended::Other) };
    let installable = believed(session, resolved, session.work.wrote_record(&begun.seal))?;
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
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs())
}

/// What the tree has done after an installation or a removal.
pub fn actions_after(session: &Session, resolved: &Resolved, planned: &Planned, after: After) -> Vec<DueAction> {
    due_actions(&session.plan_input(resolved, planned), after, as_root())
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

/// The command that chooses a prefix which a person may write to.
pub(super) fn own_prefix() -> String {
    let home = std::env::var("HOME").unwrap_or_else(|_| "/tmp".into());
    format!("boltboard set {}", shell_word(&format!("prefix={home}/.local")))
}

impl From<InstallFault> for Stop {
    fn from(fault: InstallFault) -> Stop {
        let diagnostic = Diagnostic::new(fault.to_string());
        let stop = match fault {
            InstallFault::File(ref error) | InstallFault::Change(ChangeFault::File(ref error)) => {
                let exit = Exit::of_file(error);
                Stop::new(exit, Diagnostic::new(format!("{error}: {}", error.source)).help(help_of(exit)))
            }
            InstallFault::Relative { .. } => {
                Stop::new(Exit::WrongUse, diagnostic.next(own_prefix(), "an absolute prefix of your own"))
            }
            InstallFault::Owner { .. } => Stop::new(
                Exit::Wrong,
                diagnostic.help("write `owner` of that entry of `empty-folders` in one of these ways"),
            ),
            InstallFault::Interface { ref kit, .. } => {
                let add = format!("boltboard add-on add . --against {}", shell_word(&kit.display().to_string()));
                let diagnostic = diagnostic.note("Nothing was installed.");
                Stop::new(
                    Exit::No,
                    diagnostic.next(add, "build it against the one that is installed, in the add-on's folder"),
                )
            }
            InstallFault::Detour { .. } => Stop::new(Exit::Wrong, diagnostic),
            InstallFault::LeavesStaging { .. } => {
                Stop::new(Exit::No, diagnostic.note("Nothing was installed.").help("use an empty staging folder"))
            }
            InstallFault::LinkOfOthers { .. } => Stop::new(
                Exit::No,
                diagnostic
                    .note("Nothing was installed.")
                    .help("look who made it; put a folder there, or a link of your own"),
            ),
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
            InstallFault::NotKept(_) => {
                let diagnostic = diagnostic.note("Nothing was changed.");
                Stop::new(Exit::No, diagnostic.next("boltboard back", "the other generations"))
            }
            InstallFault::Change(ChangeFault::TakenBack(error)) => {
                let exit = Exit::of_file(&error);
                Stop::new(exit, diagnostic.help(help_of(exit)))
            }
            InstallFault::Change(ChangeFault::Stuck(error, _)) => {
                let next = diagnostic.next("boltboard back", "try again; it goes on from there");
                Stop::new(Exit::of_file(&error), next)
            }
            InstallFault::NotBuilt(_) => Stop::new(Exit::No, diagnostic.next("boltboard build", "build it first")),
            InstallFault::Nothing | InstallFault::NoPrefix | InstallFault::Twice(_) => {
                Stop::new(Exit::Wrong, diagnostic)
            }
        };
        stop.kind(FaultKind::Install)
    }
}

/// What helps against a file that stands in the way below a prefix.
fn help_of(exit: Exit) -> &'static str {
    match exit {
        Exit::DiskFull => "free some space, then run the same command again",
        Exit::NoPermission => "run the command as who owns the place, or as administrator",
        _ => "mend what the system says, then run the same command again",
    }
}
