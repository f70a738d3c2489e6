//! `boltboard set` and `boltboard unset`

use std::path::{Path, PathBuf};

use boltboard_core::base::shell_word;
use boltboard_core::board::{Asked, DecidedBy, NEED_PREFIX, OptionId};
use boltboard_core::profile::{ProfileFile, ProfileName, ProfileSource, Shelf};
use boltboard_core::search::{Filter, read_filters};
use clap::Args;

use crate::args::Global;
use crate::complete;
use crate::fault::{Diagnostic, Exit, FaultKind, Stop, refused};
use crate::render::moved::{self, Moves};
use crate::render::text::{count, next_line};
use crate::render::{Screen, json};
use crate::session::{Session, profile_name};
use boltboard_core::session::{Resolved, SessionFault};

/// Choose values
#[derive(Debug, Args)]
pub struct SetArgs {
    /// An option's value, or what meets a need: system, bundled, off, a folder, another need
    #[arg(value_name = "OPTION=VALUE|need:NAME=PROVIDER", required_unless_present_any = ["from", "section"], add = complete::choices())]
    choices: Vec<String>,
    /// Read more choices from FILE, one a line or a saved profile; `-` is standard input
    #[arg(long, value_name = "FILE")]
    from: Option<PathBuf>,
    /// Give this value to every option of a section that accepts it, sections within it included
    #[arg(long, value_name = "SECTION=VALUE")]
    section: Vec<String>,
    /// Only show which values would change
    #[arg(long)]
    preview: bool,
    /// Why; the profile keeps it with the choice
    #[arg(long, value_name = "TEXT")]
    reason: Option<String>,
}

/// Undo choices
#[derive(Debug, Args)]
pub struct UnsetArgs {
    /// The options or needs
    #[arg(value_name = "OPTION|need:NAME", required = true, add = complete::chosen())]
    options: Vec<String>,
}

/// Chooses values.
pub fn set(global: &Global, screen: &Screen, args: &SetArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let mut asked = args.choices.clone();
    if let Some(file) = &args.from {
        asked.extend(choices_from(&session, file)?);
    }
    for text in &args.section {
        asked.extend(all_in(&session, text)?);
    }
    let mut chosen = Vec::new();
    for (at, text) in asked.iter().enumerate() {
        if !text.contains('=') && session.board.option(text).is_some() {
            return Err(no_value(&session, text, &asked[at + 1..]));
        }
        chosen.push(session.read_asked(text)?);
    }
    let effect = match (args.preview, args.from.is_some() || !args.section.is_empty()) {
        (true, _) => Effects::ShowOnly,
        // Much moves at once, so whoever sits there is asked first.
        (false, true) => Effects::AskFirst,
        (false, false) => Effects::Take,
    };
    if !asked.is_empty() {
        let choices = session.choices_of(&session.profile)?.with_tried(&session.board, &asked)?;
        if let Some(fault) = chosen.iter().find_map(|asked| session.refuses(asked, &choices)) {
            return Err(refused(&session, &choices, &fault).nothing_changed());
        }
    }
    let recorded = Recorded { chosen: asked.clone(), undone: vec![] };
    change_with(session, screen, &asked, effect, &recorded, &|session, file| {
        for asked in &chosen {
            match asked {
                Asked::Value(option, value) => {
                    file.set(&session.board.options[*option].name, value, args.reason.as_deref());
                }
                Asked::Provider(need, provider) => {
                    let name = &session.board.needs[*need].name;
                    file.set_provider(name, &provider.text(&session.board), args.reason.as_deref());
                }
            }
        }
        Ok(())
    })
}

