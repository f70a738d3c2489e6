//! `boltboard options`

use std::collections::{BTreeMap, BTreeSet};

use boltboard_core::base::files::read_text;
use boltboard_core::board::{Level, NeedId, OptionId, Value};
use boltboard_core::resolve::{Effect, Origin};
use boltboard_core::search::{Filter, State, read_filters};
use clap::{Args, ValueEnum};

use crate::args::Global;
use crate::exit::{Exit, Stop};
use crate::render::text::{Role, count, paint};
use crate::render::{Screen, json, options};
use crate::session::Session;
use boltboard_core::session::Resolved;

/// List options with their values
#[derive(Debug, Args)]
#[command(after_help = FILTERS)]
pub struct OptionsArgs {
    /// Words to look for, and filters
    #[arg(value_name = "WORD|FILTER")]
    question: Vec<String>,
    /// Look for these words only: in names, macros, titles of sections, summaries, file names and help
    #[arg(long, value_name = "WORDS")]
    find: Option<String>,
    /// Only those of this section and the sections within it
    #[arg(long, value_name = "NAME")]
    section: Option<String>,
    /// Up to this level [default: tuning]
    #[arg(long, value_enum)]
    level: Option<LevelArg>,
    /// Only those whose value is not their plain default
    #[arg(long)]
    changed: bool,
    /// Only those that are blocked or have no effect
    #[arg(long)]
    blocked: bool,
    /// One flat table instead of a tree by section
    #[arg(long)]
    table: bool,
    /// Only tell how many there are
    #[arg(long)]
    count: bool,
}

const FILTERS: &str = "\
Filters:
  changed, chosen, blocked, no-effect, on, off   by value
  new                                    not there at the last build
  kind:module  level:expert  in:SECTION  needs:NEED

For example: boltboard options off kind:module in:links";

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
    let wanted = wanted(&session, &resolved, args)?;
    if args.count {
        screen.out(&format!("{}\n", wanted.options.len()));
        return Ok(Exit::Done);
    }
    if global.json {
        screen.json(&json::options(&session, &resolved, &wanted.options));
        return Ok(Exit::Done);
    }
    let (board, choices, resolution) = (&session.board, &resolved.choices, &resolved.resolution);
    for (word, meant) in &wanted.corrected {
        match meant.as_slice() {
            [] => screen.remark(&format!("`{word}` stands nowhere on this board.")),
            meant => screen.remark(&format!("`{word}` stands nowhere; taken for {}.", meant.join(", "))),
        }
    }
    if wanted.options.is_empty() {
        screen.out("No option matches. Leave out a filter, or see all: boltboard options --level expert\n");
        return Ok(Exit::No);
    }
    let text = if args.table || wanted.ranked {
        options::table(board, choices, resolution, &wanted.options, screen.width)
    } else {
        options::tree(board, choices, resolution, &wanted.options, screen.width)
    };
    screen.out(&text);
    let more =
        if wanted.hidden > 0 { format!("; {} for experts (--level expert)", wanted.hidden) } else { String::new() };
    let number = count(wanted.options.len(), "option", "options");
    screen.out(&paint(Role::Faint, &format!("{number}{more}. Why one is what it is: boltboard why NAME\n")));
    Ok(Exit::Done)
}

/// What was asked for.
struct Wanted {
    /// The options: by rank when words were looked for, else in the order of options.
    options: Vec<OptionId>,
    /// How many more there are at higher levels.
    hidden: usize,
    /// Words that stand nowhere, and what they were taken for.
    corrected: Vec<(String, Vec<String>)>,
    ranked: bool,
}

