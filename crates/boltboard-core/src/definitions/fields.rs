//! Reading the fields of a TOML table: types, unknown keys with near matches, places.

use std::cell::RefCell;
use std::fmt;
use std::sync::{Mutex, MutexGuard, PoisonError};

use toml::Spanned;
use toml::de::{DeString, DeTable, DeValue};

use super::keys::{TABLES, table};
use super::problem::{Fault, Problem};
use crate::base::{FileId, Place, near_matches};

/// A table in either notation. Its texts are borrowed from the file, but for those with escapes.
pub(super) type Table<'a> = DeTable<'a>;

type Range = std::ops::Range<usize>;

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
    pub key: &'static str,
    item: &'a DeValue<'a>,
    pub place: Place,
}

/// What a table is, as in "option `fog`"; put into words where something is wrong with it.
#[derive(Debug, Clone, Copy)]
pub(super) enum Context<'a> {
    /// One of its sort, as in "[tree]".
    Only(&'static str),
    /// Its sort and name.
    Named(&'a str, &'a str),
}

impl Context<'_> {
    /// Tells whether the table of keys has a key, where it has the table.
    fn knows(self, key: &str) -> bool {
        let name = match self {
            Context::Only(name) => name.trim_matches(['[', ']']).trim_start_matches("host-"),
            Context::Named(what, _) => what,
        };
        // Tables themselves are no keys of the file that holds them.
        let of_file = name == "a board" && TABLES.iter().any(|table| table.written.contains(&format!("[{key}")));
        of_file
            || table(name).is_none_or(|table| table.name == "list" || table.keys.iter().any(|known| known.name == key))
    }
}

impl From<&'static str> for Context<'_> {
    fn from(what: &'static str) -> Self {
        Context::Only(what)
    }
}

impl fmt::Display for Context<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Context::Only(what) => f.write_str(what),
            Context::Named(what, name) => write!(f, "{what} `{name}`"),
        }
    }
}

/// A few bits for each key of a table: most keys that are asked for are not there, and need not be looked for.
#[derive(Debug, Clone, Copy, Default)]
struct KeySketch(u64);

impl KeySketch {
    fn of(table: &Table<'_>) -> KeySketch {
        KeySketch(table.keys().map(|key| KeySketch::bit(key.get_ref())).fold(0, |bits, bit| bits | bit))
    }

    fn bit(key: &str) -> u64 {
        let (first, last) = (key.bytes().next().unwrap_or(0), key.bytes().last().unwrap_or(0));
        let mixed = usize::from(first) * 7 + usize::from(last) * 3 + key.len();
        1 << (mixed % 64)
    }

    fn may_hold(self, key: &str) -> bool {
        self.0 & KeySketch::bit(key) != 0
    }
}

/// A table that is being read. Every key that is asked for counts as known; [`Fields::finish`] reports the others.
pub(super) struct Fields<'a> {
    table: &'a Table<'a>,
    keys: KeySketch,
    pub file: FileId,
    pub place: Place,
    /// What the table is.
    pub context: Context<'a>,
    log: &'a Log,
    asked: RefCell<Vec<&'static str>>,
}

impl<'a> Fields<'a> {
    pub fn new(table: &'a Table<'a>, file: FileId, place: Place, context: Context<'a>, log: &'a Log) -> Self {
        Fields { table, keys: KeySketch::of(table), file, place, context, log, asked: RefCell::default() }
    }

    pub fn get(&self, key: &'static str) -> Option<Found<'a>> {
        debug_assert!(self.context.knows(key), "`{key}` of {} is in no table of keys", self.context);
        self.asked.borrow_mut().push(key);
        let (name, item) = self.keys.may_hold(key).then(|| self.table.get_key_value(key)).flatten()?;
        Some(Found { key, item: item.get_ref(), place: self.place_of(item.span(), name.span()) })
    }

    /// A table that no line of the file opens has no span of its own; then its key stands for it.
    fn place_of(&self, item: Range, key: Range) -> Place {
        Place::new(self.file, if item.is_empty() { key } else { item })
    }

    pub fn table(&self) -> &'a Table<'a> {
        self.table
    }

    pub fn problem(&self, place: Place, fault: impl Into<Fault>) {
        self.log.add(Problem::at(place, fault));
    }

    /// Takes what was read of a text, or reports what is wrong with it.
    pub fn read<T>(&self, text: &Text, read: Result<T, impl Into<Fault>>) -> Option<T> {
        read.map_err(|fault| self.problem(text.place, fault)).ok()
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
            self.wrong_type(&found, "a string");
        }
        text
    }

