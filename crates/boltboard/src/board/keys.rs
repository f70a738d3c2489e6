//! What keys and the mouse do.

use crossterm::event::{KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Position;

use super::model::{Focus, Mode, Model, Picking, Run, Wish, Writing};
use super::walk::Walk;

/// Keys and what they do, for the help. `^` is the control key.
pub const KEYS: [(&str, &str); 31] = [
    ("letters", "find options by name, summary or section; filters such as off or in:links too"),
    ("Up, Down", "to another option"),
    ("Page keys, Home, End", "further"),
    ("Tab", "to the sections, and back to the options"),
    ("Left, Right", "to another value of the option"),
    ("Enter", "take that value; write it, where any text or number will do"),
    ("Delete", "take a choice back, or drop a change"),
    ("^U, ^R", "one step back, and forth again"),
    ("^T", "type the reason of a change"),
    ("^K", "keep the changes in the profile"),
    ("^Y", "show the command that does the same, and copy it where the terminal lets us"),
    ("^V, Shift-Tab", "another view: all, changed, blocked, new, lacking, needs; the one before"),
    ("^L", "another level: everyday, tuning, expert"),
    ("^W", "why the value is what it is; Enter goes to what is behind, Backspace back"),
    ("^D", "all about the option"),
    ("^E", "open its definition in $VISUAL or $EDITOR"),
    ("^O", "lay another profile beside this one"),
    ("^X, ^A", "take its value over; take over all choices that are listed"),
    ("^G", "go over to it, with this one beside it"),
    ("^F", "of a need: type the folder that holds it"),
    ("^S", "survey: what this host has and lacks"),
    ("^P", "what a build would do, in full"),
    ("^B", "build, and come back"),
    ("^N", "run the tests, and come back"),
    ("Esc", "back; out of a search; leave"),
    ("^Q", "leave"),
    ("^Z", "stop, as other programs do"),
    ("mouse wheel", "to another option"),
    ("mouse click", "to this section, option or value"),
    ("mouse drag", "more room for the options, or for the consequences"),
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
        Mode::Words { words, at, typing, .. } => {
            list_of_words(model, key.code, control, words, at, typing);
            None
        }
        Mode::Ways { ways, at } => {
            match picked(key.code, at, ways.len()) {
                Picked::At(at) => model.mode = Mode::Ways { ways, at },
                Picked::Back => model.mode = Mode::Choose,
                Picked::This => {
                    if let Some(way) = ways.into_iter().nth(at) {
                        model.take_way(way);
                    }
                }
            }
            None
        }
        Mode::Pick { what, items, at } => {
            match picked(key.code, at, items.len()) {
                Picked::At(at) => model.mode = Mode::Pick { what, items, at },
                Picked::Back => model.mode = Mode::Choose,
                Picked::This => {
                    model.mode = Mode::Choose;
                    match (what, items.get(at)) {
                        (Picking::Profile, Some(name)) => model.lay_beside(name),
                        (Picking::Profile, None) => {}
                    }
                }
            }
            None
        }
        Mode::Why(walk) => why(model, key.code, control, walk),
        Mode::Read { title, lines, top } => {
            match moved(key.code, top, lines.len()) {
                Some(top) => model.mode = Mode::Read { title, lines, top },
                None if matches!(key.code, KeyCode::Esc | KeyCode::Enter | KeyCode::Char('q' | '?')) => {
                    model.mode = Mode::Choose;
                }
                None => {}
            }
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

enum Picked {
    At(usize),
    This,
    Back,
}

/// Where a key leads in a list of which one is picked.
fn picked(code: KeyCode, at: usize, len: usize) -> Picked {
    match code {
        KeyCode::Enter => Picked::This,
        KeyCode::Esc => Picked::Back,
        _ => Picked::At(moved(code, at, len).unwrap_or(at)),
    }
}

/// Where a key leads in so many lines; nothing where it leads nowhere.
fn moved(code: KeyCode, at: usize, len: usize) -> Option<usize> {
    let last = len.saturating_sub(1);
    let to = match code {
        KeyCode::Up => at.saturating_sub(1),
        KeyCode::Down => at + 1,
        KeyCode::PageUp => at.saturating_sub(10),
        KeyCode::PageDown | KeyCode::Char(' ') => at + 10,
        KeyCode::Home => 0,
        KeyCode::End => last,
        _ => return None,
    };
    Some(to.min(last))
}

fn choose(model: &mut Model, control: bool, code: KeyCode) -> Option<Wish> {
    model.said.clear();
    if control {
        return command(model, code);
    }
    let page = if model.areas.list.height > 1 { model.areas.list.height as isize - 1 } else { PAGE };
    let by = match code {
        KeyCode::Up => Some(-1),
        KeyCode::Down => Some(1),
        KeyCode::PageUp => Some(-page),
        KeyCode::PageDown => Some(page),
        KeyCode::Home => Some(isize::MIN / 2),
        KeyCode::End => Some(isize::MAX / 2),
        _ => None,
    };
    match (by, code) {
        (Some(by), _) if model.focus == Focus::Outline => model.turn_section(by),
        (Some(by), _) => model.go(by),
        (None, KeyCode::Tab) => {
            model.focus = if model.focus == Focus::Outline { Focus::Options } else { Focus::Outline };
        }
        (None, KeyCode::BackTab) => model.turn_view(true),
        (None, KeyCode::Enter | KeyCode::Right | KeyCode::Esc) if model.focus == Focus::Outline => {
            model.focus = Focus::Options;
        }
        (None, KeyCode::Left) => model.turn(-1),
        (None, KeyCode::Right) => model.turn(1),
        (None, KeyCode::Enter) => model.take(),
        (None, KeyCode::Delete) => model.take_back(),
        (None, KeyCode::Esc) if !model.words.is_empty() => {
            model.words.clear();
            model.list();
        }
        (None, KeyCode::Esc) => return leave(model),
        (None, KeyCode::Backspace) if model.words.pop().is_some() => model.list(),
        (None, KeyCode::Char('?')) => {
            let lines: Vec<String> = KEYS.iter().map(|(keys, what)| format!("{keys:<22}{what}")).collect();
            model.read("Keys".into(), &lines.join("\n"));
        }
        (None, KeyCode::Char(letter)) if !letter.is_control() && (letter != ' ' || !model.words.is_empty()) => {
            model.focus = Focus::Options;
            model.words.push(letter);
            model.list();
            // What is found best is at hand.
            model.go(isize::MIN / 2);
        }
        (None, _) => {}
    }
    None
}

/// Does what a letter with the control key says.
fn command(model: &mut Model, code: KeyCode) -> Option<Wish> {
    let KeyCode::Char(letter) = code else { return None };
    match letter {
        'q' => return leave(model),
        'k' => return Some(Wish::Keep),
        'b' | 'p' | 'n' if !model.slate.pending().is_empty() => {
            model.said = "Keep the changes first (^K), or undo them.".into();
        }
        'b' => return Some(Wish::Run(Run::Build)),
        'p' => return Some(Wish::Run(Run::Preview)),
        'n' => return Some(Wish::Run(Run::Test)),
        's' => return Some(Wish::Run(Run::Survey)),
        'u' => model.undo(false),
        'r' => model.undo(true),
        'v' => model.turn_view(false),
        'l' => model.next_level(),
        'w' => model.why(),
        'd' => model.details(),
        'e' => return model.edit(model.item()),
        'o' => model.pick_other(),
        'x' => model.take_over(),
        'a' => model.take_all_over(),
        'g' => model.change_sides(),
        'f' => model.write_folder(),
        't' => {
            let pending = model.item().and_then(|item| model.slate.of(item));
            match pending.map(|pending| pending.reason.clone().unwrap_or_default()) {
                Some(text) => model.mode = Mode::Write { what: Writing::Reason, text, fault: None },
                None => model.said = "A reason belongs to a change: change this first.".into(),
            }
        }
        'y' => {
            let lines = model.command_lines();
            model.said = if lines.is_empty() { "Nothing is changed.".into() } else { lines.join(" && ") };
            return (!lines.is_empty()).then(|| Wish::Copy(lines.join("\n")));
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

fn why(model: &mut Model, code: KeyCode, control: bool, walk: Walk) -> Option<Wish> {
    match code {
        KeyCode::Char('e') if control => return model.edit(walk.item()),
        KeyCode::Enter | KeyCode::Right => model.walk_in(walk),
        KeyCode::Backspace | KeyCode::Left => model.walk_back(walk),
        KeyCode::Tab => model.walk_out(&walk),
        KeyCode::Esc => model.mode = Mode::Choose,
        _ => {
            let to = moved(code, walk.at, walk.lines.len()).unwrap_or(walk.at);
            model.walk(&walk, to);
        }
    }
    None
}

fn write(model: &mut Model, code: KeyCode, control: bool, what: Writing, mut text: String) -> Option<Wish> {
    match code {
        KeyCode::Esc => {
            model.mode = Mode::Choose;
            model.arrive();
            return None;
        }
        KeyCode::Enter => {
            model.mode = Mode::Choose;
            let taken = match what {
                Writing::Reason => {
                    model.because(&text);
                    Ok(())
                }
                Writing::Folder => model.take_folder(&text),
                Writing::Value => model.written(&text),
            };
            if let Err(fault) = taken {
                model.mode = Mode::Write { what, text, fault: Some(fault) };
            }
            return None;
        }
        KeyCode::Up | KeyCode::Down if what == Writing::Value => {
            text = model.stepped(&text, code == KeyCode::Up).unwrap_or(text);
        }
        KeyCode::Tab => {
            text = model.completed(what, &text);
        }
        KeyCode::Backspace => {
            text.pop();
        }
        KeyCode::Char('u') if control => text.clear(),
        KeyCode::Char(letter) if !control => text.push(letter),
        _ => return None,
    }
    model.written_so_far(what, text);
    None
}

/// Does what a key says in a list of words. The line after the last word is for one more.
fn list_of_words(
    model: &mut Model,
    code: KeyCode,
    control: bool,
    mut words: Vec<String>,
    mut at: usize,
    typing: Option<String>,
) {
    if let Some(mut text) = typing {
        let typing = match code {
            KeyCode::Esc => None,
            KeyCode::Enter => {
                // What holds blanks is several words; an empty one is none.
                let more: Vec<String> = text.split_whitespace().map(str::to_string).collect();
                words.splice(at..(at + 1).min(words.len()), more);
                at = (at + 1).min(words.len());
                None
            }
            KeyCode::Backspace => {
                text.pop();
                Some(text)
            }
            KeyCode::Char('u') if control => Some(String::new()),
            KeyCode::Char(letter) if !control => {
                text.push(letter);
                Some(text)
            }
            _ => Some(text),
        };
        let fault = model.words_so_far(&words);
        model.mode = Mode::Words { words, at, typing, fault };
        return;
    }
    let mut typing = None;
    match code {
        KeyCode::Esc => {
            model.mode = Mode::Choose;
            model.arrive();
            return;
        }
        KeyCode::Tab => {
            model.mode = Mode::Choose;
            if let Err(fault) = model.written(&words.join(" ")) {
                model.mode = Mode::Words { words, at, typing: None, fault: Some(fault) };
            }
            return;
        }
        KeyCode::Enter => typing = Some(words.get(at).cloned().unwrap_or_default()),
        KeyCode::Char(letter) if !control && letter != ' ' => {
            at = words.len();
            typing = Some(letter.to_string());
        }
        KeyCode::Delete | KeyCode::Backspace if at < words.len() => {
            words.remove(at);
        }
        _ => at = moved(code, at, words.len() + 1).unwrap_or(at),
    }
    let fault = model.words_so_far(&words);
    model.mode = Mode::Words { words, at, typing, fault };
}

/// Does what the mouse says.
pub fn mouse(model: &mut Model, mouse: MouseEvent) -> Option<Wish> {
    let areas = model.areas;
    let at = Position { x: mouse.column, y: mouse.row };
    match mouse.kind {
        MouseEventKind::ScrollDown => wheel(model, 1),
        MouseEventKind::ScrollUp => wheel(model, -1),
        MouseEventKind::Down(MouseButton::Left) if areas.divider.contains(at) => model.is_dragging = true,
        MouseEventKind::Up(MouseButton::Left) => model.is_dragging = false,
        MouseEventKind::Drag(MouseButton::Left) if model.is_dragging => {
            let left = areas.list.x;
            let room = areas.cards.right().saturating_sub(left).max(1);
            model.share = (mouse.column.saturating_sub(left) * 100 / room).clamp(20, 80);
            model.is_stale = true;
        }
        // What lies over the list is left by its own keys.
        MouseEventKind::Down(MouseButton::Left) if !matches!(model.mode, Mode::Choose) => {}
        MouseEventKind::Down(MouseButton::Left) if areas.outline.contains(at) => {
            let row = usize::from(mouse.row - areas.outline.y);
            if let Some(section) = super::draw::outline::section_at(model, row) {
                model.go_to_section(section);
            }
        }
        MouseEventKind::Down(MouseButton::Left) if areas.list.contains(at) => {
            let row = model.top + usize::from(mouse.row - areas.list.y);
            if row < model.rows.len() {
                model.focus = Focus::Options;
                model.put_at(row);
            }
        }
        MouseEventKind::Down(MouseButton::Left) if areas.cards.contains(at) => {
            if let Some(hand) = model.card_at(usize::from(mouse.row - areas.cards.y)) {
                model.hand = hand;
                model.is_stale = true;
            }
        }
        _ => {}
    }
    None
}

fn wheel(model: &mut Model, by: isize) {
    let step = |at: usize, len: usize| at.saturating_add_signed(by).min(len.saturating_sub(1));
    match model.mode.clone() {
        Mode::Choose => model.go(by),
        Mode::Why(walk) => model.walk(&walk, step(walk.at, walk.lines.len())),
        Mode::Read { title, lines, top } => {
            let top = step(top, lines.len());
            model.mode = Mode::Read { title, lines, top };
        }
        _ => {}
    }
    model.is_stale = true;
}
