//! A screen that is written with few bytes, for slow lines: what looks the same is not written again, and a short way is written over
//! rather than jumped.

use std::collections::BTreeMap;
use std::io::{self, Write};

use crossterm::cursor::MoveTo;
use crossterm::queue;
use crossterm::terminal::{self, Clear};
use ratatui::backend::{Backend, ClearType, CrosstermBackend, WindowSize};
use ratatui::buffer::{Buffer, Cell};
use ratatui::layout::{Position, Rect, Size};
use ratatui::style::{Color, Modifier};
use unicode_width::UnicodeWidthStr;

/// A jump takes about as many bytes.
const JUMP: u16 = 6;
/// A jump with an erasure takes about as many bytes.
const ERASE: usize = 12;
/// What stands for a cell of which nobody knows what it shows; it is never drawn.
const UNKNOWN: &str = "\u{fffd}";

/// A terminal that knows what it shows.
pub struct Economical<W: Write> {
    inner: CrosstermBackend<W>,
    shown: Buffer,
}

impl<W: Write> Economical<W> {
    /// A terminal that shows nothing yet.
    pub fn new(writer: W) -> Economical<W> {
        Economical { inner: CrosstermBackend::new(writer), shown: Buffer::empty(Rect::default()) }
    }

    /// Makes room for a cell.
    fn reach(&mut self, x: u16, y: u16) {
        let area = self.shown.area;
        if x >= area.width || y >= area.height {
            // Cells are kept by rows, so another width is another screen.
            let mut larger = Buffer::empty(Rect::new(0, 0, area.width.max(x + 1), area.height.max(y + 1)));
            larger.merge(&self.shown);
            self.shown = larger;
        }
    }

    /// Takes in what is to be shown, and returns what of it looks otherwise than before.
    fn changes<'a>(&mut self, content: impl Iterator<Item = (u16, u16, &'a Cell)>) -> Vec<(u16, u16, Cell)> {
        let mut changes = Vec::new();
        for (x, y, cell) in content {
            self.reach(x, y);
            let shown = &self.shown[(x, y)];
            if is_blank(cell) && is_blank(shown) && cell.bg == shown.bg {
                continue;
            }
            // Half of a wide sign that is written over, or that is hidden by one, is something that nobody knows.
            let is_wide = shown.symbol().width() > 1 || cell.symbol().width() > 1;
            let was_half = shown.symbol() == UNKNOWN;
            self.shown[(x, y)] = cell.clone();
            if is_wide {
                self.forget(x.checked_add(1), y);
            }
            if was_half {
                self.forget(x.checked_sub(1).filter(|at| self.shown[(*at, y)].symbol().width() > 1), y);
            }
            changes.push((x, y, cell.clone()));
        }
        changes
    }

    /// From where on rows are erased to their ends, where that is shorter than writing blanks.
    fn erased(&self, changes: &[(u16, u16, Cell)]) -> BTreeMap<u16, u16> {
        let width = self.shown.area.width;
        let mut ends: BTreeMap<u16, u16> = BTreeMap::new();
        let mut blanks: BTreeMap<u16, (u16, usize)> = BTreeMap::new();
        let plain = |cell: &Cell| is_blank(cell) && cell.bg == Color::Reset;
        for (x, y, cell) in changes {
            let end = *ends.entry(*y).or_insert_with(|| {
                let seen = (0..width).rev().find(|at| !plain(&self.shown[(*at, *y)]));
                seen.map_or(0, |at| at + 1)
            });
            if plain(cell) && *x >= end {
                blanks.entry(*y).or_insert((*x, 0)).1 += 1;
            }
        }
        let worth = blanks.into_iter().filter(|(_, (_, count))| *count > ERASE);
        worth.map(|(y, (from, _))| (y, from)).collect()
    }

    /// Takes note that it is not known what a cell shows.
    fn forget(&mut self, x: Option<u16>, y: u16) {
        if let Some(cell) = x.and_then(|x| self.shown.cell_mut((x, y))) {
            cell.set_symbol(UNKNOWN);
        }
    }

    /// Puts the cells between the last one that is written and this place into the row, where that is shorter than a jump.
    fn fill(&self, cells: &mut Vec<(u16, u16, Cell)>, x: u16, y: u16) {
        let Some((last, row, before)) = cells.last() else { return };
        let from = last + 1;
        if *row != y || x <= from || x - from > JUMP || before.symbol().width() != 1 {
            return;
        }
        let before = before.clone();
        let between: Vec<&Cell> = (from..x).filter_map(|at| self.shown.cell((at, y))).collect();
        let fits = |cell: &&Cell| cell.symbol().width() == 1 && cell.symbol() != UNKNOWN && looks_as(cell, &before);
        if between.len() == usize::from(x - from) && between.iter().all(fits) {
            let filled = between.into_iter().zip(from..x).map(|(cell, at)| (at, y, in_passing(cell, &before)));
            cells.extend(filled.collect::<Vec<_>>());
        }
    }
}

/// Whether nothing of a cell is to be seen.
fn is_blank(cell: &Cell) -> bool {
    let seen = Modifier::REVERSED | Modifier::UNDERLINED | Modifier::CROSSED_OUT;
    cell.symbol() == " " && !cell.modifier.intersects(seen)
}

/// Whether a cell can be written in the style of another.
fn looks_as(cell: &Cell, style: &Cell) -> bool {
    let same = cell.modifier == style.modifier && cell.fg == style.fg;
    cell.bg == style.bg && (same || is_blank(cell) && !style.modifier.contains(Modifier::REVERSED))
}

/// A cell as it is written after another: a blank takes that one's style, so that none has to be set.
fn in_passing(cell: &Cell, before: &Cell) -> Cell {
    if is_blank(cell) && looks_as(cell, before) {
        let mut blank = before.clone();
        blank.set_symbol(" ");
        return blank;
    }
    cell.clone()
}

