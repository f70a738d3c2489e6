//! The mouse.

use crossterm::event::{MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Rect;

use super::*;
use crate::board::model::Focus;

fn at(model: &mut Model, kind: MouseEventKind, column: u16, row: u16) {
    keys::mouse(model, MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE });
}

fn click(model: &mut Model, column: u16, row: u16) {
    at(model, MouseEventKind::Down(MouseButton::Left), column, row);
    at(model, MouseEventKind::Up(MouseButton::Left), column, row);
}

/// Where a text stands within an area of what is drawn.
fn find(model: &mut Model, area: fn(&Model) -> Rect, text: &str) -> (u16, u16) {
    let shown = drawn(model, 140, 30);
    let area = area(model);
    let row = shown.lines().enumerate().skip(area.y.into()).take(area.height.into()).find(|(_, line)| {
        let within: String = line.chars().skip(area.x.into()).take(area.width.into()).collect();
        within.contains(text)
    });
    (area.x + 1, u16::try_from(row.unwrap_or_else(|| panic!("no {text} in\n{shown}")).0).expect("a row"))
}

#[test]
fn a_click_goes_to_an_option_a_value_and_a_section() {
    let tree = tree();
    let mut model = open(tree.path(), &["lamp"]);
    settle(&mut model);
    let (column, row) = find(&mut model, |model| model.areas.list, "quiet");
    click(&mut model, column, row);
    assert_eq!(model.option(), Some(option(&model, "quiet")));
    settle(&mut model);
    let (column, row) = find(&mut model, |model| model.areas.cards, " off ");
    click(&mut model, column, row);
    assert_eq!(model.cards[model.hand].label, "off");
    let (column, row) = find(&mut model, |model| model.areas.outline, "The light");
    click(&mut model, column, row);
    assert_eq!((model.option(), model.focus), (Some(option(&model, "lamp")), Focus::Options));
    // A title is no option: the one below it is meant.
    let (column, row) = find(&mut model, |model| model.areas.list, "What is heard");
    click(&mut model, column, row);
    assert_eq!(model.option(), Some(option(&model, "bell")));
    // Beside everything, nothing happens.
    click(&mut model, 139, 29);
    click(&mut model, 0, 0);
    assert_eq!(model.option(), Some(option(&model, "bell")));
}

#[test]
fn the_wheel_moves_what_is_open() {
    let tree = tree();
    let mut model = open(tree.path(), &["lamp"]);
    drawn(&mut model, 140, 30);
    at(&mut model, MouseEventKind::ScrollDown, 50, 5);
    assert_eq!(model.option(), Some(option(&model, "every")));
    at(&mut model, MouseEventKind::ScrollUp, 50, 5);
    control(&mut model, 'w');
    at(&mut model, MouseEventKind::ScrollDown, 50, 5);
    assert!(matches!(&model.mode, Mode::Why(walk) if walk.at > 0 || walk.lines.len() == 1));
    // What lies under an open text is not clicked by mistake.
    click(&mut model, 40, 8);
    assert!(matches!(model.mode, Mode::Why(_)));
    press(&mut model, KeyCode::Esc);
    press(&mut model, KeyCode::Char('?'));
    at(&mut model, MouseEventKind::ScrollDown, 50, 5);
    assert!(matches!(model.mode, Mode::Read { top: 1, .. }));
}

#[test]
fn the_line_between_options_and_consequences_is_dragged_within_reason() {
    let tree = tree();
    let mut model = open(tree.path(), &["lamp"]);
    drawn(&mut model, 140, 30);
    let before = model.areas;
    at(&mut model, MouseEventKind::Drag(MouseButton::Left), 100, 5);
    drawn(&mut model, 140, 30);
    assert_eq!(model.areas.list.width, before.list.width, "what is not held is not dragged");
    at(&mut model, MouseEventKind::Down(MouseButton::Left), before.divider.x, 5);
    for (column, is_wider) in [(before.divider.x + 15, true), (before.divider.x - 15, false)] {
        at(&mut model, MouseEventKind::Drag(MouseButton::Left), column, 5);
        drawn(&mut model, 140, 30);
        assert_eq!(model.areas.list.width > before.list.width, is_wider);
        assert!(model.areas.divider.x.abs_diff(column) <= 2, "it follows the mouse");
    }
    for column in [0, 139] {
        at(&mut model, MouseEventKind::Drag(MouseButton::Left), column, 5);
        drawn(&mut model, 140, 30);
        assert!(model.areas.list.width >= 15 && model.areas.cards.width >= 15, "neither is lost");
    }
    at(&mut model, MouseEventKind::Up(MouseButton::Left), 60, 5);
    let held = model.areas.list.width;
    at(&mut model, MouseEventKind::Drag(MouseButton::Left), 70, 5);
    drawn(&mut model, 140, 30);
    assert_eq!(model.areas.list.width, held);
}
