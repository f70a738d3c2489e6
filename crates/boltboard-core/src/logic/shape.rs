//! How the values of an option are spelt in variables.

use serde::{Deserialize, Serialize};

use super::{Condition, Lit, Var};
use crate::board::{Linkage, Switch, Value};
use crate::expr::Op;

/// Up to so many values, each two are told apart by a clause of their own.
const FEW: usize = 6;

/// How the values of one option are spelt in variables. Variables of one option follow each other.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Shape {
    /// A switch: it is on.
    Switch {
        /// It is on.
        on: Var,
    },
    /// A module: it is there, and it is built in. The second implies the first.
    Module {
        /// It is not off; the next variable says that it is built in.
        on: Var,
    },
    /// A pick: a variable for each value, exactly one of them holds.
    Pick {
        /// The variable of the first value.
        first: Var,
        /// The values in the order of the definition.
        values: Vec<String>,
    },
    /// A number or size: a variable for each bound that a condition draws, "at least so much". Each implies the ones before.
    Scale {
        /// The variable of the first bound.
        first: Var,
        /// The bounds, rising, each above `low` and at most `high`.
        cuts: Vec<i128>,
        /// The least and the greatest value; aside, because there are far more switches than numbers.
        range: Box<(i128, i128)>,
        /// Whether it is counted in bytes.
        unit: Unit,
    },
    /// A text or path: a variable for each value that a condition names, and a last one for all others. Exactly one holds.
    Text {
        /// The variable of the first value.
        first: Var,
        /// The values named.
        values: Vec<String>,
        /// Whether it is a path.
        sort: TextSort,
    },
    /// Words: a variable for each word that a condition names.
    Words {
        /// The variable of the first word.
        first: Var,
        /// The words named.
        words: Vec<String>,
    },
}

/// What a [`Shape::Scale`] counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Unit {
    /// Nothing special.
    One,
    /// Bytes.
    Byte,
}

/// What a [`Shape::Text`] is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum TextSort {
    /// Any text.
    Text,
    /// A path.
    Path,
}

/// The whole number of a number or size.
pub(crate) fn whole(value: &Value) -> Option<i128> {
    match value {
        Value::Number(n) => Some(i128::from(*n)),
        Value::Size(n) => Some(i128::from(*n)),
        Value::Switch(_) | Value::Module(_) | Value::Pick(_) | Value::Text(_) | Value::Path(_) | Value::Words(_) => {
            None
        }
    }
}

impl Shape {
    /// Returns the first variable.
    pub fn first(&self) -> Var {
        match self {
            Shape::Switch { on } | Shape::Module { on } => *on,
            Shape::Pick { first, .. }
            | Shape::Scale { first, .. }
            | Shape::Text { first, .. }
            | Shape::Words { first, .. } => *first,
        }
    }

    /// Returns how many variables there are.
    pub fn len(&self) -> usize {
        match self {
            Shape::Switch { .. } => 1,
            Shape::Module { .. } => 2,
            Shape::Pick { values, .. } => values.len(),
            Shape::Scale { cuts, .. } => cuts.len(),
            // A text that nobody compares needs no variables at all.
            Shape::Text { values, .. } => {
                if values.is_empty() {
                    0
                } else {
                    values.len() + 1
                }
            }
            Shape::Words { words, .. } => words.len(),
        }
    }

    /// Tells whether no condition can tell values apart.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Returns all variables.
    pub fn vars(&self) -> impl Iterator<Item = Var> + use<> {
        let first = self.first();
        (0..self.len()).map(move |offset| first.plus(offset))
    }

    /// Tells whether exactly one of the variables holds.
    pub fn is_one_of(&self) -> bool {
        matches!(self, Shape::Pick { .. } | Shape::Text { .. })
    }

