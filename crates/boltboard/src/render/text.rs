//! Roles and their colours, columns, and numbers as people read them.

use anstyle::{AnsiColor, Style};
use unicode_width::UnicodeWidthStr;

use crate::fault::Next;

/// What a piece of text is; the theme decides how that looks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// A heading.
    Title,
    /// A name of the board.
    Name,
    /// A value that has an effect.
    Value,
    /// Good news, or what to do.
    Good,
    /// What wants attention.
    Warn,
    /// What is wrong.
    Bad,
    /// What is less important.
    Faint,
}

fn style(role: Role) -> Style {
    match role {
        Role::Title => Style::new().bold(),
        Role::Name => AnsiColor::Cyan.on_default(),
        Role::Value => Style::new().bold(),
        Role::Good => AnsiColor::Green.on_default(),
        Role::Warn => AnsiColor::Yellow.on_default(),
        Role::Bad => AnsiColor::Red.on_default().bold(),
        Role::Faint => Style::new().dimmed(),
    }
}

/// Paints a text. Writing to what is no terminal takes the paint off again.
pub fn paint(role: Role, text: &str) -> String {
    if text.is_empty() {
        return String::new();
    }
    let style = style(role);
    format!("{style}{text}{style:#}")
}

/// The paint that we put on texts ourselves, and what takes it off.
fn own_paint() -> Vec<String> {
    let roles = [Role::Title, Role::Name, Role::Value, Role::Good, Role::Warn, Role::Bad, Role::Faint];
    let on = roles.iter().map(|role| style(*role).render().to_string());
    let mut all: Vec<String> = on.chain([Style::new().bold().render_reset().to_string()]).collect();
    // One can begin as another does.
    all.sort_by_key(|paint| std::cmp::Reverse(paint.len()));
    all
}

/// Tells whether a character moves the cursor, changes the terminal, or turns the order of what is read: names and texts of a tree must
/// not do that.
fn acts_on_the_reader(c: char) -> bool {
    let turns = matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    let tags = matches!(c, '\u{e0000}'..='\u{e007f}');
    c.is_control() && c != '\n' && c != '\t' || turns || tags
}

/// Writes what acts on the terminal or on the reader as `\\u{1b}`; our own paint stays.
pub fn harmless(text: &str) -> String {
    if !text.contains(acts_on_the_reader) {
        return text.to_string();
    }
    let own = own_paint();
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if let Some(paint) = own.iter().find(|paint| !paint.is_empty() && rest.starts_with(paint.as_str())) {
            out.push_str(paint);
            rest = &rest[paint.len()..];
            continue;
        }
        if acts_on_the_reader(c) {
            out.extend(c.escape_unicode());
        } else {
            out.push(c);
        }
        rest = &rest[c.len_utf8()..];
    }
    out
}

/// Writes such characters in JSON as its own escapes.
pub fn harmless_json(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if acts_on_the_reader(c) {
            c.encode_utf16(&mut [0; 2]).iter().for_each(|unit| out.push_str(&format!("\\u{unit:04x}")));
        } else {
            out.push(c);
        }
    }
    out
}

/// Fills a text up to a width.
pub fn pad(text: &str, width: usize) -> String {
    format!("{text}{}", " ".repeat(width.saturating_sub(text.width())))
}

/// The width of what no terminal shows: tables are as wide as they are, prose is broken all the same.
pub const ENDLESS: usize = 10_000;
/// The width of prose there.
const PROSE: usize = 100;

/// Breaks a text into lines of at most `width`, at blanks.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    let width = if width > ENDLESS / 2 { PROSE } else { width };
    let mut lines = Vec::new();
    for paragraph in text.lines() {
        let mut line = String::new();
        for word in paragraph.split_whitespace() {
            if !line.is_empty() && wide(&line) + 1 + wide(word) > width {
                lines.push(std::mem::take(&mut line));
            }
            if !line.is_empty() {
                line.push(' ');
            }
            line.push_str(word);
        }
        lines.push(line);
    }
    lines
}

/// How wide a text is without its paint.
fn wide(text: &str) -> usize {
    console::measure_text_width(text)
}

/// A cell of a table: its text and how it is painted.
pub type Cell = (Role, String);

/// The widest that a column gets where not all fit, but for the last.
const WIDEST: usize = 44;
/// The narrowest that a column gets.
const NARROWEST: usize = 10;

