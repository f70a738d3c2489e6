//! `boltboard options`

use std::collections::{BTreeMap, BTreeSet};

use boltboard_core::base::files::read_text;
use boltboard_core::board::{Level, NeedId, OptionId, Value};
use boltboard_core::profile::Choices;
use boltboard_core::resolve::{Effect, Origin, Resolution, resolve};
use boltboard_core::search::{Filter, State, read_filters};
use clap::{Args, ValueEnum};

use crate::args::Global;
use crate::complete;
use crate::fault::{Exit, Stop};
use crate::render::text::{Role, count, next_line, paint};
use crate::render::{Screen, json, options};
use crate::session::Session;
use boltboard_core::session::Resolved;

/// List options with their values
#[derive(Debug, Args)]
#[command(after_help = FILTERS)]
pub struct OptionsArgs {
    /// Words to search for, and filters
    #[arg(value_name = "WORD|FILTER", add = complete::filters())]
    question: Vec<String>,
    /// Search for these words in names, macros, section titles, summaries, file names and help
    #[arg(long, value_name = "WORDS")]
    find: Option<String>,
    /// Only options of this section and of those within it
    #[arg(long, value_name = "NAME", add = complete::sections())]
    section: Option<String>,
    /// Up to this level [default: tuning]
    #[arg(long, value_enum)]
    level: Option<LevelArg>,
    /// Only options that you chose, or that have another value because of that
    #[arg(long)]
    changed: bool,
    /// Only options that are blocked or have no effect
    #[arg(long)]
    blocked: bool,
    /// One flat table instead of a list by section
    #[arg(long)]
    table: bool,
    /// Print only how many there are
    #[arg(long)]
    count: bool,
}

const FILTERS: &str = "\
Filters:
  changed                                what you chose, and what that changed
  chosen, blocked, no-effect, on, off    by value
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
            [] => screen.remark(&format!("Nothing here is called `{word}`.")),
            meant => {
                screen.remark(&format!("Nothing here is called `{word}`; searched for {} instead.", meant.join(", ")))
            }
        }
    }
    if wanted.options.is_empty() {
        let none_changed = "No option is changed: all that match have their defaults.\n";
        screen.out(if wanted.untouched.is_some() { none_changed } else { "No option matches.\n" });
        screen.out(&next_line("boltboard options --level expert", "all options"));
        return Ok(Exit::No);
    }
    let untouched = wanted.untouched.as_ref();
    let shown = options::Shown { board, choices, resolution, untouched };
    let text = if args.table || wanted.ranked {
        options::table(&shown, &wanted.options, screen.width)
    } else {
        options::tree(&shown, &wanted.options, screen.width)
    };
    screen.out(&text);
    let more =
        if wanted.hidden > 0 { format!(", and {} for experts (--level expert)", wanted.hidden) } else { String::new() };
    let number = count(wanted.options.len(), "option", "options");
    screen.out(&paint(Role::Faint, &format!("{number}{more}.\n")));
    if let Some(first) = wanted.options.first() {
        let name = board.option_names.get(*first);
        screen.out(&next_line(format!("boltboard why {name}"), "where a value comes from"));
    }
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
    /// The values that there would be without any choice, where what was changed is asked for.
    untouched: Option<Resolution>,
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
    let sets = Sets::of(session, resolved, &filters)?;
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
        return Ok(Wanted { options: all, hidden: 0, corrected, ranked, untouched: sets.untouched });
    }
    let options: Vec<OptionId> = all.iter().copied().filter(|id| board.options[*id].level <= limit).collect();
    let hidden = all.len() - options.len();
    Ok(Wanted { options, hidden, corrected, ranked, untouched: sets.untouched })
}

/// The options that words and filters find, at any level; and what words were taken for.
pub fn found(session: &Session, resolved: &Resolved, question: &[String]) -> Result<Vec<OptionId>, Stop> {
    let args = OptionsArgs {
        question: question.to_vec(),
        find: None,
        section: None,
        level: Some(LevelArg::Expert),
        changed: false,
        blocked: false,
        table: false,
        count: false,
    };
    Ok(wanted(session, resolved, &args)?.options)
}

fn fits(session: &Session, resolved: &Resolved, filter: &Filter, option: OptionId, sets: &Sets) -> bool {
    let board = &session.board;
    let value = resolved.resolution.get(option);
    match filter {
        Filter::State(State::Changed) => {
            matches!(value.origin, Origin::Chosen)
                || sets.untouched.as_ref().is_some_and(|untouched| untouched.value(option) != &value.value)
        }
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
    /// The values that there would be without any choice.
    untouched: Option<Resolution>,
    needs: BTreeMap<NeedId, BTreeSet<OptionId>>,
}

impl Sets {
    fn of(session: &Session, resolved: &Resolved, filters: &[Filter]) -> Result<Sets, Stop> {
        let mut sets = Sets::default();
        for filter in filters {
            match filter {
                Filter::State(State::New) => sets.new = new_options(session)?,
                Filter::State(State::Changed) => {
                    let (board, none) = (&session.board, Choices::default());
                    sets.untouched = resolve(board, &session.logic, &none, &resolved.facts).ok();
                }
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
