//! The values that an option may still take while the solver works.

use crate::board::{Kind, Linkage, Switch, Value};
use crate::expr::Op;

/// A set of levels of a switch or module, one bit each.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Levels(u8);

impl Levels {
    pub const OFF: Levels = Levels(1);
    pub const LOADABLE: Levels = Levels(2);
    pub const FULL: Levels = Levels(4);
    pub const NOT_OFF: Levels = Levels(6);

    pub fn and(self, other: Levels) -> Levels {
        Levels(self.0 & other.0)
    }

    pub fn without(self, other: Levels) -> Levels {
        Levels(self.0 & !other.0)
    }

    pub fn is_empty(self) -> bool {
        self.0 == 0
    }

    pub fn may(self, other: Levels) -> bool {
        self.0 & other.0 != 0
    }

    pub fn within(self, other: Levels) -> bool {
        self.0 & !other.0 == 0
    }

    fn of(value: &Value) -> Option<Levels> {
        match value {
            Value::Switch(Switch::Off) | Value::Module(Linkage::Off) => Some(Levels::OFF),
            Value::Switch(Switch::On) | Value::Module(Linkage::Builtin) => Some(Levels::FULL),
            Value::Module(Linkage::Loadable) => Some(Levels::LOADABLE),
            Value::Pick(_) | Value::Number(_) | Value::Size(_) | Value::Text(_) | Value::Path(_) | Value::Words(_) => {
                None
            }
        }
    }
}

/// The values that are still possible. Never empty: narrowing to nothing fails instead.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Domain {
    Switch(Levels),
    Module(Levels),
    Pick(Vec<String>),
    Number { low: i128, high: i128, except: Vec<i128> },
    Size { low: i128, high: i128, except: Vec<i128> },
    Text { is: Option<Value>, is_not: Vec<Value> },
    Words { exactly: Option<Vec<String>>, with: Vec<String>, without: Vec<String> },
}

/// What is known about a statement while values are open.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Truth {
    Yes,
    No,
    Open,
}

impl Truth {
    pub fn opposite(self) -> Truth {
        match self {
            Truth::Yes => Truth::No,
            Truth::No => Truth::Yes,
            Truth::Open => Truth::Open,
        }
    }
}

impl Domain {
    pub fn of(kind: &Kind) -> Domain {
        match kind {
            Kind::Switch => Domain::Switch(Levels(5)),
            Kind::Module => Domain::Module(Levels(7)),
            Kind::Pick(values) => Domain::Pick(values.iter().map(|v| v.name.clone()).collect()),
            Kind::Number(range) => {
                Domain::Number { low: i128::from(*range.start()), high: i128::from(*range.end()), except: vec![] }
            }
            Kind::Size(range) => {
                Domain::Size { low: i128::from(*range.start()), high: i128::from(*range.end()), except: vec![] }
            }
            Kind::Text | Kind::Path => Domain::Text { is: None, is_not: vec![] },
            Kind::Words(_) => Domain::Words { exactly: None, with: vec![], without: vec![] },
        }
    }

    pub fn levels(&self) -> Option<Levels> {
        match self {
            Domain::Switch(levels) | Domain::Module(levels) => Some(*levels),
            Domain::Pick(_)
            | Domain::Number { .. }
            | Domain::Size { .. }
            | Domain::Text { .. }
            | Domain::Words { .. } => None,
        }
    }

    pub fn with_levels(&self, levels: Levels) -> Option<Domain> {
        if levels.is_empty() {
            return None;
        }
        match self {
            Domain::Switch(_) => Some(Domain::Switch(levels)),
            Domain::Module(_) => Some(Domain::Module(levels)),
            other => Some(other.clone()),
        }
    }

