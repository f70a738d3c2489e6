//! Ways to a value, the cheapest first, with the price of each.

use boltboard_core::board::{Board, OptionId, Value};
use boltboard_core::profile::{Choices, ProfileSource};
use boltboard_core::reason::Way;
use boltboard_core::resolve::Origin;

use super::options::origin_word;
use super::text::{Role, count, duration, paint, wrap};

/// How many moving values are named before the rest is counted.
const NAMED: usize = 6;

/// What a build would do after a way was taken.
pub struct Price {
    /// Steps that would run.
    pub steps: usize,
    /// Results that come from the store.
    pub from_store: usize,
    /// How long the steps take one after the other, where something is known of it.
    pub work_ms: Option<u64>,
}

/// A way with what it costs.
pub struct Told<'a> {
    /// The way.
    pub way: &'a Way,
    /// What a build would do, where one was made before.
    pub price: Option<Price>,
    /// Needs that the host lacks.
    pub lacking: Vec<String>,
    /// The command that installs them, where packages are known.
    pub install: Option<String>,
    /// Needs that a person switched off, as they are set.
    pub allow: Vec<String>,
}

/// Tells all ways.
pub fn ways(
    board: &Board,
    choices: &Choices,
    wanted: (OptionId, &Value),
    told: &[Told<'_>],
    width: usize,
    verbose: bool,
) -> String {
    let name = format!("{}={}", board.options[wanted.0].name, wanted.1);
    let mut text = match told {
        [_] => format!("{} can be had:\n\n", paint(Role::Title, &name)),
        many => format!("{} can be had in {} ways, the cheapest first:\n\n", paint(Role::Title, &name), many.len()),
    };
    for (index, one) in told.iter().enumerate() {
        text.push_str(&self::one(board, choices, index + 1, one, width, verbose));
        text.push('\n');
    }
    let example = if told.len() > 1 { "N" } else { "1" };
    let first_needs = told.first().is_some_and(|one| !one.way.needs.is_empty());
    if !(told.len() == 1 && first_needs) {
        text.push_str(&format!("{} boltboard ways {name} --apply {example}\n", paint(Role::Good, "To take one:")));
    }
    text
}

fn one(board: &Board, choices: &Choices, number: usize, told: &Told<'_>, width: usize, verbose: bool) -> String {
    let way = told.way;
    let option = |id: OptionId| paint(Role::Name, &board.options[id].name);
    let mut lines: Vec<String> = Vec::new();
    if !told.lacking.is_empty() {
        let command = told.install.as_ref().map_or(String::new(), |command| format!(": {command}"));
        lines.push(format!("install {}{command}", paint(Role::Warn, &told.lacking.join(", "))));
    }
    for need in &told.allow {
        lines.push(format!("take back that you do without it: boltboard unset {need}"));
    }
    let chosen: Vec<String> =
        way.choose.iter().map(|(id, value)| format!("{}={value}", board.options[*id].name)).collect();
    lines.push(format!("choose {}", paint(Role::Value, &chosen.join(" "))));
    for (choice, becomes) in &way.give_up {
        let place = choices.files.excerpt(choice.place);
        let layer = &choices.layers[choice.layer];
        let source = match layer.source {
            ProfileSource::Once => "on the command line".to_string(),
            ProfileSource::Own | ProfileSource::Shipped => {
                format!("in the profile {}, line {}", layer.name, place.line)
            }
        };
        let reason = choice.reason.as_ref().map_or(String::new(), |reason| format!("; your reason: \"{reason}\""));
        let head = format!("give up {}={} (chosen {source}{reason})", option(choice.option), choice.value);
        lines.push(format!("{head}: it becomes {}", paint(Role::Value, &becomes.to_string())));
    }
    let shown = if verbose { way.moved.len() } else { NAMED };
    if !way.moved.is_empty() {
        let mut moved: Vec<String> = Vec::new();
        for (id, was, is) in way.moved.iter().take(shown) {
            let resolved = way.resolution.get(*id);
            let origin = match &resolved.origin {
                Origin::PulledIn(_) | Origin::Blocked { .. } => {
                    format!(" ({})", origin_word(board, &way.choices, *id, resolved))
                }
                Origin::Chosen | Origin::Default(_) => String::new(),
            };
            moved.push(format!("{} {was} → {is}{origin}", board.options[*id].name));
        }
        if way.moved.len() > shown {
            moved.push(format!("{} more (--verbose)", way.moved.len() - shown));
        }
        lines.push(format!("then {}", moved.join(", ")));
    }
    lines.push(paint(Role::Faint, &price(told)));
    let mut text = String::new();
    for (index, line) in lines.iter().enumerate() {
        // A command must stay on one line to be copied.
        let parts = if line.contains("boltboard ") || told.install.as_ref().is_some_and(|c| line.contains(c.as_str())) {
            vec![line.clone()]
        } else {
            wrap(line, width.saturating_sub(7))
        };
        for (at, part) in parts.iter().enumerate() {
            let lead = if index == 0 && at == 0 { format!("{number:>3}  ") } else { "     ".to_string() };
            let hang = if at > 0 { "  " } else { "" };
            text.push_str(&format!("{lead}{hang}{part}\n"));
        }
    }
    text
}

fn price(told: &Told<'_>) -> String {
    let way = told.way;
    let mut parts = vec![count(way.choose.len() + way.give_up.len(), "choice changes", "choices change")];
    parts.push(match way.moved.len() {
        0 => "nothing else moves".to_string(),
        n => count(n, "other value moves", "other values move"),
    });
    if !told.lacking.is_empty() {
        parts.push(count(told.lacking.len(), "need to install", "needs to install"));
    }
    if let Some(price) = &told.price {
        let time = price.work_ms.map_or(String::new(), |ms| format!(" (about {} of work)", duration(ms)));
        parts.push(match (price.steps, price.from_store) {
            (0, 0) => "nothing to build again".to_string(),
            (0, stored) => format!("{} reused, nothing to run", count(stored, "step", "steps")),
            (steps, _) => format!("{} to run{time}", count(steps, "step", "steps")),
        });
    }
    format!("costs: {}", parts.join(", "))
}
