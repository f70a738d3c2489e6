//! `boltboard profile …`

mod merge;
mod reshape;
mod start;

use std::path::PathBuf;

use boltboard_core::base::shell_word;
use boltboard_core::board::NEED_PREFIX;
use boltboard_core::profile::{CHANGE_PREFIX, ChangeSort, ProfileFile, ProfileName, ProfileProblem, ProfileSource};
use boltboard_core::resolve::{Effect, StartingPoint};
use boltboard_core::session::SessionFault;
use clap::{Args, Subcommand};

use crate::args::Global;
use crate::complete;
use crate::fault::{Diagnostic, Exit, FaultKind, Stop};
use crate::render::text::{Cell, Role, columns, count, next_line, paint};
use crate::render::{Screen, json};
use crate::session::{Session, profile_name};

pub use reshape::{new_name, told};

/// Make, list and use profiles
#[derive(Debug, Args)]
pub struct ProfileArgs {
    #[command(subcommand)]
    command: ProfileCommand,
}

#[derive(Debug, Subcommand)]
enum ProfileCommand {
    /// Make a profile and use it
    New {
        /// Its name
        name: String,
        /// Base it on these profiles; where they differ, the last one wins
        #[arg(long, value_name = "NAME", num_args = 1.., add = complete::profiles())]
        base: Vec<String>,
        /// Begin with choices that hold together on this host: smallest, everything, all-loadable, this-host, random, or random:SEED
        #[arg(long, value_name = "START", value_parser = start::read)]
        start: Option<StartingPoint>,
    },
    /// List all profiles
    List,
    /// Use a profile
    Use {
        /// Its name
        #[arg(add = complete::profiles())]
        name: String,
    },
    /// Print a profile's choices with their reasons
    Show {
        /// Its name [default: the one in use]
        #[arg(add = complete::profiles())]
        name: Option<String>,
    },
    /// Check that profiles fit the tree and this host
    Check {
        /// Their names [default: the one in use]
        #[arg(add = complete::profiles())]
        names: Vec<String>,
        /// Check all profiles, those of the tree included
        #[arg(long, conflicts_with = "names")]
        all: bool,
        /// Fail also on choices that have no effect
        #[arg(long)]
        strict: bool,
    },
    /// Write the choices into a file of their own, to keep them elsewhere
    Save {
        /// The file, as in ./station.toml
        file: PathBuf,
        /// Replace the file if it is there
        #[arg(long)]
        replace: bool,
    },
    /// Write all that a profile and those that it is based on say into one file
    Flatten {
        /// Its name [default: the one in use]
        #[arg(add = complete::profiles())]
        name: Option<String>,
        /// Make a new profile of it and leave this one as it is
        #[arg(long, value_name = "NAME")]
        into: Option<String>,
    },
    /// Put what several profiles choose alike into a new one that they are based on
    Factor {
        /// Their names
        #[arg(required = true, num_args = 2.., add = complete::profiles())]
        names: Vec<String>,
        /// What the new one is called
        #[arg(long, value_name = "NAME")]
        into: String,
    },
    /// Put two profiles together that came from the same one
    Merge(merge::MergeArgs),
    /// Remove a profile of your own
    Remove {
        /// Its name
        #[arg(add = complete::profiles())]
        name: String,
    },
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &ProfileArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let named = |name: &Option<String>| name.as_deref().map_or_else(|| Ok(session.profile.clone()), profile_name);
    match &args.command {
        ProfileCommand::New { name, base, start } => new(&session, screen, name, base, start.as_ref()),
        ProfileCommand::List => list(&session, screen, global.json),
        ProfileCommand::Use { name } => put_in_use(&session, screen, name),
        ProfileCommand::Show { name } => show(&session, screen, &named(name)?, global.json),
        ProfileCommand::Check { names, all, strict } => {
            let wanted = if *all {
                session.shelf.list()?.into_keys().collect()
            } else if names.is_empty() {
                vec![session.profile.clone()]
            } else {
                names.iter().map(|name| profile_name(name)).collect::<Result<Vec<_>, _>>()?
            };
            check(&session, screen, &wanted, *strict, *all)
        }
        ProfileCommand::Save { file, replace } => reshape::save(&session, screen, file, *replace),
        ProfileCommand::Flatten { name, into } => reshape::flatten(&session, screen, &named(name)?, into.as_ref()),
        ProfileCommand::Factor { names, into } => reshape::factor(&session, screen, names, into),
        ProfileCommand::Merge(args) => merge::run(&session, screen, args),
        ProfileCommand::Remove { name } => remove(&session, screen, name),
    }
}

