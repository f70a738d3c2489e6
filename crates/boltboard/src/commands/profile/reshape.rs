//! `boltboard profile flatten`, `factor` and `save`: the same choices in other files.

use std::collections::BTreeMap;
use std::path::Path;

use boltboard_core::base::shell_word;
use boltboard_core::board::NEED_PREFIX;
use boltboard_core::profile::{Choices, Draft, Layers, ProfileName, ProfileSource, ReshapeFault};

use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::Screen;
use crate::render::json;
use crate::render::text::{count, next_line};
use crate::session::{Session, profile_name};

/// What stands against putting profiles together anew.
pub fn told(fault: ReshapeFault, session: &Session) -> Stop {
    match fault {
        ReshapeFault::Profile(wrong) => Stop::of(wrong.into(), Some(session)),
        ReshapeFault::File(error) => error.into(),
        ReshapeFault::NotOwn(name) => {
            let command = format!("boltboard profile flatten {name} --into my-{name}");
            let diagnostic = Diagnostic::new(ReshapeFault::NotOwn(name).to_string());
            Stop::new(Exit::WrongUse, diagnostic.next(command, "make one of your own that says the same"))
        }
        ReshapeFault::NothingShared => {
            let told = Diagnostic::new(fault.to_string()).note("Nothing was changed.");
            Stop::new(
                Exit::No,
                told.next("boltboard profile list", "all profiles; `compare` tells in what they differ"),
            )
        }
        fault @ ReshapeFault::Order(_) => {
            let told = Diagnostic::new(fault.to_string()).note("Nothing was changed.");
            Stop::new(Exit::No, told.next("boltboard patch list", "the changes to the sources, in their order"))
        }
        ReshapeFault::NotTheSame(name) => {
            let command = format!("boltboard profile show {name}");
            let told = Diagnostic::new(ReshapeFault::NotTheSame(name).to_string()).note("Nothing was changed.");
            Stop::new(Exit::No, told.next(command, "what it says, and where"))
        }
    }
}

/// Takes a name for a profile that is not there yet.
pub fn new_name(session: &Session, name: &str) -> Result<ProfileName, Stop> {
    let name = profile_name(name)?;
    match session.source_of(&name)? {
        None => Ok(name),
        Some(_) => {
            let diagnostic = Diagnostic::new(format!("there already is a profile `{name}`"));
            let diagnostic = diagnostic.help("give the new one another name");
            Err(Stop::new(Exit::WrongUse, diagnostic.next(format!("boltboard profile show {name}"), "what it chooses")))
        }
    }
}

pub(super) fn save(session: &Session, screen: &Screen, file: &Path, replace: bool) -> Result<Exit, Stop> {
    let choices = session.choices_of(&session.profile)?;
    let path = session.around.folder.join(file);
    let shown = shell_word(&file.display().to_string());
    if !replace && path.symlink_metadata().is_ok() {
        let diagnostic = Diagnostic::new(format!("{} is there already", file.display()));
        let command = format!("boltboard profile save --replace {shown}");
        return Err(Stop::new(Exit::No, diagnostic.next(command, "write it anew")));
    }
    let draft = session.shelf.on_its_own(&session.profile, &choices, &path, Layers::Shipped, &session.board);
    draft.map_err(|fault| told(fault, session))?.save()?;
    screen.done(&format!("Saved the profile {} in {}.\n", session.profile, file.display()), session.global.json);
    if !session.global.json {
        let named = if shown.contains('/') { shown } else { format!("./{shown}") };
        screen.out(&next_line(
            format!("boltboard --profile {named} overview"),
            "use it from there, here or in another checkout",
        ));
    }
    Ok(Exit::Done)
}

