//! The tree of a condition.

use crate::base::Op;

/// A condition over atoms. `All` and `Any` have at least two members and no direct member of their own sort.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Expr<A> {
    /// A single statement.
    Atom(A),
    /// The opposite.
    Not(Box<Expr<A>>),
    /// Every member holds.
    All(Vec<Expr<A>>),
    /// At least one member holds.
    Any(Vec<Expr<A>>),
}

impl<A> Expr<A> {
    /// Joins conditions that must all hold, keeping the tree flat. Returns `None` for no condition.
    pub fn all(members: impl IntoIterator<Item = Expr<A>>) -> Option<Expr<A>> {
        let mut flat = Vec::new();
        for member in members {
            match member {
                Expr::All(inner) => flat.extend(inner),
                other @ (Expr::Atom(_) | Expr::Not(_) | Expr::Any(_)) => flat.push(other),
            }
        }
        if flat.len() > 1 { Some(Expr::All(flat)) } else { flat.pop() }
    }

    /// Joins conditions of which one must hold, keeping the tree flat. Returns `None` for no condition.
    pub fn any(members: impl IntoIterator<Item = Expr<A>>) -> Option<Expr<A>> {
        let mut flat = Vec::new();
        for member in members {
            match member {
                Expr::Any(inner) => flat.extend(inner),
                other @ (Expr::Atom(_) | Expr::Not(_) | Expr::All(_)) => flat.push(other),
            }
        }
        if flat.len() > 1 { Some(Expr::Any(flat)) } else { flat.pop() }
    }

    /// Calls `visit` with each atom, from left to right.
    pub fn for_each_atom<'a>(&'a self, visit: &mut impl FnMut(&'a A)) {
        match self {
            Expr::Atom(atom) => visit(atom),
            Expr::Not(inner) => inner.for_each_atom(visit),
            Expr::All(members) | Expr::Any(members) => members.iter().for_each(|m| m.for_each_atom(visit)),
        }
    }

    /// Makes a tree of the same shape with other atoms.
    ///
    /// # Errors
    /// The first error of `change`, after all atoms were tried.
    pub fn try_map<B, E>(&self, change: &mut impl FnMut(&A) -> Result<B, E>) -> Result<Expr<B>, E> {
        let mut each = |members: &[Expr<A>]| {
            let changed: Vec<_> = members.iter().map(|m| m.try_map(change)).collect();
            changed.into_iter().collect::<Result<Vec<_>, E>>()
        };
        Ok(match self {
            Expr::Atom(atom) => Expr::Atom(change(atom)?),
            Expr::Not(inner) => Expr::Not(Box::new(inner.try_map(change)?)),
            Expr::All(members) => Expr::All(each(members)?),
            Expr::Any(members) => Expr::Any(each(members)?),
        })
    }

    /// Tells whether the condition holds, given whether each atom does.
    pub fn holds(&self, atom_holds: &impl Fn(&A) -> bool) -> bool {
        match self {
            Expr::Atom(atom) => atom_holds(atom),
            Expr::Not(inner) => !inner.holds(atom_holds),
            Expr::All(members) => members.iter().all(|m| m.holds(atom_holds)),
            Expr::Any(members) => members.iter().any(|m| m.holds(atom_holds)),
        }
    }
}

/// A value as written: `on`, `4`, `64KiB`, or `"any text"`.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Literal {
    /// A word or number without quotes.
    Bare(String),
    /// A text in double quotes, with `\"` and `\\` undone.
    Quoted(String),
}

impl Literal {
    /// Returns the text without quotes.
    pub fn text(&self) -> &str {
        match self {
            Literal::Bare(text) | Literal::Quoted(text) => text,
        }
    }
}

/// What an atom says, with names not yet looked up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RawWhat {
    /// The option is not off.
    Name(String),
    /// The host has the need.
    Need(String),
    /// The option's value compares so.
    Compare {
        /// The option.
        name: String,
        /// The comparison.
        op: Op,
        /// The value on the right.
        value: Literal,
    },
}

/// An atom as read: what it says, and where in the text (zero-based bytes).
#[derive(Debug, Clone)]
pub struct RawAtom {
    /// What it says.
    pub what: RawWhat,
    /// Offset and length in the text; equality does not look at it.
    pub span: (usize, usize),
}

impl PartialEq for RawAtom {
    fn eq(&self, other: &Self) -> bool {
        self.what == other.what
    }
}
impl Eq for RawAtom {}
