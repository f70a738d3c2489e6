//! What takes the place of the list for a while: reasons, texts, lists of words, names of which one is picked.

use boltboard_core::board::Kind;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Modifier, Style};
use ratatui::text::Line;
use ratatui::widgets::{Clear, Paragraph, Wrap};
use unicode_width::UnicodeWidthStr;

use super::{consequences, faint, strong};
use crate::board::model::{Mode, Model};
use crate::board::walk::Walk;
use crate::render::text::wrap;

/// Draws such a text, if one is open; returns whether one is.
pub(super) fn draw_text(frame: &mut Frame<'_>, model: &mut Model, area: Rect) -> bool {
    match model.mode.clone() {
        Mode::Why(walk) => draw_walk(frame, model, walk, area),
        Mode::Read { title, lines, top } => {
            let shown = lines.iter().skip(top).map(|line| Line::raw(line.clone()));
            let text: Vec<Line<'_>> = std::iter::once(Line::styled(title, strong())).chain(shown).collect();
            frame.render_widget(Clear, area);
            frame.render_widget(Paragraph::new(text).wrap(Wrap { trim: false }), area);
        }
        Mode::Words { words, at, typing, .. } => draw_words(frame, model, &words, at, typing.as_ref(), area),
        Mode::Pick { items, at, .. } => {
            let mut text = vec![Line::styled("Which profile is laid beside this one?", strong())];
            text.extend(
                items.iter().enumerate().map(|(row, item)| Line::styled(format!("  {item}"), marked(row == at))),
            );
            let top = at.saturating_sub(usize::from(area.height).saturating_sub(2));
            frame.render_widget(Paragraph::new(text.into_iter().skip(top).collect::<Vec<_>>()), area);
        }
        Mode::Choose | Mode::Write { .. } | Mode::Ways { .. } | Mode::Leave => return false,
    }
    true
}

fn marked(is_here: bool) -> Style {
    if is_here { Style::default().add_modifier(Modifier::REVERSED) } else { Style::default() }
}

/// Reasons are broken by width; the cursor stands on all of a line.
fn draw_walk(frame: &mut Frame<'_>, model: &mut Model, mut walk: Walk, area: Rect) {
    let width = usize::from(area.width).max(20);
    let mut lines = Vec::new();
    let mut here = 0..1;
    for (at, told) in walk.lines.iter().enumerate() {
        let begin = lines.len();
        let indent = told.text.len() - told.text.trim_start().len();
        let style = match (at == walk.at, told.item.is_some()) {
            (true, _) => marked(true),
            (false, true) => Style::default(),
            (false, false) => faint(),
        };
        // What fits keeps its columns.
        let broken = if told.text.width() <= width {
            vec![told.text.trim_start().to_string()]
        } else {
            wrap(told.text.trim_start(), width.saturating_sub(indent + 2).max(20))
        };
        for (number, line) in broken.into_iter().enumerate() {
            let further = if number == 0 { 0 } else { 2 };
            lines.push(Line::styled(format!("{}{line}", " ".repeat(indent + further)), style));
        }
        if at == walk.at {
            here = begin..lines.len();
        }
    }
    let height = usize::from(area.height).saturating_sub(2).max(1);
    walk.top = walk.top.min(here.start).max(here.end.saturating_sub(height));
    let mut text = vec![Line::styled(format!("Why {}", walk.path(&model.session.board)), strong()), Line::raw("")];
    text.extend(lines.into_iter().skip(walk.top).take(height));
    frame.render_widget(Paragraph::new(text), area);
    model.mode = Mode::Why(walk);
}

fn draw_words(
    frame: &mut Frame<'_>,
    model: &mut Model,
    words: &[String],
    at: usize,
    typing: Option<&String>,
    area: Rect,
) {
    let [list, cards] = Layout::horizontal([Constraint::Percentage(50), Constraint::Min(1)]).areas(area);
    let mut text = Vec::new();
    if let Some(option) = model.option() {
        let definition = &model.session.board.options[option];
        text.push(Line::styled(format!("{}, word by word", definition.name), strong()));
        if let Kind::Words(allowed) = &definition.kind
            && !allowed.is_empty()
        {
            let width = usize::from(list.width).max(20);
            let all = format!("each one of: {}", allowed.join(", "));
            text.extend(wrap(&all, width).into_iter().map(|line| Line::styled(line, faint())));
        }
    }
    for row in 0..=words.len() {
        let is_here = row == at;
        let word = match (is_here, typing, words.get(row)) {
            (true, Some(typed), _) => format!("{typed}_"),
            (_, _, Some(word)) => word.clone(),
            (_, _, None) => "one more".to_string(),
        };
        let style = if is_here {
            marked(true)
        } else if row == words.len() {
            faint()
        } else {
            Style::default()
        };
        text.push(Line::styled(format!("  {word}"), style));
    }
    let top = (at + 4).saturating_sub(usize::from(list.height));
    frame.render_widget(Paragraph::new(text.into_iter().skip(top).collect::<Vec<_>>()), list);
    model.areas.cards = cards;
    consequences::draw_cards(frame, model, cards);
}