    /// Spells a value: for each variable, whether it holds; of several of which one does, that one first. A value outside the range is spelt like the nearest inside.
    pub fn spell(&self, value: &Value) -> Vec<Lit> {
        let lit = |offset: usize, holds: bool| {
            let var = self.first().plus(offset);
            if holds { var.yes() } else { var.no() }
        };
        // The one that holds first: that the others do not follows from it.
        let one_of = |taken: Option<usize>, count: usize| {
            let others = (0..count).filter(|at| Some(*at) != taken).map(|at| lit(at, false));
            taken.map(|at| lit(at, true)).into_iter().chain(others).collect()
        };
        match (self, value) {
            (Shape::Switch { .. }, _) => vec![lit(0, *value == Value::Switch(Switch::On))],
            (Shape::Module { .. }, _) => {
                vec![lit(0, !value.is_off()), lit(1, *value == Value::Module(Linkage::Builtin))]
            }
            (Shape::Pick { values, .. }, Value::Pick(taken)) => {
                one_of(values.iter().position(|one| one == taken), values.len())
            }
            (Shape::Scale { cuts, .. }, _) => {
                let n = whole(value).unwrap_or(0);
                cuts.iter().enumerate().map(|(at, cut)| lit(at, n >= *cut)).collect()
            }
            (Shape::Text { values, .. }, Value::Text(text) | Value::Path(text)) if !values.is_empty() => {
                let named = values.iter().position(|one| one == text).unwrap_or(values.len());
                one_of(Some(named), values.len() + 1)
            }
            (Shape::Words { words, .. }, Value::Words(list)) => {
                words.iter().enumerate().map(|(at, word)| lit(at, list.contains(word))).collect()
            }
            // A value of another kind cannot be: values are read by their option's kind.
            (Shape::Pick { .. } | Shape::Text { .. } | Shape::Words { .. }, _) => Vec::new(),
        }
    }

    /// Spells a comparison with a value.
    pub fn compares(&self, op: Op, value: &Value) -> Condition {
        let yes = |offset: usize| Condition::Lit(self.first().plus(offset).yes());
        let no = |offset: usize| Condition::Lit(self.first().plus(offset).no());
        let equal = |holds: Condition, not: Condition| if op == Op::Equal { holds } else { not };
        match (self, value) {
            (Shape::Switch { .. }, _) => {
                let that = |switch: Switch| Value::Switch(switch).compares(op, value);
                match (that(Switch::Off), that(Switch::On)) {
                    (true, true) => Condition::always(),
                    (false, true) => yes(0),
                    (true, false) => no(0),
                    (false, false) => Condition::never(),
                }
            }
            (Shape::Module { .. }, _) => {
                let that = |linkage: Linkage| Value::Module(linkage).compares(op, value);
                match (that(Linkage::Off), that(Linkage::Loadable), that(Linkage::Builtin)) {
                    (true, true, true) => Condition::always(),
                    (false, true, true) => yes(0),
                    (false, false, true) => yes(1),
                    (true, true, false) => no(1),
                    (true, false, false) => no(0),
                    (false, true, false) => Condition::all([yes(0), no(1)]),
                    (true, false, true) => Condition::any([no(0), yes(1)]),
                    (false, false, false) => Condition::never(),
                }
            }
            (Shape::Pick { values, .. }, Value::Pick(wanted)) => match values.iter().position(|one| one == wanted) {
                Some(at) => equal(yes(at), no(at)),
                None => equal(Condition::never(), Condition::always()),
            },
            (Shape::Scale { range, cuts, .. }, _) => {
                let (low, high) = &**range;
                let n = whole(value).unwrap_or(0);
                let from = |bound: i128, holds: bool| {
                    if bound <= *low || bound > *high {
                        let always = (bound <= *low) == holds;
                        return if always { Condition::always() } else { Condition::never() };
                    }
                    match cuts.binary_search(&bound) {
                        Ok(at) if holds => yes(at),
                        Ok(at) => no(at),
                        // Every bound that a condition draws was collected before.
                        Err(_) => Condition::never(),
                    }
                };
                match op {
                    Op::Equal => Condition::all([from(n, true), from(n + 1, false)]),
                    Op::NotEqual => Condition::any([from(n, false), from(n + 1, true)]),
                    Op::Less => from(n, false),
                    Op::AtMost => from(n + 1, false),
                    Op::More => from(n + 1, true),
                    Op::AtLeast => from(n, true),
                }
            }
            (Shape::Text { values, .. }, Value::Text(text) | Value::Path(text)) => {
                match values.iter().position(|one| one == text) {
                    Some(at) => equal(yes(at), no(at)),
                    None => equal(Condition::never(), Condition::always()),
                }
            }
            (Shape::Words { words, .. }, Value::Words(wanted)) => {
                let at = |word: &String| words.iter().position(|one| one == word);
                let found: Option<Vec<usize>> = wanted.iter().map(at).collect();
                let Some(found) = found else { return equal(Condition::never(), Condition::always()) };
                equal(Condition::all(found.iter().map(|at| yes(*at))), Condition::any(found.iter().map(|at| no(*at))))
            }
            (Shape::Pick { .. } | Shape::Text { .. } | Shape::Words { .. }, _) => Condition::never(),
        }
    }

