//! `boltboard carry`

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use boltboard_core::base::files::write_whole;
use boltboard_core::base::{FileError, shell_word};
use boltboard_core::board::Board;
use boltboard_core::carry::{CarriedChoice, Decision, Fate, Open, Written, carry, renamed};
use boltboard_core::compare::{CauseKind, RootCause, Rows, Side, causes, rows};
use boltboard_core::profile::{Choices, ProfileFile, ProfileName, ProfileSource, Shelf, bases_of, changes_folder};
use boltboard_core::resolve::{Resolution, resolve};
use boltboard_core::session::{Resolved, Session as Core, SessionFault};
use clap::Args;

use super::ask::Asker;
use crate::args::Global;
use crate::complete;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::carry::{CarryTold, ChangeCarried, MovedTold, NewTold, text};
use crate::render::{Screen, json};
use crate::session::{Session, other_version, profile_name};

/// Carry a profile over to this version of the tree
#[derive(Debug, Args)]
pub struct CarryArgs {
    /// The profile, or the file of one, which is carried where it lies [default: the one in use]
    #[arg(value_name = "PROFILE|FILE", add = complete::profiles())]
    which: Option<String>,
    /// The tree in the version that the profile was made for; then moved defaults and new options are told as well
    #[arg(long, value_name = "DIR")]
    from: Option<PathBuf>,
    /// The same, as version control knows it: a commit, tag or branch of this tree
    #[arg(long, value_name = "REVISION", conflicts_with = "from")]
    from_revision: Option<String>,
    /// Make a new profile and leave the old one as it is
    #[arg(long, value_name = "NAME")]
    into: Option<String>,
    /// Choose what moved defaults were before, so that nothing moves that you did not choose
    #[arg(long)]
    pin: bool,
    /// Show what would come of it, and write nothing
    #[arg(long)]
    preview: bool,
}

/// The tree in another version, with the folder that holds it where that is only for once.
struct Earlier {
    core: Core,
    _folder: Option<tempfile::TempDir>,
}

/// A profile's file on its way.
struct Moving {
    name: ProfileName,
    from: PathBuf,
    to: PathBuf,
    written: Written,
}

/// Runs the command. It ends with 1 when a person has to decide about something.
pub fn run(global: &Global, screen: &Screen, args: &CarryArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let earlier = earlier(&session, args)?;
    let (name, from) = find(&session, earlier.as_ref(), args.which.as_deref())?;
    let (to, path) = target(&session, &name, &from, args)?;
    let asker = Asker::new(global, screen);
    let mut moving = moving(&session, earlier.as_ref(), (&name, &from), (&to, &path), &asker)?;
    let of_profile = of_profile(&session, &to, &path);
    let mut told = CarryTold::new(json::FORMAT, &session.board, &to, &moving[0].written, of_profile);
    for below in &moving[1..] {
        told.below.push(below.name.to_string());
        told.take(&below.written.carried);
    }
    (told.earlier_known, told.written, told.again) = (earlier.is_some(), !args.preview, again(args));
    let mut choices = read(&session, &to, &moving)?;
    told.changes = changes(&session, &choices_with_files(&choices, &moving), earlier.as_ref());
    let facts = session.facts(&choices)?;
    let mut resolved = resolve(&session.board, &session.logic, &choices, &facts);
    if let (Some(earlier), Ok(resolution)) = (&earlier, &resolved) {
        let now = Resolved { choices: choices.clone(), facts: facts.clone(), resolution: resolution.clone() };
        compare(&session, &earlier.core, (&name, &from), &now, &mut told)?;
        if args.pin {
            pin(&session.board, &mut moving[0], &mut told);
            // What followed from what is pinned may not move any more, and what is pinned has to hold.
            choices = read(&session, &to, &moving)?;
            resolved = resolve(&session.board, &session.logic, &choices, &facts);
            if let Ok(resolution) = &resolved {
                told.moved.retain_mut(|moved| still_moves(&session.board, resolution, moved));
            }
        }
    }
    if !args.preview {
        session.prepare_work()?;
        // Those below come first: whatever happens then, each file is whole.
        moving.iter().rev().try_for_each(save)?;
        if args.which.is_none() && args.into.is_some() {
            session.work.set_active(&to)?;
        }
    }
    told.clashes = resolved.is_err();
    if global.json {
        screen.json(&told);
    } else {
        screen.out(&text(&told, screen.width));
    }
    if let Err(clashes) = resolved {
        let fault = SessionFault::Clash { clashes, choices: Box::new(choices), facts: Box::new(facts) };
        if !global.json {
            screen.diagnostics(&Stop::of(fault, Some(&session)).diagnostics);
        }
        return Ok(Exit::No);
    }
    Ok(if told.is_open() { Exit::No } else { Exit::Done })
}