/// Tells that a choice has no value, and what was probably meant.
fn no_value(session: &Session, name: &str, more: &[String]) -> Stop {
    let diagnostic = Diagnostic::new(format!("`{name}` needs a value: {name}=VALUE"));
    let kind = session.board.option(name).map(|option| &session.board.options[option].kind);
    let plain: Vec<&str> = more.iter().map(String::as_str).filter(|word| !word.contains('=')).collect();
    let meant = match kind {
        Some(kind) if kind.is_on_off() => kind.on_word().map(|on| format!("{name}={on}")),
        Some(kind) if !plain.is_empty() && kind.read(&plain.join(" ")).is_ok() => {
            Some(format!("{name}={}", plain.join(" ")))
        }
        Some(_) | None => None,
    };
    let meant = meant.map(|meant| format!("boltboard set {}", shell_word(&meant)));
    let told = meant.into_iter().fold(diagnostic, |told, command| told.next(command, "choose this"));
    Stop::new(Exit::WrongUse, told.next(format!("boltboard show {name}"), "what it accepts"))
}

/// Reads choices from a file, one a line; empty lines and what follows a `#` do not count. All lines that are wrong are told.
fn choices_from(session: &Session, file: &Path) -> Result<Vec<String>, Stop> {
    let text =
        if file == Path::new("-") { std::io::read_to_string(std::io::stdin()) } else { std::fs::read_to_string(file) };
    let text = text.map_err(|e| Stop::usage(format!("cannot read {}: {e}", file.display())))?;
    if text.lines().any(|line| line.trim_end() == "[choose]") {
        return choices_of_profile(session, file, &text);
    }
    let mut choices = Vec::new();
    let mut diagnostics = Vec::new();
    for (index, line) in text.lines().enumerate() {
        let line = line.split_once(" #").map_or(line, |(before, _)| before).trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        match session.board.read_asked(line) {
            Ok(_) => choices.push(line.to_string()),
            Err(fault) => {
                for mut diagnostic in Stop::from(fault).diagnostics {
                    diagnostic.message = format!("{}:{}: {}", file.display(), index + 1, diagnostic.message);
                    diagnostics.push(diagnostic);
                }
            }
        }
    }
    if diagnostics.is_empty() { Ok(choices) } else { Err(Stop::of_all(FaultKind::Usage, Exit::WrongUse, diagnostics)) }
}

/// Returns the choices that a profile's file makes itself, as they would be typed.
fn choices_of_profile(session: &Session, file: &Path, text: &str) -> Result<Vec<String>, Stop> {
    let board = &session.board;
    let name = profile_name("given")?;
    let shelf = Shelf { aside: Some((name.clone(), file.to_path_buf())), ..session.shelf.clone() };
    let read = shelf.read_as(&name, Some(text), board);
    let choices = read.map_err(|wrong| Stop::of(wrong.into(), None))?;
    let own = |layer| choices.layers[layer].name == name.as_str();
    let values = choices.items.iter().filter(|choice| own(choice.layer));
    let values = values.map(|choice| format!("{}={}", board.options[choice.option].name, choice.value));
    let providers = choices.providers.iter().filter(|(_, chosen)| own(chosen.layer));
    let providers = providers
        .map(|(need, chosen)| format!("{NEED_PREFIX}{}={}", board.needs[*need].name, chosen.provider.text(board)));
    Ok(values.chain(providers).collect())
}

/// Returns a choice for every option of a section that takes the value.
fn all_in(session: &Session, text: &str) -> Result<Vec<String>, Stop> {
    let board = &session.board;
    let Some((section, value)) = text.split_once('=') else {
        let diagnostic = Diagnostic::new(format!("`{text}` is not SECTION=VALUE"));
        return Err(Stop::new(
            Exit::WrongUse,
            diagnostic.help("write the section, `=` and the value, as in links=off"),
        ));
    };
    let (filters, _) = read_filters(board, &[format!("in:{}", section.trim())])?;
    let within = |option: OptionId| {
        let path = board.section_path(board.options[option].section);
        filters.iter().all(|filter| matches!(filter, Filter::In(section) if path.contains(section)))
    };
    let takes = |option: &OptionId| {
        let kind = &board.options[*option].kind;
        // A text takes any value; nobody means to write `off` into it.
        !kind.is_free() && kind.read(value.trim()).is_ok()
    };
    let options = board
        .options
        .ids()
        .filter(|option| within(*option) && board.options[*option].decided_by == DecidedBy::People)
        .filter(takes);
    let choices: Vec<String> = options.map(|id| format!("{}={}", board.options[id].name, value.trim())).collect();
    if choices.is_empty() {
        let diagnostic = Diagnostic::new(format!("no option in {section} accepts `{value}`"));
        return Err(Stop::new(
            Exit::WrongUse,
            diagnostic.next(format!("boltboard options in:{section}"), "its options and their values"),
        ));
    }
    Ok(choices)
}