    /// Returns the one value left, if there is one.
    pub fn single(&self) -> Option<Value> {
        match self {
            Domain::Switch(levels) => match *levels {
                Levels::OFF => Some(Value::Switch(Switch::Off)),
                Levels::FULL => Some(Value::Switch(Switch::On)),
                _ => None,
            },
            Domain::Module(levels) => match *levels {
                Levels::OFF => Some(Value::Module(Linkage::Off)),
                Levels::LOADABLE => Some(Value::Module(Linkage::Loadable)),
                Levels::FULL => Some(Value::Module(Linkage::Builtin)),
                _ => None,
            },
            Domain::Pick(values) => (values.len() == 1).then(|| Value::Pick(values[0].clone())),
            Domain::Number { low, high, .. } if low == high => i64::try_from(*low).ok().map(Value::Number),
            Domain::Size { low, high, .. } if low == high => u64::try_from(*low).ok().map(Value::Size),
            Domain::Number { .. } | Domain::Size { .. } => None,
            Domain::Text { is, .. } => is.clone(),
            Domain::Words { exactly, .. } => exactly.clone().map(Value::Words),
        }
    }

    pub fn allows(&self, value: &Value) -> bool {
        match (self, value) {
            (Domain::Switch(levels) | Domain::Module(levels), _) => {
                Levels::of(value).is_some_and(|level| levels.may(level))
            }
            (Domain::Pick(values), Value::Pick(value)) => values.contains(value),
            (Domain::Number { low, high, except }, Value::Number(n)) => inside(i128::from(*n), *low, *high, except),
            (Domain::Size { low, high, except }, Value::Size(n)) => inside(i128::from(*n), *low, *high, except),
            (Domain::Text { is, is_not }, value) => is.as_ref().is_none_or(|v| v == value) && !is_not.contains(value),
            (Domain::Words { exactly, with, without }, Value::Words(words)) => {
                exactly.as_ref().is_none_or(|e| e == words)
                    && with.iter().all(|w| words.contains(w))
                    && !without.iter().any(|w| words.contains(w))
            }
            _ => false,
        }
    }

    /// Narrows to exactly one value; `None` when it is not allowed.
    pub fn fixed(&self, value: &Value) -> Option<Domain> {
        if !self.allows(value) {
            return None;
        }
        Some(match (self, value) {
            (Domain::Words { with, without, .. }, Value::Words(words)) => {
                Domain::Words { exactly: Some(words.clone()), with: with.clone(), without: without.clone() }
            }
            (Domain::Text { is_not, .. }, value) => Domain::Text { is: Some(value.clone()), is_not: is_not.clone() },
            _ => self.narrowed(Op::Equal, value)?,
        })
    }

    /// Narrows to the values that compare so; `None` when there are none.
    pub fn narrowed(&self, op: Op, value: &Value) -> Option<Domain> {
        match (self, value) {
            (Domain::Switch(levels) | Domain::Module(levels), _) => {
                self.with_levels(levels.and(levels_that(op, value)))
            }
            (Domain::Pick(values), Value::Pick(wanted)) => {
                let keep = |v: &&String| (*v == wanted) == (op == Op::Equal);
                let left: Vec<String> = values.iter().filter(keep).cloned().collect();
                (!left.is_empty()).then_some(Domain::Pick(left))
            }
            (Domain::Number { low, high, except }, Value::Number(n)) => {
                let (low, high, except) = bounded(*low, *high, except, op, i128::from(*n))?;
                Some(Domain::Number { low, high, except })
            }
            (Domain::Size { low, high, except }, Value::Size(n)) => {
                let (low, high, except) = bounded(*low, *high, except, op, i128::from(*n))?;
                Some(Domain::Size { low, high, except })
            }
            (Domain::Text { is, is_not }, value) => {
                let mut is_not = is_not.clone();
                if op == Op::Equal {
                    return self.fixed(value);
                }
                if is.as_ref() == Some(value) {
                    return None;
                }
                is_not.push(value.clone());
                Some(Domain::Text { is: is.clone(), is_not })
            }
            (Domain::Words { exactly, with, without }, Value::Words(words)) => {
                let (mut with, mut without) = (with.clone(), without.clone());
                if op == Op::Equal {
                    with.extend(words.clone())
                } else {
                    without.extend(words.clone())
                }
                let sound = !with.iter().any(|w| without.contains(w));
                let fits = exactly
                    .as_ref()
                    .is_none_or(|e| with.iter().all(|w| e.contains(w)) && !without.iter().any(|w| e.contains(w)));
                (sound && fits).then_some(Domain::Words { exactly: exactly.clone(), with, without })
            }
            _ => None,
        }
    }

