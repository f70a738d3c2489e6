//! `boltboard add-on`

use std::path::{Path, PathBuf};

use boltboard_core::base::near_matches;
use boltboard_core::board::AddOn;
use boltboard_core::definitions::tree_of_add_on;
use boltboard_core::install::kit_in;
use boltboard_core::resolve::Origin;
use boltboard_core::session::{AddOnFault, Brought, Session as Core, WORK, Whereabouts};
use clap::{Args, Subcommand};
use serde::Serialize;

use crate::args::Global;
use crate::complete;
use crate::fault::{Diagnostic, Exit, Next, Stop};
use crate::render::Screen;
use crate::render::text::{Cell, Role, columns, count, next_line, next_lines, paint};
use crate::render::why::rule_words;
use crate::session::{Session, scope, surroundings};

/// Bring options, needs, parts and tests from a folder outside of the tree
#[derive(Debug, Args)]
pub struct AddOnArgs {
    #[command(subcommand)]
    what: Option<What>,
}

#[derive(Debug, Subcommand)]
enum What {
    /// List the add-ons
    List,
    /// Add a folder or an archive that has a boltboard.toml with [add-on]
    Add {
        /// The folder, or an archive (tar, tar.gz, tar.xz, tar.zst)
        #[arg(value_name = "FOLDER", value_hint = clap::ValueHint::AnyPath)]
        from: PathBuf,
        /// Build it against an installed tree: its kit, or the prefix that it is installed below
        #[arg(long, value_name = "DIR", value_hint = clap::ValueHint::DirPath, conflicts_with = "tree")]
        against: Option<PathBuf>,
    },
    /// Take an add-on out again, with the choices that are about it
    Remove {
        /// Its name
        #[arg(value_name = "NAME", add = complete::add_ons())]
        name: String,
    },
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct AddOnsAnswer {
    format: u32,
    add_ons: Vec<AddOnTold>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct AddOnTold {
    name: String,
    version: String,
    summary: String,
    folder: PathBuf,
    on: bool,
    options: usize,
    parts: usize,
    tests: usize,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &AddOnArgs) -> Result<Exit, Stop> {
    match &args.what {
        None | Some(What::List) => list(global, screen),
        Some(What::Add { from, against: None }) => add(global, screen, from),
        Some(What::Add { from, against: Some(place) }) => add(&in_kit(global, from, place)?, screen, from),
        Some(What::Remove { name }) => remove(global, screen, name),
    }
}

fn list(global: &Global, screen: &Screen) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let all = told(&session)?;
    if global.json {
        screen.json(&AddOnsAnswer { format: crate::render::json::FORMAT, add_ons: all });
        return Ok(Exit::Done);
    }
    if all.is_empty() {
        screen.out(&format!("Nothing from outside of the tree is added to {}.\n", session.board.tree.name));
        return Ok(Exit::Done);
    }
    let row = |one: &AddOnTold| -> Vec<Cell> {
        let (role, state) = if one.on { (Role::Good, "on") } else { (Role::Warn, "off") };
        vec![
            (Role::Name, one.name.clone()),
            (Role::Value, one.version.clone()),
            (role, state.into()),
            (Role::Faint, one.folder.display().to_string()),
            (Role::Faint, one.summary.clone()),
        ]
    };
    screen.out(&columns(&all.iter().map(row).collect::<Vec<_>>(), 0, screen.width));
    let off = all.iter().filter(|one| !one.on);
    let next: Vec<Next> = off.map(|one| Next::new(format!("boltboard why {}", one.name), "why it is off")).collect();
    screen.out(&next_lines(&next, 0));
    Ok(Exit::Done)
}

/// All add-ons of the board, with what they bring.
fn told(session: &Session) -> Result<Vec<AddOnTold>, Stop> {
    let resolved = session.resolve()?;
    let places = &session.add_ons;
    let one = |add_on: &AddOn| {
        let Brought { options, parts, tests } = session.brought_by(&add_on.name);
        AddOnTold {
            name: add_on.name.clone(),
            version: add_on.version.clone(),
            summary: add_on.summary.clone(),
            folder: places
                .iter()
                .find(|place| place.name == add_on.name)
                .map_or_else(PathBuf::new, |p| p.folder.clone()),
            on: !resolved.resolution.value(add_on.switch).is_off(),
            options: options.len(),
            parts,
            tests,
        }
    };
    Ok(session.board.add_ons.iter().map(one).collect())
}

/// What is typed for every command, for an add-on that is built against an installed tree: there its work folder lies with the add-on.
fn in_kit(global: &Global, from: &Path, place: &Path) -> Result<Global, Stop> {
    let around = surroundings()?;
    let (from, place) = (around.folder.join(from), around.folder.join(place));
    let tree = tree_of_add_on(&from);
    let Some(kit) = kit_in(&place, tree.as_deref()) else {
        let told = Diagnostic::new(format!(
            "there is no kit of {} in {}",
            tree.unwrap_or_else(|| "a tree".to_string()),
            place.display()
        ));
        let help = "name the prefix below which the tree is installed with its kit, or the kit's own folder (it has a boltboard-kit.toml)";
        return Err(Stop::new(Exit::No, told.note("Nothing was changed.").help(help)));
    };
    let work = global.work.clone().or_else(|| from.is_dir().then(|| from.join(WORK)));
    Ok(Global { tree: Some(kit), work, ..global.clone() })
}

fn add(global: &Global, screen: &Screen, from: &Path) -> Result<Exit, Stop> {
    let around = surroundings()?;
    let from = around.folder.join(from);
    let at = Whereabouts::find(&scope(global), &around)?;
    // A tree that is wrong is told of for itself, and gets its work folder.
    let session = Session::open(global, screen)?;
    session.prepare_work()?;
    let incoming = at.incoming(&from).map_err(stop)?;
    let name = incoming.place.name.clone();
    // What does not fit, or clashes, is told before anything is kept.
    let trying = boltboard_core::session::Scope { with_add_on: Some(incoming.place.clone()), ..scope(global) };
    let options = match Core::open(trying, around) {
        Ok(with_it) => with_it.brought_by(&name).options,
        Err(fault) => {
            let mut stop = Stop::of(fault, None);
            // It was not added, so there is nothing to remove.
            let removing = format!("boltboard add-on remove {name}");
            for told in &mut stop.diagnostics {
                let before = told.next.len();
                told.next.retain(|next: &Next| next.command != removing);
                if told.next.len() < before {
                    told.help.push(format!("take another version of {name}, one that fits this tree"));
                }
            }
            return Err(stop.nothing_changed());
        }
    };
    at.keep_add_on(incoming, options).map_err(stop)?;
    let session = Session::open(global, screen)?;
    let all = told(&session)?;
    let Some(one) = all.into_iter().find(|one| one.name == name) else { return Ok(Exit::Done) };
    if session.board.kit.is_some() && !one.on {
        // Nobody can choose otherwise what the tree was built with.
        let stop = does_not_fit(&session, &name)?;
        at.drop_add_on(&name).map_err(self::stop)?;
        return Err(stop);
    }
    if global.json {
        screen.json(&AddOnsAnswer { format: crate::render::json::FORMAT, add_ons: vec![one] });
        return Ok(Exit::Done);
    }
    screen.out(&format!(
        "{} {} {}, from {}\n",
        paint(Role::Good, "Added:"),
        one.name,
        one.version,
        one.folder.display()
    ));
    let brings = [
        (one.options, count(one.options, "option", "options")),
        (one.parts, count(one.parts, "part", "parts")),
        (one.tests, count(one.tests, "test", "tests")),
    ];
    let brings: Vec<String> = brings.into_iter().filter(|(number, _)| *number > 0).map(|(_, text)| text).collect();
    screen.out(&format!(
        "  It brings {}. The switch {} is {}.\n",
        brings.join(", "),
        one.name,
        if one.on { "on" } else { "off" }
    ));
    let mut next = Vec::new();
    if !one.on {
        next.push(Next::new(format!("boltboard why {name}"), "why it is off"));
        next.push(Next::new(format!("boltboard ways {name}=on"), "what turns it on"));
    }
    next.push(Next::new(format!("boltboard options in:{name}"), "what there is to choose"));
    next.push(Next::new("boltboard preview", "what a build would do"));
    screen.out(&next_lines(&next, 0));
    Ok(Exit::Done)
}

/// Tells why an add-on does not fit the tree as it was built.
fn does_not_fit(session: &Session, name: &str) -> Result<Stop, Stop> {
    let resolved = session.resolve()?;
    let board = &session.board;
    let tree = format!("{} {}", board.tree.name, board.tree.version);
    let mut told = Diagnostic::new(format!("the add-on {name} does not fit this {tree}, as it was built"));
    let switch = board.add_ons.iter().find(|add_on| add_on.name == name).map(|add_on| add_on.switch);
    if let Some(Origin::Blocked { by, .. }) = switch.map(|switch| &resolved.resolution.get(switch).origin) {
        told = told.note(rule_words(board, *by));
    }
    let help = format!("build {} itself so, and install it anew; or take another version of {name}", board.tree.name);
    Ok(Stop::new(Exit::No, told.note("Nothing was changed.").help(help)))
}

fn remove(global: &Global, screen: &Screen, name: &str) -> Result<Exit, Stop> {
    let at = Whereabouts::find(&scope(global), &surroundings()?)?;
    let known = &at.add_ons;
    if known.iter().all(|one| one.name != name) {
        let near = near_matches(name, known.iter().map(|one| one.name.as_str()));
        let diagnostic = Diagnostic::new(format!("there is no add-on `{name}`")).near(&near);
        return Err(Stop::new(Exit::WrongUse, diagnostic.next("boltboard add-on list", "all add-ons")));
    }
    // Of one that cannot be read any more, those count that it brought once.
    let mut options = at.work.options_of_add_on(name)?;
    if let Ok(session) = Session::open(global, screen) {
        options.extend(session.brought_by(name).options);
    }
    let taken = at.forget_choices(&options)?;
    let folder = at.drop_add_on(name).map_err(stop)?.unwrap_or_default();
    let mut text = format!("Removed: {name}, which lay in {}\n", folder.display());
    for (profile, choices) in taken {
        text += &format!("  Taken out of the profile {profile}: {}\n", choices.join(", "));
    }
    text += &next_line("boltboard build", "build without it");
    screen.done(&text, global.json);
    Ok(Exit::Done)
}

fn stop(fault: AddOnFault) -> Stop {
    match fault {
        AddOnFault::File(error) => error.into(),
        fault @ (AddOnFault::Unpack { .. } | AddOnFault::None(_) | AddOnFault::Absent(_)) => {
            let told = Diagnostic::new(fault.to_string()).note("Nothing was changed.");
            let help = match fault {
                AddOnFault::Unpack { .. } => {
                    "take a whole archive from those who made it, or a folder with what is in it"
                }
                AddOnFault::Absent(_) => "name a folder or an archive; a path begins where you are",
                _ => "name the folder whose boltboard.toml has [add-on]",
            };
            Stop::new(Exit::WrongUse, told.help(help))
        }
        AddOnFault::Known { ref name, .. } => {
            let told = Diagnostic::new(fault.to_string()).note("Nothing was changed.");
            Stop::new(Exit::WrongUse, told.next(format!("boltboard add-on remove {name}"), "take that one out"))
        }
    }
}