fn wanted(session: &Session, resolved: &Resolved, args: &OptionsArgs) -> Result<Wanted, Stop> {
    let board = &session.board;
    let (mut filters, mut words) = read_filters(board, &args.question)?;
    if let Some(section) = &args.section {
        filters.extend(read_filters(board, &[format!("in:{section}")])?.0);
    }
    if let Some(find) = &args.find {
        words = format!("{words} {find}");
    }
    if args.changed {
        filters.push(Filter::State(State::Changed));
    }
    let limit = match args.level {
        Some(LevelArg::Everyday) => Level::Everyday,
        Some(LevelArg::Expert) => Level::Expert,
        Some(LevelArg::Tuning) => Level::Tuning,
        // Who searches, or asks for what is unusual, wants to find it at any level.
        None if !words.trim().is_empty() || !filters.is_empty() || args.blocked => Level::Expert,
        None => Level::Tuning,
    };
    let sets = Sets::of(session, &filters)?;
    let blocked = |option: OptionId| {
        let value = resolved.resolution.get(option);
        matches!(value.origin, Origin::Blocked { .. }) || value.effect == Effect::NoEffect
    };
    let matches = |option: OptionId| {
        filters.iter().all(|filter| fits(session, resolved, filter, option, &sets))
            && (!args.blocked || blocked(option))
    };
    let ranked = !words.trim().is_empty();
    let (found, corrected) = if ranked {
        let found = session.search.of(board).find(board, &words);
        (found.options, found.corrected)
    } else {
        (board.options.ids().collect(), Vec::new())
    };
    let all: Vec<OptionId> = found.into_iter().filter(|id| matches(*id)).collect();
    if limit == Level::Expert {
        return Ok(Wanted { options: all, hidden: 0, corrected, ranked });
    }
    let options: Vec<OptionId> = all.iter().copied().filter(|id| board.options[*id].level <= limit).collect();
    let hidden = all.len() - options.len();
    Ok(Wanted { options, hidden, corrected, ranked })
}

fn fits(session: &Session, resolved: &Resolved, filter: &Filter, option: OptionId, sets: &Sets) -> bool {
    let board = &session.board;
    let value = resolved.resolution.get(option);
    match filter {
        Filter::State(State::Changed) => !matches!(value.origin, Origin::Default(_)),
        Filter::State(State::New) => sets.new.contains(&option),
        Filter::State(State::Off) => value.value.is_off(),
        Filter::State(State::On) => matches!(value.value, Value::Switch(_) | Value::Module(_)) && !value.value.is_off(),
        Filter::State(State::Blocked) => matches!(value.origin, Origin::Blocked { .. }),
        Filter::State(State::NoEffect) => value.effect == Effect::NoEffect,
        Filter::State(State::Chosen) => matches!(value.origin, Origin::Chosen),
        Filter::Kind(kind) => board.options[option].kind.name() == *kind,
        Filter::Level(level) => board.options[option].level == *level,
        Filter::In(section) => board.section_path(board.options[option].section).contains(section),
        Filter::Needs(need) => sets.needs.get(need).is_some_and(|asking| asking.contains(&option)),
    }
}

/// What filters look up, found once.
#[derive(Default)]
struct Sets {
    new: BTreeSet<OptionId>,
    needs: BTreeMap<NeedId, BTreeSet<OptionId>>,
}

impl Sets {
    fn of(session: &Session, filters: &[Filter]) -> Result<Sets, Stop> {
        let mut sets = Sets::default();
        for filter in filters {
            match filter {
                Filter::State(State::New) => sets.new = new_options(session)?,
                Filter::Needs(need) => {
                    let rules = session.logic.rules_on(session.logic.need(*need));
                    let asking = rules.into_iter().map(|rule| session.board.rules[rule].option);
                    sets.needs.insert(*need, asking.collect());
                }
                Filter::State(_) | Filter::Kind(_) | Filter::Level(_) | Filter::In(_) => {}
            }
        }
        Ok(sets)
    }
}

/// The options that were not there at the last build. Without an earlier build nothing is new.
fn new_options(session: &Session) -> Result<BTreeSet<OptionId>, Stop> {
    let Some(known) = read_text(&session.work.known_options())? else { return Ok(BTreeSet::new()) };
    let known: BTreeSet<&str> = known.lines().collect();
    let names = session.board.option_names.iter().enumerate();
    Ok(names.filter(|(_, name)| !known.contains(name)).map(|(index, _)| OptionId::new(index)).collect())
}
