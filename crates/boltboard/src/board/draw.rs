//! The board as it is drawn: the list, beside or below it what each value would bring, the slate, and the keys that work now.

use boltboard_core::board::{DecidedBy, OptionId};
use boltboard_core::slate::Change;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Clear, Paragraph, Wrap};
use unicode_width::UnicodeWidthStr;

use super::cards::{Card, Told, price_words};
use super::model::{Mode, Model, Row, Writing};
use crate::render::options::origin_word;
use crate::render::text::{count, harmless, wrap};

/// From this width on, consequences stand beside the list.
const WIDE: u16 = 96;
/// How wide values and origins may be in the list.
const VALUE: usize = 16;
const ORIGIN: usize = 12;
/// So many lines about one value are shown while the hand lies on another.
const SHORT: usize = 4;

fn strong() -> Style {
    Style::default().add_modifier(Modifier::BOLD)
}

fn faint() -> Style {
    Style::default().add_modifier(Modifier::DIM)
}

/// A colour beside words that say the same.
fn tinted(color: Color) -> Style {
    if std::env::var_os("NO_COLOR").is_some() { Style::default() } else { Style::default().fg(color) }
}

/// Draws everything.
pub fn draw(frame: &mut Frame<'_>, model: &mut Model) {
    let pending = model.slate.pending().len();
    let slate_height = if pending == 0 { 0 } else { u16::try_from(pending.min(4)).unwrap_or(4) + 2 };
    let [head, body, slate, said, help] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Min(4),
        Constraint::Length(slate_height),
        Constraint::Length(1),
        Constraint::Length(1),
    ])
    .areas(frame.area());
    head_line(frame, model, head);
    if let Mode::Read { title, lines, top } = &model.mode {
        let shown = lines.iter().skip(*top).map(|line| Line::raw(line.clone()));
        let text: Vec<Line<'_>> = std::iter::once(Line::styled(title.clone(), strong())).chain(shown).collect();
        frame.render_widget(Clear, body);
        frame.render_widget(Paragraph::new(text).wrap(Wrap { trim: false }), body);
    } else {
        let [list, cards] = if body.width >= WIDE {
            let [list, _, cards] =
                Layout::horizontal([Constraint::Percentage(56), Constraint::Length(2), Constraint::Percentage(44)])
                    .areas(body);
            [list, cards]
        } else {
            let rows = u16::try_from(model.rows.len()).unwrap_or(u16::MAX).saturating_add(1);
            Layout::vertical([Constraint::Length(rows.min(body.height / 2)), Constraint::Min(1)]).areas(body)
        };
        model.areas.list = list;
        model.areas.cards = cards;
        draw_list(frame, model, list);
        draw_cards(frame, model, cards);
    }
    if pending > 0 {
        draw_slate(frame, model, slate);
    }
    said_line(frame, model, said);
    frame.render_widget(Paragraph::new(Line::styled(keys_now(model, help.width), faint())), help);
    // Texts of the tree are foreign: none of their signs turns what stands beside it around.
    for cell in &mut frame.buffer_mut().content {
        if !cell.symbol().is_ascii() && harmless(cell.symbol()) != cell.symbol() {
            cell.set_symbol("?");
        }
    }
}

fn head_line(frame: &mut Frame<'_>, model: &Model, area: Rect) {
    let tree = &model.session.board.tree;
    let level = match model.level.name() {
        level if model.words.trim().is_empty() => format!(", up to {level}"),
        _ => String::new(),
    };
    let mut spans = vec![
        Span::styled(format!("{} {}", tree.name, tree.version), strong()),
        Span::raw(format!("   profile {}   {}{level}", model.session.profile, model.view.word())),
    ];
    if !model.words.is_empty() {
        spans.push(Span::styled("   find: ", faint()));
        spans.push(Span::styled(format!("{}_", model.words), strong()));
    }
    frame.render_widget(Paragraph::new(Line::from(spans)), area);
}

/// A text of just this width.
fn fitted(text: &str, width: usize) -> String {
    let mut fitted = String::new();
    for letter in text.chars() {
        if fitted.width() + letter.to_string().width() > width {
            // What is cut says so.
            while fitted.width() >= width && fitted.pop().is_some() {}
            if width > 0 {
                fitted.push('…');
            }
            break;
        }
        fitted.push(letter);
    }
    let missing = width.saturating_sub(fitted.width());
    fitted + &" ".repeat(missing)
}

fn draw_list(frame: &mut Frame<'_>, model: &mut Model, area: Rect) {
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
            Row::Section(section, depth) => section_line(model, *section, *depth),
            Row::Option(option) => option_line(model, *option, at == model.at, usize::from(area.width)),
        })
        .collect();
    let lines = if lines.is_empty() { vec![Line::raw("Nothing is found. Esc goes back.")] } else { lines };
    frame.render_widget(Paragraph::new(lines), area);
}

fn section_line(model: &Model, section: boltboard_core::board::SectionId, depth: usize) -> Line<'static> {
    let board = &model.session.board;
    let within = |row: &&Row| matches!(row, Row::Option(option) if board.options[*option].section == section);
    let own: Vec<&Row> = model.rows.iter().filter(within).collect();
    let changed = own.iter().filter(|row| matches!(row, Row::Option(option) if model.slate.of(*option).is_some()));
    let mut said = count(own.len(), "option", "options");
    match changed.count() {
        0 => {}
        changed => said.push_str(&format!(", {changed} on the slate")),
    }
    Line::from(vec![
        Span::raw(" ".repeat(depth * 2)),
        Span::styled(board.sections[section].title.clone(), strong()),
        Span::styled(format!("  {said}"), faint()),
    ])
}

