//! Writing one more option into a description: what differs gets conditions, where it stands.

mod lists;
mod literal;
mod texts;

use std::collections::{BTreeMap, BTreeSet};

use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, Value};

use self::literal::{Literal, literal_of};
use super::delta::{CommandWord, Delta, Key, Moved, SourcesDelta, Who};
use super::differ::{Choice, DifferAsk, DifferFault, Differed};
use super::draw::Picture;
use super::paths::stem_and_ending;
use super::text::kept_place;

/// A description that is being edited.
pub(super) struct Edit<'a> {
    doc: DocumentMut,
    ask: &'a DifferAsk<'a>,
    choice: Choice,
    pictures: &'a [Picture],
    macros: Array,
    /// What the option is about, if it is told.
    about: Option<String>,
    said: Vec<String>,
    unclear: Vec<String>,
    files: BTreeMap<String, String>,
}

impl<'a> Edit<'a> {
    pub fn new(ask: &'a DifferAsk<'a>, choice: Choice, pictures: &'a [Picture]) -> Result<Edit<'a>, DifferFault> {
        let doc: DocumentMut =
            ask.text.parse().map_err(|e: toml_edit::TomlError| DifferFault::Unreadable(e.to_string()))?;
        let mut edit = Edit {
            doc,
            ask,
            choice,
            pictures,
            macros: Array::new(),
            about: None,
            said: Vec::new(),
            unclear: Vec::new(),
            files: BTreeMap::new(),
        };
        match edit.table("option", ask.option) {
            Some(_) => Err(DifferFault::Known(ask.option.to_string())),
            None => Ok(edit),
        }
    }

    pub fn finished(self) -> Result<Differed, DifferFault> {
        if !self.unclear.is_empty() {
            return Err(DifferFault::Unclear(self.unclear));
        }
        let values = match self.choice {
            Choice::Switch => vec!["off".into(), "on".into()],
            Choice::Pick(values) => values,
            Choice::Value(_, values) => values.iter().map(|value| literal_of(value).1).collect(),
        };
        Ok(Differed { text: self.doc.to_string(), files: self.files, said: self.said, values })
    }

    pub fn all(&mut self, delta: &Delta) -> Result<(), DifferFault> {
        for (name, who) in &delta.needs {
            self.need(name, who);
        }
        for (name, who) in &delta.parts {
            self.part(name, who);
        }
        for (name, sources) in &delta.sources {
            self.sources(name, delta.parts.get(name), sources);
        }
        for ((text, who), parts) in &delta.macros {
            self.macro_of_parts(delta, text, who, parts);
        }
        if let Choice::Value(name, _) = self.choice.clone()
            && !delta.moved.is_empty()
        {
            self.value_of_parts(delta, &name);
        } else {
            self.lists(delta);
        }
        for (name, words) in &delta.commands {
            self.command(name, words);
        }
        for kept in &delta.kept {
            self.kept(kept)?;
        }
        self.option(delta);
        Ok(())
    }

    fn tables(&mut self, sort: &str) -> Option<&mut Table> {
        let tables = self.doc.entry(sort).or_insert_with(|| {
            let mut all = Table::new();
            all.set_implicit(true);
            Item::Table(all)
        });
        if tables.as_table().is_none() {
            self.unclear.push(format!("`{sort}` is no table"));
        }
        self.doc.get_mut(sort)?.as_table_mut()
    }

    fn table(&mut self, sort: &str, name: &str) -> Option<&mut Table> {
        self.doc.get_mut(sort)?.as_table_mut()?.get_mut(name)?.as_table_mut()
    }

    /// A part's table. One of a definition for many files is written by itself from now on.
    fn own_table(&mut self, name: &str) -> Option<&mut Table> {
        if self.table("part", name).is_none() {
            let found = self.pictures[self.ask.base].members.get(name).cloned();
            let table = found.as_ref().and_then(|(each, source)| alone(&self.doc, each, name, source));
            let (Some((each, source)), Some(table)) = (found, table) else {
                self.unclear.push(format!("the part {name} is not written by itself"));
                return None;
            };
            let each = self.table("each", &each)?;
            let except = each.entry("except").or_insert_with(|| toml_edit::value(Array::new()));
            except.as_array_mut()?.push(source);
            self.tables("part")?.insert(name, Item::Table(table));
        }
        self.table("part", name)
    }

    /// The condition under which the option has the value of some builds.
    fn condition(&self, who: &Who) -> String {
        let option = self.ask.option;
        match &self.choice {
            Choice::Pick(values) => {
                let one = |build: &usize| format!("{option} = {}", values[*build]);
                who.iter().map(one).collect::<Vec<_>>().join(" or ")
            }
            _ if who.contains(&1) => option.to_string(),
            _ => format!("not {option}"),
        }
    }

    /// The same, as a person says it.
    fn with(&self, who: &Who) -> String {
        match &self.choice {
            Choice::Pick(values) => {
                let names: Vec<&str> = who.iter().map(|build| values[*build].as_str()).collect();
                format!("with {}", names.join(" or "))
            }
            _ if who.contains(&1) => "with it".into(),
            _ => "without it".into(),
        }
    }

    /// The build whose drawing a part that these have is taken from.
    fn source_of(&self, who: Option<&Who>) -> usize {
        who.filter(|who| !who.contains(&self.ask.base)).and_then(|who| who.first().copied()).unwrap_or(self.ask.base)
    }

    fn need(&mut self, name: &str, who: &Who) {
        self.said.push(format!("{}, the need {name}", self.with(who)));
        if !who.contains(&self.ask.base) {
            self.take_over(self.source_of(Some(who)), "need", name, None);
        }
        if let Some(need) = self.table("need", name) {
            need.remove("required");
        }
    }

    fn part(&mut self, name: &str, who: &Who) {
        self.said.push(format!("{}, the part {name}", self.with(who)));
        let when = self.condition(who);
        if who.contains(&self.ask.base) {
            if let Some(part) = self.own_table(name) {
                part.insert("when", toml_edit::value(when));
            }
            return;
        }
        let from = self.source_of(Some(who));
        self.take_over(from, "part", name, Some(&when));
        if let Some(generated) = self.pictures[from].model.made.generated.iter().find(|part| part.name == *name)
            && let (Some((file, _)), Some(text)) = (generated.outputs.first(), &generated.kept)
        {
            self.files.insert(kept_place(file), text.clone());
        }
    }

    /// Takes a table over from a freshly drawn description.
    fn take_over(&mut self, from: usize, sort: &str, name: &str, when: Option<&str>) {
        let drawn: Option<DocumentMut> = self.pictures[from].drawing.text.parse().ok();
        let member = self.pictures[from].members.get(name).filter(|_| sort == "part");
        let table = drawn.as_ref().and_then(|doc| match member {
            Some((each, source)) => alone(doc, each, name, source),
            None => doc.get(sort)?.get(name)?.as_table().cloned(),
        });
        let Some(mut table) = table else {
            self.unclear.push(format!("the {sort} {name} is not written by itself"));
            return;
        };
        // Where it stood there says nothing here.
        table.set_position(None);
        if let Some(set) = table.get("sets").and_then(|sets| sets.as_array()?.get(0)?.as_str().map(str::to_string))
            && self.table("set", &set).is_none()
        {
            self.take_over(from, "set", &set, None);
        }
        if let Some(when) = when {
            table.insert("when", toml_edit::value(when));
        }
        if let Some(all) = self.tables(sort) {
            all.insert(name, Item::Table(table));
        }
    }

    fn sources(&mut self, name: &str, who: Option<&Who>, delta: &SourcesDelta) {
        let pictures = self.pictures;
        let patterns = |build: usize, paths: &mut dyn Iterator<Item = &String>| {
            let picture = &pictures[build];
            let tree = paths.filter(|path| !picture.is_generated(name, path)).cloned().collect();
            picture.files.patterns_only(&tree)
        };
        let common = patterns(self.source_of(who), &mut delta.common.iter());
        let mut rules: Array = Array::new();
        common.iter().for_each(|pattern| rules.push(pattern.as_str()));
        let Some(table) = self.own_table(name) else { return };
        // Rules with flags of their own, and generated sources, stay as they are.
        let known = table.get("sources").and_then(Item::as_array).cloned().unwrap_or_default();
        known.iter().filter(|value| value.is_inline_table()).for_each(|value| rules.push(value.clone()));
        for (who, paths) in &delta.some {
            let (build, when) = (who.first().copied().unwrap_or_default(), self.condition(who));
            let found = patterns(build, &mut paths.iter());
            if !found.is_empty() {
                rules.push(Value::InlineTable(under(&when, "add", &found)));
            }
            let made: Vec<String> =
                paths.iter().filter(|path| pictures[build].is_generated(name, path)).cloned().collect();
            if !made.is_empty() {
                rules.push(Value::InlineTable(under(&when, "made", &made)));
            }
            self.said.push(format!("{}, sources of {name}: {}", self.with(who), paths.join(", ")));
        }
        if let Some(table) = self.own_table(name) {
            table.insert("sources", toml_edit::value(rules));
            table.remove("except");
        }
    }

    /// A macro that is given to compiles, or not.
    fn macro_of_parts(&mut self, delta: &Delta, text: &str, who: &Who, parts: &BTreeSet<String>) {
        let word = [text.to_string()];
        let moved = Moved { key: Key::Defines, words: word.to_vec(), who: who.clone(), parts: parts.clone() };
        let name = text.split('=').next().unwrap_or_default();
        let Some(mut entry) = self.entry(name, who) else {
            self.moved_word(delta, &moved);
            return;
        };
        let (of_base, others): (Vec<&String>, Vec<&String>) =
            parts.iter().partition(|part| self.source_of(delta.parts.get(*part)) == self.ask.base);
        if who.contains(&self.ask.base) {
            self.replace(&moved, &of_base, None);
        }
        for part in others {
            if let Some(list) = self.table("part", part).and_then(|part| part.get_mut("defines")?.as_array_mut()) {
                list.retain(|value| value.as_str() != Some(text));
            }
        }
        entry.insert("parts", Value::Array(parts.iter().map(String::as_str).collect()));
        self.macros.push(Value::InlineTable(entry));
        self.about.get_or_insert_with(|| name.to_string());
        let parts: Vec<&str> = parts.iter().map(String::as_str).collect();
        self.said.push(format!("{}, the macro {name} in {}", self.with(who), parts.join(", ")));
    }

    /// The beginning of a macro's entry in the option, where the option's values alone tell when it is defined.
    fn entry(&self, name: &str, who: &Who) -> Option<InlineTable> {
        let mut entry = InlineTable::new();
        entry.insert("name", name.into());
        match &self.choice {
            Choice::Pick(values) => {
                let only = who.first().filter(|_| who.len() == 1)?;
                entry.insert("value", values[*only].as_str().into());
            }
            _ if who.contains(&1) => {}
            _ => drop(entry.insert("form", "one-when-off".into())),
        }
        Some(entry)
    }

    /// Writes a command's words anew, each under its condition.
    fn command(&mut self, name: &str, words: &[CommandWord]) {
        let base = self.ask.base;
        let own = words.iter().filter(|(_, who)| who.as_ref().is_none_or(|who| who.contains(&base)));
        let own: Vec<&str> = own.map(|(word, _)| word.as_str()).collect();
        let mut list = Array::new();
        let mut said: BTreeMap<&Who, Vec<&str>> = BTreeMap::new();
        for run in words.chunk_by(|(_, one), (_, other)| one == other) {
            let texts: Vec<String> = run.iter().map(|(word, _)| word.clone()).collect();
            match &run[0].1 {
                None => texts.iter().for_each(|word| list.push(word.as_str())),
                Some(who) => {
                    list.push(Value::InlineTable(under(&self.condition(who), "add", &texts)));
                    said.entry(who).or_default().extend(run.iter().map(|(word, _)| word.as_str()));
                }
            }
        }
        for (who, words) in said {
            self.said.push(format!("{}, in the command of {name}: {}", self.with(who), words.join(" ")));
        }
        let Some(table) = self.own_table(name) else { return };
        let known = table.get("command").and_then(Item::as_array).cloned().unwrap_or_default();
        if known.iter().map(Value::as_str).collect::<Option<Vec<_>>>() != Some(own) {
            self.unclear.push(format!("the command of {name} is no longer as it was drawn"));
            return;
        }
        table.insert("command", toml_edit::value(list));
    }

    fn option(&mut self, delta: &Delta) {
        let mut table = Table::new();
        let base = self.ask.base;
        let needs_of = |build: usize| {
            let mut needs = delta.needs.iter().filter(|(_, who)| who.contains(&build)).map(|(name, _)| name.as_str());
            needs.by_ref().collect::<Array>()
        };
        match &self.choice {
            Choice::Switch => {
                table.insert("kind", toml_edit::value("switch"));
                if base == 1 {
                    table.insert("default", toml_edit::value("on"));
                }
                if !needs_of(1).is_empty() {
                    table.insert("needs", toml_edit::value(needs_of(1)));
                }
            }
            Choice::Pick(values) => {
                table.insert("kind", toml_edit::value("pick"));
                let value = |(build, name): (usize, &String)| -> Value {
                    let needs = needs_of(build);
                    if needs.is_empty() {
                        return name.as_str().into();
                    }
                    let mut value = InlineTable::new();
                    value.insert("name", name.as_str().into());
                    value.insert("needs", Value::Array(needs));
                    Value::InlineTable(value)
                };
                table.insert("values", toml_edit::value(values.iter().enumerate().map(value).collect::<Array>()));
                table.insert("default", toml_edit::value(values[base].as_str()));
            }
            Choice::Value(name, values) => {
                let kinds: BTreeSet<Literal> = values.iter().map(|value| literal_of(value).0).collect();
                let kind = if kinds.len() == 1 { literal_of(&values[0]).0 } else { Literal::Code };
                table.insert("kind", toml_edit::value(kind.word()));
                table.insert("default", Item::Value(kind.value(&values[base])));
                if let Some(form) = kind.form()
                    && let Some(entry) = self.macros.get_mut(0).and_then(Value::as_inline_table_mut)
                {
                    entry.insert("form", form.into());
                }
                self.about.get_or_insert_with(|| name.clone());
            }
        }
        let about = self.about.take().or_else(|| self.said.first().cloned()).unwrap_or_default();
        table.insert("summary", toml_edit::value(about));
        table.insert("macro", toml_edit::value(std::mem::take(&mut self.macros)));
        let option = self.ask.option;
        if let Some(options) = self.tables("option") {
            options.insert(option, Item::Table(table));
        }
    }
}

/// One part of a definition for many files, as a table of its own.
fn alone(doc: &DocumentMut, each: &str, name: &str, source: &str) -> Option<Table> {
    let of_all = doc.get("each")?.get(each)?.get("part")?.as_table()?;
    let (stem, _) = stem_and_ending(source);
    let filled = |text: &str| text.replace("{stem}", stem).replace("{file}", source).replace("{name}", name);
    let mut table = Table::new();
    for (key, item) in of_all {
        let mut item = item.clone();
        match item.as_value_mut() {
            Some(Value::Array(list)) => {
                for value in list.iter_mut() {
                    if let Some(text) = value.as_str() {
                        *value = filled(text).into();
                    }
                }
            }
            Some(value) => {
                if let Some(text) = value.as_str() {
                    *value = filled(text).into();
                }
            }
            None => {}
        }
        table.insert(key, item);
    }
    table.insert("sources", toml_edit::value([source].into_iter().collect::<Array>()));
    Some(table)
}

fn under(when: &str, key: &str, words: &[String]) -> InlineTable {
    let mut table = InlineTable::new();
    table.insert("when", when.into());
    table.insert(key, Value::Array(words.iter().map(String::as_str).collect()));
    table
}
