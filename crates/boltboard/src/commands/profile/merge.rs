//! `boltboard profile merge`

use boltboard_core::board::Asked;
use boltboard_core::profile::{From3, MergeAsk, ProfileName, Subject};
use clap::Args;

use super::reshape::{new_name, told};
use crate::complete;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::{Screen, json, merge};
use crate::session::{Session, profile_name};

#[derive(Debug, Args)]
pub struct MergeArgs {
    /// The profile that both came from
    #[arg(add = complete::profiles())]
    base: String,
    /// One that came from it; its comments and order stay
    #[arg(add = complete::profiles())]
    left: String,
    /// Another that came from it
    #[arg(add = complete::profiles())]
    right: String,
    /// What the new profile is called
    #[arg(long, value_name = "NAME")]
    into: String,
    /// Where both changed the same, take what this one of the three says
    #[arg(long, value_name = "NAME", add = complete::profiles())]
    prefer: Option<String>,
    /// Where both changed this option, choose this value
    #[arg(long, value_name = "OPTION=VALUE", num_args = 1..)]
    choose: Vec<String>,
    /// Where both changed this option, choose nothing
    #[arg(long, value_name = "OPTION", num_args = 1..)]
    leave: Vec<String>,
}

/// Runs the command. It ends with 1 when a person has to decide about something.
pub fn run(session: &Session, screen: &Screen, args: &MergeArgs) -> Result<Exit, Stop> {
    let names = [profile_name(&args.base)?, profile_name(&args.left)?, profile_name(&args.right)?];
    let to = new_name(session, &args.into)?;
    let wanted = wanted(session, args, &names)?;
    for name in &names {
        session.choices_of(name)?;
    }
    let merged = session.shelf.merge([&names[0], &names[1], &names[2]], &to, &wanted, &session.board);
    let merged = merged.map_err(|fault| told(fault, session))?;
    if let Some(draft) = &merged.draft {
        // What cannot hold together is not kept.
        let facts = session.facts(&merged.choices)?;
        session.resolve_these(merged.choices.clone(), facts).map_err(|stop| stop.nothing_changed())?;
        session.prepare_work()?;
        draft.save()?;
    }
    if session.global.json {
        screen.json(&json::merged(&session.board, &merged, &to));
    } else {
        screen.out(&merge::text(&session.board, &merged, &names, &to, screen.width));
    }
    Ok(if merged.draft.is_some() { Exit::Done } else { Exit::No })
}

fn wanted(session: &Session, args: &MergeArgs, names: &[ProfileName; 3]) -> Result<MergeAsk, Stop> {
    let mut wanted = MergeAsk::default();
    if let Some(prefer) = &args.prefer {
        let sides = [From3::Base, From3::Left, From3::Right];
        let side = names.iter().zip(sides).find(|(name, _)| name.as_str() == prefer).map(|(_, side)| side);
        let Some(side) = side else {
            let list = names.iter().map(ProfileName::as_str).collect::<Vec<_>>().join(", ");
            let message = format!("`{prefer}` is none of the profiles that are merged");
            return Err(Stop::new(Exit::WrongUse, Diagnostic::new(message).help(format!("name one of {list}"))));
        };
        wanted.prefer = Some(side);
    }
    for text in &args.choose {
        match session.read_asked(text)? {
            Asked::Value(option, value) => drop(wanted.values.insert(option, value)),
            Asked::Provider(need, provider) => drop(wanted.providers.insert(need, provider)),
        }
    }
    for name in &args.leave {
        wanted.leave.insert(match session.board.need(name.strip_prefix("need:").unwrap_or("")) {
            Some(need) => Subject::Need(need),
            None => Subject::Option(session.find_option(name)?),
        });
    }
    Ok(wanted)
}
