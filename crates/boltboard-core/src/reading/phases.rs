//! The first phases of translation: a mark of the encoding before all else is left out, a `\r` alone ends a line, trigraphs stand for other characters, and a line that ends in `\` goes on in the next. What comes out
//! knows where each of its bytes stood.

use std::borrow::Cow;
use std::ops::Range;

use super::Dialect;

/// A text after its first phases.
pub(super) struct Logical<'a> {
    /// The text.
    pub bytes: Cow<'a, [u8]>,
    /// From which byte on the text lies how far from where it stood: (where in `bytes`, where it stood).
    breaks: Vec<(usize, usize)>,
}

/// What some editors write at the beginning of a text in UTF-8.
const BYTE_ORDER_MARK: &[u8] = "\u{feff}".as_bytes();

/// What trigraphs stand for.
const TRIGRAPHS: [(u8, u8); 9] = [
    (b'=', b'#'),
    (b'/', b'\\'),
    (b'\'', b'^'),
    (b'(', b'['),
    (b')', b']'),
    (b'!', b'|'),
    (b'<', b'{'),
    (b'>', b'}'),
    (b'-', b'~'),
];

impl<'a> Logical<'a> {
    /// Brings a text through its first phases.
    pub fn of(text: &'a [u8], dialect: Dialect) -> Logical<'a> {
        let mut bytes = Vec::new();
        // How far the text is taken over.
        let mut from = if text.starts_with(BYTE_ORDER_MARK) { BYTE_ORDER_MARK.len() } else { 0 };
        let mut breaks = if from > 0 { vec![(0, from)] } else { Vec::new() };
        let mut at = from;
        while at < text.len() {
            let (as_one, len) = match text[at] {
                b'?' if dialect.trigraphs => match trigraph(&text[at..]) {
                    Some(c) => (c, 3),
                    None => (b'?', 1),
                },
                // As in texts of old.
                b'\r' if text.get(at + 1) != Some(&b'\n') => (b'\n', 1),
                c => (c, 1),
            };
            let joined = if as_one == b'\\' { line_end(&text[at + len..]) } else { None };
            if as_one == text[at] && joined.is_none() {
                at += 1;
                continue;
            }
            bytes.extend(&text[from..at]);
            match joined {
                Some(end) => at += len + end,
                None => {
                    bytes.push(as_one);
                    at += len;
                }
            }
            from = at;
            breaks.push((bytes.len(), at));
        }
        if from == 0 {
            return Logical { bytes: Cow::Borrowed(text), breaks };
        }
        bytes.extend(&text[from..]);
        Logical { bytes: Cow::Owned(bytes), breaks }
    }

    /// Returns where a byte stood.
    pub fn stood(&self, at: usize) -> usize {
        match self.breaks[..self.breaks.partition_point(|(logical, _)| *logical <= at)].last() {
            Some((logical, physical)) => physical + (at - logical),
            None => at,
        }
    }

    /// Returns where some bytes stood.
    pub fn span(&self, bytes: Range<usize>) -> Range<usize> {
        self.stood(bytes.start)..self.stood(bytes.end)
    }

    /// Returns the byte that stood there, or the first after it.
    pub fn from(&self, stood: usize) -> usize {
        match self.breaks[..self.breaks.partition_point(|(_, physical)| *physical <= stood)].last() {
            Some((logical, physical)) => logical + (stood - physical),
            None => stood,
        }
    }
}

fn trigraph(text: &[u8]) -> Option<u8> {
    let third = text.strip_prefix(b"??")?.first()?;
    TRIGRAPHS.iter().find(|(written, _)| written == third).map(|(_, meant)| *meant)
}

/// The length of the rest of a line that holds nothing but blanks, with its end.
fn line_end(text: &[u8]) -> Option<usize> {
    let blanks = text.iter().take_while(|c| matches!(c, b' ' | b'\t' | b'\x0b' | b'\x0c' | 0)).count();
    match text[blanks..] {
        [b'\r', b'\n', ..] => Some(blanks + 2),
        [b'\r' | b'\n', ..] => Some(blanks + 1),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reading::Dialects;

    #[test]
    fn lines_are_joined_and_places_stay_known() {
        let plain = Dialects::default().each().next().unwrap();
        let with = Dialect { trigraphs: true, ..plain };
        for (case, text, dialect, want) in [
            ("nothing to do", "int a;", plain, "int a;"),
            ("a joined line", "in\\\nt a;", plain, "int a;"),
            ("blanks behind it", "in\\ \t\nt a;", plain, "int a;"),
            ("two lines", "in\\\n\\\nt a;", plain, "int a;"),
            ("carriage returns", "in\\\r\nt a;", plain, "int a;"),
            ("a carriage return alone", "in\\\rt a;\rb", plain, "int a;\nb"),
            ("several before the end", "a\r\r\nb", plain, "a\n\r\nb"),
            ("no line's end", "in\\ t a;", plain, "in\\ t a;"),
            ("trigraphs", "??=a??(x", with, "#a[x"),
            ("no trigraphs", "??=a", plain, "??=a"),
            ("not one", "???=a??x", with, "?#a??x"),
            ("one that joins", "in??/\nt", with, "int"),
            ("a mark of the encoding", "\u{feff}int a;", plain, "int a;"),
            ("a mark, and lines joined", "\u{feff}in\\\nt a;", plain, "int a;"),
            ("no mark further on", "a\u{feff}b", plain, "a\u{feff}b"),
        ] {
            let logical = Logical::of(text.as_bytes(), dialect);
            assert_eq!(String::from_utf8_lossy(&logical.bytes), want, "{case}");
            let last = logical.bytes.len() - 1;
            let stood = text.as_bytes()[logical.stood(last)];
            assert!(stood == logical.bytes[last], "{case}");
            assert_eq!(logical.from(logical.stood(last)), last, "{case}");
        }
    }
}
