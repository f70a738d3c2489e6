//! `boltboard inspect`

use std::path::{Path, PathBuf};

use boltboard_core::base::near_matches;
use boltboard_core::profile::{ProfileFile, ProfileName};
use boltboard_core::record::{Covers, FromRecord, Places, ReadFault, Record, Said, Seen, read_records};
use clap::Args;

use crate::args::Global;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::Screen;
use crate::render::inspect::{FileTold, InspectTold, ProfileMade, made, text};
use crate::render::text::next_line;
use crate::session::{Session, profile_name};

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

/// What was looked at, and what was found there.
pub struct Inspected {
    /// The file as it was named.
    pub name: String,
    /// Whether it is what a process has loaded beside its program.
    pub loaded: bool,
    /// Its records.
    pub found: Result<Vec<Seen>, ReadFault>,
}

/// Runs the command. It ends with 1 where a file has no record.
pub fn run(global: &Global, screen: &Screen, args: &InspectArgs) -> Result<Exit, Stop> {
    if let Some(name) = &args.profile {
        return profile(global, screen, &args.files, name);
    }
    let all: Vec<Inspected> = args.files.iter().flat_map(|file| inspected(file)).collect();
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

/// A file; or a process with all that it has loaded and that has a record.
fn inspected(file: &Path) -> Vec<Inspected> {
    let name = file.display().to_string();
    let number = name.parse::<u32>().ok().filter(|_| !file.exists());
    let Some(number) = number else {
        return vec![Inspected { found: read_records(file), loaded: false, name }];
    };
    let process = PathBuf::from(format!("/proc/{number}"));
    if !process.exists() {
        return vec![Inspected { name, loaded: false, found: Err(ReadFault::NoProcess(number)) }];
    }
    let program = process.join("exe");
    let path = std::fs::read_link(&program).unwrap_or_else(|_| program.clone());
    let found = read_records(&program);
    let mut all = vec![Inspected { name: format!("process {number}, {}", path.display()), loaded: false, found }];
    let maps = std::fs::read_to_string(process.join("maps")).unwrap_or_default();
    let mut loaded: Vec<(&str, &str)> = maps.lines().filter_map(mapped).collect();
    loaded.sort_unstable_by_key(|(_, file)| *file);
    loaded.dedup_by_key(|(_, file)| *file);
    for (range, file) in loaded.into_iter().filter(|(_, file)| Path::new(file) != path) {
        // What was replaced since is still there by this name.
        let still = process.join("map_files").join(range);
        let found = read_records(Path::new(file)).or_else(|_| read_records(&still));
        if found.as_ref().is_ok_and(|seen| !seen.is_empty()) {
            all.push(Inspected { name: file.to_string(), loaded: true, found });
        }
    }
    all
}

/// The range and the file of a line of a process's maps, where code lies.
fn mapped(line: &str) -> Option<(&str, &str)> {
    let (range, rest) = line.split_once(' ')?;
    let file = rest.find('/').map(|at| &rest[at..])?;
    rest.starts_with("r-x").then_some((range, file.trim_end_matches(" (deleted)")))
}

/// Says what stands against reading a file, with what the system says.
pub fn told(fault: &ReadFault) -> String {
    match fault {
        ReadFault::File(error) => format!("{error}: {}", error.source),
        other => other.to_string(),
    }
}

/// Why a file cannot be answered from.
fn no_record(one: &Inspected) -> Stop {
    let (name, found) = (&one.name, &one.found);
    let diagnostic = match found {
        Err(fault) => Diagnostic::new(told(fault)),
        Ok(seen) => match seen.iter().find_map(|seen| seen.record.as_ref().err()) {
            Some(fault) => Diagnostic::new(format!("the record of {name} cannot be used: {fault}")),
            None => Diagnostic::new(format!("{name} has no record"))
                .note("It was not built by this program, or its record was taken off."),
        },
    };
    Stop::new(Exit::Wrong, diagnostic)
}

/// The records that speak for a file as a whole.
fn speaking(one: &Inspected) -> Result<Vec<&Record>, Stop> {
    let seen = one.found.as_ref().map_err(|_| no_record(one))?;
    let whole = seen.iter().filter(|seen| seen.member.is_none());
    let records: Vec<&Record> = whole.filter_map(|seen| seen.record.as_ref().ok()).collect();
    if records.is_empty() { Err(no_record(one)) } else { Ok(records) }
}

/// Answers whether each file has all that is asked about.
fn has(global: &Global, screen: &Screen, all: &[Inspected], asked: &[String]) -> Result<Exit, Stop> {
    let mut rows = Vec::new();
    // Of a process, its program is asked; what it has loaded is other files.
    for one in all.iter().filter(|one| !one.loaded) {
        for question in asked {
            rows.push((one.name.clone(), question.clone(), answer(one, question)?));
        }
    }
    let yes = rows.iter().all(|(.., (yes, _))| *yes);
    if global.json {
        screen.json(&made::answers(&rows));
    } else {
        let line = |(name, question, (yes, said)): &(String, String, (bool, String))| {
            format!("{}: {name} {question}: {said}\n", if *yes { "yes" } else { "no" })
        };
        screen.out(&rows.iter().map(line).collect::<String>());
    }
    Ok(if yes { Exit::Done } else { Exit::No })
}

/// Whether a file has an option on, or with a value; and the value that it has.
fn answer(one: &Inspected, question: &str) -> Result<(bool, String), Stop> {
    let (option, wanted) = question.split_once('=').map_or((question, None), |(option, value)| (option, Some(value)));
    let records = speaking(one)?;
    let mut answers = Vec::new();
    for record in &records {
        let Some(said) = record.value(option) else {
            let near = near_matches(option, record.all_values().into_keys());
            let stop = Diagnostic::new(format!("the record of {} says nothing of an option `{option}`", one.name));
            let stop = match record.covers {
                Covers::Named => stop.note("The record of a module or archive tells only the options that its definition names; its program tells all."),
                Covers::All => stop,
            };
            return Err(Stop::new(Exit::Wrong, stop.near(&near)));
        };
        let text = said.to_string();
        let yes = match (wanted, &said) {
            (Some(wanted), _) => text == wanted,
            (None, Said::Text(text)) => !text.is_empty() && text != "off",
            (None, Said::Words(words)) => !words.is_empty(),
            (None, Said::Number(_)) => true,
        };
        answers.push((yes, text));
    }
    let first = answers[0].clone();
    if answers.iter().any(|(yes, _)| *yes != first.0) {
        let text =
            format!("{} has {} records, and they contradict each other about `{option}`", one.name, answers.len());
        return Err(Stop::new(Exit::Wrong, Diagnostic::new(text)));
    }
    Ok(first)
}

/// The record of a file of this tree, of which it is clear what was chosen.
pub fn recorded(session: &Session, file: &Path) -> Result<Record, Stop> {
    let all = inspected(file);
    let Some(one) = all.into_iter().next() else { return Err(Stop::new(Exit::No, Diagnostic::new("no file"))) };
    let records = speaking(&one)?;
    let record = records[0];
    if records.iter().any(|other| other.choices != record.choices || other.tree != record.tree) {
        let many = records.len();
        let text =
            format!("{} has {many} records of unlike choices, so that it is not clear which are meant", one.name);
        return Err(Stop::new(Exit::Wrong, Diagnostic::new(text)));
    }
    if record.covers == Covers::Named {
        let text = format!("the record of {} does not tell what was chosen", one.name);
        let help = "a program or shared library of the same build tells it; a module or archive tells only what its part names";
        return Err(Stop::new(Exit::Wrong, Diagnostic::new(text).help(help)));
    }
    let tree = &session.board.tree;
    if record.tree != tree.name {
        let text = format!("{} was built from the tree `{}`, and this is `{}`", one.name, record.tree, tree.name);
        return Err(Stop::new(Exit::Wrong, Diagnostic::new(text).help("go to that tree, or name it with --tree")));
    }
    Ok(record.clone())
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
    let profile = profile_name(name)?;
    if session.source_of(&profile)?.is_some() {
        let diagnostic = Diagnostic::new(format!("there already is a profile `{profile}`"));
        return Err(Stop::new(Exit::WrongUse, diagnostic.help("name another one")));
    }
    let FromRecord { text, moved } = of_this_person(&session, &record, &profile);
    session.prepare_work()?;
    let path = session.shelf.own_path(&profile);
    let Some(written) = ProfileFile::of_text(&path, &text) else {
        return Err(Stop::new(Exit::Wrong, Diagnostic::new("the record's choices cannot be written as a profile")));
    };
    written.save()?;
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
    match session.core().choices_of(profile) {
        Err(_) => told.does_not_fit(),
        Ok(choices) => {
            let facts = session.facts(&choices)?;
            match session.core().resolve(choices, facts) {
                Err(_) => told.does_not_hold(),
                Ok(resolved) => {
                    for (id, option) in session.board.options.iter() {
                        let (Some(then), now) = (record.value(&option.name), resolved.resolution.get(id)) else {
                            continue;
                        };
                        told.value(&option.name, &then, now);
                    }
                }
            }
        }
    }
    Ok(told)
}