/// Sets rows in columns. Nothing is cut: where they do not fit, cells go over several lines.
pub fn columns(rows: &[Vec<Cell>], indent: usize, width: usize) -> String {
    columns_within(rows, indent, width, WIDEST)
}

/// The same; before cells are broken, columns are left out, in this order. The first row is the head.
pub fn columns_leaving_out(mut rows: Vec<Vec<Cell>>, indent: usize, width: usize, leave_out: &[&str]) -> String {
    let natural = |rows: &[Vec<Cell>]| {
        let widths = natural(rows);
        indent + widths.iter().sum::<usize>() + 2 * widths.len().saturating_sub(1)
    };
    for name in leave_out {
        let at = rows.first().and_then(|head| head.iter().position(|(_, text)| text == name));
        if let Some(at) = at.filter(|_| natural(&rows) > width) {
            rows.iter_mut().filter(|row| row.len() > at).for_each(|row| drop(row.remove(at)));
        }
    }
    columns(&rows, indent, width)
}

/// How wide columns are when nothing is broken.
fn natural(rows: &[Vec<Cell>]) -> Vec<usize> {
    let count = rows.iter().map(Vec::len).max().unwrap_or(0);
    // The last cell of a short row goes over the columns that it lacks.
    let own = |row: &&Vec<Cell>, column: usize| row.len() == count || column + 1 < row.len();
    let widest = |column: usize| {
        let rows = rows.iter().filter(|row| own(row, column));
        rows.filter_map(|row| row.get(column)).map(|cell| cell.1.width()).max()
    };
    (0..count).map(|column| widest(column).unwrap_or(0)).collect()
}

/// The same with columns of at most `limit` where not all fit.
pub fn columns_within(rows: &[Vec<Cell>], indent: usize, width: usize, limit: usize) -> String {
    lines_within(rows, indent, width, limit).concat()
}

/// The same, row by row; each ends with a line's end.
pub fn lines_within(rows: &[Vec<Cell>], indent: usize, width: usize, limit: usize) -> Vec<String> {
    let mut widths = natural(rows);
    let gaps = indent + 2 * widths.len().saturating_sub(1);
    let room = width.saturating_sub(gaps);
    if widths.iter().sum::<usize>() > room
        && let Some((last, others)) = widths.split_last_mut()
    {
        others.iter_mut().for_each(|width| *width = (*width).min(limit));
        // The widest ones give way until the last has a third of the room.
        while room.saturating_sub(others.iter().sum::<usize>()) < (*last).min(room / 3) {
            match others.iter_mut().max() {
                Some(widest) if *widest > NARROWEST => *widest -= 1,
                _ => break,
            }
        }
        *last = (*last).min(room.saturating_sub(others.iter().sum::<usize>()).max(NARROWEST));
    }
    let mut all = Vec::new();
    for row in rows {
        let mut text = String::new();
        let rest = |from: usize| widths[from..].iter().sum::<usize>() + 2 * (widths.len() - from - 1);
        let room = |column: usize| if column + 1 == row.len() { rest(column) } else { widths[column] };
        let cells: Vec<Vec<String>> =
            row.iter().enumerate().map(|(column, (_, cell))| broken(cell, room(column))).collect();
        let lines = cells.iter().map(Vec::len).max().unwrap_or(1);
        for line in 0..lines {
            text.push_str(&" ".repeat(indent));
            for (column, (role, _)) in row.iter().enumerate() {
                let piece = cells[column].get(line).map_or("", String::as_str);
                if column + 1 == row.len() {
                    text.push_str(&paint(*role, piece));
                } else {
                    text.push_str(&paint(*role, piece));
                    text.push_str(&" ".repeat((widths[column] + 2).saturating_sub(piece.width())));
                }
            }
            text.truncate(text.trim_end_matches(' ').len());
            text.push('\n');
        }
        all.push(text);
    }
    all
}

