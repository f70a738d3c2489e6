//! `boltboard back`

use boltboard_core::install::{After, Generations, Limits, Lock, Running, manifest_path};
use clap::Args;

use super::installed::{
    act_all, actions_after, believed, exit_of_actions, finish_begun, not_installed, now_s, of, prefix_of,
};
use crate::args::Global;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::Screen;
use crate::render::back::{BackTold, GenerationsTold, done, list};
use crate::render::deliver::acted as acted_text;
use crate::session::Session;

/// Show what was installed when, and go back to it
#[derive(Debug, Args)]
pub struct BackArgs {
    /// The generation to go to [default: list them]
    #[arg(value_name = "GENERATION")]
    to: Option<u32>,
    /// Only show what going there would do
    #[arg(long, requires = "to")]
    preview: bool,
    /// Leave out what the tree has done after an installation
    #[arg(long, requires = "to")]
    no_actions: bool,
    /// Keep so many generations from now on, and drop older ones
    #[arg(long, value_name = "N", conflicts_with = "to", value_parser = clap::value_parser!(u32).range(1..))]
    keep: Option<u32>,
    /// Drop generations beyond these only when they were installed more than so many days ago
    #[arg(long, value_name = "DAYS", conflicts_with = "to")]
    keep_days: Option<u32>,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &BackArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let resolved = session.resolve()?;
    let prefix = prefix_of(&session, &resolved)?;
    let path = manifest_path(&session.board, &prefix);
    if !args.preview {
        finish_begun(&session, screen, &resolved)?;
    }
    let limits = args.keep.is_some() || args.keep_days.is_some();
    // What is changed is read when nobody else can change it.
    let changes = limits || args.to.is_some() && !args.preview;
    let lock = if changes { Lock::of_installed(&path)? } else { None };
    let Some(mut generations) = Generations::read(&path, &session.board)? else {
        return Err(not_installed(&session, &prefix));
    };
    let mut dropped = Vec::new();
    if limits {
        let before = generations.limits;
        let limits = Limits { keep: args.keep.unwrap_or(before.keep), days: args.keep_days.or(before.days) };
        dropped = generations.limit(limits, now_s())?;
    }
    let Some(to) = args.to else {
        let told = GenerationsTold::of(&generations, &prefix, dropped, now_s());
        if global.json {
            screen.json(&told);
        } else {
            screen.out(&list(&told, screen.width));
        }
        return Ok(Exit::Done);
    };
    if !generations.all.contains_key(&to) {
        let known: Vec<String> = generations.all.keys().map(ToString::to_string).collect();
        let diagnostic = Diagnostic::new(format!("there is no generation {to}; there are {}", known.join(", ")));
        return Err(Stop::new(Exit::WrongUse, diagnostic.next("boltboard back", "what each of them is")));
    }
    let written_here = generations.all.values().all(|manifest| session.work.wrote_record(&manifest.seal()));
    let installable = believed(&session, &resolved, written_here)?;
    let plan = generations.plan_back(to, of(&installable), &Running::here())?;
    if !args.preview {
        generations.back(&plan, &mut |seal| session.work.note_record(&seal))?;
    }
    drop(lock);
    let mut acted = Vec::new();
    if !(args.preview || args.no_actions || plan.moves().is_empty() || session.board.actions.is_empty()) {
        let planned = session.plan_to_build(&resolved)?;
        let actions = actions_after(&session, &resolved, &planned, After::Installing);
        acted = act_all(&session, &session.plan_input(&resolved, &planned), &actions)?;
    }
    let told = BackTold::of(&generations, &plan, args.preview, &acted);
    if global.json {
        screen.json(&told);
    } else {
        screen.out(&acted_text(&acted));
        screen.out(&done(&told, &plan, screen.width));
    }
    Ok(exit_of_actions(&acted))
}
