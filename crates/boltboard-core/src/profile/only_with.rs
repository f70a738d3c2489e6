//! What a profile says that it is only for: compilers, machines, needs that must be met.

use toml_edit::{Document, Item, TableLike};

use super::choices::LayerId;
use super::fault::ProfileFault;
use super::layers::Reader;
use crate::base::{FileId, Place, Version, VersionRange, near_matches};
use crate::board::NeedId;

/// The table's name in a profile.
pub(super) const ONLY_WITH: &str = "only-with";

/// What must be so for a layer to be used. Each list that is not empty asks for something.
#[derive(Debug, Clone, PartialEq)]
pub struct OnlyWith {
    /// The layer.
    pub layer: LayerId,
    /// Where each of the lists is written, in this order, in [`Choices::files`](super::Choices::files).
    pub places: [Place; 3],
    /// C compilers; any of them will do.
    pub compilers: Vec<CompilerWanted>,
    /// What the compiler's target begins with, as in `x86_64`; any of them will do.
    pub machines: Vec<String>,
    /// Needs that are met, all of them.
    pub needs: Vec<NeedId>,
}

/// A compiler that a layer is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CompilerWanted {
    /// What it calls itself, as in `gcc`.
    pub name: String,
    /// Which versions.
    pub versions: Option<VersionRange>,
}

/// What there is instead of what a layer is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Unfit {
    /// Another compiler.
    Compiler {
        /// What the layer is for.
        wanted: String,
        /// What there is.
        found: String,
    },
    /// A compiler for another machine.
    Machine {
        /// What the layer is for.
        wanted: String,
        /// What there is.
        found: String,
    },
    /// Needs that are not met.
    Needs(Vec<NeedId>),
}

impl CompilerWanted {
    fn parse(text: &str) -> Option<CompilerWanted> {
        let name_end = text.find(|c: char| !(c.is_ascii_alphanumeric() || "-_+".contains(c))).unwrap_or(text.len());
        let (name, rest) = (&text[..name_end], text[name_end..].trim());
        let versions = if rest.is_empty() { None } else { Some(rest.parse().ok()?) };
        (!name.is_empty()).then(|| CompilerWanted { name: name.to_string(), versions })
    }

    /// Tells whether a compiler is one of these; `found` is its name and version, as in `gcc 12.2.0`.
    fn is(&self, found: &str) -> bool {
        let mut words = found.split_whitespace();
        words.next() == Some(self.name.as_str())
            && self.versions.as_ref().is_none_or(|range| words.next().is_some_and(|v| range.holds(&Version::new(v))))
    }

    fn text(&self) -> String {
        self.versions.as_ref().map_or_else(|| self.name.clone(), |versions| format!("{} {versions}", self.name))
    }
}

impl OnlyWith {
    /// Tells whether it asks about the compiler or its target.
    pub fn asks_for_compiler(&self) -> bool {
        !self.compilers.is_empty() || !self.machines.is_empty()
    }

    /// Returns what does not fit of a compiler (its name and version, and its target) and of what the host has.
    pub fn unfit(&self, compiler: &str, target: &str, has: &dyn Fn(NeedId) -> bool) -> Vec<Unfit> {
        let mut unfit = Vec::new();
        if !self.compilers.is_empty() && !self.compilers.iter().any(|wanted| wanted.is(compiler)) {
            let wanted: Vec<String> = self.compilers.iter().map(CompilerWanted::text).collect();
            unfit.push(Unfit::Compiler { wanted: wanted.join(" or "), found: compiler.to_string() });
        }
        if !self.machines.is_empty() && !self.machines.iter().any(|wanted| target.starts_with(wanted.as_str())) {
            unfit.push(Unfit::Machine { wanted: self.machines.join(" or "), found: target.to_string() });
        }
        let lacking: Vec<NeedId> = self.needs.iter().copied().filter(|need| !has(*need)).collect();
        if !lacking.is_empty() {
            unfit.push(Unfit::Needs(lacking));
        }
        unfit
    }
}

