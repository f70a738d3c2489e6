//! Reading C text as tokens: which names occur, which headers are asked for, whether names are built by pasting.
//!
//! Comments, strings and character constants hold no names, as far as the dialect has them. Names are kept as hashes: two
//! names with one hash would at worst make a file depend on an option that it does not name.

use std::ops::Range;

use super::phases::Logical;
use super::{Dialect, Dialects};

/// What a C text names.
#[derive(Debug, Clone, Default)]
pub struct Tokens {
    /// The hashes of all names, sorted.
    pub(super) names: Vec<u64>,
    /// The headers that it asks for by plain names.
    pub includes: Vec<Include>,
    /// Whether it names a header through a macro (`#include NAME`).
    pub computed: bool,
    /// Whether it asks for the presence of a header in a way that only a preprocessor follows.
    pub asks_openly: bool,
    /// Whether it builds names by pasting (`##`).
    pub pastes: bool,
    /// Whether it hands text to the compiler by `_Pragma` other than as plain strings.
    pub pragmas: bool,
    /// Whether it names what hands text to an assembler.
    pub assembles: bool,
}

/// A header that a text asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Include {
    /// Its name.
    pub name: String,
    /// Whether it is looked for beside the file first: `"name"`, not `<name>`.
    pub beside: bool,
    /// What is asked.
    pub asks: Asks,
}

/// What a text asks of a header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Asks {
    /// Its content: `#include`.
    Content,
    /// That of the next one of its name: `#include_next`.
    Next,
    /// Whether it is there: `__has_include`.
    Presence,
    /// Whether a next one is there: `__has_include_next`.
    NextPresence,
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

/// The word by which a text says that it is to be read once.
pub const ONCE: &str = "once";

impl Tokens {
    /// Reads a text as one of some dialects: what it names in any of them counts.
    pub fn of(text: &[u8], dialects: &Dialects) -> Tokens {
        let mut all = Tokens::default();
        for dialect in dialects.each() {
            let mut reader = Reader::of(text, dialect);
            reader.all();
            all.take_in(reader.tokens);
        }
        all.names.sort_unstable();
        all.names.dedup();
        all.names.shrink_to_fit();
        all
    }

    fn take_in(&mut self, other: Tokens) {
        if self.names.is_empty() && self.includes.is_empty() {
            self.names = other.names;
            self.includes = other.includes;
        } else {
            self.names.extend(other.names);
            for include in other.includes {
                if !self.includes.contains(&include) {
                    self.includes.push(include);
                }
            }
        }
        self.computed |= other.computed;
        self.asks_openly |= other.asks_openly;
        self.pastes |= other.pastes;
        self.pragmas |= other.pragmas;
        self.assembles |= other.assembles;
    }

    /// Tells whether two texts have the same code in the same lines and columns; directives and comments may differ.
    pub fn stand_alike(a: &[u8], b: &[u8], dialects: &Dialects) -> bool {
        dialects.each().all(|dialect| {
            let code = |text| {
                let mut reader = Reader::of(text, dialect);
                reader.all();
                let mut code = text.to_vec();
                for span in reader.skipped_spans() {
                    code[span].iter_mut().filter(|c| **c != b'\n').for_each(|c| *c = b' ');
                }
                code
            };
            let (now, then) = (code(a), code(b));
            let lines = |code: &[u8]| code.split(|c| *c == b'\n').map(|line| line.trim_ascii_end().to_vec()).collect();
            let (now, then): (Vec<Vec<u8>>, Vec<Vec<u8>>) = (lines(&now), lines(&then));
            now == then && falling(a, dialect) == falling(b, dialect)
        })
    }

