//! `boltboard install` and `boltboard uninstall`

use std::path::{Path, PathBuf};

use boltboard_core::base::shell_word;
use boltboard_core::install::{
    Believed, BuiltFrom, InstallAsk, InstallFault, Installable, Manifest, Record, Recorded, install as core_install,
    manifest_path, plan_install, uninstall as core_uninstall,
};
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
    /// Put everything below DIR, for a package; no record is kept
    #[arg(long, value_name = "DIR")]
    staging: Option<PathBuf>,
}

/// Remove what was installed
#[derive(Debug, Args)]
pub struct UninstallArgs {
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
    let parts = made_parts(&session, &resolved, &args.parts)?;
    let planned = session.plan_to_build(&resolved)?;
    let ahead = session.preview(&planned, None)?;
    let staging = args.staging.as_ref().map(|folder| session.around.folder.join(folder));
    let record = if staging.is_some() { Record::Leave } else { Record::Write };
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
    if args.preview {
        if global.json {
            screen.json(&json::install(&session.board, &plan));
        } else {
            screen.out(&deliver::preview(&session.board, &plan, due.len(), screen.width));
        }
        return Ok(Exit::Done);
    }
    let in_the_way = plan.in_the_way();
    if !in_the_way.is_empty() {
        return Err(InstallFault::Foreign(in_the_way).into());
    }
    if let Some(folder) = plan.barred(record) {
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
    let plan = plan_install(&input, &built.planned.plan, &now)?;
    let note = &mut |seal| session.work.note_record(&seal);
    let patches = built.resolved.choices.changes.iter().map(|change| change.name.clone()).collect();
    let tools = &built.planned.tools;
    let from = BuiltFrom {
        profile: session.profile.to_string(),
        patches,
        compiler: tools.target.c.as_ref().map_or_else(|_| String::new(), Compiler::in_words),
        environment: tools.environment.clone(),
    };
    let report = core_install(&session.board, &from, &plan, record, note)?;
    if global.json {
        screen.json(&json::installed(&plan, &report));
    } else {
        screen.out(&deliver::installed(&report, record == Record::Write));
    }
    Ok(Exit::Done)
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
    let option = session.board.prefix().ok_or(InstallFault::NoPrefix)?;
    let prefix = PathBuf::from(resolved.resolution.value(option).to_string());
    let path = manifest_path(&session.board, &prefix);
    let manifest = match Manifest::read(&path, &session.board)? {
        Recorded::Whole(manifest) => *manifest,
        Recorded::Damaged => return Err(InstallFault::Damaged(path).into()),
        Recorded::Nothing => {
            let diagnostic =
                Diagnostic::new(format!("{} is not installed below {}", session.board.tree.name, prefix.display()));
            let diagnostic = diagnostic.help("name the prefix that it was installed with: --try prefix=DIR");
            let diagnostic = diagnostic.next("boltboard ledger", "what was built when");
            return Err(Stop::new(Exit::No, diagnostic).kind(FaultKind::Install));
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
    let removal = if session.work.wrote_record(&manifest.seal()) {
        core_uninstall(&manifest, &path, Believed::All)?
    } else {
        let planned = session.plan_to_build(&resolved)?;
        let installable = Installable::of(&session.plan_input(&resolved, &planned));
        core_uninstall(&manifest, &path, Believed::Only(&installable))?
    };
    if global.json {
        screen.json(&json::removed(&manifest, &removal));
    } else {
        screen.out(&deliver::removed(&removal));
    }
    Ok(Exit::Done)
}
