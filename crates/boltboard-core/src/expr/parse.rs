//! From tokens to a tree, by recursive descent within fixed limits.

use super::token::{Spanned, Token, tokens};
use super::tree::{Expr, Literal, RawAtom, RawWhat};

/// How deep brackets and `not`s may nest.
const MAX_DEPTH: usize = 200;
/// How long a condition may be, in bytes.
const MAX_LENGTH: usize = 256 * 1024;

/// What is wrong with a condition, and where (zero-based byte offset and length).
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{kind}")]
pub struct ExprFault {
    /// What is wrong.
    pub kind: FaultKind,
    /// Where it starts.
    pub start: usize,
    /// How long it is.
    pub len: usize,
}

/// What can be wrong with a condition.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FaultKind {
    /// There is nothing in it.
    #[error("the condition is empty")]
    Empty,
    /// A character that belongs to nothing.
    #[error("`{0}` does not belong in a condition")]
    Stray(char),
    /// A sign from C.
    #[error("`{found}` is not a word of conditions; write `{write}`")]
    FromC {
        /// What stands there.
        found: String,
        /// What to write.
        write: String,
    },
    /// A text without its closing quote.
    #[error("the text has no closing quote")]
    UnclosedQuote,
    /// Something stands where a name is wanted.
    #[error("expected a name, `not` or `(`, found {0}")]
    WantsOperand(String),
    /// Something stands where a value is wanted.
    #[error("expected a value after the comparison, found {0}")]
    WantsValue(String),
    /// Two statements without a word between them.
    #[error("expected `and`, `or` or the end, found {0}")]
    WantsJoin(String),
    /// A bracket was never closed.
    #[error("the `(` is never closed")]
    Unclosed,
    /// `need:` without a name.
    #[error("`need:` must be followed by a name")]
    NeedName,
    /// Nested deeper than any person writes.
    #[error("the condition nests deeper than {MAX_DEPTH} levels")]
    TooDeep,
    /// Longer than any person writes.
    #[error("the condition is longer than {MAX_LENGTH} bytes")]
    TooLong,
}

/// Reads a condition.
///
/// # Errors
/// The first fault, with its place in `text`.
///
/// ```
/// let tree = boltboard_core::expr::parse("fog and (lamp=led or not radar)").unwrap();
/// assert_eq!(tree.to_string(), "fog and (lamp = led or not radar)");
/// ```
pub fn parse(text: &str) -> Result<Expr<RawAtom>, ExprFault> {
    if text.len() > MAX_LENGTH {
        return Err(ExprFault { kind: FaultKind::TooLong, start: 0, len: 1 });
    }
    let tokens = tokens(text)?;
    let mut parser = Parser { tokens: &tokens, at: 0, end: text.len(), depth: 0 };
    if tokens.is_empty() {
        return Err(ExprFault { kind: FaultKind::Empty, start: 0, len: text.len() });
    }
    let tree = parser.any()?;
    match parser.peek() {
        None => Ok(tree),
        Some(token) => Err(fault(FaultKind::WantsJoin(token.token.shown()), token)),
    }
}

struct Parser<'a> {
    tokens: &'a [Spanned],
    at: usize,
    end: usize,
    depth: usize,
}

fn fault(kind: FaultKind, token: &Spanned) -> ExprFault {
    ExprFault { kind, start: token.start, len: token.len }
}

impl<'a> Parser<'a> {
    fn peek(&self) -> Option<&'a Spanned> {
        self.tokens.get(self.at)
    }

    fn next(&mut self) -> Option<&'a Spanned> {
        let token = self.tokens.get(self.at);
        self.at += 1;
        token
    }

    fn eat(&mut self, token: &Token) -> bool {
        let found = self.peek().is_some_and(|t| t.token == *token);
        if found {
            self.at += 1;
        }
        found
    }

    fn missing(&self, kind: fn(String) -> FaultKind, found: Option<&Spanned>) -> ExprFault {
        match found {
            Some(token) => fault(kind(token.token.shown()), token),
            None => ExprFault { kind: kind("the end".into()), start: self.end, len: 0 },
        }
    }

    fn any(&mut self) -> Result<Expr<RawAtom>, ExprFault> {
        let first = self.all()?;
        let mut members = vec![];
        while self.eat(&Token::Or) {
            members.push(self.all()?);
        }
        members.insert(0, first);
        Expr::any(members).ok_or(ExprFault { kind: FaultKind::Empty, start: 0, len: 0 })
    }

    fn all(&mut self) -> Result<Expr<RawAtom>, ExprFault> {
        let mut members = vec![self.one()?];
        while self.eat(&Token::And) {
            members.push(self.one()?);
        }
        Expr::all(members).ok_or(ExprFault { kind: FaultKind::Empty, start: 0, len: 0 })
    }

    fn one(&mut self) -> Result<Expr<RawAtom>, ExprFault> {
        let Some(token) = self.next() else {
            return Err(self.missing(FaultKind::WantsOperand, None));
        };
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            return Err(fault(FaultKind::TooDeep, token));
        }
        let tree = match &token.token {
            Token::Not => Expr::Not(Box::new(self.one()?)),
            Token::Open => {
                let inner = self.any()?;
                match self.next() {
                    Some(Spanned { token: Token::Close, .. }) => inner,
                    Some(other) => return Err(fault(FaultKind::WantsJoin(other.token.shown()), other)),
                    None => return Err(fault(FaultKind::Unclosed, token)),
                }
            }
            Token::Need(name) if super::is_name(name) => {
                Expr::Atom(RawAtom { what: RawWhat::Need(name.clone()), span: (token.start, token.len) })
            }
            Token::Need(_) => return Err(fault(FaultKind::NeedName, token)),
            Token::Bare(name) if super::is_name(name) => self.statement(name, token)?,
            Token::Bare(_) | Token::Close | Token::And | Token::Or | Token::Op(_) | Token::Quoted(_) => {
                return Err(self.missing(FaultKind::WantsOperand, Some(token)));
            }
        };
        self.depth -= 1;
        Ok(tree)
    }

    fn statement(&mut self, name: &str, token: &Spanned) -> Result<Expr<RawAtom>, ExprFault> {
        let Some(Spanned { token: Token::Op(op), .. }) = self.peek() else {
            return Ok(Expr::Atom(RawAtom { what: RawWhat::Name(name.into()), span: (token.start, token.len) }));
        };
        self.at += 1;
        let found = self.next();
        let value = match found.map(|t| &t.token) {
            Some(Token::Bare(word)) => Literal::Bare(word.clone()),
            Some(Token::Quoted(text)) => Literal::Quoted(text.clone()),
            _ => return Err(self.missing(FaultKind::WantsValue, found)),
        };
        let end = found.map_or(token.len, |t| t.start + t.len - token.start);
        let what = RawWhat::Compare { name: name.into(), op: *op, value };
        Ok(Expr::Atom(RawAtom { what, span: (token.start, end) }))
    }
}
