//! The list: options by section, and needs.

use boltboard_core::board::{NeedId, OptionId, SectionId};
use boltboard_core::slate::Item;
use boltboard_core::survey::FactState;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;

use super::{faint, fitted, strong, tinted};
use crate::board::model::{Model, Row};
use crate::board::views::View;
use crate::render::options::origin_word;
use crate::render::survey::state_words;
use crate::render::text::count;

/// How wide values and origins may be in the list.
const VALUE: usize = 16;
const ORIGIN: usize = 12;
/// A summary that is cut shorter tells nothing.
const READABLE: usize = 10;

pub(super) fn draw_list(frame: &mut Frame<'_>, model: &mut Model, area: Rect) {
    let height = usize::from(area.height).max(1);
    // The title above the first option comes into sight with it.
    let first = if model.at == 1 { 0 } else { model.at };
    if first < model.top {
        model.top = first;
    } else if model.at >= model.top + height {
        model.top = model.at + 1 - height;
    }
    model.top = model.top.min(model.rows.len().saturating_sub(1));
    let lines: Vec<Line<'_>> = model
        .rows
        .iter()
        .enumerate()
        .skip(model.top)
        .take(height)
        .map(|(at, row)| match row {
            Row::Section(section) => section_line(model, *section),
            Row::Option(option) => option_line(model, *option, at == model.at, usize::from(area.width)),
            Row::Needs => Line::styled("Needs", strong()),
            Row::Need(need) => need_line(model, *need, at == model.at, usize::from(area.width)),
        })
        .collect();
    let lines = if lines.is_empty() { vec![Line::raw("Nothing is found. Esc goes back.")] } else { lines };
    frame.render_widget(Paragraph::new(lines), area);
}

fn section_line(model: &Model, section: SectionId) -> Line<'static> {
    let board = &model.session.board;
    let Some(entry) = model.outline.iter().find(|entry| entry.section == section) else { return Line::default() };
    let within = |item: Item| matches!(item, Item::Option(option) if board.options[option].section == section);
    let changed = model.slate.pending().iter().filter(|pending| within(pending.change.item())).count();
    let mut said = count(entry.options, "option", "options");
    if changed > 0 {
        said.push_str(&format!(", {changed} on the slate"));
    }
    Line::from(vec![
        Span::raw(" ".repeat(entry.depth * 2)),
        Span::styled(board.sections[section].title.clone(), strong()),
        Span::styled(format!("  {said}"), faint()),
    ])
}

/// The titles of the columns, where they are not of every day.
pub(super) fn titles(model: &Model, width: usize) -> Option<Line<'static>> {
    let other = model.other.as_ref().filter(|_| model.view == View::Other)?;
    let (name_width, _) = widths(width);
    let ours = model.own.to_string();
    let text =
        format!("  {} {} {}", " ".repeat(name_width), fitted(&ours, VALUE), fitted(&other.name.to_string(), VALUE));
    Some(Line::styled(text, faint()))
}

/// How wide names and summaries are; a summary of which nothing could be read leaves its room to the name.
fn widths(width: usize) -> (usize, usize) {
    let room = width.saturating_sub(VALUE + ORIGIN + 6);
    if room < 20 + READABLE { (room.clamp(12, 28), 0) } else { (20, room - 20) }
}

fn option_line(model: &Model, option: OptionId, is_here: bool, width: usize) -> Line<'static> {
    let board = &model.session.board;
    let resolved = model.now.resolution.get(option);
    let origin = match model.slate.of(Item::Option(option)) {
        Some(_) => "on the slate".to_string(),
        None => origin_word(board, &model.now.choices, option, resolved),
    };
    let (name_width, rest) = widths(width);
    let name = fitted(&board.options[option].name, name_width);
    let value = fitted(&resolved.value.to_string(), VALUE);
    let text = match model.other.as_ref().filter(|_| model.view == View::Other) {
        Some(other) => {
            let theirs = other.resolved.resolution.value(option).to_string();
            format!("  {name} {value} {} {}", fitted(&theirs, VALUE), fitted(&origin, rest))
        }
        None => {
            let summary = fitted(&board.options[option].summary, rest);
            format!("  {name} {value} {} {summary}", fitted(&origin, ORIGIN))
        }
    };
    let style = match (is_here, model.slate.of(Item::Option(option)).is_some(), origin.as_str()) {
        (true, ..) => Style::default().add_modifier(Modifier::REVERSED),
        (_, true, _) => strong(),
        (_, _, "blocked") => tinted(Color::Yellow),
        (_, _, "no effect") => faint(),
        _ if resolved.value.is_off() => faint(),
        _ => Style::default(),
    };
    Line::styled(text, style)
}

fn need_line(model: &Model, need: NeedId, is_here: bool, width: usize) -> Line<'static> {
    let board = &model.session.board;
    let fact = model.now.facts.get(need);
    let state = fact.map_or(String::new(), |fact| crate::board::cards::plain(&state_words(board, fact).1));
    let is_missing = fact.is_some_and(|fact| matches!(fact.state, FactState::Missing(_)));
    let by = match (model.slate.of(Item::Need(need)).is_some(), model.now.choices.providers.get(&need)) {
        (true, _) => "on the slate".to_string(),
        (false, Some(chosen)) => chosen.provider.text(board),
        (false, None) => String::new(),
    };
    let (name_width, rest) = widths(width);
    let text = format!(
        "  {} {} {} {}",
        fitted(&board.needs[need].name, name_width),
        fitted(&state, VALUE),
        fitted(&by, ORIGIN),
        fitted(&board.needs[need].summary, rest)
    );
    let style = match (is_here, is_missing) {
        (true, _) => Style::default().add_modifier(Modifier::REVERSED),
        (false, true) => tinted(Color::Yellow),
        (false, false) => Style::default(),
    };
    Line::styled(text, style)
}