/// What `set` and others need to be told so that they change the carried profile.
fn of_profile(session: &Session, to: &ProfileName, path: &Path) -> String {
    if path != session.shelf.own_path(to) {
        format!(" --profile {}", shell_word(&path.display().to_string()))
    } else if *to == session.profile {
        String::new()
    } else {
        format!(" --profile {to}")
    }
}

/// The command without what only shows.
fn again(args: &CarryArgs) -> String {
    let mut words = vec!["boltboard carry".to_string()];
    words.extend(args.which.iter().map(|which| shell_word(which)));
    words.extend(args.from.iter().map(|from| format!("--from {}", shell_word(&from.display().to_string()))));
    words.extend(args.from_revision.iter().map(|revision| format!("--from-revision {}", shell_word(revision))));
    words.extend(args.into.iter().map(|into| format!("--into {into}")));
    words.join(" ")
}

/// Opens the tree in the version that the profile was made for.
fn earlier(session: &Session, args: &CarryArgs) -> Result<Option<Earlier>, Stop> {
    let (folder, kept) = match (&args.from, &args.from_revision) {
        (Some(folder), _) => (session.around.path_here(folder), None),
        (None, Some(revision)) => {
            let fault = |e: std::io::Error| Stop::usage(format!("cannot make a temporary folder: {e}"));
            let folder = tempfile::tempdir().map_err(fault)?;
            session.definitions_of(revision, folder.path()).map_err(|fault| Stop::of(fault, Some(session)))?;
            (folder.path().to_path_buf(), Some(folder))
        }
        (None, None) => return Ok(None),
    };
    let core = other_version(session, &folder)?;
    Ok(Some(Earlier { core, _folder: kept }))
}

/// Finds the profile's file: here, else in the earlier tree.
fn find(session: &Session, earlier: Option<&Earlier>, asked: Option<&str>) -> Result<(ProfileName, PathBuf), Stop> {
    if let Some(text) = asked.filter(|text| text.contains('/')) {
        let path = session.around.path_here(Path::new(text));
        let name = ProfileName::of_file(&path).map_or_else(|| profile_name(text), Ok)?;
        return Ok((name, path));
    }
    let name = asked.map_or_else(|| Ok(session.profile.clone()), profile_name)?;
    let here = session.shelf.places(&name).into_iter();
    let there = earlier.into_iter().flat_map(|earlier| earlier.core.shelf.places(&name));
    match here.chain(there).find(|path| path.is_file()) {
        Some(path) => Ok((name, path)),
        None => {
            let diagnostic = Diagnostic::new(format!("there is no profile `{name}`"));
            Err(Stop::new(Exit::WrongUse, diagnostic.next("boltboard profile list", "the profiles that there are")))
        }
    }
}

/// The name that the carried profile gets, and where it lies.
fn target(
    session: &Session,
    name: &ProfileName,
    from: &Path,
    args: &CarryArgs,
) -> Result<(ProfileName, PathBuf), Stop> {
    if let Some(into) = &args.into {
        let name = super::profile::new_name(session, into)?;
        let path = session.shelf.own_path(&name);
        return Ok((name, path));
    }
    if args.which.as_ref().is_some_and(|which| which.contains('/')) {
        return Ok((name.clone(), from.to_path_buf()));
    }
    let own = session.shelf.own_path(name);
    if from == own || !own.exists() && session.source_of(name)? != Some(ProfileSource::Shipped) {
        return Ok((name.clone(), own));
    }
    let diagnostic = Diagnostic::new(format!("there is another profile `{name}` here"));
    let version = session.board.tree.version.as_str();
    let command = format!("boltboard carry {} --into {name}-{version}", args.which.as_deref().unwrap_or_default());
    Err(Stop::new(Exit::WrongUse, diagnostic.next(command, "give the carried one a name of its own")))
}

