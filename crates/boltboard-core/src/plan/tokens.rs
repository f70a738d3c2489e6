//! Reading C text as tokens: which names occur, which headers are asked for, whether names are built by pasting.
//!
//! Comments, strings and character constants hold no names. Lines that end in `\` go on. Names are kept as hashes: two
//! names with one hash would at worst make a file depend on an option that it does not name.

use std::ops::Range;

/// What a C text names.
#[derive(Debug, Clone, Default)]
pub struct Tokens {
    /// The hashes of all names, sorted.
    pub(super) names: Vec<u64>,
    /// The headers that it asks for.
    pub includes: Vec<Include>,
    /// Where it asks an assembler for further files (`.incbin`, `.include`).
    pub assembly: Assembly,
    /// Those that it asks for as they are (`.incbin`) and plainly by name.
    pub binaries: Vec<String>,
    /// Whether it builds names by pasting (`##`).
    pub pastes: bool,
}

/// Where a text asks an assembler for further files.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord)]
pub enum Assembly {
    /// Nowhere.
    #[default]
    Nowhere,
    /// In its text, which counts where the text itself is assembled.
    Text,
    /// In a string, which a C compiler can hand on.
    Strings,
}

/// A header that a text asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Include {
    /// `#include "name"`: looked for beside the file first.
    Beside(String),
    /// `#include <name>`
    Searched(String),
}

/// The hash of the empty name.
pub(super) const EMPTY: u64 = 0xcbf2_9ce4_8422_2325;

/// Goes on from the hash of a name to that of the name with one more byte: FNV-1a of 64 bits.
pub(super) fn with_byte(hash: u64, byte: u8) -> u64 {
    (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
}

/// Returns the hash of a name.
pub(super) fn hash(name: &[u8]) -> u64 {
    name.iter().fold(EMPTY, |hash, byte| with_byte(hash, *byte))
}

impl Tokens {
    /// Reads a text.
    pub fn of(text: &[u8]) -> Tokens {
        let mut reader = Reader::of(text);
        reader.all();
        let mut tokens = reader.tokens;
        if asks_assembler(text) {
            tokens.binaries = binaries(text);
            tokens.assembly = tokens.assembly.max(Assembly::Text);
        }
        tokens.names.sort_unstable();
        tokens.names.dedup();
        tokens.names.shrink_to_fit();
        tokens
    }

    /// Tells whether two texts have the same code in the same lines and columns; directives and comments may differ.
    pub fn stand_alike(a: &[u8], b: &[u8]) -> bool {
        let code = |text| {
            let mut reader = Reader::of(text);
            reader.all();
            let mut code = text.to_vec();
            for span in reader.skipped {
                code[span].iter_mut().filter(|c| **c != b'\n').for_each(|c| *c = b' ');
            }
            code
        };
        let (a, b) = (code(a), code(b));
        let lines = |code: &[u8]| code.split(|c| *c == b'\n').map(|line| line.trim_ascii_end().to_vec()).collect();
        let (a, b): (Vec<Vec<u8>>, Vec<Vec<u8>>) = (lines(&a), lines(&b));
        a == b
    }

    /// Returns a text with blanks for its comments, and where its directives stand.
    pub(super) fn without_comments(text: &[u8]) -> (Vec<u8>, Vec<Range<usize>>) {
        let mut reader = Reader::of(text);
        reader.all();
        let mut rest = text.to_vec();
        let (mut directives, comments): (Vec<_>, Vec<_>) =
            reader.skipped.into_iter().partition(|span| matches!(text.get(span.start), Some(b'#' | b'%')));
        for span in comments {
            rest[span].iter_mut().filter(|c| **c != b'\n').for_each(|c| *c = b' ');
        }
        directives.sort_unstable_by_key(|span| span.start);
        (rest, directives)
    }

    /// Tells whether a name occurs.
    pub fn names(&self, name: &str) -> bool {
        self.names.binary_search(&hash(name.as_bytes())).is_ok()
    }
}

fn asks_assembler(text: &[u8]) -> bool {
    let dots = text.iter().enumerate().filter(|(_, c)| **c == b'.').map(|(at, _)| &text[at..]);
    dots.into_iter().any(|rest| rest.starts_with(b".incbin") || rest.starts_with(b".include"))
}

fn binaries(text: &[u8]) -> Vec<String> {
    const ASKED: &[u8] = b".incbin";
    let mut names = Vec::new();
    let starts = text.iter().enumerate().filter(|(at, c)| **c == b'.' && text[*at..].starts_with(ASKED));
    for (at, _) in starts {
        let rest = text[at + ASKED.len()..].trim_ascii_start();
        let rest = rest.strip_prefix(b"\\").unwrap_or(rest);
        let name = rest.strip_prefix(b"\"").and_then(|rest| rest.split(|c| b"\"\\\n".contains(c)).next());
        names.extend(name.map(|name| String::from_utf8_lossy(name).into_owned()));
    }
    names
}

struct Reader<'a> {
    text: &'a [u8],
    at: usize,
    tokens: Tokens,
    line_start: bool,
    /// Where the directive began that is being read.
    directive: Option<usize>,
    /// Comments and directives.
    skipped: Vec<Range<usize>>,
}

