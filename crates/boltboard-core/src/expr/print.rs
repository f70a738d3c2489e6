//! Printing back in the canonical form: one space between words, brackets only where they change the meaning.

use std::fmt;

use super::tree::{Expr, Literal, RawAtom, RawWhat};

/// How tightly a place binds; a looser tree in a tighter place takes brackets.
#[derive(Clone, Copy, PartialEq, PartialOrd)]
enum Binding {
    Any,
    All,
    Not,
}

impl<A: fmt::Display> fmt::Display for Expr<A> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        print(self, Binding::Any, f)
    }
}

fn print<A: fmt::Display>(tree: &Expr<A>, place: Binding, f: &mut fmt::Formatter<'_>) -> fmt::Result {
    match tree {
        Expr::Atom(atom) => write!(f, "{atom}"),
        Expr::Not(inner) => {
            f.write_str("not ")?;
            print(inner, Binding::Not, f)
        }
        Expr::All(members) => joined(members, " and ", Binding::All, place, f),
        Expr::Any(members) => joined(members, " or ", Binding::Any, place, f),
    }
}

fn joined<A: fmt::Display>(
    members: &[Expr<A>],
    word: &str,
    own: Binding,
    place: Binding,
    f: &mut fmt::Formatter<'_>,
) -> fmt::Result {
    let brackets = place > own;
    let inner = if own == Binding::Any { Binding::All } else { Binding::Not };
    f.write_str(if brackets { "(" } else { "" })?;
    for (index, member) in members.iter().enumerate() {
        f.write_str(if index == 0 { "" } else { word })?;
        print(member, inner, f)?;
    }
    f.write_str(if brackets { ")" } else { "" })
}

impl fmt::Display for Literal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Literal::Bare(word) => f.write_str(word),
            Literal::Quoted(text) => write!(f, "\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\"")),
        }
    }
}

impl fmt::Display for RawAtom {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.what {
            RawWhat::Name(name) => f.write_str(name),
            RawWhat::Need(name) => write!(f, "need:{name}"),
            RawWhat::Compare { name, op, value } => write!(f, "{name} {} {value}", op.sign()),
        }
    }
}
