//! Conditions over literals, decided while some values are still open.

use serde::{Deserialize, Serialize};

use super::Lit;

/// A condition in negation normal form.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Condition {
    /// One literal.
    Lit(Lit),
    /// All members hold; none at all holds always.
    All(Vec<Condition>),
    /// At least one member holds; none at all never holds.
    Any(Vec<Condition>),
}

/// What is known about a statement while values are open.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Truth {
    /// It holds.
    Yes,
    /// It does not.
    No,
    /// It depends on what is open.
    Open,
}

impl Condition {
    /// The condition that always holds.
    pub fn always() -> Condition {
        Condition::All(Vec::new())
    }

    /// The condition that never holds.
    pub fn never() -> Condition {
        Condition::Any(Vec::new())
    }

    /// Joins conditions that must all hold; flat, and without what says nothing.
    pub fn all(members: impl IntoIterator<Item = Condition>) -> Condition {
        let mut flat = Vec::new();
        for member in members {
            match member {
                Condition::All(inner) => flat.extend(inner),
                Condition::Any(inner) if inner.is_empty() => return Condition::never(),
                other @ (Condition::Lit(_) | Condition::Any(_)) => flat.push(other),
            }
        }
        if flat.len() == 1 { flat.remove(0) } else { Condition::All(flat) }
    }

    /// Joins conditions of which one must hold; flat, and without what says nothing.
    pub fn any(members: impl IntoIterator<Item = Condition>) -> Condition {
        let mut flat = Vec::new();
        for member in members {
            match member {
                Condition::Any(inner) => flat.extend(inner),
                Condition::All(inner) if inner.is_empty() => return Condition::always(),
                other @ (Condition::Lit(_) | Condition::All(_)) => flat.push(other),
            }
        }
        if flat.len() == 1 { flat.remove(0) } else { Condition::Any(flat) }
    }

    /// Returns the condition that holds just when this one does not.
    pub fn opposite(&self) -> Condition {
        match self {
            Condition::Lit(lit) => Condition::Lit(lit.opposite()),
            Condition::All(members) => Condition::any(members.iter().map(Condition::opposite)),
            Condition::Any(members) => Condition::all(members.iter().map(Condition::opposite)),
        }
    }

    /// Calls `visit` with each literal.
    pub fn for_each_lit(&self, visit: &mut impl FnMut(Lit)) {
        match self {
            Condition::Lit(lit) => visit(*lit),
            Condition::All(members) | Condition::Any(members) => members.iter().for_each(|m| m.for_each_lit(visit)),
        }
    }

    /// Tells what is known, given what is known about each literal.
    pub fn truth(&self, known: &impl Fn(Lit) -> Truth) -> Truth {
        let (members, decisive, neutral) = match self {
            Condition::Lit(lit) => return known(*lit),
            Condition::All(members) => (members, Truth::No, Truth::Yes),
            Condition::Any(members) => (members, Truth::Yes, Truth::No),
        };
        let mut sum = neutral;
        for member in members {
            match member.truth(known) {
                truth if truth == decisive => return decisive,
                Truth::Open => sum = Truth::Open,
                Truth::Yes | Truth::No => {}
            }
        }
        sum
    }
}