    /// Tells what is known about a comparison.
    pub fn compares(&self, op: Op, value: &Value) -> Truth {
        if self.narrowed(op, value).is_none() {
            Truth::No
        } else if self.narrowed(op.opposite(), value).is_none() {
            Truth::Yes
        } else {
            match self.single() {
                Some(single) if single.compares(op, value) => Truth::Yes,
                Some(_) => Truth::No,
                None => Truth::Open,
            }
        }
    }

    /// Returns the values to try when the default is not allowed, best first: as little as possible, as near to the
    /// default as possible.
    pub fn candidates(&self, default: &Value) -> Vec<Value> {
        match self {
            Domain::Switch(_) => {
                let all = [Value::Switch(Switch::Off), Value::Switch(Switch::On)];
                all.into_iter().filter(|v| self.allows(v)).collect()
            }
            Domain::Module(_) => {
                // A built-in default that cannot be is better loadable than not there.
                let all = match default {
                    Value::Module(Linkage::Builtin) => [Linkage::Loadable, Linkage::Off, Linkage::Builtin],
                    _ => [Linkage::Off, Linkage::Loadable, Linkage::Builtin],
                };
                let all = all.map(Value::Module);
                all.into_iter().filter(|v| self.allows(v)).collect()
            }
            Domain::Pick(values) => values.iter().cloned().map(Value::Pick).collect(),
            Domain::Number { low, high, except } => {
                let from = if let Value::Number(n) = default { i128::from(*n) } else { 0 };
                let near = nearest(from, *low, *high, except);
                near.and_then(|n| i64::try_from(n).ok()).map(Value::Number).into_iter().collect()
            }
            Domain::Size { low, high, except } => {
                let from = if let Value::Size(n) = default { i128::from(*n) } else { 0 };
                let near = nearest(from, *low, *high, except);
                near.and_then(|n| u64::try_from(n).ok()).map(Value::Size).into_iter().collect()
            }
            Domain::Text { is, .. } => vec![is.clone().unwrap_or_else(|| default.clone())],
            Domain::Words { exactly: Some(words), .. } => vec![Value::Words(words.clone())],
            Domain::Words { with, without, .. } => {
                let mut words = if let Value::Words(words) = default { words.clone() } else { vec![] };
                words.retain(|w| !without.contains(w));
                with.iter().for_each(|w| {
                    if !words.contains(w) {
                        words.push(w.clone());
                    }
                });
                vec![Value::Words(words)]
            }
        }
    }
}

fn levels_that(op: Op, value: &Value) -> Levels {
    let levels = [
        (Levels::OFF, Value::Module(Linkage::Off), Value::Switch(Switch::Off)),
        (Levels::LOADABLE, Value::Module(Linkage::Loadable), Value::Module(Linkage::Loadable)),
        (Levels::FULL, Value::Module(Linkage::Builtin), Value::Switch(Switch::On)),
    ];
    let switch = matches!(value, Value::Switch(_));
    let mut that = Levels(0);
    for (level, module, switch_value) in levels {
        let own = if switch { switch_value } else { module };
        if own.compares(op, value) && (!switch || level != Levels::LOADABLE) {
            that = Levels(that.0 | level.0);
        }
    }
    that
}

fn inside(n: i128, low: i128, high: i128, except: &[i128]) -> bool {
    (low..=high).contains(&n) && !except.contains(&n)
}

fn bounded(low: i128, high: i128, except: &[i128], op: Op, n: i128) -> Option<(i128, i128, Vec<i128>)> {
    let (mut low, mut high, mut except) = (low, high, except.to_vec());
    match op {
        Op::Equal => (low, high) = (low.max(n), high.min(n)),
        Op::NotEqual => except.push(n),
        Op::Less => high = high.min(n - 1),
        Op::AtMost => high = high.min(n),
        Op::More => low = low.max(n + 1),
        Op::AtLeast => low = low.max(n),
    }
    while low <= high && except.contains(&low) {
        low += 1;
    }
    while low <= high && except.contains(&high) {
        high -= 1;
    }
    (low <= high).then_some((low, high, except))
}

fn nearest(from: i128, low: i128, high: i128, except: &[i128]) -> Option<i128> {
    let start = from.clamp(low, high);
    // Each excepted value can push the answer at most one step further.
    (0..=except.len() as i128 + 1).flat_map(|d| [start + d, start - d]).find(|n| inside(*n, low, high, except))
}