/// Breaks a cell into lines of at most `width`: at blanks, else behind a sign that parts a word, else anywhere.
fn broken(cell: &str, width: usize) -> Vec<String> {
    // A name can have a line's end in it, and a cell is one line.
    let cell = &cell.replace('\n', "\\n");
    if cell.width() <= width {
        return vec![cell.to_string()];
    }
    let mut lines = Vec::new();
    let mut line = String::new();
    for word in cell.split(' ') {
        if !line.is_empty() && line.width() + 1 + word.width() > width {
            lines.push(std::mem::take(&mut line));
        }
        if !line.is_empty() {
            line.push(' ');
        }
        line.push_str(word);
        while line.width() > width {
            let mut end = line.char_indices().map(|(at, _)| at).nth(width).unwrap_or(line.len());
            let sign = line[..end].rfind(['/', ',', '-', '=', ':']).map(|at| at + 1).filter(|at| *at > end / 2);
            end = sign.unwrap_or(end);
            let rest = line.split_off(end);
            lines.push(std::mem::replace(&mut line, rest));
        }
    }
    lines.push(line);
    lines
}

/// How far the words beside commands are set apart at most.
const BESIDE: usize = 56;

/// Writes commands to type next, a line each: `→ boltboard show fog   what it accepts`.
pub fn next_lines(next: &[Next], indent: usize) -> String {
    let widest = next.iter().map(|next| next.command.width()).filter(|width| *width <= BESIDE).max().unwrap_or(0);
    let line = |next: &Next| {
        let gives =
            if next.gives.is_empty() { String::new() } else { format!("   {}", paint(Role::Faint, &next.gives)) };
        let command = if gives.is_empty() { next.command.clone() } else { pad(&next.command, widest) };
        format!("{}{} {}{gives}\n", " ".repeat(indent), paint(Role::Good, "→"), paint(Role::Good, &command))
    };
    next.iter().map(line).collect()
}

/// Writes a long command after `lead`: on a terminal in lines that a shell takes as one.
pub fn command_lines(lead: &str, command: &str, width: usize) -> String {
    let room = width.saturating_sub(lead.width().max(6) + 2);
    let mut lines = vec![String::new()];
    for word in shell_words(command) {
        let line = lines.last().map_or(0, |line| line.width());
        if line > 0 && line + 1 + word.width() > room {
            lines.push(String::new());
        }
        if let Some(line) = lines.last_mut() {
            line.push_str(if line.is_empty() { "" } else { " " });
            line.push_str(word);
        }
    }
    let last = lines.len() - 1;
    let lines = lines.iter().enumerate().map(|(at, line)| {
        let (lead, end) = (if at == 0 { lead } else { "      " }, if at == last { "" } else { " \\" });
        format!("{lead}{}\n", paint(Role::Good, &format!("{line}{end}")))
    });
    lines.collect()
}

/// The words of a command with their quotes.
fn shell_words(command: &str) -> Vec<&str> {
    let mut quoted = false;
    let parts = |c: char| {
        quoted ^= c == '\'';
        c == ' ' && !quoted
    };
    command.split(parts).filter(|word| !word.is_empty()).collect()
}

/// Writes one command to type next.
pub fn next_line(command: impl Into<String>, gives: impl Into<String>) -> String {
    next_lines(&[Next::new(command, gives)], 0)
}

/// Writes a number with its noun.
pub fn count(number: usize, one: &str, many: &str) -> String {
    if number == 1 { format!("1 {one}") } else { format!("{number} {many}") }
}

/// Writes a time.
pub fn duration(ms: u64) -> String {
    match ms {
        0..=999 => format!("{ms} ms"),
        1_000..=59_999 => format!("{}.{} s", ms / 1000, ms % 1000 / 100),
        60_000..=3_599_999 => format!("{} min {} s", ms / 60_000, ms % 60_000 / 1000),
        _ => format!("{} h {} min", ms / 3_600_000, ms % 3_600_000 / 60_000),
    }
}

/// Writes how long ago something was, roughly.
pub fn age(seconds: u64) -> String {
    match seconds {
        0..=119 => format!("{seconds} s ago"),
        120..=7_199 => format!("{} min ago", seconds / 60),
        7_200..=172_799 => format!("{} h ago", seconds / 3_600),
        _ => format!("{} days ago", seconds / 86_400),
    }
}

