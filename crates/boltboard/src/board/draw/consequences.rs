//! What stands beside the list: what each value of what is under the cursor would bring.

use boltboard_core::board::DecidedBy;
use boltboard_core::slate::Item;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;
use unicode_width::UnicodeWidthStr;

use super::{faint, strong, tinted};
use crate::board::cards::{Card, Told, need_lines, price_words};
use crate::board::model::{Mode, Model};
use crate::render::text::{count, wrap};

/// So many lines about one value are shown while the hand lies on another.
const SHORT: usize = 4;

/// What it is.
fn about(model: &Model, width: usize) -> Option<Vec<Line<'static>>> {
    let board = &model.session.board;
    let said = |texts: &[String], style: Style| -> Vec<Line<'static>> {
        let lines = texts.iter().flat_map(|text| wrap(text, width));
        lines.map(|line| Line::styled(line, style)).collect()
    };
    Some(match model.item()? {
        Item::Option(option) => {
            let definition = &board.options[option];
            let mut lines = vec![Line::styled(definition.name.clone(), strong())];
            lines.extend(said(std::slice::from_ref(&definition.summary), Style::default()));
            match definition.decided_by {
                DecidedBy::People => {}
                DecidedBy::Others => lines.push(Line::styled("nobody chooses it: it follows from others", faint())),
                DecidedBy::Kit => lines.push(Line::styled("nobody chooses it: the tree was built so", faint())),
            }
            if let Some(other) = &model.other {
                let value = other.resolved.resolution.value(option);
                lines.push(Line::styled(format!("{value} in {}", other.name), faint()));
            }
            lines
        }
        Item::Need(need) => {
            let definition = &board.needs[need];
            let mut lines = vec![Line::styled(format!("need:{}", definition.name), strong())];
            lines.extend(said(std::slice::from_ref(&definition.summary), Style::default()));
            let state = need_lines(&model.session, &model.now, need);
            lines.extend(said(&state[..1], Style::default()));
            lines
        }
    })
}

pub(super) fn draw_cards(frame: &mut Frame<'_>, model: &mut Model, area: Rect) {
    let width = usize::from(area.width).max(20);
    let Some(mut lines) = about(model, width) else { return };
    let mut begins = Vec::new();
    let mut here = 0..0;
    for (at, card) in model.cards.iter().enumerate() {
        let has_hand = at == model.hand;
        lines.push(Line::raw(""));
        begins.push(lines.len());
        let begin = lines.len();
        card_lines(&mut lines, card, has_hand, width);
        if has_hand {
            here = begin..lines.len();
        }
    }
    if let Mode::Ways { ways, at } = &model.mode {
        lines.push(Line::raw(""));
        begins.push(lines.len());
        let begin = lines.len();
        lines.push(Line::styled("Ways out", strong()));
        for (number, way) in ways.iter().enumerate() {
            let style =
                if number == *at { Style::default().add_modifier(Modifier::REVERSED) } else { Style::default() };
            lines.extend(wrap(&way.said, width - 2).into_iter().map(|line| Line::styled(format!("  {line}"), style)));
        }
        here = begin..lines.len();
    }
    // What the hand lies on is in sight, from its beginning.
    let height = usize::from(area.height);
    let top = if here.end > height {
        here.start.min(here.end.saturating_sub(height).max(here.start.min(here.end - 1)))
    } else {
        0
    };
    model.card_rows = begins.into_iter().map(|row| row.saturating_sub(top)).collect();
    frame.render_widget(Paragraph::new(lines.into_iter().skip(top).collect::<Vec<_>>()), area);
}

fn card_lines(lines: &mut Vec<Line<'static>>, card: &Card, has_hand: bool, width: usize) {
    let now = matches!(card.found, Some(Told::Same));
    let mut title = vec![Span::styled(
        format!(" {} ", card.label),
        if has_hand { Style::default().add_modifier(Modifier::REVERSED) } else { strong() },
    )];
    if now {
        title.push(Span::styled(" now", faint()));
    }
    // What does not fit beside the value stands below it.
    let beside = title.iter().map(Span::width).sum::<usize>() + 2 + card.summary.width() <= width;
    if beside && !card.summary.is_empty() {
        title.push(Span::styled(format!("  {}", card.summary), faint()));
    }
    lines.push(Line::from(title));
    if !beside {
        lines.extend(wrap(&card.summary, width - 2).into_iter().map(|line| Line::styled(format!("  {line}"), faint())));
    }
    let (texts, style): (Vec<String>, Style) = match &card.found {
        None => (vec!["…".into()], faint()),
        Some(Told::Same) => (card.install.iter().cloned().chain(card.hint.clone()).collect(), faint()),
        Some(Told::Moves(moves)) => {
            let mut texts = moves.clone();
            texts.insert(0, price_words(card.price));
            (texts, Style::default())
        }
        Some(Told::Clash(why, ways)) => {
            let mut texts = why.clone();
            match ways.len() {
                0 => {}
                ways => texts.insert(1.min(texts.len()), format!("Enter: {} out", count(ways, "way", "ways"))),
            }
            texts.extend(card.install.clone());
            (texts, tinted(Color::Yellow))
        }
    };
    let limit = if has_hand { usize::MAX } else { SHORT };
    for text in texts.iter().take(limit) {
        lines.extend(wrap(text, width - 2).into_iter().map(|line| Line::styled(format!("  {line}"), style)));
    }
    if texts.len() > limit {
        lines.push(Line::styled(format!("  and {} more", texts.len() - limit), faint()));
    }
}