fn new(
    session: &Session,
    screen: &Screen,
    name: &str,
    on: &[String],
    start: Option<&StartingPoint>,
) -> Result<Exit, Stop> {
    let name = new_name(session, name)?;
    let base = on.iter().map(|name| profile_name(name)).collect::<Result<Vec<ProfileName>, Stop>>()?;
    for layer in &base {
        session.choices_of(layer)?;
    }
    let mut file = ProfileFile::new(&session.shelf.own_path(&name), &session.board.tree, &base);
    let started = start.map(|start| start::begin(session, &name, &mut file, start)).transpose()?;
    session.prepare_work()?;
    file.save()?;
    session.work.set_active(&name)?;
    let on: Vec<&str> = base.iter().map(ProfileName::as_str).collect();
    let on = if on.is_empty() { String::new() } else { format!(" on {}", on.join(", ")) };
    let begun = started.map_or(String::new(), |started| start::told(&session.board, &started));
    screen.done(&format!("Made the profile {name}{on}. It is in use now.\n{begun}"), session.global.json);
    Ok(Exit::Done)
}

fn list(session: &Session, screen: &Screen, as_json: bool) -> Result<Exit, Stop> {
    let profiles = session.shelf.list()?;
    if as_json {
        screen.json(&json::profile_list(&profiles, &session.profile));
        return Ok(Exit::Done);
    }
    let rows: Vec<_> = profiles
        .iter()
        .map(|(name, source)| {
            let source = match source {
                ProfileSource::Own | ProfileSource::Once => "your own",
                ProfileSource::Shipped => "shipped with the tree",
                ProfileSource::Kit => "as the tree was built",
            };
            let used = if *name == session.profile { "in use" } else { "" };
            let choices = session
                .choices_of(name)
                .map_or_else(|_| "cannot be read".into(), |c| count(c.own().count(), "choice", "choices"));
            vec![
                (Role::Name, name.to_string()),
                (Role::Good, used.to_string()),
                (Role::Faint, choices),
                (Role::Faint, source.to_string()),
            ]
        })
        .collect();
    if rows.is_empty() {
        screen.out("There is no profile yet. The first choice makes one.\n");
        screen.out(&next_line("boltboard options", "what there is to choose"));
    } else {
        screen.out(&columns(&rows, 0, screen.width));
    }
    Ok(Exit::Done)
}

fn put_in_use(session: &Session, screen: &Screen, name: &str) -> Result<Exit, Stop> {
    let name = profile_name(name)?;
    session.choices_of(&name)?;
    session.prepare_work()?;
    session.work.set_active(&name)?;
    screen.done(&format!("The profile {name} is in use now.\n"), session.global.json);
    Ok(Exit::Done)
}

fn show(session: &Session, screen: &Screen, name: &ProfileName, as_json: bool) -> Result<Exit, Stop> {
    let read = session.core().choices_of(name);
    if let (Err(SessionFault::Profile(wrong)), false) = (&read, as_json) {
        show_unfit(session, screen, name, &wrong.problems)?;
    }
    let choices = session.choices_of(name)?;
    if as_json {
        screen.json(&json::profile(&session.board, name, &choices));
        return Ok(Exit::Done);
    }
    let layers: Vec<&str> = choices.layers.iter().map(|(_, layer)| layer.name.as_str()).collect();
    screen.out(&format!(
        "{}  {}\n",
        paint(Role::Title, name.as_str()),
        paint(Role::Faint, &format!("layers, weakest first: {}", layers.join(", ")))
    ));
    let said_in = |layer, place| format!("{}, line {}", choices.layers[layer].name, choices.files.excerpt(place).line);
    let mut rows: Vec<_> = choices
        .items
        .iter()
        .map(|choice| {
            vec![
                (Role::Name, session.board.options[choice.option].name.clone()),
                (Role::Value, choice.value.to_string()),
                (Role::Faint, said_in(choice.layer, choice.place)),
                (Role::Faint, choice.reason.clone().unwrap_or_default()),
            ]
        })
        .collect();
    let providers = choices.providers.iter().map(|(need, chosen)| {
        vec![
            (Role::Name, format!("{NEED_PREFIX}{}", session.board.needs[*need].name)),
            (Role::Value, chosen.provider.text(&session.board)),
            (Role::Faint, said_in(chosen.layer, chosen.place)),
            (Role::Faint, chosen.reason.clone().unwrap_or_default()),
        ]
    });
    rows.extend(providers);
    rows.extend(choices.changes.iter().map(|change| {
        let what = match change.sort {
            ChangeSort::Patch => "applied",
            ChangeSort::Replaced(_) => "replaced",
        };
        vec![
            (Role::Name, format!("{CHANGE_PREFIX}{}", change.name)),
            (Role::Value, what.to_string()),
            (Role::Faint, choices.layers[change.layer].name.clone()),
            (Role::Faint, change.reason.clone().unwrap_or_default()),
        ]
    }));
    screen.out(&columns(&rows, 2, screen.width));
    if rows.is_empty() {
        screen.out("  It has no choices yet.\n");
    }
    Ok(Exit::Done)
}