/// Writes a number of bytes, rounded.
pub fn bytes(bytes: u64) -> String {
    const UNITS: [(&str, u64); 3] = [("GiB", 1 << 30), ("MiB", 1 << 20), ("KiB", 1 << 10)];
    match UNITS.iter().find(|(_, factor)| bytes >= *factor) {
        Some((unit, factor)) => {
            let tenths = bytes.saturating_mul(10) / factor;
            format!("{}.{} {unit}", tenths / 10, tenths % 10)
        }
        None => format!("{bytes} B"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_read_as_people_say_them() {
        for (ms, want) in
            [(0, "0 ms"), (999, "999 ms"), (1_250, "1.2 s"), (61_000, "1 min 1 s"), (7_260_000, "2 h 1 min")]
        {
            assert_eq!(duration(ms), want);
        }
        for (size, want) in [(0, "0 B"), (1023, "1023 B"), (1536, "1.5 KiB"), (5 << 30, "5.0 GiB")] {
            assert_eq!(bytes(size), want);
        }
        for (seconds, want) in
            [(0, "0 s ago"), (119, "119 s ago"), (120, "2 min ago"), (7_200, "2 h ago"), (900_000, "10 days ago")]
        {
            assert_eq!(age(seconds), want);
        }
        assert_eq!((count(1, "step", "steps"), count(0, "step", "steps")), ("1 step".into(), "0 steps".into()));
    }

    #[test]
    fn texts_are_padded_and_broken_by_width_not_by_bytes() {
        assert_eq!(pad("é", 3), "é  ");
        assert_eq!(wrap("one two three\n\nfour", 8), ["one two", "three", "", "four"]);
        assert_eq!(wrap("unbreakable", 4), ["unbreakable"]);
        assert_eq!(broken("one two three", 8), ["one two", "three"]);
        assert_eq!(broken("/usr/lib/pkgconfig", 10), ["/usr/lib/", "pkgconfig"]);
        assert_eq!(broken("abcdefgh", 3), ["abc", "def", "gh"]);
    }

    #[test]
    fn columns_line_up_and_nothing_is_cut() {
        let cell = |text: &str| (Role::Faint, text.to_string());
        let rows = vec![
            vec![cell("a"), cell("long one"), cell("rest")],
            vec![cell("bbb"), cell("x"), cell("a very long rest of the row")],
        ];
        let plain = |text: String| anstream::adapter::strip_str(&text).to_string();
        let narrow = plain(columns(&rows, 1, 30));
        assert_eq!(
            narrow,
            " a    long one  rest\n bbb  x         a very long\n                rest of the\n                row\n"
        );
        let wide = plain(columns(&rows, 0, ENDLESS));
        assert_eq!(wide.lines().last(), Some("bbb  x         a very long rest of the row"));
    }

    #[test]
    fn long_commands_are_folded_between_words_alone() {
        let plain = |width| {
            anstream::adapter::strip_str(&command_lines("  run: ", "cc -DX='a b c' -o out file.c", width)).to_string()
        };
        assert_eq!(plain(ENDLESS), "  run: cc -DX='a b c' -o out file.c\n");
        assert_eq!(plain(30), "  run: cc -DX='a b c' -o out \\\n      file.c\n");
    }

    #[test]
    fn columns_are_left_out_before_cells_are_broken() {
        let row = |texts: [&str; 3]| texts.map(|text| (Role::Faint, text.to_string())).to_vec();
        let rows = vec![row(["name", "less", "what"]), row(["fog", "0123456789", "a reason"])];
        let plain =
            |width| anstream::adapter::strip_str(&columns_leaving_out(rows.clone(), 0, width, &["less"])).to_string();
        assert_eq!(plain(40), "name  less        what\nfog   0123456789  a reason\n");
        assert_eq!(plain(20), "name  what\nfog   a reason\n");
    }

    #[test]
    fn what_acts_on_a_terminal_is_written_out() {
        assert_eq!(harmless("a\u{1b}[2Jb\u{7}\u{202e}c\n"), "a\\u{1b}[2Jb\\u{7}\\u{202e}c\n");
        let painted = paint(Role::Bad, "x\u{1b}[31m");
        let whole = format!("{}x\\u{{1b}}[31m{:#}", style(Role::Bad), style(Role::Bad));
        assert_eq!(harmless(&painted), whole, "our own paint stays");
        assert_eq!(harmless_json("\"\u{9b}\u{e0041}\""), "\"\\u009b\\udb40\\udc41\"");
    }

    #[test]
    fn nothing_is_painted_for_nothing() {
        assert_eq!(paint(Role::Bad, ""), "");
        assert!(paint(Role::Bad, "x").contains('x') && paint(Role::Bad, "x").len() > 1);
    }
}