    /// Returns a text with blanks for its comments, and where its directives stand.
    pub(super) fn without_comments(text: &[u8], dialect: Dialect) -> (Vec<u8>, Vec<Range<usize>>) {
        let mut reader = Reader::of(text, dialect);
        reader.all();
        let mut rest = text.to_vec();
        let (mut directives, comments): (Vec<_>, Vec<_>) = reader
            .skipped_spans()
            .into_iter()
            .partition(|span| matches!(text.get(span.start), Some(b'#' | b'%' | b'?')));
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

/// The comments by which compilers decide whether to warn of a case that falls through.
fn falling(text: &[u8], dialect: Dialect) -> Vec<Vec<u8>> {
    let mut reader = Reader::of(text, dialect);
    reader.all();
    let comments = reader.skipped_spans().into_iter().map(|span| text[span].to_ascii_lowercase());
    comments.filter(|comment| comment.starts_with(b"/") && comment.windows(4).any(|word| word == b"fall")).collect()
}

struct Reader<'a> {
    /// The text as it stands in the file.
    text: &'a [u8],
    logical: Logical<'a>,
    /// Whether `$` stands anywhere; few texts have one.
    has_dollars: bool,
    dialect: Dialect,
    at: usize,
    tokens: Tokens,
    line_start: bool,
    /// Where the directive began that is being read.
    directive: Option<usize>,
    /// Which one it is.
    directed: Directive,
    /// Whether `defined` or `defined (` stands just before.
    after_defined: bool,
    /// Comments and directives.
    skipped: Vec<Range<usize>>,
}

/// Directives in which something is read in its own way.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Directive {
    /// `#if` and `#elif`
    Condition,
    /// `#ifdef` and the like: they ask for a name alone.
    Named,
    /// Another one.
    Other,
}

fn is_start(c: u8) -> bool {
    c.is_ascii_alphabetic() || c == b'_' || c == b'$' || c >= 0x80
}

fn is_more(c: u8) -> bool {
    is_start(c) || c.is_ascii_digit()
}