/// Shows what is in a profile that does not fit this tree, each entry with what is wrong with it. What is wrong in all is told after that.
fn show_unfit(session: &Session, screen: &Screen, name: &ProfileName, problems: &[ProfileProblem]) -> Result<(), Stop> {
    let path = session.shelf.places(name).into_iter().find(|path| path.is_file());
    let Some(file) = path.map(|path| ProfileFile::open(&path)).transpose()?.flatten() else { return Ok(()) };
    let about = |entry: &str| {
        let told = problems.iter().find(|problem| problem.fault.about().as_deref() == Some(entry));
        told.map_or(String::new(), |problem| problem.fault.to_string())
    };
    let entries = file.entries();
    let rows: Vec<Vec<Cell>> = entries
        .into_iter()
        .map(|(name, value)| {
            let problem = about(&name);
            vec![(Role::Name, name), (Role::Value, value), (Role::Bad, problem)]
        })
        .collect();
    screen.out(&format!(
        "{}  {}\n",
        paint(Role::Title, name.as_str()),
        paint(Role::Faint, "as its file has it; it does not fit this tree")
    ));
    screen.out(&columns(&rows, 2, screen.width));
    if let Some(wrong) = problems.iter().find_map(|problem| problem.fault.about()) {
        let command = format!("boltboard unset --profile {name} {}", shell_word(&wrong));
        screen.out(&next_line(command, "take one entry out"));
    }
    Ok(())
}

/// What came of checking one profile.
pub struct Checked {
    /// The profile.
    pub profile: ProfileName,
    /// How many choices hold; none when they do not hold together.
    pub choices: Option<usize>,
    /// Choices that have no effect.
    pub idle: Vec<String>,
    /// What is wrong with it.
    pub problems: Vec<String>,
    /// Whether it says itself that it is for other hosts.
    pub for_others: bool,
}

/// Checks each profile; one that fails does not keep the others from being checked.
fn check(
    session: &Session,
    screen: &Screen,
    names: &[ProfileName],
    strict: bool,
    all_of_tree: bool,
) -> Result<Exit, Stop> {
    let mut worst = Exit::Done;
    let mut all = Vec::new();
    let grave = |exit: Exit| match exit {
        Exit::Done => 0,
        Exit::No => 1,
        Exit::HostLacks => 2,
        Exit::Wrong => 3,
        Exit::WrongUse | Exit::Interrupted => 4,
        Exit::NoPermission | Exit::DiskFull | Exit::Machine | Exit::Ours => 5,
    };
    for name in names {
        let mut checked =
            Checked { profile: name.clone(), choices: None, idle: Vec::new(), problems: Vec::new(), for_others: false };
        let exit = match session.resolve_profile(name) {
            Ok(resolved) => {
                let items = || resolved.choices.own();
                checked.choices = Some(items().count());
                let idle = items().filter(|c| resolved.resolution.get(c.option).effect == Effect::NoEffect);
                checked.idle = idle.map(|choice| session.board.options[choice.option].name.clone()).collect();
                if strict && !checked.idle.is_empty() { Exit::No } else { Exit::Done }
            }
            Err(stop) => {
                checked.problems = stop.diagnostics.iter().map(|diagnostic| diagnostic.message.clone()).collect();
                checked.for_others = stop.kind == FaultKind::Profile && stop.exit == Exit::HostLacks;
                // Of all profiles some are for other hosts; that is no fault.
                let passed_over = checked.for_others && all_of_tree;
                if !session.global.json && !passed_over {
                    screen.remark(&format!("{name}:"));
                    screen.diagnostics(&stop.diagnostics);
                }
                if passed_over { Exit::Done } else { stop.exit }
            }
        };
        if grave(exit) > grave(worst) {
            worst = exit;
        }
        all.push(checked);
    }
    if session.global.json {
        screen.json(&json::profile_check(&all));
        return Ok(worst);
    }
    for checked in &all {
        let name = &checked.profile;
        match checked.choices {
            None if checked.for_others => {
                screen.out(&format!("{name}: it is for other hosts than this one.\n"));
                checked.problems.iter().for_each(|problem| screen.out(&format!("  {problem}\n")));
            }
            None => screen.out(&format!("{name}: {}\n", paint(Role::Bad, "its choices cannot hold"))),
            Some(number) => {
                let text = count(number, "choice holds", "choices hold");
                screen.out(&format!("{name}: {text} together on this host.\n"));
            }
        }
        for option in &checked.idle {
            screen.out(&format!("  {option} has no effect.\n"));
            screen.out(&next_line(format!("boltboard why {option} --profile {name}"), "when it has one"));
        }
    }
    Ok(worst)
}

fn remove(session: &Session, screen: &Screen, name: &str) -> Result<Exit, Stop> {
    let name = profile_name(name)?;
    if session.source_of(&name)? != Some(ProfileSource::Own) {
        let diagnostic = Diagnostic::new(format!("there is no profile `{name}` of your own"));
        return Err(Stop::new(
            Exit::WrongUse,
            diagnostic.next("boltboard profile list", "the profiles that there are"),
        ));
    }
    let path = session.shelf.own_path(&name);
    std::fs::remove_file(&path).map_err(boltboard_core::base::FileError::on("remove", &path))?;
    // The facts that went with it are of no use without it; they need not be there.
    let _ = std::fs::remove_file(session.shelf.host_path(&name));
    screen.done(&format!("Removed the profile {name}.\n"), session.global.json);
    if !session.global.json && session.work.folders(&session.board.tree.source_root, &name).build.exists() {
        screen.out(&next_line(format!("boltboard clean --profile {name}"), "remove what was built with it too"));
    }
    Ok(Exit::Done)
}