impl<W: Write> Backend for Economical<W> {
    type Error = io::Error;

    fn draw<'a, I>(&mut self, content: I) -> io::Result<()>
    where
        I: Iterator<Item = (u16, u16, &'a Cell)>,
    {
        let changes = self.changes(content);
        let erased = self.erased(&changes);
        let mut cells: Vec<(u16, u16, Cell)> = Vec::new();
        for (x, y, cell) in &changes {
            if erased.get(y).is_some_and(|from| x >= from) {
                continue;
            }
            self.fill(&mut cells, *x, *y);
            let written = cells.last().map_or_else(|| cell.clone(), |(_, _, before)| in_passing(cell, before));
            cells.push((*x, *y, written));
        }
        self.inner.draw(cells.iter().map(|(x, y, cell)| (*x, *y, cell)))?;
        // After that, no style is set: what is erased is plain.
        for (y, x) in erased {
            queue!(self.inner, MoveTo(x, y), Clear(terminal::ClearType::UntilNewLine))?;
        }
        Ok(())
    }

    fn hide_cursor(&mut self) -> io::Result<()> {
        self.inner.hide_cursor()
    }

    fn show_cursor(&mut self) -> io::Result<()> {
        self.inner.show_cursor()
    }

    fn get_cursor_position(&mut self) -> io::Result<Position> {
        self.inner.get_cursor_position()
    }

    fn set_cursor_position<P: Into<Position>>(&mut self, position: P) -> io::Result<()> {
        self.inner.set_cursor_position(position)
    }

    fn clear(&mut self) -> io::Result<()> {
        self.shown = Buffer::empty(Rect::default());
        self.inner.clear()
    }

    fn clear_region(&mut self, clear_type: ClearType) -> io::Result<()> {
        self.shown = Buffer::empty(Rect::default());
        self.inner.clear_region(clear_type)
    }

    fn size(&self) -> io::Result<Size> {
        self.inner.size()
    }

    fn window_size(&mut self) -> io::Result<WindowSize> {
        self.inner.window_size()
    }

    fn flush(&mut self) -> io::Result<()> {
        Backend::flush(&mut self.inner)
    }
}

#[cfg(test)]
mod tests {
    use std::cell::RefCell;
    use std::num::NonZeroU16;
    use std::rc::Rc;

    use ratatui::style::Style;

    use super::*;

    const SIZE: (u16, u16) = (40, 10);
    const BLANKS: &str = "                                        ";

    /// What was written, for both ends.
    #[derive(Clone, Default)]
    struct Sink(Rc<RefCell<Vec<u8>>>);

    impl Write for Sink {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            self.0.borrow_mut().extend_from_slice(bytes);
            Ok(bytes.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    fn frame(dice: &mut fastrand::Rng, before: &Buffer) -> Buffer {
        let mut frame = before.clone();
        for _ in 0..dice.usize(1..12) {
            let modifier = *dice
                .choice([Modifier::empty(), Modifier::DIM, Modifier::BOLD, Modifier::REVERSED].iter())
                .expect("one");
            let color = *dice.choice([Color::Reset, Color::Yellow].iter()).expect("one");
            let style = Style::reset().fg(color).add_modifier(modifier);
            let text =
                *dice.choice(["lamp", "a  b c", "      ", "灯台 x", "é…ü", "    y", BLANKS].iter()).expect("one");
            frame.set_string(dice.u16(0..SIZE.0), dice.u16(0..SIZE.1), text, style);
        }
        frame
    }

    #[test]
    fn a_terminal_shows_every_frame_as_it_was_drawn_and_is_written_less() {
        let size = |number| NonZeroU16::new(number).expect("a size");
        let mut dice = fastrand::Rng::with_seed(4);
        let terminal = || vt100::Parser::new(size(SIZE.1), size(SIZE.0), 0);
        let (mut ours_shows, mut usual_shows) = (terminal(), terminal());
        let mut before = Buffer::empty(Rect::new(0, 0, SIZE.0, SIZE.1));
        let (written, usually) = (Sink::default(), Sink::default());
        let mut ours = Economical::new(written.clone());
        let mut usual = CrosstermBackend::new(usually.clone());
        let (mut sum_ours, mut sum_usual) = (0, 0);
        for round in 0..400 {
            let after = frame(&mut dice, &before);
            let changes = before.diff(&after);
            ours.draw(changes.iter().map(|(x, y, cell)| (*x, *y, *cell))).expect("written");
            usual.draw(changes.iter().map(|(x, y, cell)| (*x, *y, *cell))).expect("written");
            let (bytes, usually) = (written.0.take(), usually.0.take());
            ours_shows.process(&bytes);
            usual_shows.process(&usually);
            for (x, y) in (0..SIZE.0).flat_map(|x| (0..SIZE.1).map(move |y| (x, y))) {
                let [ours, usual] = [&ours_shows, &usual_shows].map(|shown| shown.screen().cell(y, x).expect("a cell"));
                let sign = |cell: &vt100::Cell| cell.contents().trim().to_string();
                let seen = |cell: &vt100::Cell| (sign(cell), cell.inverse(), cell.bgcolor());
                assert_eq!(seen(ours), seen(usual), "round {round}, {x},{y}");
                let style = |cell: &vt100::Cell| (cell.dim(), cell.bold(), cell.fgcolor());
                assert!(sign(ours).is_empty() || style(ours) == style(usual), "round {round}, {x},{y}");
            }
            before = after;
            (sum_ours, sum_usual) = (sum_ours + bytes.len(), sum_usual + usually.len());
        }
    }
}
