//! Options with their values, as a tree by section or as a flat table; and all about one.

use boltboard_core::board::{Board, DecidedBy, Kind, OptionId, SectionId, Value};
use boltboard_core::profile::{Choices, ProfileSource};
use boltboard_core::resolve::{Effect, Origin, Resolution, Resolved};

use super::text::{Cell, Role, columns, columns_within, lines_within, paint, wrap};
use super::why::{rule_object, rule_verb};

/// How wide names, values and origins may be in a list.
const VALUES: usize = 28;

/// Says in a word or two where a value comes from.
pub fn origin_word(board: &Board, choices: &Choices, option: OptionId, resolved: &Resolved) -> String {
    if resolved.effect == Effect::NoEffect {
        return "no effect".into();
    }
    match &resolved.origin {
        Origin::Chosen => match choices.get(option) {
            Some(choice) if choices.layers[choice.layer].source == ProfileSource::Kit => "as built".into(),
            Some(choice) if choice.layer != choices.layers.ids().next_back().unwrap_or(choice.layer) => {
                format!("from {}", choices.layers[choice.layer].name)
            }
            _ => "chosen".into(),
        },
        Origin::PulledIn(rule) => format!("for {}", board.options[board.rules[*rule].option].name),
        Origin::Default(_) => "default".into(),
        Origin::Blocked { .. } => "blocked".into(),
    }
}

fn value_role(value: &Value, resolved: &Resolved) -> Role {
    match (&resolved.origin, value.is_off()) {
        _ if resolved.effect == Effect::NoEffect => Role::Faint,
        (Origin::Blocked { .. }, _) => Role::Warn,
        (_, true) => Role::Faint,
        (_, false) => Role::Value,
    }
}

/// What lists of options show.
#[derive(Clone, Copy)]
pub struct Shown<'a> {
    /// The board.
    pub board: &'a Board,
    /// The choices.
    pub choices: &'a Choices,
    /// The values.
    pub resolution: &'a Resolution,
    /// The values that there would be without any choice, where they are told too.
    pub untouched: Option<&'a Resolution>,
}

fn row(shown: &Shown<'_>, option: OptionId) -> Vec<Cell> {
    let Shown { board, choices, resolution, untouched } = *shown;
    let definition = &board.options[option];
    let resolved = resolution.get(option);
    let value = match &resolved.value {
        Value::Text(text) | Value::Path(text) if text.is_empty() => "\"\"".to_string(),
        Value::Words(words) if words.is_empty() => "(none)".to_string(),
        value => value.to_string(),
    };
    let origin = origin_word(board, choices, option, resolved);
    let before = untouched.map(|untouched| untouched.value(option)).filter(|before| **before != resolved.value);
    let before = before.map_or(String::new(), |before| format!(", else {before}"));
    let origin_role = match origin.as_str() {
        "chosen" => Role::Good,
        "blocked" => Role::Warn,
        _ => Role::Faint,
    };
    vec![
        (Role::Name, definition.name.clone()),
        (value_role(&resolved.value, resolved), value),
        (origin_role, format!("{origin}{before}")),
        (Role::Faint, definition.summary.clone()),
    ]
}

/// Lists options below the titles of their sections.
pub fn tree(shown: &Shown<'_>, wanted: &[OptionId], width: usize) -> String {
    let board = shown.board;
    let rows: Vec<Vec<Cell>> = wanted.iter().map(|id| row(shown, *id)).collect();
    let lines = lines_within(&rows, 2, width, VALUES);
    let mut text = String::new();
    let mut sections: Vec<SectionId> = Vec::new();
    for option in wanted {
        let section = board.options[*option].section;
        if !sections.contains(&section) {
            sections.push(section);
        }
    }
    sections.sort();
    for section in sections {
        let title: Vec<&str> = board.section_path(section).iter().map(|s| board.sections[*s].title.as_str()).collect();
        text.push_str(&format!("{}\n", paint(Role::Title, &title.join(" › "))));
        for (option, line) in wanted.iter().zip(&lines) {
            if board.options[*option].section == section {
                text.push_str(line);
            }
        }
        text.push('\n');
    }
    text
}

/// Lists options as one flat table.
pub fn table(shown: &Shown<'_>, wanted: &[OptionId], width: usize) -> String {
    let rows: Vec<Vec<Cell>> = wanted.iter().map(|id| row(shown, *id)).collect();
    columns_within(&rows, 0, width, VALUES)
}

/// Tells all about one option.
pub fn details(
    board: &Board,
    choices: &Choices,
    resolution: &Resolution,
    option: OptionId,
    users: &[String],
    width: usize,
) -> String {
    let definition = &board.options[option];
    let resolved = resolution.get(option);
    let mut text = format!("{}  {}\n", paint(Role::Title, &definition.name), definition.summary);
    for line in wrap(&definition.help, width - 4) {
        text.push_str(&format!("  {line}\n"));
    }
    text.push('\n');
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    let mut add =
        |name: &str, role: Role, value: String| rows.push(vec![(Role::Faint, name.to_string()), (role, value)]);
    let origin = origin_word(board, choices, option, resolved);
    add("value", value_role(&resolved.value, resolved), format!("{} ({origin})", resolved.value));
    match definition.decided_by {
        DecidedBy::People => add("accepts", Role::Faint, definition.kind.expected()),
        DecidedBy::Others => add("accepts", Role::Faint, "no choice: its value follows from others".into()),
        DecidedBy::Kit => add("accepts", Role::Faint, "no choice: the tree was built so that this kit is of".into()),
    }
    if let Kind::Pick(values) = &definition.kind {
        for value in values.iter().filter(|v| !v.summary.is_empty()) {
            add("", Role::Faint, format!("{}: {}", value.name, value.summary));
        }
    }
    let path: Vec<&str> =
        board.section_path(definition.section).iter().map(|s| board.sections[*s].title.as_str()).collect();
    add("kind", Role::Faint, format!("{}, {}", definition.kind.name(), definition.level.name()));
    add("section", Role::Faint, path.join(" › "));
    for rule in &definition.rules {
        let rule = &board.rules[*rule];
        let when = rule.value.as_ref().map_or(String::new(), |value| format!(" (for {value})"));
        add(rule_verb(rule.kind), Role::Name, format!("{}{when}", rule_object(board, rule)));
    }
    if let Some(when) = &definition.applies_while {
        add("applies while", Role::Name, board.print(&when.expr));
    }
    if !users.is_empty() {
        add("required by", Role::Faint, users.join(", "));
    }
    if !definition.macros.is_empty() {
        let names: Vec<&str> = definition.macros.iter().map(|m| m.name.as_str()).collect();
        add("macro", Role::Faint, names.join(" "));
    }
    let place = board.files.excerpt(definition.place);
    add("defined in", Role::Faint, format!("{}:{}", place.file, place.line));
    text.push_str(&columns(&rows, 2, width));
    text
}
