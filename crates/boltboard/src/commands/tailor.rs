//! `boltboard tailor`

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use boltboard_core::profile::Layers;
use boltboard_core::tailor::{Evidence, EvidenceFault, files_asked, tailor};
use clap::Args;

use crate::args::Global;
use crate::complete;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::tailor::{TailorTold, text};
use crate::render::{Screen, json};
use crate::session::Session;

/// The variable that names another folder for `/`, for tests.
const MACHINE_ROOT: &str = "BOLTBOARD_MACHINE_ROOT";
/// Where what was found comes from, as the profile's file tells it.
const SHOWN: &str = "what machines show";

/// Propose a small profile that covers what machines really use
#[derive(Debug, Args)]
pub struct TailorArgs {
    /// Go by what was saved on another machine; several files are taken together
    #[arg(long, value_name = "FILE", num_args = 1..)]
    evidence: Vec<PathBuf>,
    /// Go by what this running process has mapped
    #[arg(long, value_name = "NUMBER")]
    process: Vec<u32>,
    /// Go by this machine as well, beside saved evidence or a process
    #[arg(long)]
    this_machine: bool,
    /// Keep these options whatever is shown
    #[arg(long, value_name = "OPTION", num_args = 1.., add = complete::options())]
    keep: Vec<String>,
    /// What the new profile is called
    #[arg(long, value_name = "NAME", default_value = "tailored")]
    into: String,
    /// Show what would come of it, and write nothing
    #[arg(long)]
    preview: bool,
    /// Save what this machine shows, to look at it elsewhere, and propose nothing
    #[arg(long, value_name = "FILE", conflicts_with_all = ["evidence", "process", "keep", "preview"])]
    save: Option<PathBuf>,
}

impl From<EvidenceFault> for Stop {
    fn from(fault: EvidenceFault) -> Stop {
        match fault {
            EvidenceFault::File(error) => error.into(),
            fault @ EvidenceFault::Wrong { .. } => {
                let told = Diagnostic::new(fault.to_string());
                Stop::new(Exit::WrongUse, told.help("save it with `boltboard tailor --save FILE` on that machine"))
            }
            fault @ EvidenceFault::Process(_) => {
                let told = Diagnostic::new(fault.to_string());
                Stop::new(Exit::WrongUse, told.help("name a process of your own that runs now"))
            }
        }
    }
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &TailorArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let told = session.around.variable(MACHINE_ROOT);
    let root = if told.is_empty() { PathBuf::from("/") } else { PathBuf::from(told) };
    let files = files_asked(&session.board);
    if let Some(file) = &args.save {
        Evidence::of_machine(&root, &files).save(&session.around.path_here(file))?;
        screen.done(&format!("Saved what this machine shows in {}.\n", file.display()), global.json);
        return Ok(Exit::Done);
    }
    let evidence = evidence(&session, args, &root, &files)?;
    let keep = args.keep.iter().map(|name| session.find_option(name)).collect::<Result<BTreeSet<_>, _>>()?;
    let resolved = session.resolve()?;
    let board = &session.board;
    let tailored =
        tailor(board, &session.logic, &resolved.choices, (&resolved.facts, &resolved.resolution), &evidence, &keep);
    let Some(tailored) = tailored else {
        let told = Diagnostic::new("the rest of what is chosen does not hold together without what this is about");
        return Err(Stop::new(Exit::No, told.next("boltboard profile check", "what stands against it")));
    };
    if tailored.kept.is_empty() && tailored.left_out.is_empty() && tailored.required.is_empty() {
        let told = Diagnostic::new("no option of this tree says what shows that it is used");
        return Err(Stop::new(
            Exit::No,
            told.help("a maintainer says it with `serves` and `shown-by`, see docs/definitions.md"),
        ));
    }
    // It stands on its own: what was chosen beside these options stays, with its words and its changes to the sources.
    let name = if args.preview { session.profile.clone() } else { super::profile::new_name(&session, &args.into)? };
    let choices = resolved.choices.clone().on_top(board, SHOWN, &tailored.chosen);
    let path = session.shelf.own_path(&name);
    let draft = session.shelf.on_its_own(&session.profile, &choices, &path, Layers::None, board);
    let draft = draft.map_err(|fault| super::profile::told(fault, &session))?;
    let after = session.resolve_these(choices, resolved.facts.clone())?;
    if !args.preview {
        session.prepare_work()?;
        draft.save()?;
    }
    let told = TailorTold::new(json::FORMAT, board, &tailored, (&resolved, &after), &evidence, (&name, !args.preview));
    if global.json {
        screen.json(&told);
    } else {
        screen.out(&text(&told, screen.width));
    }
    Ok(Exit::Done)
}

fn evidence(
    session: &Session,
    args: &TailorArgs,
    root: &Path,
    files: &BTreeSet<String>,
) -> Result<Vec<Evidence>, Stop> {
    let mut evidence = Vec::new();
    for file in &args.evidence {
        evidence.push(Evidence::load(&session.around.path_here(file))?);
    }
    for process in &args.process {
        evidence.push(Evidence::of_process(root, *process)?);
    }
    if evidence.is_empty() || args.this_machine {
        evidence.push(Evidence::of_machine(root, files));
    }
    Ok(evidence)
}
