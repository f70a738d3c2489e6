//! Ways to a value, the cheapest first, with the cost of each.

use boltboard_core::base::shell_word;
use boltboard_core::board::{Board, OptionId, Value};
use boltboard_core::profile::Choices;
use boltboard_core::reason::Way;
use boltboard_core::resolve::Origin;
use boltboard_core::slate::Price;

use super::options::origin_word;
use super::text::{Role, count, duration, next_lines, paint, wrap};
use crate::fault::{Next, chosen_at};

/// How many moving values are named before the rest is counted.
const NAMED: usize = 6;

/// A way with what it costs.
pub struct Told<'a> {
    /// The way.
    pub way: &'a Way,
    /// What a build would do, where one was made before.
    pub cost: Option<Price>,
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
    let title = paint(Role::Title, &name);
    let mut text = match told {
        [_] => format!("One way leads to {title}:\n\n"),
        many => format!("{} ways lead to {title}, the cheapest first:\n\n", many.len()),
    };
    for (index, one) in told.iter().enumerate() {
        text.push_str(&self::one(board, choices, index + 1, one, width, verbose));
        text.push('\n');
    }
    let asked = shell_word(&name);
    let free = told.iter().enumerate().filter(|(_, one)| one.way.needs.is_empty());
    let next: Vec<Next> = free
        .map(|(index, _)| {
            let gives = if told.len() > 1 {
                format!("make the changes of way {}", index + 1)
            } else {
                "make these changes".into()
            };
            Next::new(format!("boltboard ways {asked} --apply {}", index + 1), gives)
        })
        .collect();
    text.push_str(&next_lines(&next, 0));
    text
}

fn one(board: &Board, choices: &Choices, number: usize, told: &Told<'_>, width: usize, verbose: bool) -> String {
    let way = told.way;
    let option = |id: OptionId| paint(Role::Name, &board.options[id].name);
    let mut lines: Vec<String> = Vec::new();
    if !told.lacking.is_empty() {
        lines.push(format!("meet the need {}", paint(Role::Warn, &told.lacking.join(", "))));
        match &told.install {
            Some(command) => lines.push(format!("→ {command}")),
            None => lines.extend(told.lacking.iter().map(|need| format!("→ boltboard survey {need}"))),
        }
    }
    for need in &told.allow {
        lines.push(format!("use what you switched off\n→ boltboard unset {need}"));
    }
    let chosen: Vec<String> =
        way.choose.iter().map(|(id, value)| format!("{}={value}", board.options[*id].name)).collect();
    lines.push(format!("choose {}", paint(Role::Value, &chosen.join(" "))));
    for (choice, becomes) in &way.give_up {
        let at = chosen_at(choices, choice.layer, choice.place, choice.reason.as_ref());
        let head = format!("give up {}={} (chosen {at})", option(choice.option), choice.value);
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
    lines.push(paint(Role::Faint, &cost(told)));
    let mut text = String::new();
    for (index, line) in lines.iter().enumerate() {
        // A command must stay on one line to be copied.
        let broken = line.lines().flat_map(|line| match line.starts_with('→') {
            true => vec![line.to_string()],
            false => wrap(line, width.saturating_sub(7)),
        });
        let parts: Vec<String> = broken.collect();
        for (at, part) in parts.iter().enumerate() {
            let lead = if index == 0 && at == 0 { format!("{number:>3}  ") } else { "     ".to_string() };
            let hang = if at > 0 && !part.starts_with('→') { "  " } else { "" };
            text.push_str(&format!("{lead}{hang}{part}\n"));
        }
    }
    text
}

fn cost(told: &Told<'_>) -> String {
    let way = told.way;
    let mut parts = vec![count(way.choose.len() + way.give_up.len(), "choice changes", "choices change")];
    parts.push(match way.moved.len() {
        0 => "nothing else moves".to_string(),
        n => count(n, "other value moves", "other values move"),
    });
    if !told.lacking.is_empty() {
        parts.push(count(told.lacking.len(), "need to meet", "needs to meet"));
    }
    if let Some(cost) = &told.cost {
        let time = cost.work_ms.map_or(String::new(), |ms| format!(" (up to {} of work)", duration(ms)));
        parts.push(match (cost.steps, cost.reused) {
            (0, 0) => "nothing to build again".to_string(),
            (0, stored) => format!("{} reused, nothing to run", count(stored, "step", "steps")),
            (steps, _) => format!("{} to run{time}", count(steps, "step", "steps")),
        });
    }
    format!("costs: {}", parts.join(", "))
}
