//! `boltboard inspect`

use std::path::{Path, PathBuf};

use boltboard_core::base::files::write_whole;
use boltboard_core::profile::ProfileName;
use boltboard_core::record::{Answer, AskFault, Covers, FromRecord, Inspected, Places, Record, inspect};
use clap::Args;

use super::profile::new_name;
use crate::args::Global;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::Screen;
use crate::render::inspect::{FileTold, InspectTold, ProfileMade, made, text};
use crate::render::text::next_line;
use crate::session::Session;

/// Show how a built program, library, module or archive was made
#[derive(Debug, Args)]
pub struct InspectArgs {
    /// Built files, or the numbers of running processes
    #[arg(required = true, value_name = "FILE", value_hint = clap::ValueHint::FilePath)]
    files: Vec<PathBuf>,
    /// Answer one question: is this option on, or has it this value? Ends with 0 for yes, 1 for no, 3 when there is no telling
    #[arg(long, value_name = "OPTION[=VALUE]", conflicts_with = "profile")]
    has: Vec<String>,
    /// Make a profile of this name from the record
    #[arg(long, value_name = "NAME")]
    profile: Option<String>,
    /// List all values, however many there are
    #[arg(long)]
    all: bool,
}

/// Runs the command. It ends with 1 where a file has no record.
pub fn run(global: &Global, screen: &Screen, args: &InspectArgs) -> Result<Exit, Stop> {
    if let Some(name) = &args.profile {
        return profile(global, screen, &args.files, name);
    }
    let all: Vec<Inspected> = args.files.iter().flat_map(|file| inspect(file)).collect();
    if !args.has.is_empty() {
        return has(global, screen, &all, &args.has);
    }
    let told = InspectTold::of(all.iter().map(FileTold::of).collect());
    let exit = if told.is_whole() { Exit::Done } else { Exit::No };
    if global.json {
        screen.json(&told);
    } else {
        screen.out(&text(&told, args.all, screen.width));
    }
    Ok(exit)
}

impl From<AskFault> for Stop {
    fn from(fault: AskFault) -> Stop {
        let diagnostic = Diagnostic::new(fault.to_string());
        let diagnostic = match fault {
            AskFault::Unread(_) | AskFault::Contradict { .. } => diagnostic,
            AskFault::NoRecord(_) => diagnostic
                .note("It was not built by this program, or its record was taken off.")
                .help("ask the file that was built or installed, before anything was done with it"),
            AskFault::Unusable { .. } => diagnostic.help("ask another file of the same build"),
            AskFault::UnknownOption { near, covers: Covers::All, .. } => diagnostic.near(&near),
            AskFault::UnknownOption { near, covers: Covers::Named, .. } => {
                diagnostic.near(&near).note("The record of a module or archive tells only the options that its definition names; its program tells all.")
            }
            AskFault::NoChoices(_) => diagnostic.help(
                "ask a program or shared library of the same build; a module or archive tells only what its part names",
            ),
            AskFault::OtherTree { .. } => diagnostic.help("go to that tree, or name it with --tree"),
        };
        Stop::new(Exit::Wrong, diagnostic)
    }
}

/// Answers whether each file has all that is asked about.
fn has(global: &Global, screen: &Screen, all: &[Inspected], asked: &[String]) -> Result<Exit, Stop> {
    let mut rows = Vec::new();
    // Of a process, its program is asked; what it has loaded is other files.
    for one in all.iter().filter(|one| !one.loaded) {
        for question in asked {
            rows.push((one.name.clone(), question.clone(), one.has(question)?));
        }
    }
    let yes = rows.iter().all(|(.., answer)| answer.yes);
    if global.json {
        screen.json(&made::answers(&rows));
    } else {
        let line = |(name, question, Answer { yes, value }): &(String, String, Answer)| {
            format!("{}: {name} {question}: {value}\n", if *yes { "yes" } else { "no" })
        };
        screen.out(&rows.iter().map(line).collect::<String>());
    }
    Ok(if yes { Exit::Done } else { Exit::No })
}

/// The record of a file of this tree, of which it is clear what was chosen.
pub fn recorded(session: &Session, file: &Path) -> Result<Record, Stop> {
    let all = inspect(file);
    let program = all.first().map(|one| one.of_tree(&session.board.tree.name).cloned());
    Ok(program.unwrap_or_else(|| Err(AskFault::NoRecord(file.display().to_string())))?)
}

/// The choices of a record as a profile, with this person's folders.
pub fn of_this_person(session: &Session, record: &Record, profile: &ProfileName) -> FromRecord {
    let home = PathBuf::from(std::env::var("HOME").unwrap_or_else(|_| Record::HOME.into()));
    let tree = &session.board.tree.source_root;
    let folders = session.work.folders(tree, profile);
    record.profile(Places { home: &home, tree, build: &folders.build })
}

/// Makes a profile from the record of a file.
fn profile(global: &Global, screen: &Screen, files: &[PathBuf], name: &str) -> Result<Exit, Stop> {
    let [file] = files else {
        let diagnostic = Diagnostic::new("a profile is made from the record of one file");
        return Err(Stop::new(Exit::WrongUse, diagnostic));
    };
    let session = Session::open(global, screen)?;
    let record = recorded(&session, file)?;
    let profile = new_name(&session, name)?;
    let FromRecord { text, moved } = of_this_person(&session, &record, &profile);
    session.prepare_work()?;
    write_whole(&session.shelf.own_path(&profile), text.as_bytes())?;
    let told = made_of(&session, &record, &profile, moved.into_iter().collect())?;
    if global.json {
        screen.json(&told);
    } else {
        screen.out(&made::text(&told, &file.display().to_string(), screen.width));
        screen.out(&told.next().map_or(String::new(), |(command, gives)| next_line(command, gives)));
    }
    Ok(Exit::Done)
}

/// Says how the profile stands on this host, in this version of the tree.
fn made_of(session: &Session, record: &Record, profile: &ProfileName, moved: Vec<String>) -> Result<ProfileMade, Stop> {
    let mut told = ProfileMade::new(profile.as_str(), record, &session.board.tree.version, moved);
    let Ok(choices) = session.core().choices_of(profile) else {
        told.does_not_fit();
        return Ok(told);
    };
    let facts = session.facts(&choices)?;
    let Ok(resolved) = session.core().resolve(choices, facts) else {
        told.does_not_hold();
        return Ok(told);
    };
    for (id, option) in session.board.options.iter() {
        if let Some(then) = record.value(&option.name) {
            told.value(&option.name, &then, resolved.resolution.get(id));
        }
    }
    Ok(told)
}