/// Carries the profile's file and those of its layers that are a person's own.
fn moving(
    session: &Session,
    earlier: Option<&Earlier>,
    (name, from): (&ProfileName, &Path),
    (to, path): (&ProfileName, &Path),
    asker: &Asker<'_>,
) -> Result<Vec<Moving>, Stop> {
    let version = earlier.map(|earlier| earlier.core.board.tree.version.clone());
    let mut all = Vec::new();
    let mut open = vec![(to.clone(), name.clone(), from.to_path_buf(), path.to_path_buf())];
    while let Some((to, name, from, path)) = open.pop() {
        let mut content = std::fs::read_to_string(&from).map_err(FileError::on("read", &from))?;
        let base = bases_of(&content);
        let there = |layer: &ProfileName| session.shelf.places(layer).iter().any(|path| path.is_file());
        if let (Some(earlier), true) = (earlier, base.iter().any(|layer| !there(layer))) {
            // What it is based on is not here: all that this says comes with it.
            let shelf = Shelf { aside: Some((name.clone(), from.clone())), ..earlier.core.shelf.clone() };
            if let Ok(draft) = shelf.flatten(&name, &name, &earlier.core.board) {
                content = draft.text();
            }
        } else {
            for layer in base {
                let below = session.shelf.own_path(&layer);
                let known = all.iter().any(|one: &Moving| one.name == layer) || open.iter().any(|one| one.1 == layer);
                if below.is_file() && !known && needs_carrying(&below, &session.board) {
                    open.push((layer.clone(), layer, below.clone(), below));
                }
            }
        }
        let written = carry(&content, version.as_deref(), &session.board, &mut |one| ask(asker, &session.board, one));
        let written = written.map_err(|fault| {
            let message = format!("{} cannot be read: {fault}", from.display());
            Stop::new(Exit::Wrong, Diagnostic::new(message).help("mend that line, then carry it again"))
        })?;
        all.push(Moving { name: to, from, to: path, written });
    }
    Ok(all)
}

/// Whether a layer was written for another version than this one.
fn needs_carrying(path: &Path, board: &Board) -> bool {
    let file = ProfileFile::open(path).ok().flatten();
    file.is_none_or(|file| file.version() != Some(board.tree.version.as_str()))
}

/// Asks a person, where one is there, about what no rule decides.
fn ask(asker: &Asker<'_>, board: &Board, one: &CarriedChoice) -> Option<Decision> {
    if !asker.asks {
        return None;
    }
    let Fate::Open(open) = &one.fate else { return None };
    let chosen = format!("{}={}", one.name, one.value);
    let answer = |question: String| Some(asker.text(&question, None, "")).filter(|answer| !answer.is_empty());
    match open {
        Open::Unknown { near } => {
            let near = if near.is_empty() { String::new() } else { format!(" ({}?)", near.join(", ")) };
            answer(format!("{chosen}: there is no such option; its name now{near}, or nothing to leave it out"))
                .map(Decision::Name)
        }
        Open::Value { name, .. } => {
            let accepts = board.option(name).map_or(String::new(), |option| board.options[option].kind.expected());
            answer(format!("{chosen}: {name} accepts {accepts}; its value now, or nothing to leave it out"))
                .map(Decision::Value)
        }
        Open::SplitValue { .. } | Open::Derived { .. } | Open::Twice { .. } | Open::Need { .. } => None,
    }
}

/// Reads the profile as it would be written.
fn read(session: &Session, to: &ProfileName, moving: &[Moving]) -> Result<Choices, Stop> {
    let drafts: BTreeMap<ProfileName, String> =
        moving.iter().map(|one| (one.name.clone(), one.written.text.clone())).collect();
    let read = session.shelf.read_with(to, &drafts, &session.board);
    read.map_err(|wrong| Stop::of(wrong.into(), Some(session)))
}

/// The same choices, with the files of their changes where these lie now.
fn choices_with_files(choices: &Choices, moving: &[Moving]) -> Choices {
    let mut choices = choices.clone();
    for change in &mut choices.changes {
        for one in moving {
            if let Ok(rest) = change.file.strip_prefix(changes_folder(&one.to)) {
                change.file = changes_folder(&one.from).join(rest);
                break;
            }
        }
    }
    choices
}

fn changes(session: &Session, choices: &Choices, earlier: Option<&Earlier>) -> Vec<ChangeCarried> {
    let before = earlier.map(|earlier| earlier.core.board.tree.source_root.clone());
    session
        .standings(choices, before.as_deref())
        .into_iter()
        .map(|(change, s)| ChangeCarried::of(change.name, s))
        .collect()
}

