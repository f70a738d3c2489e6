//! The board as it is drawn: the sections and the list, beside or below it what each value would bring, the slate, and the keys that work
//! now.

mod consequences;
mod list;
pub mod outline;
mod texts;

use boltboard_core::slate::{Change, Item};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;
use unicode_width::UnicodeWidthStr;

use super::cards::price_words;
use super::model::{Focus, Mode, Model, Writing};
use super::views::View;
use crate::render::text::{count, harmless};

/// From this width on, consequences stand beside the list; and from that on, the sections too.
const WIDE: u16 = 96;
const WIDEST: u16 = 124;
/// How wide the outline is.
const OUTLINE: u16 = 28;

pub(super) fn strong() -> Style {
    Style::default().add_modifier(Modifier::BOLD)
}

pub(super) fn faint() -> Style {
    Style::default().add_modifier(Modifier::DIM)
}

/// A colour beside words that say the same.
pub(super) fn tinted(color: Color) -> Style {
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
    if !texts::draw_text(frame, model, body) {
        lay_out(model, body);
        let areas = model.areas;
        if areas.outline.width > 0 {
            outline::draw_outline(frame, model, areas.outline);
        }
        if areas.list.width > 0 {
            if let Some(titles) = list::titles(model, usize::from(areas.list.width)) {
                let [top, rest] = Layout::vertical([Constraint::Length(1), Constraint::Min(1)]).areas(areas.list);
                frame.render_widget(Paragraph::new(titles), top);
                model.areas.list = rest;
            }
            list::draw_list(frame, model, model.areas.list);
        }
        consequences::draw_cards(frame, model, areas.cards);
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

/// Shares the room out. Where there is none for the sections, they take that of the list while one moves in them.
fn lay_out(model: &mut Model, body: Rect) {
    let share = Constraint::Percentage(model.share);
    let none = Rect::default();
    let (outline, rest) = if body.width >= WIDEST {
        let [outline, _, rest] =
            Layout::horizontal([Constraint::Length(OUTLINE), Constraint::Length(2), Constraint::Min(1)]).areas(body);
        (outline, rest)
    } else {
        (none, body)
    };
    let [list, divider, cards] = if body.width >= WIDE {
        Layout::horizontal([share, Constraint::Length(2), Constraint::Min(1)]).areas(rest)
    } else {
        let rows = u16::try_from(model.rows.len()).unwrap_or(u16::MAX).saturating_add(1);
        let [list, cards] =
            Layout::vertical([Constraint::Length(rows.min(rest.height / 2)), Constraint::Min(1)]).areas(rest);
        [list, none, cards]
    };
    model.areas.divider = divider;
    model.areas.cards = cards;
    (model.areas.outline, model.areas.list) =
        if outline.width == 0 && model.focus == Focus::Outline { (list, none) } else { (outline, list) };
}

fn head_line(frame: &mut Frame<'_>, model: &Model, area: Rect) {
    let tree = &model.session.board.tree;
    let level = match model.level.name() {
        level if model.words.trim().is_empty() => format!(", up to {level}"),
        _ => String::new(),
    };
    let what = match &model.other {
        Some(other) if model.view == View::Other => format!("{} {}", model.view.word(), other.name),
        Some(_) | None => model.view.word().to_string(),
    };
    let level = if model.view == View::All { level } else { String::new() };
    let mut spans = vec![
        Span::styled(format!("{} {}", tree.name, tree.version), strong()),
        Span::raw(format!("   profile {}   {what}{level}", model.own)),
    ];
    if !model.words.is_empty() {
        spans.push(Span::styled("   find: ", faint()));
        spans.push(Span::styled(format!("{}_", model.words), strong()));
    }
    frame.render_widget(Paragraph::new(Line::from(spans)), area);
}

/// A text of just this width.
pub(super) fn fitted(text: &str, width: usize) -> String {
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

fn draw_slate(frame: &mut Frame<'_>, model: &Model, area: Rect) {
    let board = &model.session.board;
    let pending = model.slate.pending();
    let mut lines = vec![Line::from(vec![
        Span::styled(format!("Not kept yet: {}", count(pending.len(), "change", "changes")), strong()),
        Span::styled(format!("   all together: {}", price_words(model.slate_price)), faint()),
    ])];
    let shown = usize::from(area.height).saturating_sub(2);
    for change in pending.iter().rev().take(shown).rev() {
        let name = change.change.item().name(board);
        let what = match &change.change {
            Change::Choose(_, value) => format!("  {name} = {value}"),
            Change::Provide(_, provider) => format!("  {name} = {}", provider.text(board)),
            Change::TakeBack(_) => format!("  {name}: choice taken back"),
        };
        let why = change.reason.as_ref().map_or(String::new(), |reason| format!("   because {reason}"));
        lines.push(Line::raw(what + &why));
    }
    frame.render_widget(Paragraph::new(lines), area);
}

fn said_line(frame: &mut Frame<'_>, model: &Model, area: Rect) {
    let fault =
        |fault: &Option<String>| fault.as_ref().map(|fault| Span::styled(format!("   {fault}"), tinted(Color::Yellow)));
    let line = match &model.mode {
        // Files that fit are told in place of the value's fault.
        Mode::Write { text, .. } if !model.said.is_empty() => Line::raw(format!("{text}_   {}", model.said)),
        Mode::Write { what, text, fault: wrong } => {
            let lead = match what {
                Writing::Value => "value: ",
                Writing::Reason => "because: ",
                Writing::Folder => "folder: ",
            };
            let mut spans = vec![Span::styled(lead, strong()), Span::raw(format!("{text}_"))];
            spans.extend(fault(wrong));
            Line::from(spans)
        }
        Mode::Words { fault: wrong, .. } => Line::from(fault(wrong).into_iter().collect::<Vec<_>>()),
        Mode::Leave => Line::styled("The changes are not kept. Enter leaves without them, k keeps them.", strong()),
        Mode::Choose | Mode::Ways { .. } | Mode::Pick { .. } | Mode::Why(_) | Mode::Read { .. } => {
            Line::raw(model.said.clone())
        }
    };
    frame.render_widget(Paragraph::new(line), area);
}

/// The keys that work now, as many as there is room for.
fn keys_now(model: &Model, width: u16) -> String {
    let keys: &[&str] = match &model.mode {
        Mode::Choose if model.focus == Focus::Outline => &["Up Down section", "Tab options", "type to find", "? keys"],
        Mode::Choose if model.view == View::Other => {
            &["^X take over", "^A take all over", "^G change sides", "^K keep", "^U back a step", "^V view", "? keys"]
        }
        Mode::Choose if model.slate.pending().is_empty() && matches!(model.item(), Some(Item::Need(_))) => {
            &["Left Right way", "Enter take", "^F folder", "^W why", "^S survey", "^V view", "? keys", "Esc leave"]
        }
        Mode::Choose if model.slate.pending().is_empty() => &[
            "type to find",
            "? keys",
            "Left Right value",
            "Enter take",
            "^W why",
            "^V view",
            "Tab sections",
            "^B build",
            "Esc leave",
            "^L level",
            "^O other profile",
        ],
        Mode::Choose => {
            &["^K keep", "^U back a step", "Enter take", "Delete drop", "^T reason", "^Y command", "^W why", "? keys"]
        }
        Mode::Write { what, .. } if model.is_path(*what) => {
            &["Tab complete", "Enter take it", "^U empty it", "Esc back"]
        }
        Mode::Write { what: Writing::Value, .. } => &["Up Down a step", "Enter take it", "^U empty it", "Esc back"],
        Mode::Write { .. } => &["Enter take it", "^U empty it", "Esc back"],
        Mode::Words { typing: Some(_), .. } => &["Enter done with this word", "^U empty it", "Esc back"],
        Mode::Words { .. } => &["Tab take the list", "Enter write", "type to add", "Delete remove", "Esc back"],
        Mode::Ways { .. } => &["Up Down way", "Enter take it", "Esc back"],
        Mode::Pick { .. } => &["Up Down", "Enter this one", "Esc back"],
        Mode::Why(_) => &["Up Down", "Enter go there", "Backspace back", "Tab to it in the list", "^E edit", "Esc out"],
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