/// A text, or a list of texts.
fn texts(item: &Item) -> Option<Vec<&str>> {
    match (item.as_str(), item.as_array()) {
        (Some(text), _) => Some(vec![text]),
        (None, Some(list)) => list.iter().map(toml_edit::Value::as_str).collect(),
        (None, None) => None,
    }
}

impl Reader<'_> {
    /// Takes in what a profile is only for: a table, or several that must all fit.
    pub(super) fn only_with(&mut self, file: FileId, document: &Document<String>, layer: LayerId) {
        let Some(item) = document.get(ONLY_WITH) else { return };
        let whole = Place::new(file, item.span().unwrap_or(0..0));
        let tables: Vec<&dyn TableLike> = match (item.as_table_like(), item.as_array_of_tables()) {
            (Some(table), _) => vec![table],
            (None, Some(tables)) => tables.iter().map(|table| table as &dyn TableLike).collect(),
            (None, None) => {
                let fault = ProfileFault::WrongType { key: ONLY_WITH.into(), expected: "a table [only-with]" };
                return self.problem(Some(whole), vec![], fault);
            }
        };
        for table in tables {
            self.only_with_table(file, table, layer, whole);
        }
    }

    fn only_with_table(&mut self, file: FileId, table: &dyn TableLike, layer: LayerId, whole: Place) {
        const KEYS: [&str; 3] = ["compiler", "machine", "needs"];
        let place_of = |key: &str| {
            let span = table.get(key).and_then(Item::span);
            let start = table.key(key).and_then(toml_edit::Key::span).map(|span| span.start);
            span.map_or(whole, |span| Place::new(file, start.unwrap_or(span.start)..span.end))
        };
        let places = KEYS.map(place_of);
        let mut only = OnlyWith { layer, places, compilers: Vec::new(), machines: Vec::new(), needs: Vec::new() };
        for (key, item) in table.iter() {
            let place = Place::new(file, item.span().unwrap_or(0..0));
            let wrong = |expected| ProfileFault::WrongType { key: key.into(), expected };
            let Some(texts) = texts(item).filter(|_| KEYS.contains(&key)) else {
                let fault = if KEYS.contains(&key) {
                    wrong("a text, or a list of texts")
                } else {
                    ProfileFault::UnknownKey(format!("{ONLY_WITH}.{key}"))
                };
                self.problem(Some(place), near_matches(key, KEYS), fault);
                continue;
            };
            for text in texts {
                match key {
                    "compiler" => match CompilerWanted::parse(text.trim()) {
                        Some(wanted) => only.compilers.push(wanted),
                        None => {
                            let fault = wrong("a compiler, with versions if you like, as in \"gcc >= 12\"");
                            self.problem(Some(place), vec![], fault);
                        }
                    },
                    "machine" if text.is_empty() => {
                        let fault = wrong("what the compiler's target begins with, as in \"x86_64\"");
                        self.problem(Some(place), vec![], fault);
                    }
                    "machine" => only.machines.push(text.to_string()),
                    _ => match self.board.need(text) {
                        Some(need) => only.needs.push(need),
                        None => {
                            let near = self.board.needs_near(text);
                            self.problem(Some(place), near, ProfileFault::UnknownNeed(text.into()));
                        }
                    },
                }
            }
        }
        self.choices.only_with.push(only);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wanted(text: &str) -> CompilerWanted {
        CompilerWanted::parse(text).expect("a compiler")
    }

    #[test]
    fn a_compiler_is_told_by_name_and_versions() {
        for (text, found, is) in [
            ("gcc", "gcc 11.4.0", true),
            ("gcc >= 12", "gcc 12.2.0", true),
            ("gcc >= 12", "gcc 11.4.0", false),
            ("gcc>=12, <13", "gcc 13.1", false),
            ("gcc >= 12", "clang 14.0.0", false),
            ("clang", "gcc 12.2.0", false),
            ("gcc >= 12", "gcc", false),
            ("gcc", "gcc 12.2.0 behind mpicc", true),
        ] {
            assert_eq!(wanted(text).is(found), is, "{text}: {found}");
        }
        for text in ["", ">= 12", "gcc 12", "gcc >="] {
            assert_eq!(CompilerWanted::parse(text), None, "{text}");
        }
    }
}