    /// What one of a few words stands for; nothing where the key is not there or has another word, which is reported.
    pub fn word<T: Clone>(&self, key: &'static str, words: &[(&'static str, T)]) -> Option<T> {
        let text = self.text(key)?;
        let found = words.iter().find(|(word, _)| *word == text.text);
        if found.is_none() {
            self.wrong_word(key, &text, words.iter().map(|(word, _)| *word).collect());
        }
        found.map(|(_, value)| value.clone())
    }

    /// Reports a word in the place of one of these.
    pub fn wrong_word(&self, key: &'static str, text: &Text, words: Vec<&'static str>) {
        let near = near_matches(&text.text, words.iter().copied());
        let fault = Fault::WrongWord { key, words, found: text.text.clone() };
        self.log.add(Problem::at(text.place, fault).with_near(near));
    }

    pub fn text_or_empty(&self, key: &'static str) -> String {
        self.text(key).map_or(String::new(), |t| t.text)
    }

    /// Reports a key that must be there. One that is there and was refused was reported already.
    pub fn missing(&self, key: &'static str) {
        let says_nothing = |item: &Spanned<DeValue<'_>>| match item.get_ref() {
            DeValue::Array(items) => items.is_empty(),
            DeValue::Table(table) => table.is_empty(),
            DeValue::String(text) => text.is_empty(),
            _ => false,
        };
        if self.table.get(key).is_none_or(says_nothing) {
            self.problem(self.place, Fault::Missing { key, context: self.context.to_string() });
        }
    }

    pub fn required_text(&self, key: &'static str) -> Option<Text> {
        if self.get(key).is_none() {
            self.missing(key);
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
            self.wrong_type(&found, "a string or a list of strings");
            Vec::new()
        })
    }

    pub fn flag(&self, key: &'static str) -> bool {
        let Some(found) = self.get(key) else { return false };
        match found.item {
            DeValue::Boolean(value) => *value,
            _ => {
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
    pub fn sub(&self, found: &Found<'a>, context: impl Into<Context<'a>>) -> Option<Fields<'a>> {
        Some(Fields::new(found.item.as_table()?, self.file, found.place, context.into(), self.log))
    }

    /// All keys, each with its text where it is one. They count as asked for.
    pub fn texts_by_key(&self) -> Vec<(Text, Option<Text>)> {
        let texts = in_file_order(self.table).into_iter().map(|(key, item)| {
            let name = Text { text: key.get_ref().to_string(), place: Place::new(self.file, key.span()) };
            let place = self.place_of(item.span(), key.span());
            let value = item.get_ref().as_str().map(|text| Text { text: text.to_string(), place });
            (name, value)
        });
        texts.collect()
    }

    /// All keys with what stands under them, in the order of the file. They count as known.
    pub fn members_by_key(&self) -> Vec<(Text, Found<'a>)> {
        let member = |(key, item): (&'a Spanned<DeString<'a>>, &'a Spanned<DeValue<'a>>)| {
            let name = Text { text: key.get_ref().to_string(), place: Place::new(self.file, key.span()) };
            (name, Found { key: "it", item: item.get_ref(), place: self.place_of(item.span(), key.span()) })
        };
        in_file_order(self.table).into_iter().map(member).collect()
    }

    /// The named tables below `key`, as in `[option.NAME]`, in the order of the file.
    pub fn named(&self, key: &'static str) -> Vec<(Text, &'a Table<'a>)> {
        let Some(found) = self.get(key) else { return Vec::new() };
        let Some(table) = found.item.as_table() else {
            self.wrong_type(&found, &format!("tables such as [{key}.NAME]"));
            return Vec::new();
        };
        let mut entries = Vec::new();
        for (name, item) in in_file_order(table) {
            let place = Place::new(self.file, name.span());
            let Some(inner) = item.get_ref().as_table() else {
                let (key, expected) = (format!("{key}.{}", name.get_ref()), "a table".into());
                self.problem(place, Fault::WrongType { key, expected, found: shown(item.get_ref()).into() });
                continue;
            };
            entries.push((Text { text: name.get_ref().to_string(), place }, inner));
        }
        entries
    }

    /// Reports every key that nobody asked for.
    pub fn finish(self) {
        let asked = self.asked.borrow();
        // Hardly ever is there one, so nothing is put in order before.
        if self.table.keys().all(|key| asked.contains(&key.get_ref().as_ref())) {
            return;
        }
        let unknown = in_file_order(self.table).into_iter().filter(|(key, _)| !asked.contains(&key.get_ref().as_ref()));
        for (key, _) in unknown {
            let name = key.get_ref().as_ref();
            let (near, place) = (near_matches(name, asked.iter().copied()), Place::new(self.file, key.span()));
            let mut known: Vec<String> = asked.iter().map(ToString::to_string).collect();
            known.sort();
            known.dedup();
            let fault = Fault::UnknownKey { key: name.to_string(), context: self.context.to_string(), known };
            self.log.add(Problem::at(place, fault).with_near(near));
        }
    }
}

type Entries<'a> = Vec<(&'a Spanned<DeString<'a>>, &'a Spanned<DeValue<'a>>)>;

/// A table's entries by where they are written; the parser sorts them by name.
fn in_file_order<'a>(table: &'a Table<'a>) -> Entries<'a> {
    let mut entries: Entries<'a> = table.iter().collect();
    entries.sort_by_key(|(key, _)| key.span().start);
    entries
}

impl<'a> Found<'a> {
    pub fn text(&self) -> Option<Text> {
        let value = self.item.as_str()?;
        // Inside the quotes, so that offsets in the text are offsets in the file (but for escapes, which are rare).
        let quotes = (self.place.len as usize).saturating_sub(value.len()) / 2;
        let place = self.place.within(quotes, (self.place.len as usize).saturating_sub(2 * quotes));
        Some(Text { text: value.to_string(), place })
    }

    pub fn is_table(&self) -> bool {
        self.item.is_table()
    }

    /// The table when this is one.
    pub fn table(&self) -> Option<&'a Table<'a>> {
        self.item.as_table()
    }

    pub fn integer(&self) -> Option<i64> {
        let number = self.item.as_integer()?;
        i64::from_str_radix(number.as_str(), number.radix()).ok()
    }

    /// The members when this is a list.
    pub fn members(&self) -> Option<Vec<Found<'a>>> {
        let member = |item: &'a Spanned<DeValue<'a>>| Found {
            key: self.key,
            item: item.get_ref(),
            place: Place::new(self.place.file, item.span()),
        };
        Some(self.item.as_array()?.iter().map(member).collect())
    }

    pub fn shown(&self) -> String {
        shown(self.item).into()
    }
}

fn shown(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a string",
        DeValue::Integer(number) if i64::from_str_radix(number.as_str(), number.radix()).is_err() => {
            "a number beyond 64 bits"
        }
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a number with a fraction",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(list) if list.first().is_some_and(|item| item.get_ref().is_table()) => "a list of tables",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}
