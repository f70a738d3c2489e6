//! `boltboard install` and `boltboard uninstall`

use std::path::PathBuf;

use boltboard_core::install::{
    InstallFault, Manifest, Record, install as core_install, manifest_path, plan_install, uninstall as core_uninstall,
};
use clap::Args;

use super::build::{BuildArgs, build_now};
use crate::args::Global;
use crate::exit::{Diagnostic, Exit, Stop};
use crate::render::{Screen, deliver, json};
use crate::session::Session;

/// Install what was built
#[derive(Debug, Args)]
pub struct InstallArgs {
    /// Only tell what would go where
    #[arg(long)]
    preview: bool,
    /// Put everything below DIR, for a package; no record is kept there
    #[arg(long, value_name = "DIR")]
    staging: Option<PathBuf>,
}

/// Remove what was installed
#[derive(Debug, Args)]
pub struct UninstallArgs {
    /// Only tell what would be removed
    #[arg(long)]
    preview: bool,
}

impl From<InstallFault> for Stop {
    fn from(fault: InstallFault) -> Stop {
        let diagnostic = Diagnostic::new(fault.to_string());
        match fault {
            InstallFault::File(error) => error.into(),
            InstallFault::Relative { .. } => {
                Stop::new(Exit::WrongUse, diagnostic.help("choose an absolute prefix: boltboard set prefix=/opt/…"))
            }
            InstallFault::Foreign(_) => Stop::new(
                Exit::No,
                diagnostic
                    .note("Nothing was installed.")
                    .help("move those files away, or choose another prefix: boltboard set prefix=/opt/…"),
            ),
            InstallFault::NotBuilt(_) => Stop::new(Exit::No, diagnostic.help("boltboard build")),
            InstallFault::Nothing | InstallFault::NoPrefix | InstallFault::Twice(_) => {
                Stop::new(Exit::Wrong, diagnostic)
            }
        }
    }
}

/// Installs; builds first what is not current.
pub fn install(global: &Global, screen: &Screen, args: &InstallArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let quietly = BuildArgs { quiet: true, ..BuildArgs::default() };
    let built = build_now(&session, screen, &quietly)?;
    if built.exit != Exit::Done {
        return Ok(built.exit);
    }
    let input = session.plan_input(&built.resolved, &built.planned);
    let here = std::env::current_dir().unwrap_or_default();
    let staging = args.staging.as_ref().map(|folder| here.join(folder));
    let plan = plan_install(&input, &built.planned.plan, staging.as_deref())?;
    if args.preview {
        if global.json {
            screen.json(&json::install(&session.board, &plan));
        } else {
            screen.out(&deliver::preview(&session.board, &plan, screen.width));
        }
        return Ok(Exit::Done);
    }
    let record = if staging.is_some() { Record::Leave } else { Record::Write };
    let report = core_install(&session.board, session.profile.as_str(), &plan, record)?;
    screen.out(&deliver::installed(&report));
    Ok(Exit::Done)
}

/// Removes exactly what was installed below the prefix.
pub fn uninstall(global: &Global, screen: &Screen, args: &UninstallArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let resolved = session.resolve()?;
    let option = session.board.prefix().ok_or(InstallFault::NoPrefix)?;
    let prefix = PathBuf::from(resolved.resolution.value(option).to_string());
    let path = manifest_path(&session.board, &prefix);
    let Some(manifest) = Manifest::read(&path)? else {
        let diagnostic =
            Diagnostic::new(format!("{} is not installed below {}", session.board.tree.name, prefix.display()));
        return Err(Stop::new(
            Exit::No,
            diagnostic.help("name the prefix it was installed with: boltboard uninstall --try prefix=DIR"),
        ));
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
    let removal = core_uninstall(&manifest, &path)?;
    screen.out(&deliver::removed(&removal));
    Ok(Exit::Done)
}
