//! What carries options into C code.

use super::part::PartId;
use super::{Condition, Kind};
use crate::base::{Id, Place, RelPath};

/// The id of a [`HeaderDef`].
pub type HeaderId = Id<HeaderDef>;

/// A generated header with the options' macros.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct HeaderDef {
    /// Its name in the definitions.
    pub name: String,
    /// Where it lies below the folder of generated files, as sources include it.
    pub path: RelPath,
    /// Its include guard.
    pub guard: String,
    /// What its macros begin with; empty when options name theirs.
    pub prefix: String,
    /// When compilers read it.
    pub order: HeaderOrder,
    /// Where it is written.
    pub place: Place,
}

/// When compilers read an option header.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum HeaderOrder {
    /// Where a source includes it.
    Included,
    /// Before everything else, so that a shipped copy with the same guard stays without effect.
    First,
}

/// A macro that carries an option's value.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct MacroDef {
    /// The macro's name.
    pub name: String,
    /// The header that defines it; none leaves it to `-D` flags.
    pub header: Option<HeaderId>,
    /// The parts whose compiles alone are given it.
    pub parts: Vec<PartId>,
    /// The sets whose parts are given it, by their numbers.
    pub sets: Vec<u32>,
    /// How the value is written.
    pub form: MacroForm,
    /// Treated as off unless this holds.
    pub when: Option<Condition>,
}

/// How a macro shows a value.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum MacroForm {
    /// `1` when the option is not off, otherwise not defined.
    OneOrAbsent,
    /// `1` when the option is not off, otherwise `0`.
    OneOrZero,
    /// `1` when a module is loadable, otherwise not defined.
    LoadableOrAbsent,
    /// `1` when a module is built in, otherwise not defined.
    BuiltinOrAbsent,
    /// The value as it is.
    Plain,
    /// A number to the base of sixteen.
    Hexadecimal,
    /// The value in quotes, as a C string.
    Quoted,
    /// `1` when a pick has this value, otherwise not defined.
    PickIs(String),
    /// `1` when the option is off, otherwise not defined.
    OneWhenOff,
}

impl MacroForm {
    /// The forms that definitions can name.
    pub const NAMED: [(&'static str, MacroForm); 8] = [
        ("one-or-absent", MacroForm::OneOrAbsent),
        ("one-when-off", MacroForm::OneWhenOff),
        ("one-or-zero", MacroForm::OneOrZero),
        ("loadable", MacroForm::LoadableOrAbsent),
        ("builtin", MacroForm::BuiltinOrAbsent),
        ("plain", MacroForm::Plain),
        ("hexadecimal", MacroForm::Hexadecimal),
        ("quoted", MacroForm::Quoted),
    ];

    /// Tells whether a kind of option has values that the form can show.
    pub fn fits(&self, kind: &Kind) -> bool {
        match self {
            MacroForm::OneOrAbsent | MacroForm::OneOrZero | MacroForm::OneWhenOff => kind.is_on_off(),
            MacroForm::LoadableOrAbsent | MacroForm::BuiltinOrAbsent => *kind == Kind::Module,
            MacroForm::Hexadecimal => kind.is_number(),
            MacroForm::PickIs(_) => matches!(kind, Kind::Pick(_)),
            MacroForm::Plain | MacroForm::Quoted => true,
        }
    }
}
