//! Reading the fields of a TOML table: types, unknown keys with near matches, places.

use std::cell::RefCell;
use std::sync::{Mutex, MutexGuard, PoisonError};

use toml_edit::{Item, TableLike, Value as TomlValue};

use super::problem::{Fault, Problem};
use crate::base::{FileId, Place, near_matches};

/// A table in either notation, readable by several threads at once.
pub(super) type AnyTable = dyn TableLike + Sync;

/// Problems as they are found.
#[derive(Default)]
pub(super) struct Log {
    problems: Mutex<Vec<Problem>>,
}

impl Log {
    pub fn add(&self, problem: Problem) {
        self.lock().push(problem);
    }

    pub fn is_empty(&self) -> bool {
        self.lock().is_empty()
    }

    pub fn into_problems(self) -> Vec<Problem> {
        self.problems.into_inner().unwrap_or_else(PoisonError::into_inner)
    }

    fn lock(&self) -> MutexGuard<'_, Vec<Problem>> {
        self.problems.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A text with its place; the place covers the text without its quotes.
#[derive(Debug, Clone)]
pub(super) struct Text {
    pub text: String,
    pub place: Place,
}

/// One value with its key and place.
#[derive(Clone, Copy)]
pub(super) struct Found<'a> {
    pub key: &'a str,
    pub item: Shape<'a>,
    pub place: Place,
}

