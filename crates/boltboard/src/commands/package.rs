//! `boltboard package`

use std::path::{Path, PathBuf};

use boltboard_core::install::Contents;
use boltboard_core::package::{PackageFault, PackageFile, PackageForm, Parcel, packed, parcels, write};
use clap::{Args, ValueEnum};

use super::build::{BuildArgs, build_first};
use super::parts::made_parts;
use crate::args::Global;
use crate::complete;
use crate::fault::{Diagnostic, Exit, FaultKind, Stop};
use crate::render::Screen;
use crate::render::package::{PackageAnswer, PreviewAnswer, preview, written};
use crate::session::Session;

/// Below this root the host's package database is looked at.
const ROOT: &str = "/";

/// Make packages of what was built
#[derive(Debug, Args)]
pub struct PackageArgs {
    /// Pack only these parts [default: everything]
    #[arg(value_name = "PART", add = complete::parts())]
    parts: Vec<String>,
    /// What to write
    #[arg(long = "as", value_enum, value_name = "FORM", default_value = "tar")]
    form: As,
    /// Write to DIR [default: boltboard-work/packages]
    #[arg(long, value_name = "DIR", value_hint = clap::ValueHint::DirPath)]
    into: Option<PathBuf>,
    /// Make packages of their own of what is there to build on it, and to read
    #[arg(long)]
    split: bool,
    /// Only show what would be packed; nothing is built
    #[arg(long)]
    preview: bool,
}

/// What a package is written as.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum As {
    /// A compressed archive, with a list of its files
    Tar,
    /// A package of Debian
    Deb,
    /// A package of RPM
    Rpm,
}

/// Runs the command. What stands against a package is told before anything is built.
pub fn run(global: &Global, screen: &Screen, args: &PackageArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let resolved = session.resolve()?;
    let parts = made_parts(&session, &resolved, &args.parts)?;
    let form = match args.form {
        As::Tar => PackageForm::Tar,
        As::Deb => PackageForm::Deb,
        As::Rpm => PackageForm::Rpm,
    };
    form.check(&session.board.delivered()).map_err(stop)?;
    let into =
        args.into.as_ref().map_or_else(|| session.work.root().join("packages"), |dir| session.around.folder.join(dir));
    // What stands against it is told before anything is built.
    let planned = session.plan_to_build(&resolved)?;
    let contents = Contents::of(&session.plan_input(&resolved, &planned), &planned.plan, &parts, &|_| true)?;
    let files = packed(&contents).map_err(stop)?;
    if args.preview {
        if global.json {
            screen.json(&PreviewAnswer::of(&files));
        } else {
            screen.out(&preview(&files, args.split, screen.width));
        }
        return Ok(Exit::Done);
    }
    let built = build_first(&session, screen, &BuildArgs { parts: args.parts.clone(), ..BuildArgs::default() })?;
    if built.exit != Exit::Done {
        built.answer(&session, screen);
        return Ok(built.exit);
    }
    let input = session.plan_input(&built.resolved, &built.planned);
    let contents = Contents::of(&input, &built.planned.plan, &parts, &|_| false)?;
    let root = Path::new(ROOT);
    let all = parcels(&input, &packed(&contents).map_err(stop)?, (form, args.split), root).map_err(stop)?;
    let mut made: Vec<(Parcel, Vec<PackageFile>)> = Vec::new();
    for parcel in all {
        let files = write(&parcel, form, &input, root, &into).map_err(stop)?;
        made.push((parcel, files));
    }
    if global.json {
        screen.json(&PackageAnswer::of(&made));
    } else {
        screen.out(&written(&made, &session.around.folder));
    }
    Ok(Exit::Done)
}

fn stop(fault: PackageFault) -> Stop {
    let text = fault.to_string();
    let wrong = |help: &str| {
        let diagnostic = Diagnostic::new(&text).note("Nothing was packed.").help(help);
        Stop::new(Exit::Wrong, diagnostic).kind(FaultKind::Install)
    };
    match fault {
        PackageFault::File(error) => error.into(),
        PackageFault::Name(_) => wrong("give the tree a `name` in [tree] that fits"),
        PackageFault::Version(_) => wrong("give the tree a `version` in [tree] that fits"),
        PackageFault::NoMaintainer => wrong("say in [tree]: maintainer = \"Your Name <you@example.org>\""),
        PackageFault::NoLicense => wrong("say in [tree]: license = \"MIT\""),
        PackageFault::RpmVersion(_) => wrong("write `~` for what comes before a version, as in 1.0~rc1"),
        PackageFault::Rpm(_) => wrong("pack it in another form: boltboard package --as tar"),
        PackageFault::UnknownMachine { .. } => wrong("pack it in no package of a system: leave out its part"),
        PackageFault::TwoMachines { .. } => wrong("pack the parts of one kind of machine: boltboard package PART"),
        PackageFault::OddName(_) => wrong("give it another name with `install-as`"),
    }
}
