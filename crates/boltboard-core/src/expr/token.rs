//! From text to tokens.

use super::parse::{ExprFault, FaultKind};
use crate::base::Op;

#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Token {
    Open,
    Close,
    And,
    Or,
    Not,
    Op(Op),
    Need(String),
    Bare(String),
    Quoted(String),
}

impl Token {
    pub(super) fn shown(&self) -> String {
        match self {
            Token::Open => "`(`".into(),
            Token::Close => "`)`".into(),
            Token::And => "`and`".into(),
            Token::Or => "`or`".into(),
            Token::Not => "`not`".into(),
            Token::Op(op) => format!("`{}`", op.sign()),
            Token::Need(name) => format!("`need:{name}`"),
            Token::Bare(word) => format!("`{word}`"),
            Token::Quoted(text) => format!("\"{text}\""),
        }
    }
}

/// A token with its offset and length.
#[derive(Debug, Clone)]
pub(super) struct Spanned {
    pub token: Token,
    pub start: usize,
    pub len: usize,
}

pub(super) fn tokens(text: &str) -> Result<Vec<Spanned>, ExprFault> {
    let mut found = Vec::new();
    let mut at = 0;
    while let Some(c) = text[at..].chars().next() {
        if c.is_whitespace() {
            at += c.len_utf8();
            continue;
        }
        let (token, len) = next(&text[at..], c).map_err(|(kind, len)| ExprFault { kind, start: at, len })?;
        found.push(Spanned { token, start: at, len });
        at += len;
    }
    Ok(found)
}

/// The words that people bring along from C.
const FROM_C: [(&str, &str); 4] = [("&&", "and"), ("||", "or"), ("==", "="), ("!", "not")];

fn next(rest: &str, first: char) -> Result<(Token, usize), (FaultKind, usize)> {
    match first {
        '(' => return Ok((Token::Open, 1)),
        ')' => return Ok((Token::Close, 1)),
        '"' => return quoted(rest),
        _ => {}
    }
    if is_word(first) || (first == '-' && rest[1..].starts_with(|c: char| c.is_ascii_digit())) {
        return Ok(word(rest));
    }
    let from_c = FROM_C.iter().find(|(theirs, _)| rest.starts_with(theirs) && !rest.starts_with("!="));
    if let Some((theirs, ours)) = from_c {
        return Err((FaultKind::FromC { found: (*theirs).into(), write: (*ours).into() }, theirs.len()));
    }
    match Op::ALL.into_iter().find(|op| rest.starts_with(op.sign())) {
        Some(op) => Ok((Token::Op(op), op.sign().len())),
        None => Err((FaultKind::Stray(first), first.len_utf8())),
    }
}

fn is_word(c: char) -> bool {
    c.is_ascii_alphanumeric() || c == '_'
}

fn word(rest: &str) -> (Token, usize) {
    let len = rest[1..].find(|c: char| !is_word(c) && !matches!(c, '-' | '.')).map_or(rest.len(), |n| n + 1);
    let text = &rest[..len];
    if text == "need" && rest[len..].starts_with(':') {
        let name = &rest[len + 1..];
        let end = name.find(|c: char| !is_word(c) && !matches!(c, '-' | '.' | '+')).unwrap_or(name.len());
        return (Token::Need(name[..end].to_string()), len + 1 + end);
    }
    let token = match text {
        "and" => Token::And,
        "or" => Token::Or,
        "not" => Token::Not,
        other => Token::Bare(other.to_string()),
    };
    (token, len)
}

fn quoted(rest: &str) -> Result<(Token, usize), (FaultKind, usize)> {
    let mut text = String::new();
    let mut chars = rest.char_indices().skip(1);
    while let Some((at, c)) = chars.next() {
        match c {
            '"' => return Ok((Token::Quoted(text), at + 1)),
            '\\' => match chars.next() {
                Some((_, escaped @ ('"' | '\\'))) => text.push(escaped),
                Some((_, other)) => {
                    text.push('\\');
                    text.push(other);
                }
                None => break,
            },
            other => text.push(other),
        }
    }
    Err((FaultKind::UnclosedQuote, rest.len()))
}
