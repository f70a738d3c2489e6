//! `boltboard set` and `boltboard unset`

use boltboard_core::board::{Asked, NEED_PREFIX};
use boltboard_core::profile::{ProfileFile, ProfileName, ProfileSource};
use boltboard_core::resolve::{Effect, Origin};
use clap::Args;

use crate::args::Global;
use crate::exit::{Diagnostic, Exit, Stop};
use crate::render::Screen;
use crate::render::options::origin_word;
use crate::render::text::{Role, columns, paint};
use crate::session::{Resolved, Session};

/// Choose values
#[derive(Debug, Args)]
pub struct SetArgs {
    /// What to choose: an option's value, or who is to meet a need (system, bundled, off, a folder, another need)
    #[arg(value_name = "OPTION=VALUE|need:NAME=PROVIDER", required = true)]
    choices: Vec<String>,
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
    let mut chosen = Vec::new();
    for text in &args.choices {
        chosen.push(session.board.read_asked(text)?);
    }
    change(session, screen, &args.choices, &|session, file| {
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
    mut session: Session,
    screen: &Screen,
    asked: &[String],
    edit: &dyn Fn(&Session, &mut ProfileFile) -> Result<(), Stop>,
) -> Result<Exit, Stop> {
    crate::host::only_real(&session)?;
    // A profile that cannot be resolved now may be what this change mends.
    let before = session.resolve().ok();
    session.work.prepare(&session.board.tree.name)?;
    own_profile(&mut session, screen)?;
    let path = session.shelf.own_path(&session.profile);
    let Some(mut file) = ProfileFile::open(&path)? else {
        return Err(Stop::usage(format!("cannot use {}", path.display())));
    };
    edit(&session, &mut file)?;
    // Refused as a whole when it cannot hold: the profile stays as it is.
    let after = if asked.is_empty() { session.resolve_as(&file.text()) } else { session.resolve_with(asked) };
    let after = after.map_err(|mut stop| {
        if let Some(last) = stop.diagnostics.last_mut() {
            last.notes.push("Nothing was changed.".into());
        }
        stop
    })?;
    file.save()?;
    screen.out(&moved(&session, before.as_ref(), &after, screen.width));
    Ok(Exit::Done)
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
        let name = &board.options[option].name;
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
            (Role::Name, name.clone()),
            (Role::Faint, was.map_or(String::new(), |was| was.value.to_string())),
            (Role::Faint, "→".to_string()),
            (Role::Value, now.value.to_string()),
            (if origin == "chosen" { Role::Good } else { Role::Faint }, origin),
        ]);
        if now.effect == Effect::Idle && chosen {
            idle.push(name.clone());
        }
    }
    let mut text = if rows.is_empty() {
        format!("No value moved. Profile {}.\n", session.profile)
    } else {
        columns(&rows, 0, width)
    };
    for (effect, words) in [(Effect::InForce, "now in force:"), (Effect::Idle, "now without effect:")] {
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