pub(super) fn flatten(
    session: &Session,
    screen: &Screen,
    name: &ProfileName,
    into: Option<&String>,
) -> Result<Exit, Stop> {
    let before = session.choices_of(name)?;
    let to = into.map_or_else(|| Ok(name.clone()), |into| new_name(session, into))?;
    if into.is_none() && session.source_of(name)? != Some(ProfileSource::Own) {
        return Err(told(ReshapeFault::NotOwn(name.clone()), session));
    }
    let layers: Vec<&str> = before.own_layers().map(|(_, layer)| layer.name.as_str()).collect();
    let below = &layers[..layers.len().saturating_sub(1)];
    if below.is_empty() && into.is_none() {
        screen.done(&format!("{name} is based on no other profile.\n"), session.global.json);
        return Ok(Exit::Done);
    }
    let draft = session.shelf.flatten(name, &to, &session.board).map_err(|fault| told(fault, session))?;
    let drafts: BTreeMap<ProfileName, String> = [(to.clone(), draft.text())].into();
    let compared = compare(session, &[(name, &to, &before)], &drafts)?;
    session.prepare_work()?;
    draft.save()?;
    if session.global.json {
        screen.json(&json::reshaped(&[to.to_string()], &[], compared));
        return Ok(Exit::Done);
    }
    let top = before.layers.ids().next_back();
    let taken = before.own().filter(|choice| Some(choice.layer) != top).count();
    let was = if below.is_empty() { "no other profile".to_string() } else { below.join(", ") };
    screen.out(&format!("{to} says by itself what {name} says: {} from {was}.\n", count(taken, "choice", "choices")));
    screen.out(&said_compared(compared));
    screen.out(&next_line(format!("boltboard profile show {to}"), "what it chooses"));
    Ok(Exit::Done)
}

/// Resolves profiles before and after, and returns how many values are the same; `None` where one did not resolve before.
fn compare(
    session: &Session,
    profiles: &[(&ProfileName, &ProfileName, &Choices)],
    drafts: &BTreeMap<ProfileName, String>,
) -> Result<Option<usize>, Stop> {
    let mut compared = 0;
    for (name, to, before) in profiles {
        let read = session.shelf.read_with(to, drafts, &session.board);
        let after = read.map_err(|wrong| told(wrong.into(), session))?;
        let facts = session.facts(before)?;
        let (Ok(before), Ok(after)) =
            (session.resolve_these((*before).clone(), facts.clone()), session.resolve_these(after, facts))
        else {
            return Ok(None);
        };
        let same =
            |(one, other): ((_, &boltboard_core::resolve::Resolved), (_, &boltboard_core::resolve::Resolved))| {
                one.1.value == other.1.value && one.1.effect == other.1.effect
            };
        if !before.resolution.iter().zip(after.resolution.iter()).all(same) {
            return Err(told(ReshapeFault::NotTheSame((*name).clone()), session));
        }
        compared += session.board.options.len();
    }
    Ok(Some(compared))
}

fn said_compared(compared: Option<usize>) -> String {
    match compared {
        Some(values) => format!("  Compared: all {} are the same as before.\n", count(values, "value", "values")),
        None => {
            "  Its choices do not hold on this host, so only they were compared, not all values: they are the same.\n"
                .to_string()
        }
    }
}

pub(super) fn factor(session: &Session, screen: &Screen, names: &[String], into: &str) -> Result<Exit, Stop> {
    let mut profiles = names.iter().map(|name| profile_name(name)).collect::<Result<Vec<_>, _>>()?;
    profiles.dedup();
    let to = new_name(session, into)?;
    let before = profiles.iter().map(|name| session.choices_of(name)).collect::<Result<Vec<_>, _>>()?;
    let factored = session.shelf.factor(&profiles, &to, &session.board).map_err(|fault| told(fault, session))?;
    let pairs: Vec<_> = profiles.iter().zip(&before).map(|(name, before)| (name, name, before)).collect();
    let compared = compare(session, &pairs, &factored.texts())?;
    session.prepare_work()?;
    // The new layer comes first: whatever happens then, each profile says what it said.
    factored.shared.save()?;
    factored.profiles.iter().try_for_each(Draft::save)?;
    let board = &session.board;
    let options = factored.options.iter().map(|option| board.options[*option].name.clone());
    let needs = factored.providers.iter().map(|need| format!("{NEED_PREFIX}{}", board.needs[*need].name));
    let shared: Vec<String> = options.chain(needs).collect();
    if session.global.json {
        let written: Vec<String> = profiles.iter().chain([&to]).map(ToString::to_string).collect();
        screen.json(&json::reshaped(&written, &shared, compared));
        return Ok(Exit::Done);
    }
    let list = profiles.iter().map(ProfileName::as_str).collect::<Vec<_>>().join(", ");
    let common = count(shared.len(), "choice", "choices");
    screen.out(&format!("{list} are based on the new profile {to} now, which makes the {common} that they share:\n"));
    screen.out(&format!("  {}\n", shared.join(", ")));
    screen.out(&format!("  Their own files are {} shorter.\n", count(factored.moved, "line", "lines")));
    screen.out(&said_compared(compared));
    screen.out(&next_line(format!("boltboard profile show {to}"), "what they share"));
    Ok(Exit::Done)
}