    /// Returns the literal "not off", for a switch or module.
    pub fn on(&self) -> Option<Lit> {
        match self {
            Shape::Switch { on } | Shape::Module { on } => Some(on.yes()),
            Shape::Pick { .. } | Shape::Scale { .. } | Shape::Text { .. } | Shape::Words { .. } => None,
        }
    }

    /// Returns the literal "as much as there can be": on, or built in.
    pub fn full(&self) -> Option<Lit> {
        match self {
            Shape::Module { on } => Some(on.plus(1).yes()),
            Shape::Switch { .. }
            | Shape::Pick { .. }
            | Shape::Scale { .. }
            | Shape::Text { .. }
            | Shape::Words { .. } => self.on(),
        }
    }

    /// Returns, as clauses, what holds of the variables whatever is chosen. Of a shape with many values, of which one holds, no two of
    /// these variables hold together; `fresh` gives variables for a chain that says so of all.
    pub fn axioms(&self, fresh: &mut dyn FnMut() -> Var) -> Vec<Vec<Lit>> {
        if !self.is_one_of() || self.len() <= FEW {
            return self.axioms_among(&|_| true);
        }
        // Sinz's sequential counter: `below` holds when one of the values so far does, and no later one may then.
        let mut axioms = vec![self.vars().map(Var::yes).collect::<Vec<Lit>>()];
        let mut before: Option<Var> = None;
        for var in self.vars() {
            let below = fresh();
            axioms.push(vec![var.no(), below.yes()]);
            if let Some(before) = before {
                axioms.push(vec![before.no(), below.yes()]);
                axioms.push(vec![before.no(), var.no()]);
            }
            before = Some(below);
        }
        axioms
    }

    /// The same without further variables; that no two values hold together is said only of those that count.
    pub fn axioms_among(&self, counts: &dyn Fn(Var) -> bool) -> Vec<Vec<Lit>> {
        match self {
            Shape::Switch { .. } | Shape::Words { .. } => Vec::new(),
            Shape::Module { on } => vec![vec![on.plus(1).no(), on.yes()]],
            Shape::Scale { .. } => {
                let vars: Vec<Var> = self.vars().collect();
                vars.windows(2).map(|pair| vec![pair[1].no(), pair[0].yes()]).collect()
            }
            Shape::Pick { .. } | Shape::Text { .. } => {
                if self.is_empty() {
                    return Vec::new();
                }
                let mut axioms = vec![self.vars().map(Var::yes).collect::<Vec<Lit>>()];
                let among: Vec<Var> = self.vars().filter(|var| counts(*var)).collect();
                for (at, one) in among.iter().enumerate() {
                    axioms.extend(among[at + 1..].iter().map(|other| vec![one.no(), other.no()]));
                }
                axioms
            }
        }
    }
}
