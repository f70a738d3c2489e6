//! What keys and the mouse do.

use crossterm::event::{KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};

use super::model::{Mode, Model, Run, Wish, Writing};

/// Keys and what they do, for the help. `^` is the control key.
pub const KEYS: [(&str, &str); 22] = [
    ("letters", "find options by name, summary or section; filters such as off or in:links too"),
    ("Up, Down", "to another option"),
    ("Page keys, Home, End", "further"),
    ("Left, Right", "to another value of the option"),
    ("Enter", "take that value; write it, where any text or number will do"),
    ("Delete", "take a choice back, or drop a change"),
    ("^U, ^R", "one step back, and forth again"),
    ("^T", "type the reason of a change"),
    ("^K", "keep the changes in the profile"),
    ("^Y", "show the command that does the same"),
    ("^V", "another view: all, changed, blocked, new"),
    ("^L", "another level: everyday, tuning, expert"),
    ("^W", "why the value is what it is"),
    ("^D", "all about the option"),
    ("^P", "what a build would do, in full"),
    ("^B", "build, and come back"),
    ("Esc", "back; out of a search; leave"),
    ("^Q", "leave"),
    ("^Z", "stop, as other programs do"),
    ("mouse wheel", "to another option"),
    ("mouse click", "to this option, or to this value"),
    ("?", "this list"),
];

/// How far the page keys go where nothing was drawn yet.
const PAGE: isize = 10;

/// Does what a key says; returns what the terminal has to do.
pub fn key(model: &mut Model, key: KeyEvent) -> Option<Wish> {
    if key.kind == KeyEventKind::Release {
        return None;
    }
    model.is_stale = true;
    let control = key.modifiers.contains(KeyModifiers::CONTROL);
    match (control, key.code) {
        (true, KeyCode::Char('c')) => return Some(Wish::Leave),
        (true, KeyCode::Char('z')) => return Some(Wish::Stop),
        _ => {}
    }
    match model.mode.clone() {
        Mode::Choose => choose(model, control, key.code),
        Mode::Write { what, text, .. } => write(model, key.code, control, what, text),
        Mode::Ways { ways, at } => {
            match key.code {
                KeyCode::Up => model.mode = Mode::Ways { ways, at: at.saturating_sub(1) },
                KeyCode::Down => {
                    let at = (at + 1).min(ways.len().saturating_sub(1));
                    model.mode = Mode::Ways { ways, at };
                }
                KeyCode::Enter => {
                    model.mode = Mode::Choose;
                    if let Some(way) = ways.into_iter().nth(at) {
                        if way.lacking.is_empty() {
                            model.change(way.changes);
                        } else {
                            model.said = format!("first meet {}: boltboard survey", way.lacking.join(", "));
                        }
                    }
                }
                KeyCode::Esc => model.mode = Mode::Choose,
                _ => {}
            }
            None
        }
        Mode::Read { title, lines, top } => {
            let last = lines.len().saturating_sub(1);
            let to = match key.code {
                KeyCode::Up => top.saturating_sub(1),
                KeyCode::Down => top + 1,
                KeyCode::PageUp => top.saturating_sub(10),
                KeyCode::PageDown | KeyCode::Char(' ') => top + 10,
                KeyCode::Home => 0,
                KeyCode::End => last,
                KeyCode::Esc | KeyCode::Enter | KeyCode::Char('q' | '?') => {
                    model.mode = Mode::Choose;
                    return None;
                }
                _ => top,
            };
            model.mode = Mode::Read { title, lines, top: to.min(last) };
            None
        }
        Mode::Leave => {
            model.mode = Mode::Choose;
            match key.code {
                KeyCode::Enter => Some(Wish::Leave),
                KeyCode::Char('k') => Some(Wish::Keep),
                _ => None,
            }
        }
    }
}