impl<'a> Reader<'a> {
    fn of(text: &'a [u8], dialect: Dialect) -> Reader<'a> {
        Reader {
            text,
            logical: Logical::of(text, dialect),
            has_dollars: memchr::memchr(b'$', text).is_some(),
            dialect,
            at: 0,
            tokens: Tokens::default(),
            line_start: true,
            directive: None,
            directed: Directive::Other,
            after_defined: false,
            skipped: Vec::new(),
        }
    }

    fn bytes(&self) -> &[u8] {
        &self.logical.bytes
    }

    fn peek(&self, ahead: usize) -> u8 {
        self.bytes().get(self.at + ahead).copied().unwrap_or(0)
    }

    /// Comments and directives, by where they stand in the file.
    fn skipped_spans(&self) -> Vec<Range<usize>> {
        self.skipped.iter().map(|span| self.logical.span(span.clone())).collect()
    }

    fn all(&mut self) {
        while self.at < self.bytes().len() {
            let (c, next) = (self.peek(0), self.peek(1));
            match c {
                b'\n' => {
                    self.end_directive();
                    self.line_start = true;
                    self.at += 1;
                    continue;
                }
                b' ' | b'\t' | b'\r' | 0x0b | 0x0c => {
                    self.at += 1;
                    continue;
                }
                b'/' if next == b'*' && !self.dialect.everywhere => {
                    self.block_comment();
                    continue;
                }
                b'/' if next == b'/' && self.dialect.line_comments && !self.dialect.everywhere => {
                    self.line_comment();
                    continue;
                }
                b'#' if self.line_start => self.directive(1),
                b'%' if self.line_start && next == b':' => self.directive(2),
                b'#' if next == b'#' => {
                    self.tokens.pastes = true;
                    self.at += 2;
                }
                b'%' if self.bytes()[self.at..].starts_with(b"%:%:") => {
                    self.tokens.pastes = true;
                    self.at += 4;
                }
                b'"' | b'\'' => self.quoted(c),
                c if is_start(c) => self.name(),
                c if c.is_ascii_digit() || (c == b'.' && next.is_ascii_digit()) => self.number(),
                c => {
                    self.at += 1;
                    self.after_defined &= c == b'(';
                }
            }
            self.line_start = false;
        }
        self.end_directive();
        if self.dialect.everywhere {
            // What looks like a comment between two words joins them there.
            self.tokens.pastes = true;
        }
    }

    fn end_directive(&mut self) {
        if let Some(start) = self.directive.take() {
            self.skipped.push(start..self.at.min(self.bytes().len()));
        }
        self.directed = Directive::Other;
        self.after_defined = false;
    }

    fn block_comment(&mut self) {
        let rest = &self.bytes()[self.at + 2..];
        let len = rest.windows(2).position(|w| w == b"*/").map_or(rest.len(), |n| n + 2);
        self.skipped.push(self.at..self.at + 2 + len);
        self.at += 2 + len;
    }

    fn line_comment(&mut self) {
        let rest = &self.bytes()[self.at..];
        let len = rest.iter().position(|c| *c == b'\n').unwrap_or(rest.len());
        self.skipped.push(self.at..self.at + len);
        self.at += len;
    }

    /// Steps over a string or character constant. One that does not end in its line is none: its quote stands alone.
    fn quoted(&mut self, quote: u8) {
        let mut end = self.at + 1;
        let bytes = self.bytes();
        while let Some(c) = bytes.get(end) {
            match *c {
                b'\n' => break,
                b'\\' => end += 2,
                c if c == quote => {
                    self.at = if self.dialect.everywhere { self.at + 1 } else { end + 1 };
                    return;
                }
                _ => end += 1,
            }
        }
        self.at += 1;
    }

    /// Reads letters and digits.
    fn word(&mut self) -> Range<usize> {
        let rest = &self.bytes()[self.at..];
        let len = rest.iter().position(|c| !is_more(*c)).unwrap_or(rest.len());
        let word = self.at..self.at + len;
        self.at += len;
        word
    }

    fn name(&mut self) {
        let word = self.word();
        let after_defined = std::mem::take(&mut self.after_defined);
        let plain = self.peek(0);
        let (hash, marks) = (hash(&self.bytes()[word.clone()]), &self.bytes()[word]);
        let (raw, mut asks, mut pragma) = match marks {
            b"R" | b"LR" | b"uR" | b"UR" | b"u8R" => (self.dialect.raw_strings && plain == b'"', None, false),
            b"__has_include" => (false, Some(Asks::Presence), false),
            b"__has_include_next" => (false, Some(Asks::NextPresence), false),
            // Nobody follows what it asks for.
            b"__has_embed" => (false, None, true),
            b"_Pragma" | b"__pragma" => (false, None, true),
            _ => (false, None, false),
        };
        let embeds = marks == b"__has_embed";
        let assembles = matches!(marks, b"asm" | b"__asm" | b"__asm__");
        let defined = marks == b"defined";
        // In assembly, and where a flag says so, `$` is no letter: `$NAME` names what stands behind it.
        let apart: Vec<u64> = match self.has_dollars && marks.contains(&b'$') {
            true => marks.split(|c| *c == b'$').map(self::hash).collect(),
            false => Vec::new(),
        };
        self.tokens.assembles |= assembles;
        self.after_defined = defined;
        self.tokens.names.push(hash);
        self.tokens.names.extend(apart);
        if embeds {
            self.tokens.asks_openly = true;
            pragma = false;
        }
        if after_defined || self.directed == Directive::Named {
            asks = None;
        }
        if raw {
            self.raw_string();
        } else if let Some(asks) = asks {
            self.tokens.asks_openly |= !self.header_name(asks);
        } else if pragma {
            self.pragma();
        }
    }

    /// Reads what `_Pragma` hands on: names in its string count.
    fn pragma(&mut self) {
        self.skip_blanks();
        let start = self.at;
        if self.peek(0) == b'(' {
            self.at += 1;
            self.skip_blanks();
            if self.peek(0) == b'#' {
                // What it makes a string of stands in the text as it is.
                return;
            }
            if self.peek(0) == b'L' {
                self.at += 1;
            }
            let quote = self.at;
            if self.peek(0) == b'"' {
                self.quoted(b'"');
                if self.at > quote + 1 {
                    let inner = self.bytes()[quote + 1..self.at].to_vec();
                    let names = Tokens::of(&inner, &Dialects::default());
                    self.tokens.names.extend(names.names);
                    return;
                }
            }
        }
        self.at = start;
        self.tokens.pragmas = true;
    }

    /// A raw string: `R"mark( … )mark"`. Within it no line is joined, so its end is looked for in the text as it stands.
    fn raw_string(&mut self) {
        let start = self.logical.stood(self.at) + 1;
        let rest = self.text.get(start..).unwrap_or_default();
        let mark = rest.iter().position(|c| *c == b'(').filter(|len| *len <= 16);
        let closing = mark.map(|len| [b")", &rest[..len], b"\""].concat());
        let end = closing.and_then(|close| rest.windows(close.len()).position(|w| w == close).map(|n| n + close.len()));
        match end {
            Some(len) => self.at = self.logical.from(start + len).max(self.at + 1),
            None => self.quoted(b'"'),
        }
    }

    fn number(&mut self) {
        loop {
            let word = self.word();
            // Digits can be pasted to a name, so they count as a piece of one.
            let hash = hash(&self.bytes()[word.clone()]);
            self.tokens.names.push(hash);
            if word.is_empty() {
                self.at += 1;
                return;
            }
            if !(self.dialect.separators && self.peek(0) == b'\'' && is_more(self.peek(1))) {
                return;
            }
            self.at += 1;
        }
    }

    fn directive(&mut self, mark: usize) {
        self.directive = Some(self.at);
        self.at += mark;
        self.skip_blanks();
        let word = self.word();
        let named = hash(&self.bytes()[word.clone()]);
        let asks = match &self.bytes()[word] {
            b"import" => {
                // As `#pragma once` does, it leaves out what was read before.
                self.tokens.names.push(hash(ONCE.as_bytes()));
                Some(Asks::Content)
            }
            b"include" => Some(Asks::Content),
            b"include_next" => Some(Asks::Next),
            b"if" | b"elif" => {
                self.directed = Directive::Condition;
                None
            }
            b"ifdef" | b"ifndef" | b"elifdef" | b"elifndef" | b"undef" => {
                self.directed = Directive::Named;
                None
            }
            _ => {
                // In assembly, what looks like a directive can be text.
                self.tokens.names.push(named);
                None
            }
        };
        if let Some(asks) = asks {
            self.tokens.computed |= !self.header_name(asks);
        }
    }

    fn skip_blanks(&mut self) {
        loop {
            match (self.peek(0), self.peek(1)) {
                (b' ' | b'\t' | 0x0b | 0x0c | b'\r', _) => self.at += 1,
                (b'/', b'*') => self.block_comment(),
                _ => return,
            }
        }
    }

    /// Reads `"name"` or `<name>`, also within the brackets of `__has_include`. Returns whether it was a plain name.
    fn header_name(&mut self, asks: Asks) -> bool {
        let back = self.at;
        self.skip_blanks();
        let bracket = self.peek(0) == b'(';
        if bracket {
            self.at += 1;
            self.skip_blanks();
        }
        let close = match self.peek(0) {
            b'"' => b'"',
            b'<' => b'>',
            _ => 0,
        };
        let rest = self.bytes().get(self.at + 1..).unwrap_or_default();
        let len = rest.iter().position(|c| *c == close || *c == b'\n').filter(|len| close != 0 && rest[*len] == close);
        let name = len.and_then(|len| std::str::from_utf8(&rest[..len]).ok().map(str::to_string));
        let (Some(name), Some(len)) = (name, len) else {
            self.at = back;
            return false;
        };
        self.tokens.includes.push(Include { name, beside: close == b'"', asks });
        self.at += len + 2;
        true
    }
}