/// What is done with what would move.
#[derive(Clone, Copy, PartialEq)]
enum Effects {
    /// It is taken and told.
    Take,
    /// It is told, and taken when the person agrees; nobody is asked when no one is there.
    AskFirst,
    /// It is told.
    ShowOnly,
}

/// Takes choices back.
pub fn unset(global: &Global, screen: &Screen, args: &UnsetArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    if let Err(SessionFault::Profile(_)) = session.core().choices_of(&session.profile) {
        return repair(&session, screen, &args.options);
    }
    for name in &args.options {
        match name.strip_prefix(NEED_PREFIX) {
            Some(need) => session.find_need(need).map(|_| ())?,
            None => session.find_option(name).map(|_| ())?,
        }
    }
    let recorded = Recorded { chosen: vec![], undone: args.options.clone() };
    change(session, screen, &recorded, &|session, file| {
        for name in &args.options {
            let was = match name.strip_prefix(NEED_PREFIX) {
                Some(need) => file.unset_provider(need),
                None => file.unset(name),
            };
            if !was {
                let diagnostic = Diagnostic::new(format!("`{name}` is not chosen in the profile {}", session.profile));
                let (command, gives) = match name.strip_prefix(NEED_PREFIX) {
                    Some(need) => (format!("boltboard survey {need}"), "how it is met"),
                    None => (format!("boltboard why {name}"), "where its value comes from"),
                };
                return Err(Stop::new(Exit::WrongUse, diagnostic.next(command, gives)));
            }
        }
        Ok(())
    })
}

/// Takes entries out of a profile that does not fit this tree; what else is wrong with it stays for later.
fn repair(session: &Session, screen: &Screen, names: &[String]) -> Result<Exit, Stop> {
    let path = session.shelf.own_path(&session.profile);
    let wrong = || session.choices_of(&session.profile).err();
    let (Some(mut file), Some(before)) = (ProfileFile::open(&path)?, wrong()) else {
        return Err(wrong().unwrap_or_else(|| Stop::usage(format!("cannot use {}", path.display()))));
    };
    for name in names {
        if !file.take_out(name) {
            let diagnostic = Diagnostic::new(format!("`{name}` is not in the profile {}", session.profile));
            let command = format!("boltboard profile show {}", session.profile);
            return Err(Stop::new(Exit::WrongUse, diagnostic.next(command, "what is in it")));
        }
    }
    file.save()?;
    let left = wrong().map_or(0, |stop| stop.diagnostics.len());
    let names = names.join(", ");
    let problems = match left {
        0 => "It fits this tree now.".to_string(),
        left => {
            format!("Of {} {} left.", count(before.diagnostics.len(), "problem", "problems"), count(left, "is", "are"))
        }
    };
    screen.done(&format!("Removed {names} from the profile {}. {problems}\n", session.profile), session.global.json);
    if left > 0 && !session.global.json {
        screen.out(&next_line(
            format!("boltboard profile show {}", session.profile),
            "what is in it, and what does not fit",
        ));
    }
    Ok(Exit::Done)
}

/// What a change records in the profile, as it is typed.
#[derive(Debug, Default)]
pub struct Recorded {
    /// Choices that it makes.
    pub chosen: Vec<String>,
    /// Choices that it undoes.
    pub undone: Vec<String>,
}

