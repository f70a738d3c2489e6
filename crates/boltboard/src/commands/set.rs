//! `boltboard set` and `boltboard unset`

use std::path::{Path, PathBuf};

use boltboard_core::board::{Asked, Kind, NEED_PREFIX, OptionId};
use boltboard_core::profile::{ProfileFile, ProfileName, ProfileSource};
use boltboard_core::resolve::{Effect, Origin};
use boltboard_core::search::{Filter, read_filters};
use clap::Args;

use crate::args::Global;
use crate::exit::{Diagnostic, Exit, Stop};
use crate::render::Screen;
use crate::render::options::origin_word;
use crate::render::text::{Role, columns, paint};
use crate::session::Session;
use boltboard_core::session::Resolved;

/// Choose values
#[derive(Debug, Args)]
pub struct SetArgs {
    /// What to choose: an option's value, or who is to meet a need (system, bundled, off, a folder, another need)
    #[arg(value_name = "OPTION=VALUE|need:NAME=PROVIDER", required_unless_present_any = ["from", "section"])]
    choices: Vec<String>,
    /// Take choices from FILE as well, one a line; `-` reads them from standard input
    #[arg(long, value_name = "FILE")]
    from: Option<PathBuf>,
    /// Give every option of a section, and of the sections within it, this value where it takes it
    #[arg(long, value_name = "SECTION=VALUE")]
    section: Vec<String>,
    /// Only show what would move
    #[arg(long)]
    preview: bool,
    /// Why; kept with the choice
    #[arg(long, value_name = "TEXT")]
    reason: Option<String>,
}

