//! What an old value is for an option as it is now.

use super::{Becomes, ValueReason};
use crate::board::{ChangedValues, Kind, ValueFault, read_size, shown_size};

/// What became of a value.
pub(super) enum ValueNow {
    Same,
    Becomes(Becomes),
    Cannot(ValueFault),
}

/// Finds the value that means the same: as the board says, else the value itself, else what its kind has for it.
pub(super) fn now(kind: &Kind, changed: Option<&ChangedValues>, value: &str) -> ValueNow {
    if let Some(said) = changed.and_then(|changed| changed.now(value)) {
        return match kind.read(&said) {
            Ok(_) if said == value => ValueNow::Same,
            Ok(_) => ValueNow::Becomes(Becomes { value: said, why: ValueReason::Said }),
            Err(fault) => match nearest(kind, &said) {
                Some(becomes) => ValueNow::Becomes(becomes),
                None => ValueNow::Cannot(fault),
            },
        };
    }
    let fault = match kind.read(value) {
        Ok(_) => return ValueNow::Same,
        Err(fault) => fault,
    };
    let other_kind = match (kind, value) {
        (Kind::Module, "on") => Some("builtin"),
        (Kind::Switch, "builtin" | "loadable") => Some("on"),
        _ => None,
    };
    if let Some(value) = other_kind {
        return ValueNow::Becomes(Becomes { value: value.into(), why: ValueReason::Kind });
    }
    nearest(kind, value).map_or(ValueNow::Cannot(fault), ValueNow::Becomes)
}

/// The nearest number of a range in which a number does not lie.
fn nearest(kind: &Kind, value: &str) -> Option<Becomes> {
    let (value, words) = match kind {
        Kind::Number(range) => {
            let number: i64 = value.parse().ok()?;
            let nearest = number.clamp(*range.start(), *range.end());
            (nearest.to_string(), format!("{} to {}", range.start(), range.end()))
        }
        Kind::Size(range) => {
            let bytes = read_size(value)?;
            let nearest = bytes.clamp(*range.start(), *range.end());
            (shown_size(nearest), format!("{} to {}", shown_size(*range.start()), shown_size(*range.end())))
        }
        _ => return None,
    };
    kind.read(&value).ok()?;
    Some(Becomes { value, why: ValueReason::Nearest(words) })
}