/// Changes the profile in use if what comes out can hold, and tells what was recorded and which values changed.
pub fn change(
    session: Session,
    screen: &Screen,
    recorded: &Recorded,
    edit: &dyn Fn(&Session, &mut ProfileFile) -> Result<(), Stop>,
) -> Result<Exit, Stop> {
    change_with(session, screen, &[], Effects::Take, recorded, edit)
}

fn change_with(
    mut session: Session,
    screen: &Screen,
    asked: &[String],
    effects: Effects,
    recorded: &Recorded,
    edit: &dyn Fn(&Session, &mut ProfileFile) -> Result<(), Stop>,
) -> Result<Exit, Stop> {
    session.only_real()?;
    // A profile that cannot be resolved now may be what this change mends.
    let before = session.resolve().ok();
    let told = |session: &Session, after: &Resolved, recorded: Option<&Recorded>| {
        let moves = Moves::between(session, before.as_ref(), after);
        if session.global.json {
            screen.json(&json::moves(session, &moves, recorded));
        } else {
            screen.out(&moved::text(session, &moves, recorded, screen.width));
        }
    };
    let mut shown = None;
    if effects != Effects::Take && !asked.is_empty() {
        let after = session.resolve_with(asked).map_err(Stop::nothing_changed)?;
        let asks = effects == Effects::AskFirst && !session.global.json;
        if effects == Effects::ShowOnly || asks {
            told(&session, &after, None);
        }
        if effects == Effects::ShowOnly || asks && !screen.agrees("Record these choices?") {
            if !session.global.json {
                screen.out("Nothing was changed.\n");
            }
            return Ok(Exit::Done);
        }
        shown = asks.then_some(after);
    }
    session.prepare_work()?;
    own_profile(&mut session, screen)?;
    let path = session.shelf.own_path(&session.profile);
    let Some(mut file) = ProfileFile::open(&path)? else {
        return Err(Stop::usage(format!("cannot use {}", path.display())));
    };
    edit(&session, &mut file)?;
    let told_before = shown.is_some();
    // Refused as a whole when it cannot hold: the profile stays as it is.
    let after = match shown {
        Some(after) => after,
        None if asked.is_empty() => session.resolve_as(&file.text()).map_err(Stop::nothing_changed)?,
        None => session.resolve_with(asked).map_err(Stop::nothing_changed)?,
    };
    file.save()?;
    if told_before {
        screen.out(&moved::recorded(&session, recorded));
    } else {
        told(&session, &after, Some(recorded));
    }
    Ok(Exit::Done)
}

/// The profile that changes go to: the one in use; one that the tree ships gets another on top of it.
pub fn own_name(session: &Session, profile: &ProfileName) -> Result<ProfileName, Stop> {
    let own = profile.clone();
    Ok(match session.source_of(&own)? {
        Some(ProfileSource::Shipped) => ProfileName::parse(&format!("my-{own}")).unwrap_or(own),
        Some(ProfileSource::Own | ProfileSource::Once | ProfileSource::Kit) | None => own,
    })
}

/// Makes sure that the profile in use is the person's own; one that the tree ships gets one on top of it.
pub fn own_profile(session: &mut Session, screen: &Screen) -> Result<(), Stop> {
    if matches!(session.source_of(&session.profile)?, Some(ProfileSource::Own | ProfileSource::Once)) {
        return Ok(());
    }
    let name = own_name(session, &session.profile)?;
    let base: Vec<ProfileName> = (name != session.profile).then(|| session.profile.clone()).into_iter().collect();
    if session.source_of(&name)?.is_none() {
        ProfileFile::new(&session.shelf.own_path(&name), &session.board.tree, &base).save()?;
    }
    if let [shipped] = base.as_slice() {
        screen.remark(&format!(
            "The profile {shipped} comes with the tree. Your choices go to a new profile {name} on top of it, which is in use now."
        ));
    }
    session.work.set_active(&name)?;
    session.profile = name;
    Ok(())
}