fn option_line(model: &Model, option: OptionId, is_here: bool, width: usize) -> Line<'static> {
    let board = &model.session.board;
    let resolved = model.now.resolution.get(option);
    let origin = match model.slate.of(option) {
        Some(_) => "on the slate".to_string(),
        None => origin_word(board, &model.now.choices, option, resolved),
    };
    let name_width = width.saturating_sub(VALUE + ORIGIN + 6).clamp(12, 20);
    let rest = width.saturating_sub(name_width + VALUE + ORIGIN + 6);
    let text = format!(
        "  {} {} {} {}",
        fitted(&board.options[option].name, name_width),
        fitted(&resolved.value.to_string(), VALUE),
        fitted(&origin, ORIGIN),
        fitted(&board.options[option].summary, rest)
    );
    let style = match (is_here, model.slate.of(option).is_some(), origin.as_str()) {
        (true, ..) => Style::default().add_modifier(Modifier::REVERSED),
        (_, true, _) => strong(),
        (_, _, "blocked") => tinted(Color::Yellow),
        (_, _, "no effect") => faint(),
        _ if resolved.value.is_off() => faint(),
        _ => Style::default(),
    };
    Line::styled(text, style)
}

fn draw_cards(frame: &mut Frame<'_>, model: &mut Model, area: Rect) {
    let Some(option) = model.option() else { return };
    let board = &model.session.board;
    let definition = &board.options[option];
    let width = usize::from(area.width).max(20);
    let mut lines: Vec<Line<'static>> = vec![Line::styled(definition.name.clone(), strong())];
    lines.extend(wrap(&definition.summary, width).into_iter().map(Line::raw));
    if definition.decided_by == DecidedBy::Others {
        lines.push(Line::styled("nobody chooses it: it follows from others", faint()));
    }
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
        format!(" {} ", card.value),
        if has_hand { Style::default().add_modifier(Modifier::REVERSED) } else { strong() },
    )];
    if now {
        title.push(Span::styled(" now", faint()));
    }
    if !card.summary.is_empty() {
        title.push(Span::styled(format!("  {}", card.summary), faint()));
    }
    lines.push(Line::from(title));
    let (texts, style): (Vec<String>, Style) = match &card.found {
        None => (vec!["…".into()], faint()),
        Some(Told::Same) => (vec![], Style::default()),
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

fn draw_slate(frame: &mut Frame<'_>, model: &Model, area: Rect) {
    let board = &model.session.board;
    let pending = model.slate.pending();
    let mut lines = vec![Line::from(vec![
        Span::styled(format!("Not kept yet: {}", count(pending.len(), "change", "changes")), strong()),
        Span::styled(format!("   all together: {}", price_words(model.slate_price)), faint()),
    ])];
    let shown = usize::from(area.height).saturating_sub(2);
    for change in pending.iter().rev().take(shown).rev() {
        let name = &board.options[change.option].name;
        let what = match &change.change {
            Change::Choose(value) => format!("  {name} = {value}"),
            Change::TakeBack => format!("  {name}: choice taken back"),
        };
        let why = change.reason.as_ref().map_or(String::new(), |reason| format!("   because {reason}"));
        lines.push(Line::raw(what + &why));
    }
    frame.render_widget(Paragraph::new(lines), area);
}

fn said_line(frame: &mut Frame<'_>, model: &Model, area: Rect) {
    let line = match &model.mode {
        Mode::Write { what, text, fault } => {
            let lead = if *what == Writing::Value { "value: " } else { "because: " };
            let mut spans = vec![Span::styled(lead, strong()), Span::raw(format!("{text}_"))];
            spans.extend(fault.as_ref().map(|fault| Span::styled(format!("   {fault}"), tinted(Color::Yellow))));
            Line::from(spans)
        }
        Mode::Leave => Line::styled("The changes are not kept. Enter leaves without them, k keeps them.", strong()),
        Mode::Choose | Mode::Ways { .. } | Mode::Read { .. } => Line::raw(model.said.clone()),
    };
    frame.render_widget(Paragraph::new(line), area);
}

/// The keys that work now, as many as there is room for.
fn keys_now(model: &Model, width: u16) -> String {
    let keys: &[&str] = match &model.mode {
        Mode::Choose if model.slate.pending().is_empty() => &[
            "type to find",
            "Up Down option",
            "Left Right value",
            "Enter take",
            "^W why",
            "^V view",
            "^L level",
            "^B build",
            "? keys",
            "Esc leave",
        ],
        Mode::Choose => {
            &["^K keep", "^U back a step", "Enter take", "Delete drop", "^T reason", "^Y command", "^W why", "? keys"]
        }
        Mode::Write { .. } => &["Enter take it", "^U empty it", "Esc back"],
        Mode::Ways { .. } => &["Up Down way", "Enter take it", "Esc back"],
        Mode::Read { .. } => &["Up Down move", "Esc back"],
        Mode::Leave => &["Enter leave", "k keep", "Esc stay"],
    };
    let mut line = String::new();
    for key in keys {
        if line.width() + key.width() + 3 > usize::from(width) {
            break;
        }
        line.push_str(if line.is_empty() { "" } else { " · " });
        line.push_str(key);
    }
    line
}
