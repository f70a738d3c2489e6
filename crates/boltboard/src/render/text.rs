//! Roles and their colours, columns, and numbers as people read them.

use anstyle::{AnsiColor, Style};
use unicode_width::UnicodeWidthStr;

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

/// Fills a text up to a width.
pub fn pad(text: &str, width: usize) -> String {
    format!("{text}{}", " ".repeat(width.saturating_sub(text.width())))
}

/// Cuts a text to a width.
pub fn clip(text: &str, width: usize) -> String {
    if text.width() <= width {
        return text.to_string();
    }
    let mut out = String::new();
    for c in text.chars() {
        if out.width() + 1 >= width {
            break;
        }
        out.push(c);
    }
    out.trim_end().to_string() + "…"
}

/// Breaks a text into lines of at most `width`, at blanks.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
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

/// The widest that a column gets, but for the last.
const WIDEST: usize = 44;

/// Sets rows in columns; the last column takes what is left of the width.
pub fn columns(rows: &[Vec<Cell>], indent: usize, width: usize) -> String {
    columns_within(rows, indent, width, WIDEST)
}

/// The same with columns of at most `limit`.
pub fn columns_within(rows: &[Vec<Cell>], indent: usize, width: usize, limit: usize) -> String {
    let count = rows.iter().map(Vec::len).max().unwrap_or(0);
    let widest = |column: usize| rows.iter().filter_map(|r| r.get(column)).map(|c| c.1.width()).max().unwrap_or(0);
    let widths: Vec<usize> = (0..count).map(|c| widest(c).min(limit)).collect();
    let mut text = String::new();
    for row in rows {
        let mut used = indent;
        text.push_str(&" ".repeat(indent));
        for (column, (role, cell)) in row.iter().enumerate() {
            if column + 1 == row.len() {
                text.push_str(&paint(*role, &clip(cell, width.saturating_sub(used).max(12))));
            } else {
                let cell = clip(cell, widths[column]);
                text.push_str(&paint(*role, &pad(&cell, widths[column])));
                text.push_str("  ");
                used += widths[column] + 2;
            }
        }
        while text.ends_with(' ') {
            text.pop();
        }
        text.push('\n');
    }
    text
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
    fn texts_are_padded_cut_and_broken_by_width_not_by_bytes() {
        assert_eq!(pad("é", 3), "é  ");
        assert_eq!(clip("lighthouse", 6), "light…");
        assert_eq!(clip("lamp", 4), "lamp");
        assert_eq!(clip("a  b", 3), "a…", "no blank before the mark");
        assert_eq!(wrap("one two three\n\nfour", 8), ["one two", "three", "", "four"]);
        assert_eq!(wrap("unbreakable", 4), ["unbreakable"]);
    }

    #[test]
    fn columns_line_up_and_the_last_takes_the_rest() {
        let cell = |text: &str| (Role::Faint, text.to_string());
        let rows = vec![
            vec![cell("a"), cell("long one"), cell("rest")],
            vec![cell("bbb"), cell("x"), cell("a very long rest of the row")],
        ];
        let plain = anstream::adapter::strip_str(&columns(&rows, 1, 30)).to_string();
        assert_eq!(plain, " a    long one  rest\n bbb  x         a very long r…\n");
        let narrow = anstream::adapter::strip_str(&columns_within(&rows, 0, 40, 4)).to_string();
        assert_eq!(narrow.lines().next(), Some("a    lon…  rest"));
    }

    #[test]
    fn nothing_is_painted_for_nothing() {
        assert_eq!(paint(Role::Bad, ""), "");
        assert!(paint(Role::Bad, "x").contains('x') && paint(Role::Bad, "x").len() > 1);
    }
}