/// Holds the values of the earlier version against those of this one: what moves that nobody chose, and what is new.
fn compare(
    session: &Session,
    earlier: &Core,
    (name, from): (&ProfileName, &Path),
    now: &Resolved,
    told: &mut CarryTold,
) -> Result<(), Stop> {
    let shelf = Shelf { aside: Some((name.clone(), from.to_path_buf())), ..earlier.shelf.clone() };
    let shelf =
        if from.starts_with(&session.shelf.own) { Shelf { own: session.shelf.own.clone(), ..shelf } } else { shelf };
    let before = match shelf.read(name, &earlier.board) {
        Ok(choices) => {
            let facts = earlier.facts(&choices).map_err(|fault| Stop::of(fault, Some(earlier)))?;
            earlier.resolve(choices, facts).ok()
        }
        Err(_) => None,
    };
    let Some(before) = before else {
        told.uncompared = true;
        return Ok(());
    };
    let names = renamed(&session.board);
    let sides = [side(&earlier.board, &before, Some(&names)), side(&session.board, now, None)];
    let rows = rows(&sides);
    let causes = causes(&rows, None);
    let split: Vec<String> = told.split().collect();
    for (at, row) in rows.differing() {
        match (row.ids[0], row.ids[1]) {
            (Some(_), Some(option)) if now.choices.get(option).is_none() => {
                let because = causes.of.get(&at).into_iter().flatten().map(|cause| &causes.causes[*cause]);
                told.moved.extend(moved(&session.board, &rows, at, because.collect()));
            }
            (None, Some(option)) if !split.contains(&row.name) => {
                told.new.push(NewTold::of(&session.board, option, now))
            }
            _ => {}
        }
    }
    Ok(())
}

fn side<'a>(board: &'a Board, resolved: &'a Resolved, renamed: Option<&'a BTreeMap<String, String>>) -> Side<'a> {
    let Resolved { choices, facts, resolution } = resolved;
    Side { board, choices, facts, resolution, renamed }
}

/// A value that nobody chose and that is another one now; nothing where it only is called something else.
fn moved(board: &Board, rows: &Rows<'_>, at: usize, because: Vec<&RootCause>) -> Option<MovedTold> {
    let (before, after) = (rows.resolved(at, 0)?, rows.resolved(at, 1)?);
    let option = rows.rows[at].ids[1]?;
    let past = board.history.options.get(&option);
    let called = past.and_then(|past| past.changed.as_ref()).and_then(|changed| changed.now(&before.value.to_string()));
    if before.value == after.value || called.is_some_and(|now| now == after.value.to_string()) {
        return None;
    }
    let own = |kind| because.iter().any(|cause| cause.kind == kind && cause.name == rows.rows[at].name);
    let was = before.value.to_string();
    let can_be_pinned = board.options[option].kind.read(&was).is_ok();
    Some(MovedTold {
        option: rows.rows[at].name.clone(),
        before: was,
        after: after.value.to_string(),
        default_changed: own(CauseKind::Default),
        definition_changed: own(CauseKind::Definition),
        was_chosen: own(CauseKind::Choice),
        because: because.iter().map(|cause| cause.name.clone()).filter(|name| *name != rows.rows[at].name).collect(),
        can_be_pinned,
        pinned: false,
    })
}

/// Chooses the earlier values of defaults that changed.
fn pin(board: &Board, moving: &mut Moving, told: &mut CarryTold) {
    let from = told.from.clone().unwrap_or_default();
    let Some(mut file) = ProfileFile::of_text(&moving.to, &moving.written.text) else { return };
    for moved in told.moved.iter_mut().filter(|moved| moved.default_changed && moved.can_be_pinned) {
        let Some(option) = board.option(&moved.option) else { continue };
        let Ok(value) = board.options[option].kind.read(&moved.before) else { continue };
        file.set(&moved.option, &value, Some(&format!("as it was by default in {from}")));
        moved.pinned = true;
    }
    moving.written.text = file.text();
}

/// Tells whether a value is still another one than before, and takes in which.
fn still_moves(board: &Board, resolution: &Resolution, moved: &mut MovedTold) -> bool {
    if let Some(option) = board.option(&moved.option) {
        moved.after = resolution.value(option).to_string();
    }
    moved.pinned || moved.after != moved.before
}

fn save(one: &Moving) -> Result<(), Stop> {
    let (from, to) = (changes_folder(&one.from), changes_folder(&one.to));
    if from != to && from.is_dir() {
        let entries = std::fs::read_dir(&from).map_err(FileError::on("list", &from))?;
        for entry in entries.filter_map(Result::ok).filter(|entry| entry.path().is_file()) {
            let bytes = std::fs::read(entry.path()).map_err(FileError::on("read", &entry.path()))?;
            std::fs::create_dir_all(&to).map_err(FileError::on("make", &to))?;
            write_whole(&to.join(entry.file_name()), &bytes)?;
        }
    }
    write_whole(&one.to, one.written.text.as_bytes())?;
    Ok(())
}
