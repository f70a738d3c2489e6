//! `boltboard patch`

use std::path::PathBuf;

use boltboard_core::base::near_matches;
use boltboard_core::patch::Patch;
use boltboard_core::profile::{ChangeSort, ProfileFile, changes_folder};
use clap::{Args, Subcommand};
use serde::Serialize;

use super::set::own_profile;
use crate::args::Global;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::Screen;
use crate::render::text::{count, next_line};
use crate::session::Session;

/// Carry changes to the sources in a profile
#[derive(Debug, Args)]
pub struct PatchArgs {
    #[command(subcommand)]
    what: Option<What>,
}

#[derive(Debug, Subcommand)]
enum What {
    /// List the changes that the profile carries
    List,
    /// Carry a patch in the unified format
    Add {
        /// The patch
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// Note why
        #[arg(long, value_name = "TEXT")]
        reason: Option<String>,
    },
    /// Carry another file in the place of one of the sources
    Replace {
        /// The file of the tree
        #[arg(value_name = "PATH")]
        path: String,
        /// The file that stands in its place
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// Note why
        #[arg(long, value_name = "TEXT")]
        reason: Option<String>,
    },
    /// Carry a change no more
    Remove {
        /// The patch, or the path of the file
        #[arg(value_name = "NAME")]
        name: String,
    },
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct PatchesAnswer {
    format: u32,
    profile: String,
    changes: Vec<ChangeAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct ChangeAnswer {
    name: String,
    replaces: bool,
    files: Vec<String>,
    layer: String,
    reason: Option<String>,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &PatchArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    match &args.what {
        None | Some(What::List) => list(&session, screen),
        Some(What::Add { file, reason }) => {
            let name = file.file_name().and_then(|name| name.to_str()).unwrap_or_default().to_string();
            let text = std::fs::read_to_string(file).map_err(|e| cannot_read(file, &e))?;
            Patch::parse(&name, &text).map_err(|fault| Stop::usage(fault.to_string()))?;
            let edit = |profile: &mut ProfileFile| profile.add_patch(&name, reason.as_deref());
            carry(session, screen, &name, text.as_bytes(), &edit, &name)
        }
        Some(What::Replace { path, file, reason }) => {
            if !session.board.tree.source_root.join(path).is_file() {
                return Err(Stop::usage(format!("there is no file {path} in the tree")));
            }
            let content = std::fs::read(file).map_err(|e| cannot_read(file, &e))?;
            let name = path.replace('/', "+");
            let edit = |profile: &mut ProfileFile| profile.replace_file(path, &name, reason.as_deref());
            carry(session, screen, &name, &content, &edit, path)
        }
        Some(What::Remove { name }) => remove(session, screen, name),
    }
}

fn cannot_read(file: &std::path::Path, error: &std::io::Error) -> Stop {
    Stop::usage(format!("cannot read {}: {error}", file.display()))
}

fn list(session: &Session, screen: &Screen) -> Result<Exit, Stop> {
    let choices = session.choices_of(&session.profile)?;
    let carried = session.carried(&choices)?;
    if session.global.json {
        let changes = carried.iter().map(|one| ChangeAnswer {
            name: one.change.name.clone(),
            replaces: one.change.sort != ChangeSort::Patch,
            files: one.files.clone(),
            layer: choices.layers[one.change.layer].name.clone(),
            reason: one.change.reason.clone(),
        });
        let answer = PatchesAnswer {
            format: crate::render::json::FORMAT,
            profile: session.profile.to_string(),
            changes: changes.collect(),
        };
        screen.json(&answer);
        return Ok(Exit::Done);
    }
    if carried.is_empty() {
        screen.out(&format!("The profile {} carries no change to the sources.\n", session.profile));
    }
    for one in &carried {
        let layer = &choices.layers[one.change.layer].name;
        let from = if layer == session.profile.as_str() { String::new() } else { format!(" (from {layer})") };
        let reason = one.change.reason.as_ref().map_or(String::new(), |reason| format!(": {reason}"));
        let what = match one.change.sort {
            ChangeSort::Patch => one.files.join(", "),
            ChangeSort::Replaced(_) => "replaced".into(),
        };
        screen.out(&format!("{}{from}  {what}{reason}\n", one.change.name));
    }
    session.changes_fit(&choices)?;
    Ok(Exit::Done)
}

/// Records a change, if it fits with all others; nothing is kept of one that does not.
fn carry(
    mut session: Session,
    screen: &Screen,
    file: &str,
    content: &[u8],
    edit: &dyn Fn(&mut ProfileFile),
    shown: &str,
) -> Result<Exit, Stop> {
    session.prepare_work()?;
    own_profile(&mut session, screen)?;
    let path = session.shelf.own_path(&session.profile);
    let Some(mut profile) = ProfileFile::open(&path)? else {
        return Err(Stop::usage(format!("cannot use {}", path.display())));
    };
    let place = changes_folder(&path).join(file);
    let before = std::fs::read(&place).ok();
    boltboard_core::base::files::write_whole(&place, content)?;
    edit(&mut profile);
    let fits = session.core().choices_as(&session.profile, &profile.text()).and_then(|choices| {
        session.changes_fit(&choices)?;
        session.carried(&choices)
    });
    let carried = match fits {
        Ok(carried) => carried,
        Err(stop) => {
            match before {
                Some(before) => boltboard_core::base::files::write_whole(&place, &before)?,
                // It was not there before, and is of no use to anybody.
                None => drop(std::fs::remove_file(&place)),
            }
            return Err(Stop::of(stop, Some(&session)));
        }
    };
    profile.save()?;
    let files = carried.iter().filter(|one| one.change.name == shown).map(|one| one.files.len()).sum::<usize>();
    screen.out(&format!(
        "The profile {} carries {shown} ({}). The sources stay as they are.\n",
        session.profile,
        count(files, "file", "files")
    ));
    screen.out(&next_line("boltboard preview", "what it builds again"));
    Ok(Exit::Done)
}

fn remove(mut session: Session, screen: &Screen, name: &str) -> Result<Exit, Stop> {
    session.prepare_work()?;
    own_profile(&mut session, screen)?;
    let path = session.shelf.own_path(&session.profile);
    let Some(mut profile) = ProfileFile::open(&path)? else {
        return Err(Stop::usage(format!("cannot use {}", path.display())));
    };
    if !profile.drop_change(name) {
        let choices = session.choices_of(&session.profile)?;
        let near = near_matches(name, choices.changes.iter().map(|change| change.name.as_str()));
        let diagnostic = Diagnostic::new(format!("the profile {} carries no change `{name}` itself", session.profile));
        return Err(Stop::new(Exit::WrongUse, diagnostic.near(&near).next("boltboard patch list", "what it carries")));
    }
    let rest = session.core().choices_as(&session.profile, &profile.text())?;
    session.changes_fit(&rest)?;
    profile.save()?;
    // Nobody reads it any more; one that cannot be removed does no harm.
    let _ = std::fs::remove_file(changes_folder(&path).join(name.replace('/', "+")));
    screen.out(&format!("The profile {} carries {name} no more.\n", session.profile));
    Ok(Exit::Done)
}