fn is_start(c: u8) -> bool {
    c.is_ascii_alphabetic() || c == b'_' || c == b'$' || c >= 0x80
}

fn is_more(c: u8) -> bool {
    is_start(c) || c.is_ascii_digit()
}

impl<'a> Reader<'a> {
    fn of(text: &'a [u8]) -> Reader<'a> {
        Reader { text, at: 0, tokens: Tokens::default(), line_start: true, directive: None, skipped: Vec::new() }
    }

    fn peek(&self, ahead: usize) -> u8 {
        self.text.get(self.at + ahead).copied().unwrap_or(0)
    }

    /// Steps over a `\` at the end of a line. Returns whether there was one.
    fn joined_line(&mut self) -> bool {
        let len = match (self.peek(0), self.peek(1), self.peek(2)) {
            (b'\\', b'\n', _) => 2,
            (b'\\', b'\r', b'\n') => 3,
            _ => return false,
        };
        self.at += len;
        true
    }

    fn all(&mut self) {
        while self.at < self.text.len() {
            if self.joined_line() {
                continue;
            }
            let (c, next) = (self.peek(0), self.peek(1));
            match c {
                b'\n' => {
                    self.line_start = true;
                    self.end_directive();
                    self.at += 1;
                    continue;
                }
                b' ' | b'\t' | b'\r' | 0x0b | 0x0c => {
                    self.at += 1;
                    continue;
                }
                b'/' if next == b'*' => {
                    self.block_comment();
                    continue;
                }
                b'/' if next == b'/' => {
                    self.line_comment();
                    continue;
                }
                b'#' if self.line_start => {
                    self.directive = Some(self.at);
                    self.at += 1;
                    self.directive();
                }
                b'%' if self.line_start && next == b':' => {
                    self.directive = Some(self.at);
                    self.at += 2;
                    self.directive();
                }
                b'#' if next == b'#' => {
                    self.tokens.pastes = true;
                    self.at += 2;
                }
                b'%' if self.text[self.at..].starts_with(b"%:%:") => {
                    self.tokens.pastes = true;
                    self.at += 4;
                }
                b'"' => self.quoted(b'"'),
                b'\'' => self.quoted(b'\''),
                c if is_start(c) => self.name(),
                c if c.is_ascii_digit() || (c == b'.' && next.is_ascii_digit()) => self.number(),
                _ => self.at += 1,
            }
            self.line_start = false;
        }
        self.end_directive();
    }

    fn end_directive(&mut self) {
        if let Some(start) = self.directive.take() {
            self.skipped.push(start..self.at.min(self.text.len()));
        }
    }

    fn block_comment(&mut self) {
        let rest = &self.text[self.at + 2..];
        let len = rest.windows(2).position(|w| w == b"*/").map_or(rest.len(), |n| n + 2);
        self.skipped.push(self.at..self.at + 2 + len);
        self.at += 2 + len;
    }

    fn line_comment(&mut self) {
        let start = self.at;
        while self.at < self.text.len() && self.peek(0) != b'\n' {
            if !self.joined_line() {
                self.at += 1;
            }
        }
        self.skipped.push(start..self.at);
    }

    /// Steps over a string or character constant; it ends at the end of the line at the latest.
    fn quoted(&mut self, quote: u8) {
        let start = self.at;
        self.step_over(quote);
        self.string(start);
    }

    /// Looks at a string that was stepped over.
    fn string(&mut self, start: usize) {
        if asks_assembler(self.text.get(start..self.at).unwrap_or_default()) {
            self.tokens.assembly = Assembly::Strings;
        }
    }

    fn step_over(&mut self, quote: u8) {
        self.at += 1;
        while self.at < self.text.len() {
            if self.joined_line() {
                continue;
            }
            let c = self.peek(0);
            if c == b'\n' {
                return;
            }
            self.at += if c == b'\\' { 2 } else { 1 };
            if c == quote {
                return;
            }
        }
    }

    /// Reads letters and digits, also across joined lines.
    fn word(&mut self) -> Vec<u8> {
        let mut word = Vec::new();
        loop {
            if self.joined_line() {
                continue;
            }
            let c = self.peek(0);
            if self.at >= self.text.len() || !is_more(c) {
                return word;
            }
            word.push(c);
            self.at += 1;
        }
    }

    fn name(&mut self) {
        let word = self.word();
        let raw = matches!(word.as_slice(), b"R" | b"LR" | b"uR" | b"UR" | b"u8R");
        if raw && self.peek(0) == b'"' {
            return self.raw_string();
        }
        if matches!(word.as_slice(), b"__has_include" | b"__has_include_next") {
            self.header_name();
        }
        self.tokens.names.push(hash(&word));
    }

    /// A raw C++ string: `R"mark( … )mark"`. In C this is a name and a string; reading on to the mark would then skip
    /// names, so a text that never closes is read as C.
    fn raw_string(&mut self) {
        let rest = &self.text[self.at + 1..];
        let mark = rest.iter().position(|c| *c == b'(').filter(|len| *len <= 16);
        let closing = mark.map(|len| [b")", &rest[..len], b"\""].concat());
        let end = closing.and_then(|close| rest.windows(close.len()).position(|w| w == close).map(|n| n + close.len()));
        match end {
            Some(len) => {
                let start = self.at;
                self.at += 1 + len;
                self.string(start);
            }
            None => self.quoted(b'"'),
        }
    }

    fn number(&mut self) {
        let word = self.word();
        // Digits can be pasted to a name, so they count as a piece of one.
        self.tokens.names.push(hash(&word));
        if word.is_empty() {
            self.at += 1;
        }
    }

    fn directive(&mut self) {
        self.skip_blanks();
        let word = self.word();
        if matches!(word.as_slice(), b"include" | b"include_next" | b"import") {
            self.header_name();
        }
    }

    fn skip_blanks(&mut self) {
        loop {
            if self.joined_line() {
                continue;
            }
            match (self.peek(0), self.peek(1)) {
                (b' ' | b'\t', _) => self.at += 1,
                (b'/', b'*') => self.block_comment(),
                _ => return,
            }
        }
    }

    /// Reads `"name"` or `<name>`, also within the brackets of `__has_include`.
    fn header_name(&mut self) {
        self.skip_blanks();
        if self.peek(0) == b'(' {
            self.at += 1;
            self.skip_blanks();
        }
        let close = match self.peek(0) {
            b'"' => b'"',
            b'<' => b'>',
            _ => return,
        };
        let rest = &self.text[self.at + 1..];
        let Some(len) = rest.iter().position(|c| *c == close || *c == b'\n') else { return };
        if rest[len] != close {
            return;
        }
        let name = String::from_utf8_lossy(&rest[..len]).into_owned();
        self.tokens.includes.push(if close == b'"' { Include::Beside(name) } else { Include::Searched(name) });
        self.at += len + 2;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_count_where_the_compiler_sees_them() {
        for (case, text, want) in [
            ("a directive", "#ifdef OPT\n", true),
            ("defined", "#if defined(OPT) && X\n", true),
            ("code", "int a = OPT;", true),
            ("a block comment", "/* OPT */", false),
            ("a line comment", "// OPT", false),
            ("a comment that goes on", "// x \\\nOPT", false),
            ("a string", "char *s = \"OPT\";", false),
            ("a string with a quote", "char *s = \"\\\"OPT\";", false),
            ("a character", "int c = 'O'; // OPT", false),
            ("after a string", "f(\"x\", OPT)", true),
            ("after an apostrophe in a directive", "#error don't\nOPT", true),
            ("split over lines", "#ifdef O\\\nPT\n", true),
            ("part of a longer name", "int OPTS;", false),
            ("a macro of its own", "#define OPT 1\n", true),
            ("a raw string", "auto s = R\"(OPT)\";", false),
            ("after a raw string", "auto s = R\"x(\")x\"; OPT", true),
            ("after a comment start in a string", "f(\"/*\"); OPT", true),
        ] {
            assert_eq!(Tokens::of(text.as_bytes()).names("OPT"), want, "{case}");
        }
    }

    #[test]
    fn code_stands_alike_where_only_directives_and_comments_differ() {
        let text = "/* a */ int x;\n#define N 1 // one\nint y; // last\n";
        for (case, other, want) in [
            ("the same", text, true),
            ("another value", "/* a */ int x;\n#define N 22 // two\nint y; // last\n", true),
            ("a comment at the end", "/* a */ int x;\n#define N 1 // one\nint y; /* or not */\n", true),
            ("a longer comment before code", "/* ab */ int x;\n#define N 1 // one\nint y; // last\n", false),
            ("a line more", "/* a */ int x;\n\n#define N 1 // one\nint y; // last\n", false),
            ("a directive over two lines", "/* a */ int x;\n#define N \\\n 1\nint y; // last\n", false),
            ("other code", "/* a */ int z;\n#define N 1 // one\nint y; // last\n", false),
        ] {
            assert_eq!(Tokens::stand_alike(text.as_bytes(), other.as_bytes()), want, "{case}");
        }
    }

    #[test]
    fn headers_and_pasting_are_seen() {
        let tokens =
            Tokens::of(b"#include <a/b.h>\n # include\t\"c.h\" // x\n#if __has_include(<d.h>)\n#include HDR\n");
        let want = [Include::Searched("a/b.h".into()), Include::Beside("c.h".into()), Include::Searched("d.h".into())];
        assert_eq!(tokens.includes, want);
        assert!(!tokens.pastes);
        assert!(tokens.names("HDR"));
        assert!(Tokens::of(b"#define CAT(a, b) a ## b\n").pastes);
        assert!(Tokens::of(b"#define CAT(a, b) a %:%: b\n").pastes);
        assert!(!Tokens::of(b"char *s = \"##\";\n").pastes);
    }
}