fn choose(model: &mut Model, control: bool, code: KeyCode) -> Option<Wish> {
    let page = if model.areas.list.height > 1 { model.areas.list.height as isize - 1 } else { PAGE };
    if !matches!(code, KeyCode::Char('y')) {
        model.said.clear();
    }
    match (control, code) {
        (true, KeyCode::Char('q')) => return leave(model),
        (true, KeyCode::Char('k')) => return Some(Wish::Keep),
        (true, KeyCode::Char('b')) if model.slate.pending().is_empty() => return Some(Wish::Run(Run::Build)),
        (true, KeyCode::Char('p')) if model.slate.pending().is_empty() => return Some(Wish::Run(Run::Preview)),
        (true, KeyCode::Char('b' | 'p')) => model.said = "Keep the changes first (^K), or undo them.".into(),
        (true, KeyCode::Char('u')) => model.undo(false),
        (true, KeyCode::Char('r')) => model.undo(true),
        (true, KeyCode::Char('v')) => model.next_view(),
        (true, KeyCode::Char('l')) => model.next_level(),
        (true, KeyCode::Char('w')) => model.why(),
        (true, KeyCode::Char('d')) => model.details(),
        (true, KeyCode::Char('t')) => {
            let pending = model.option().and_then(|option| model.slate.of(option));
            match pending.map(|pending| pending.reason.clone().unwrap_or_default()) {
                Some(text) => model.mode = Mode::Write { what: Writing::Reason, text, fault: None },
                None => model.said = "A reason belongs to a change: change this option first.".into(),
            }
        }
        (true, KeyCode::Char('y')) => {
            let lines = model.command_lines();
            model.said = if lines.is_empty() { "Nothing is changed.".into() } else { lines.join(" && ") };
        }
        (_, KeyCode::Up) => model.go(-1),
        (_, KeyCode::Down) => model.go(1),
        (_, KeyCode::PageUp) => model.go(-page),
        (_, KeyCode::PageDown) => model.go(page),
        (_, KeyCode::Home) => model.go(isize::MIN / 2),
        (_, KeyCode::End) => model.go(isize::MAX / 2),
        (_, KeyCode::Left) => model.turn(-1),
        (_, KeyCode::Right) => model.turn(1),
        (_, KeyCode::Enter) => model.take(),
        (_, KeyCode::Delete) => model.take_back(),
        (_, KeyCode::Esc) if !model.words.is_empty() => {
            model.words.clear();
            model.list();
        }
        (_, KeyCode::Esc) => return leave(model),
        (_, KeyCode::Backspace) if model.words.pop().is_some() => model.list(),
        (false, KeyCode::Char('?')) => {
            let lines: Vec<String> = KEYS.iter().map(|(keys, what)| format!("{keys:<22}{what}")).collect();
            model.read("Keys".into(), &lines.join("\n"));
        }
        (false, KeyCode::Char(letter)) if !letter.is_control() && (letter != ' ' || !model.words.is_empty()) => {
            model.words.push(letter);
            model.list();
            // What is found best is at hand.
            model.go(isize::MIN / 2);
        }
        _ => {}
    }
    None
}

/// Changes are not left behind unasked.
fn leave(model: &mut Model) -> Option<Wish> {
    if model.slate.pending().is_empty() {
        return Some(Wish::Leave);
    }
    model.mode = Mode::Leave;
    None
}

fn write(model: &mut Model, code: KeyCode, control: bool, what: Writing, mut text: String) -> Option<Wish> {
    match code {
        KeyCode::Esc => {
            model.mode = Mode::Choose;
            return None;
        }
        KeyCode::Enter => {
            model.mode = Mode::Choose;
            match what {
                Writing::Reason => model.because(&text),
                Writing::Value => {
                    if let Err(fault) = model.written(&text) {
                        model.mode = Mode::Write { what, text, fault: Some(fault) };
                    }
                }
            }
            return None;
        }
        KeyCode::Backspace => {
            text.pop();
        }
        KeyCode::Char('u') if control => text.clear(),
        KeyCode::Char(letter) if !control => text.push(letter),
        _ => {}
    }
    let fault = match what {
        Writing::Value => model.fault_of(&text),
        Writing::Reason => None,
    };
    model.mode = Mode::Write { what, text, fault };
    None
}

/// Does what the mouse says.
pub fn mouse(model: &mut Model, mouse: MouseEvent) -> Option<Wish> {
    let (list, cards) = (model.areas.list, model.areas.cards);
    let at = ratatui::layout::Position { x: mouse.column, y: mouse.row };
    match mouse.kind {
        MouseEventKind::ScrollDown => model.go(1),
        MouseEventKind::ScrollUp => model.go(-1),
        MouseEventKind::Down(MouseButton::Left) if list.contains(at) => {
            let row = model.top + usize::from(mouse.row - list.y);
            if row < model.rows.len() {
                let by = isize::try_from(row).unwrap_or(0) - isize::try_from(model.at).unwrap_or(0);
                model.go(by);
            }
        }
        MouseEventKind::Down(MouseButton::Left) if cards.contains(at) => {
            if let Some(hand) = model.card_at(usize::from(mouse.row - cards.y)) {
                model.hand = hand;
                model.is_stale = true;
            }
        }
        _ => {}
    }
    None
}
