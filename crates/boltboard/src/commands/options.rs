//! `boltboard options`

use boltboard_core::board::{Level, OptionId};
use boltboard_core::resolve::{Effect, Origin};
use clap::{Args, ValueEnum};

use crate::args::Global;
use crate::exit::{Diagnostic, Exit, Stop};
use crate::render::text::{Role, count, paint};
use crate::render::{Screen, json, options};
use crate::session::{Resolved, Session};

/// List options with their values
#[derive(Debug, Args)]
pub struct OptionsArgs {
    /// Only those of this section and the sections within it
    #[arg(long, value_name = "NAME")]
    section: Option<String>,
    /// Only those whose name, summary, help or macro holds all these words
    #[arg(long, value_name = "WORDS")]
    find: Option<String>,
    /// Up to this level [default: tuning]
    #[arg(long, value_enum)]
    level: Option<LevelArg>,
    /// Only those whose value is not their plain default
    #[arg(long)]
    changed: bool,
    /// Only those that are held off or idle
    #[arg(long)]
    held: bool,
    /// One flat table instead of a tree by section
    #[arg(long)]
    table: bool,
    /// Only tell how many there are
    #[arg(long)]
    count: bool,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum LevelArg {
    Everyday,
    Tuning,
    Expert,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &OptionsArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let resolved = session.resolve()?;
    let (wanted, hidden) = wanted(&session, &resolved, args)?;
    if args.count {
        screen.out(&format!("{}\n", wanted.len()));
        return Ok(Exit::Done);
    }
    if global.json {
        screen.json(&json::options(&session, &resolved, &wanted));
        return Ok(Exit::Done);
    }
    let (board, choices, resolution) = (&session.board, &resolved.choices, &resolved.resolution);
    if wanted.is_empty() {
        screen.out("No option matches. Leave out a filter, or see all: boltboard options --level expert\n");
        return Ok(Exit::No);
    }
    let text = if args.table {
        options::table(board, choices, resolution, &wanted, screen.width)
    } else {
        options::tree(board, choices, resolution, &wanted, screen.width)
    };
    screen.out(&text);
    let more = if hidden > 0 { format!("; {} for experts (--level expert)", hidden) } else { String::new() };
    screen.out(&paint(
        Role::Faint,
        &format!("{}{more}. Why one is what it is: boltboard why NAME\n", count(wanted.len(), "option", "options")),
    ));
    Ok(Exit::Done)
}

/// Returns the options asked for, and how many more there are at higher levels.
fn wanted(session: &Session, resolved: &Resolved, args: &OptionsArgs) -> Result<(Vec<OptionId>, usize), Stop> {
    let board = &session.board;
    let limit = match args.level {
        Some(LevelArg::Everyday) => Level::Everyday,
        Some(LevelArg::Expert) => Level::Expert,
        Some(LevelArg::Tuning) => Level::Tuning,
        // Who searches, or asks for what is unusual, wants to find it at any level.
        None if args.find.is_some() || args.changed || args.held => Level::Expert,
        None => Level::Tuning,
    };
    let section = match &args.section {
        None => None,
        Some(name) => {
            let found = board.sections.iter().find(|(_, s)| s.name == *name || s.title.eq_ignore_ascii_case(name));
            let known = board.sections.iter().map(|(_, s)| s.name.as_str());
            let near = boltboard_core::base::near_matches(name, known);
            let all: Vec<&str> = board.sections.iter().map(|(_, s)| s.name.as_str()).collect();
            let unknown = || {
                Stop::new(
                    Exit::WrongUse,
                    Diagnostic::new(format!("there is no section `{name}`"))
                        .near(&near)
                        .help(format!("the sections are {}", all.join(", "))),
                )
            };
            Some(found.ok_or_else(unknown)?.0)
        }
    };
    let words: Vec<String> = args.find.iter().flat_map(|t| t.split_whitespace()).map(str::to_lowercase).collect();
    let matches = |option: OptionId| {
        let definition = &board.options[option];
        let value = resolved.resolution.get(option);
        let macros = definition.macros.iter().map(|m| m.name.as_str()).collect::<Vec<_>>().join(" ");
        let title = &board.sections[definition.section].title;
        let text =
            format!("{} {} {} {macros} {title}", definition.name, definition.summary, definition.help).to_lowercase();
        words.iter().all(|word| text.contains(word))
            && section.is_none_or(|s| board.section_path(definition.section).contains(&s))
            && (!args.changed || !matches!(value.origin, Origin::Default(_)))
            && (!args.held || matches!(value.origin, Origin::Held { .. }) || value.effect == Effect::Idle)
    };
    let all: Vec<OptionId> = board.options.ids().filter(|id| matches(*id)).collect();
    let wanted: Vec<OptionId> = all.iter().copied().filter(|id| board.options[*id].level <= limit).collect();
    let hidden = all.len() - wanted.len();
    Ok((wanted, hidden))
}