/// What a value is.
#[derive(Clone, Copy)]
pub(super) enum Shape<'a> {
    Value(&'a TomlValue),
    Table(&'a AnyTable),
    Tables(&'a toml_edit::ArrayOfTables),
}

/// A table that is being read. Every key that is asked for counts as known; [`Fields::finish`] reports the others.
pub(super) struct Fields<'a> {
    table: &'a AnyTable,
    entries: Vec<(&'a str, &'a Item)>,
    pub file: FileId,
    pub place: Place,
    /// What the table is, as in "option `fog`".
    pub context: String,
    log: &'a Log,
    asked: RefCell<Vec<&'static str>>,
}

impl<'a> Fields<'a> {
    pub fn new(table: &'a AnyTable, file: FileId, place: Place, context: String, log: &'a Log) -> Self {
        let entries = table.iter().collect();
        Fields { table, entries, file, place, context, log, asked: RefCell::default() }
    }

    pub fn get(&self, key: &'static str) -> Option<Found<'a>> {
        self.asked.borrow_mut().push(key);
        // Tables are short: going through their keys is quicker than hashing, and most keys asked for are not there.
        let (_, item) = self.entries.iter().find(|(name, _)| *name == key)?;
        let key_span = self.table.key(key).and_then(toml_edit::Key::span);
        let place = |span: Option<std::ops::Range<usize>>| {
            span.or(key_span.clone()).map_or(self.place, |span| Place::new(self.file, span))
        };
        let (shape, place) = match item {
            Item::Value(TomlValue::InlineTable(table)) => (Shape::Table(table), place(item.span())),
            Item::Value(value) => (Shape::Value(value), place(value.span())),
            Item::Table(table) => (Shape::Table(table), place(table.span())),
            Item::ArrayOfTables(tables) => (Shape::Tables(tables), place(tables.span())),
            Item::None => return None,
        };
        Some(Found { key, item: shape, place })
    }

    pub fn table(&self) -> &'a AnyTable {
        self.table
    }

    pub fn problem(&self, place: Place, fault: impl Into<Fault>) {
        self.log.add(Problem::at(place, fault));
    }

    pub fn log(&self) -> &'a Log {
        self.log
    }

    pub fn wrong_type(&self, found: &Found<'_>, expected: &str) {
        let fault = Fault::WrongType { key: found.key.into(), expected: expected.into(), found: found.shown() };
        self.problem(found.place, fault);
    }

    pub fn text(&self, key: &'static str) -> Option<Text> {
        let found = self.get(key)?;
        let text = found.text();
        if text.is_none() {
            self.wrong_type(&found, "a text");
        }
        text
    }

    pub fn text_or_empty(&self, key: &'static str) -> String {
        self.text(key).map_or(String::new(), |t| t.text)
    }

    pub fn required_text(&self, key: &'static str) -> Option<Text> {
        if self.get(key).is_none() {
            self.problem(self.place, Fault::Missing { key, context: self.context.clone() });
            return None;
        }
        self.text(key)
    }

    /// A text or a list of texts.
    pub fn texts(&self, key: &'static str) -> Vec<Text> {
        let Some(found) = self.get(key) else { return Vec::new() };
        if let Some(text) = found.text() {
            return vec![text];
        }
        let members = found.members();
        let texts: Option<Vec<Text>> = members.as_ref().and_then(|m| m.iter().map(Found::text).collect());
        texts.unwrap_or_else(|| {
            self.wrong_type(&found, "a text or a list of texts");
            Vec::new()
        })
    }

    pub fn flag(&self, key: &'static str) -> bool {
        let Some(found) = self.get(key) else { return false };
        match found.item {
            Shape::Value(TomlValue::Boolean(value)) => *value.value(),
            Shape::Value(_) | Shape::Table(_) | Shape::Tables(_) => {
                self.wrong_type(&found, "true or false");
                false
            }
        }
    }

    pub fn integer(&self, key: &'static str) -> Option<i64> {
        let found = self.get(key)?;
        let number = found.integer();
        if number.is_none() {
            self.wrong_type(&found, "a whole number");
        }
        number
    }

    /// A list; a single value counts as a list of one.
    pub fn list(&self, key: &'static str) -> Vec<Found<'a>> {
        let Some(found) = self.get(key) else { return Vec::new() };
        found.members().unwrap_or_else(|| vec![found])
    }

    /// A table below this one, read as fields of its own.
    pub fn sub(&self, found: &Found<'a>, context: String) -> Option<Fields<'a>> {
        match found.item {
            Shape::Table(table) => Some(Fields::new(table, self.file, found.place, context, self.log)),
            Shape::Value(_) | Shape::Tables(_) => None,
        }
    }

    /// All keys, each with its text where it is one. They count as asked for.
    pub fn texts_by_key(&self) -> Vec<(Text, Option<Text>)> {
        let mut texts = Vec::new();
        for (key, item) in self.table.iter() {
            let place =
                |span: Option<std::ops::Range<usize>>| span.map_or(self.place, |span| Place::new(self.file, span));
            let name = Text { text: key.to_string(), place: place(self.table.key(key).and_then(toml_edit::Key::span)) };
            let value = item.as_str().map(|text| Text { text: text.to_string(), place: place(item.span()) });
            texts.push((name, value));
        }
        texts
    }

    /// The named tables below `key`, as in `[option.NAME]`, in the order of the file.
    pub fn named(&self, key: &'static str) -> Vec<(Text, &'a AnyTable)> {
        let Some(found) = self.get(key) else { return Vec::new() };
        let Shape::Table(table) = found.item else {
            self.wrong_type(&found, &format!("tables such as [{key}.NAME]"));
            return Vec::new();
        };
        let mut entries = Vec::new();
        for (name, item) in table.iter() {
            let span = table.key(name).and_then(toml_edit::Key::span).unwrap_or(0..0);
            let place = Place::new(self.file, span);
            let inner: &'a AnyTable = match item {
                Item::Table(inner) => inner,
                Item::Value(TomlValue::InlineTable(inner)) => inner,
                _ => {
                    self.problem(
                        place,
                        Fault::WrongType {
                            key: format!("{key}.{name}"),
                            expected: "a table".into(),
                            found: shown_item(item).into(),
                        },
                    );
                    continue;
                }
            };
            let text = Text { text: name.to_string(), place };
            entries.push((text, inner));
        }
        entries
    }

    /// Reports every key that nobody asked for.
    pub fn finish(self) {
        let asked = self.asked.borrow();
        for (key, _) in self.table.iter() {
            if asked.contains(&key) {
                continue;
            }
            let span = self.table.key(key).and_then(toml_edit::Key::span);
            let place = span.map_or(self.place, |span| Place::new(self.file, span));
            let fault = Fault::UnknownKey { key: key.to_string(), context: self.context.clone() };
            self.log.add(Problem::at(place, fault).with_near(near_matches(key, asked.iter().copied())));
        }
    }
}

impl<'a> Found<'a> {
    pub fn text(&self) -> Option<Text> {
        let Shape::Value(TomlValue::String(value)) = self.item else { return None };
        // Inside the quotes, so that offsets in the text are offsets in the file (but for escapes, which are rare).
        let quotes = (self.place.len as usize).saturating_sub(value.value().len()) / 2;
        let place = self.place.within(quotes, (self.place.len as usize).saturating_sub(2 * quotes));
        Some(Text { text: value.value().clone(), place })
    }

    pub fn integer(&self) -> Option<i64> {
        match self.item {
            Shape::Value(TomlValue::Integer(value)) => Some(*value.value()),
            Shape::Value(_) | Shape::Table(_) | Shape::Tables(_) => None,
        }
    }

    /// The members when this is a list.
    pub fn members(&self) -> Option<Vec<Found<'a>>> {
        match self.item {
            Shape::Value(TomlValue::Array(array)) => Some(
                array
                    .iter()
                    .map(|value| {
                        let span = value.span().unwrap_or(0..0);
                        let item = match value {
                            TomlValue::InlineTable(table) => Shape::Table(table),
                            other => Shape::Value(other),
                        };
                        Found { key: self.key, item, place: Place::new(self.place.file, span) }
                    })
                    .collect(),
            ),
            Shape::Tables(tables) => Some(
                tables
                    .iter()
                    .map(|table| {
                        let place = table.span().map_or(self.place, |span| Place::new(self.place.file, span));
                        Found { key: self.key, item: Shape::Table(table), place }
                    })
                    .collect(),
            ),
            Shape::Value(_) | Shape::Table(_) => None,
        }
    }

    pub fn shown(&self) -> String {
        match self.item {
            Shape::Value(value) => shown_value(value).into(),
            Shape::Table(_) => "a table".into(),
            Shape::Tables(_) => "a list of tables".into(),
        }
    }
}

fn shown_item(item: &Item) -> &'static str {
    match item {
        Item::None => "nothing",
        Item::Value(value) => shown_value(value),
        Item::Table(_) => "a table",
        Item::ArrayOfTables(_) => "a list of tables",
    }
}

fn shown_value(value: &TomlValue) -> &'static str {
    match value {
        TomlValue::String(_) => "a text",
        TomlValue::Integer(_) => "a whole number",
        TomlValue::Float(_) => "a number with a fraction",
        TomlValue::Boolean(_) => "true or false",
        TomlValue::Datetime(_) => "a date",
        TomlValue::Array(_) => "a list",
        TomlValue::InlineTable(_) => "a table",
    }
}
