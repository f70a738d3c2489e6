//! Words of lists that get a condition, where they stand: in a part, in a set that several parts use, or in the toolchain.

use std::collections::BTreeSet;

use toml_edit::{Array, InlineTable, Item, Table, Value};

use super::{Edit, under};
use crate::adopt::delta::{Delta, Key, Moved};
use crate::adopt::model::DrawnSource;

/// Where words of a part's sources are written.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Home {
    Part(String),
    Set(String),
    /// One definition for many files.
    Each(String),
    /// A key of the toolchain.
    Toolchain(&'static str),
}

impl Edit<'_> {
    /// The value of a macro of compiles is the option itself.
    pub(super) fn value_of_parts(&mut self, delta: &Delta, name: &str) {
        let mut parts = BTreeSet::new();
        for moved in delta.moved.iter().filter(|moved| moved.who.contains(&self.ask.base)) {
            self.replace(moved, &moved.parts.iter().collect::<Vec<_>>(), None);
            parts.extend(moved.parts.iter().map(String::as_str));
        }
        let mut entry = InlineTable::new();
        entry.insert("name", name.into());
        entry.insert("parts", Value::Array(parts.iter().copied().collect()));
        self.said.push(format!("the value of {name} in {}", parts.into_iter().collect::<Vec<_>>().join(", ")));
        self.macros.push(Value::InlineTable(entry));
    }

    pub(super) fn lists(&mut self, delta: &Delta) {
        // Words that go together are written together.
        let mut joined: Vec<Moved> = Vec::new();
        for moved in &delta.moved {
            let has_base = |moved: &Moved| moved.who.contains(&self.ask.base);
            match joined.last_mut() {
                Some(last)
                    if !has_base(moved)
                        && (last.key, &last.who, &last.parts) == (moved.key, &moved.who, &moved.parts) =>
                {
                    last.words.extend(moved.words.iter().cloned());
                }
                _ => joined.push(moved.clone()),
            }
        }
        for moved in &joined {
            self.moved_word(delta, moved);
        }
    }

    pub(super) fn moved_word(&mut self, delta: &Delta, moved: &Moved) {
        let when = self.condition(&moved.who);
        let (there, new): (Vec<&String>, Vec<&String>) =
            moved.parts.iter().partition(|part| moved.who.contains(&self.source_of(delta.parts.get(*part))));
        self.replace(moved, &there, Some(&when));
        let everywhere = self.is_everywhere(moved, |_| true);
        let of_sources = matches!(moved.key, Key::Defines | Key::Flags | Key::Include);
        if of_sources && everywhere && !new.is_empty() {
            let words: Vec<String> = moved.words.iter().map(|word| as_flag(moved.key, word)).collect();
            if let Some(list) = self.list(&Home::Toolchain("flags"), moved.key) {
                list.push(Value::InlineTable(under(&when, "add", &words)));
            }
        } else {
            let home = |part: &String| self.each_of(moved, part).map_or_else(|| Home::Part(part.clone()), Home::Each);
            let homes: BTreeSet<Home> = new.into_iter().map(home).collect();
            for home in homes {
                if let Some(list) = self.list(&home, moved.key) {
                    list.push(Value::InlineTable(under(&when, "add", &moved.words)));
                }
            }
        }
        let parts: Vec<&str> = moved.parts.iter().map(String::as_str).collect();
        let parts = if everywhere { "all parts".to_string() } else { parts.join(", ") };
        self.said.push(format!(
            "{}, {} of {parts}: {}",
            self.with(&moved.who),
            moved.key.word(),
            moved.words.join(" ")
        ));
    }

    /// Whether all parts of the base with sources (of a kind) have a word moved.
    fn is_everywhere(&self, moved: &Moved, of_kind: fn(&DrawnSource) -> bool) -> bool {
        let parts = &self.pictures[self.ask.base].model.parts;
        let mut parts = parts.iter().filter(|part| part.sources.iter().any(of_kind)).peekable();
        parts.peek().is_some() && parts.all(|part| moved.parts.contains(&part.name))
    }

    /// The list that words are in, made where there is none.
    fn list(&mut self, home: &Home, key: Key) -> Option<&mut Array> {
        let (table, word) = match home {
            Home::Part(name) => (self.own_table(name)?, key.word()),
            Home::Set(name) => (self.table("set", name)?, key.word()),
            Home::Each(name) => (self.table("each", name)?.get_mut("part")?.as_table_mut()?, key.word()),
            Home::Toolchain(word) => {
                (self.doc.entry("toolchain").or_insert(Item::Table(Table::new())).as_table_mut()?, *word)
            }
        };
        // The reader of definitions takes nothing but lists here.
        table.entry(word).or_insert_with(|| toml_edit::value(Array::new())).as_array_mut()
    }

    /// Takes words of the base out of the lists that they are in, for some parts; with a condition they stay there under it.
    pub(super) fn replace(&mut self, moved: &Moved, parts: &[&String], when: Option<&str>) {
        let mut homes: BTreeSet<Home> = BTreeSet::new();
        for part in parts {
            match self.home(moved, part) {
                Some(home) => {
                    homes.insert(home);
                }
                None => {
                    let (key, words) = (moved.key.word(), moved.words.join(" "));
                    self.unclear.push(format!("`{key}` of {part} does not name {words} itself"));
                }
            }
        }
        for home in homes {
            if !self.all_share(&home, moved) {
                let place = match &home {
                    Home::Set(name) => format!("the set {name}"),
                    _ => "the toolchain".into(),
                };
                self.unclear.push(format!("{place} gives {} to other parts as well", moved.words.join(" ")));
                continue;
            }
            let words = written(&home, moved);
            if let Some(list) = self.list(&home, moved.key)
                && let Some(at) = place_of(list, &words)
            {
                words.iter().for_each(|_| drop(list.remove(at)));
                if let Some(when) = when {
                    list.insert(at, Value::InlineTable(under(when, "add", &words)));
                }
            }
        }
    }

    /// The list that gives words to a part.
    fn home(&self, moved: &Moved, part: &str) -> Option<Home> {
        let own = self.doc.get("part").and_then(|all| all.get(part));
        let members = &self.pictures[self.ask.base].members;
        let table = own.or_else(|| self.doc.get("each")?.get(&members.get(part)?.0)?.get("part"));
        let sets = table.and_then(|table| table.get("sets")?.as_array()).into_iter().flatten();
        let sets = sets.filter_map(|set| set.as_str()).map(|set| Home::Set(set.to_string()));
        let toolchain = ["flags", "c-flags", "cxx-flags"].map(Home::Toolchain);
        let each = self.each_of(moved, part).map(Home::Each);
        let mut homes = [Home::Part(part.to_string())].into_iter().chain(each).chain(sets).chain(toolchain);
        homes.find(|home| {
            let list = match home {
                Home::Toolchain(word) => self.doc.get("toolchain").and_then(|table| table.get(word)),
                Home::Part(name) => self.doc.get("part").and_then(|all| all.get(name)?.get(moved.key.word())),
                Home::Each(name) => {
                    self.doc.get("each").and_then(|all| all.get(name)?.get("part")?.get(moved.key.word()))
                }
                Home::Set(name) => self.doc.get("set").and_then(|all| all.get(name)?.get(moved.key.word())),
            };
            list.and_then(Item::as_array).is_some_and(|list| place_of(list, &written(home, moved)).is_some())
        })
    }

    /// The definition for many files that a part is of, where all of these have the words moved.
    fn each_of(&self, moved: &Moved, part: &str) -> Option<String> {
        let members = &self.pictures[self.ask.base].members;
        let (each, _) = members.get(part).filter(|_| self.doc.get("part").is_none_or(|all| all.get(part).is_none()))?;
        let mut all = members.iter().filter(|(_, (own, _))| own == each).map(|(name, _)| name);
        all.all(|name| moved.parts.contains(name)).then(|| each.clone())
    }

    /// Whether all who share a list have the words moved.
    fn all_share(&self, home: &Home, moved: &Moved) -> bool {
        match home {
            Home::Part(_) | Home::Each(_) => true,
            Home::Toolchain("c-flags") => self.is_everywhere(moved, |source| !source.is_cxx),
            Home::Toolchain("cxx-flags") => self.is_everywhere(moved, |source| source.is_cxx),
            Home::Toolchain(_) => self.is_everywhere(moved, |_| true),
            Home::Set(set) => {
                let names_it = |table: &Item| {
                    let sets = table.get("sets").and_then(Item::as_array);
                    sets.is_some_and(|sets| sets.iter().any(|one| one.as_str() == Some(set)))
                };
                let tables = |sort: &str| self.doc.get(sort).and_then(Item::as_table);
                let alone = tables("part").into_iter().flatten();
                let alone = alone.filter(|(_, table)| names_it(table)).all(|(name, _)| moved.parts.contains(name));
                let each = tables("each").into_iter().flatten();
                let each = each.filter_map(|(_, each)| each.get("part")).any(names_it);
                alone && (!each || self.is_everywhere(moved, |_| true))
            }
        }
    }
}

/// Words as a list of this home has them.
fn written(home: &Home, moved: &Moved) -> Vec<String> {
    match home {
        Home::Toolchain(_) => moved.words.iter().map(|word| as_flag(moved.key, word)).collect(),
        _ => moved.words.clone(),
    }
}

/// Where words stand in a list, one after the other.
fn place_of(list: &Array, words: &[String]) -> Option<usize> {
    let texts: Vec<Option<&str>> = list.iter().map(Value::as_str).collect();
    let here = |window: &[Option<&str>]| window.iter().zip(words).all(|(text, word)| *text == Some(word.as_str()));
    texts.windows(words.len().max(1)).position(here)
}

/// A word of a part's list as the toolchain's flags have it.
fn as_flag(key: Key, word: &str) -> String {
    match key {
        Key::Defines => format!("-D{word}"),
        Key::Include => format!("-I{word}"),
        _ => word.to_string(),
    }
}
