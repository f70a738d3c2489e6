//! The sections as an outline, with what they count.

use boltboard_core::board::SectionId;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;

use super::{faint, fitted, strong};
use crate::board::model::{Focus, Model};
use crate::board::views::Entry;
use crate::render::text::wrap;

/// Draws it; the section of the option under the cursor is marked.
pub(super) fn draw_outline(frame: &mut Frame<'_>, model: &mut Model, area: Rect) {
    model.outline_top = first_shown(model, usize::from(area.height));
    let width = usize::from(area.width);
    let here = model.entry_here();
    let height = usize::from(area.height);
    let mut lines = Vec::new();
    for (at, entry) in model.outline.iter().enumerate().skip(model.outline_top) {
        if lines.len() >= height {
            break;
        }
        let is_here = Some(at) == here;
        lines.extend(entry_lines(model, entry, is_here, width));
    }
    frame.render_widget(Paragraph::new(lines), area);
}

/// The section that is drawn in a row of the outline.
pub fn section_at(model: &Model, row: usize) -> Option<SectionId> {
    let mut line = 0;
    model.outline.iter().skip(model.outline_top).find_map(|entry| {
        line += height_of(model, entry);
        (row < line).then_some(entry.section)
    })
}

/// The first section that is drawn, so that the one that is marked is in sight. What is drawn moves only when that must be, and then by
/// half its height: a screen on a slow line is not written anew with each key.
fn first_shown(model: &Model, rows: usize) -> usize {
    let height = |entry: &Entry| height_of(model, entry);
    let Some(here) = model.entry_here() else { return model.outline_top.min(model.outline.len()) };
    // Each takes a row at least.
    if model.outline.len() <= rows && model.outline.iter().map(height).sum::<usize>() <= rows {
        return 0;
    }
    let top = model.outline_top.min(here);
    let until: usize = model.outline[top..=here].iter().map(height).sum();
    if model.outline_top <= here && until <= rows {
        return top;
    }
    let mut room = (rows / 2).saturating_sub(height(&model.outline[here]));
    let mut first = here;
    while let Some(before) = first.checked_sub(1).filter(|before| height(&model.outline[*before]) <= room) {
        room -= height(&model.outline[before]);
        first = before;
    }
    first
}

/// What is to be told of a section, in lines.
fn counts(model: &Model, entry: &Entry) -> Vec<String> {
    let words = [(entry.chosen, "chosen"), (entry.blocked, "blocked"), (entry.new, "new"), (entry.lacking, "lacking")];
    let some = words.iter().filter(|(number, _)| *number > 0).map(|(number, word)| format!("{number} {word}"));
    let width = usize::from(model.areas.outline.width).saturating_sub(2 + entry.depth * 2).max(12);
    let said = some.collect::<Vec<_>>().join(", ");
    if said.is_empty() { Vec::new() } else { wrap(&said, width) }
}

fn height_of(model: &Model, entry: &Entry) -> usize {
    1 + counts(model, entry).len()
}

fn entry_lines(model: &Model, entry: &Entry, is_here: bool, width: usize) -> Vec<Line<'static>> {
    let board = &model.session.board;
    let indent = " ".repeat(entry.depth * 2);
    let number = entry.options.to_string();
    let title = format!("{indent}{}", board.sections[entry.section].title);
    let title = fitted(&title, width.saturating_sub(number.len() + 2));
    let style = match (is_here, model.focus) {
        (true, Focus::Outline) => Style::default().add_modifier(Modifier::REVERSED),
        (true, Focus::Options) => strong(),
        (false, _) => Style::default(),
    };
    let mark = if is_here { "›" } else { " " };
    let first = Line::from(vec![Span::styled(format!("{mark}{title} "), style), Span::styled(number, faint())]);
    let counts = counts(model, entry).into_iter().map(|line| Line::styled(format!("  {indent}{line}"), faint()));
    std::iter::once(first).chain(counts).collect()
}