/// Take choices back
#[derive(Debug, Args)]
pub struct UnsetArgs {
    /// The options, or needs
    #[arg(value_name = "OPTION|need:NAME", required = true)]
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
    for text in &asked {
        chosen.push(session.board.read_asked(text)?);
    }
    let effect = match (args.preview, args.from.is_some() || !args.section.is_empty()) {
        (true, _) => Effects::ShowOnly,
        // Much moves at once, so whoever sits there is asked first.
        (false, true) => Effects::AskFirst,
        (false, false) => Effects::Take,
    };
    change_with(session, screen, &asked, effect, &|session, file| {
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

/// Reads choices from a file, one a line; empty lines and what follows a `#` do not count. All lines that are wrong are told.
fn choices_from(session: &Session, file: &Path) -> Result<Vec<String>, Stop> {
    let text =
        if file == Path::new("-") { std::io::read_to_string(std::io::stdin()) } else { std::fs::read_to_string(file) };
    let text = text.map_err(|e| Stop::usage(format!("cannot read {}: {e}", file.display())))?;
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
    if diagnostics.is_empty() { Ok(choices) } else { Err(Stop { diagnostics, exit: Exit::WrongUse }) }
}

/// Returns a choice for every option of a section that takes the value.
fn all_in(session: &Session, text: &str) -> Result<Vec<String>, Stop> {
    let board = &session.board;
    let Some((section, value)) = text.split_once('=') else {
        let diagnostic = Diagnostic::new(format!("`{text}` is not SECTION=VALUE"));
        return Err(Stop::new(Exit::WrongUse, diagnostic.help("for example: boltboard set --section links=off")));
    };
    let (filters, _) = read_filters(board, &[format!("in:{}", section.trim())])?;
    let within = |option: OptionId| {
        let path = board.section_path(board.options[option].section);
        filters.iter().all(|filter| matches!(filter, Filter::In(section) if path.contains(section)))
    };
    let takes = |option: &OptionId| {
        let kind = &board.options[*option].kind;
        // A text takes any value; nobody means to write `off` into it.
        !matches!(kind, Kind::Text | Kind::Path | Kind::Words(_)) && kind.read(value.trim()).is_ok()
    };
    let options = board.options.ids().filter(|option| within(*option)).filter(takes);
    let choices: Vec<String> = options.map(|id| format!("{}={}", board.options[id].name, value.trim())).collect();
    if choices.is_empty() {
        let diagnostic = Diagnostic::new(format!("no option in {section} takes `{value}`"));
        return Err(Stop::new(Exit::WrongUse, diagnostic.help(format!("see them: boltboard options in:{section}"))));
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
    for name in &args.options {
        match name.strip_prefix(NEED_PREFIX) {
            Some(need) => session.board.find_need(need).map(|_| ())?,
            None => session.board.find_option(name).map(|_| ())?,
        }
    }
    change(session, screen, &[], &|session, file| {
        for name in &args.options {
            let was = match name.strip_prefix(NEED_PREFIX) {
                Some(need) => file.unset_provider(need),
                None => file.unset(name),
            };
            if !was {
                let diagnostic = Diagnostic::new(format!("`{name}` is not chosen in the profile {}", session.profile));
                return Err(Stop::new(
                    Exit::WrongUse,
                    diagnostic.help(format!("see where its value comes from: boltboard why {name}")),
                ));
            }
        }
        Ok(())
    })
}

/// Changes the profile in use if what comes out can hold, and tells all that moved.
pub fn change(
    session: Session,
    screen: &Screen,
    asked: &[String],
    edit: &dyn Fn(&Session, &mut ProfileFile) -> Result<(), Stop>,
) -> Result<Exit, Stop> {
    change_with(session, screen, asked, Effects::Take, edit)
}

fn change_with(
    mut session: Session,
    screen: &Screen,
    asked: &[String],
    effects: Effects,
    edit: &dyn Fn(&Session, &mut ProfileFile) -> Result<(), Stop>,
) -> Result<Exit, Stop> {
    session.only_real()?;
    // A profile that cannot be resolved now may be what this change mends.
    let before = session.resolve().ok();
    let mut shown = None;
    if effects != Effects::Take && !asked.is_empty() {
        let after = session.resolve_with(asked).map_err(unchanged)?;
        screen.out(&moved(&session, before.as_ref(), &after, screen.width));
        if effects == Effects::ShowOnly || !screen.agrees("Take these?") {
            screen.out("Nothing was changed.\n");
            return Ok(Exit::Done);
        }
        shown = Some(after);
    }
    session.work.prepare(&session.board.tree.name)?;
    own_profile(&mut session, screen)?;
    let path = session.shelf.own_path(&session.profile);
    let Some(mut file) = ProfileFile::open(&path)? else {
        return Err(Stop::usage(format!("cannot use {}", path.display())));
    };
    edit(&session, &mut file)?;
    // Refused as a whole when it cannot hold: the profile stays as it is.
    let after = match shown {
        Some(after) => after,
        None if asked.is_empty() => session.resolve_as(&file.text()).map_err(unchanged)?,
        None => session.resolve_with(asked).map_err(unchanged)?,
    };
    file.save()?;
    if effects == Effects::Take {
        screen.out(&moved(&session, before.as_ref(), &after, screen.width));
    }
    Ok(Exit::Done)
}

fn unchanged(mut stop: Stop) -> Stop {
    if let Some(last) = stop.diagnostics.last_mut() {
        last.notes.push("Nothing was changed.".into());
    }
    stop
}

/// Makes sure that the profile in use is the person's own; one that the tree ships gets one on top of it.
fn own_profile(session: &mut Session, screen: &Screen) -> Result<(), Stop> {
    let source = session.source_of(&session.profile)?;
    let (name, base) = match source {
        Some(ProfileSource::Own | ProfileSource::Once) => return Ok(()),
        None => (session.profile.clone(), vec![]),
        Some(ProfileSource::Shipped) => {
            let own = ProfileName::parse(&format!("my-{}", session.profile)).unwrap_or_else(|| session.profile.clone());
            (own, vec![session.profile.clone()])
        }
    };
    if session.source_of(&name)?.is_none() {
        ProfileFile::new(&session.shelf.own_path(&name), &session.board.tree, &base).save()?;
    }
    if let [shipped] = base.as_slice() {
        screen.remark(&format!(
            "The profile {shipped} is the tree's own; your choices go to {name} on top of it, which is in use now."
        ));
    }
    session.work.set_active(&name)?;
    session.profile = name;
    Ok(())
}

/// Tells every value that moved, chosen or not.
fn moved(session: &Session, before: Option<&Resolved>, after: &Resolved, width: usize) -> String {
    let board = &session.board;
    let mut rows = Vec::new();
    let mut idle = Vec::new();
    let mut effects: Vec<(&str, Effect)> = Vec::new();
    for (option, now) in after.resolution.iter() {
        let was = before.map(|b| b.resolution.get(option));
        let name = board.option_names.get(option);
        let chosen = matches!(now.origin, Origin::Chosen);
        match was {
            Some(was) if was.value == now.value && was.effect == now.effect => continue,
            Some(was) if was.value == now.value => {
                effects.push((name, now.effect));
                continue;
            }
            None if !chosen => continue,
            Some(_) | None => {}
        }
        let origin = origin_word(board, &after.choices, option, now);
        rows.push(vec![
            (Role::Name, name.to_string()),
            (Role::Faint, was.map_or(String::new(), |was| was.value.to_string())),
            (Role::Faint, "→".to_string()),
            (Role::Value, now.value.to_string()),
            (if origin == "chosen" { Role::Good } else { Role::Faint }, origin),
        ]);
        if now.effect == Effect::NoEffect && chosen {
            idle.push(name.to_string());
        }
    }
    let mut text = if rows.is_empty() {
        format!("No value moved. Profile {}.\n", session.profile)
    } else {
        columns(&rows, 0, width)
    };
    for (effect, words) in [(Effect::Applies, "applies now:"), (Effect::NoEffect, "no effect now:")] {
        let names: Vec<&str> = effects.iter().filter(|(_, e)| *e == effect).map(|(name, _)| *name).collect();
        if !names.is_empty() {
            text.push_str(&paint(Role::Faint, &format!("{words} {}\n", names.join(", "))));
        }
    }
    for name in idle {
        text.push_str(&format!("{} {name} has no effect now; see boltboard why {name}\n", paint(Role::Warn, "note:")));
    }
    text
}
