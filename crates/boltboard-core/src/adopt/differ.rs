//! The option between two watched builds, written into a description that is there.

use std::collections::BTreeMap;
use std::path::Path;

use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, Value};

use super::delta::{Delta, KeptDelta, Lists};
use super::draw::{Picture, picture};
use super::needs::{Host, plain_name};
use super::paths::base_name;
use super::text::kept_place;
use super::watched::Watched;

/// What is asked.
pub struct DifferAsk<'a> {
    /// The name of the option.
    pub option: &'a str,
    /// The description of the build without the setting.
    pub text: &'a str,
    /// Whether the setting is there unless somebody chooses otherwise.
    pub usual: bool,
    /// The folder that it lies in.
    pub at: &'a Path,
    /// Whether several macros may belong to one setting.
    pub together: bool,
}

/// A description with one more option.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Differed {
    /// The definitions' file.
    pub text: String,
    /// Further files beside it.
    pub files: BTreeMap<String, String>,
    /// In what the two builds differ, a line each.
    pub said: Vec<String>,
}

/// Why no option can be told.
#[derive(Debug, thiserror::Error)]
pub enum DifferFault {
    /// The two builds did the same.
    #[error("the two builds do not differ")]
    Same,
    /// More than one setting can have changed.
    #[error("more than one setting may have changed: these macros cannot be told apart: {}", .0.join(", "))]
    Several(Vec<String>),
    /// What differs cannot be written as an option of the description.
    #[error("what differs cannot be written as one option")]
    Unclear(Vec<String>),
    /// The description has such an option.
    #[error("the description has an option `{0}` already")]
    Known(String),
    /// The description cannot be read.
    #[error("the description cannot be read: {0}")]
    Unreadable(String),
    /// The builds are of two trees.
    #[error("the two builds are of different trees")]
    OtherTree,
}

/// Finds the option between a build without a setting and one with it, and writes it into the description.
///
/// # Errors
/// See [`DifferFault`].
pub fn differ(off: &Watched, on: &Watched, host: &Host, ask: &DifferAsk<'_>) -> Result<Differed, DifferFault> {
    if off.tree != on.tree {
        return Err(DifferFault::OtherTree);
    }
    let (without, with) = (picture(off, host, ask.at), picture(on, host, ask.at));
    let delta = Delta::of(&without.model, &with.model);
    if delta.is_empty() {
        return Err(DifferFault::Same);
    }
    if !delta.unclear.is_empty() {
        return Err(DifferFault::Unclear(delta.unclear));
    }
    let of_texts = delta.kept.iter().flat_map(|kept| kept.on.iter().chain(&kept.off));
    let macros: Vec<String> = delta.macros_on.keys().chain(delta.macros_off.keys()).chain(of_texts).cloned().collect();
    if macros.len() > 1 && !ask.together {
        return Err(DifferFault::Several(macros));
    }
    let doc: DocumentMut =
        ask.text.parse().map_err(|e: toml_edit::TomlError| DifferFault::Unreadable(e.to_string()))?;
    let mut edit = Edit {
        doc,
        option: ask.option,
        usual: ask.usual,
        said: Vec::new(),
        unclear: Vec::new(),
        files: BTreeMap::new(),
    };
    if edit.table("option", ask.option).is_some() {
        return Err(DifferFault::Known(ask.option.to_string()));
    }
    edit.all(&delta, &with);
    if !edit.unclear.is_empty() {
        return Err(DifferFault::Unclear(edit.unclear));
    }
    Ok(Differed { text: edit.doc.to_string(), files: edit.files, said: edit.said })
}

struct Edit<'a> {
    doc: DocumentMut,
    option: &'a str,
    usual: bool,
    said: Vec<String>,
    unclear: Vec<String>,
    files: BTreeMap<String, String>,
}

impl Edit<'_> {
    fn table(&mut self, sort: &str, name: &str) -> Option<&mut Table> {
        self.doc.get_mut(sort)?.as_table_mut()?.get_mut(name)?.as_table_mut()
    }

    fn all(&mut self, delta: &Delta, with: &Picture) {
        self.option(delta);
        for name in &delta.needs_on {
            self.said.push(format!("with it, the need {name}"));
            self.adopt_table(with, "need", name, None);
            if let Some(need) = self.table("need", name) {
                need.remove("required");
            }
        }
        for name in &delta.parts_on {
            self.said.push(format!("with it, the part {name}"));
            let when = self.option.to_string();
            self.adopt_table(with, "part", name, Some(&when));
            if let Some(generated) = with.model.made.generated.iter().find(|part| part.name == *name)
                && let (Some((file, _)), Some(text)) = (generated.outputs.first(), &generated.kept)
            {
                self.files.insert(kept_place(file), text.clone());
            }
        }
        for name in &delta.parts_off {
            self.said.push(format!("without it, the part {name}"));
            let when = format!("not {}", self.option);
            match self.table("part", name) {
                Some(part) => {
                    part.insert("when", toml_edit::value(when));
                }
                None => self.unclear.push(format!("the part {name} is not written by itself")),
            }
        }
        for (name, part) in &delta.parts {
            if !part.sources.is_empty() {
                self.sources(name, part, with);
            }
            for (key, lists) in &part.lists {
                self.list(name, key, lists);
            }
        }
    }

    fn option(&mut self, delta: &Delta) {
        let mut table = Table::new();
        table.insert("kind", toml_edit::value("switch"));
        if self.usual {
            table.insert("default", toml_edit::value("on"));
        }
        let macros: Vec<(&String, &std::collections::BTreeSet<String>, Option<&str>)> = delta
            .macros_on
            .iter()
            .map(|(text, parts)| (text, parts, None))
            .chain(delta.macros_off.iter().map(|(text, parts)| (text, parts, Some("one-when-off"))))
            .collect();
        let mut list = Array::new();
        for (text, parts, form) in &macros {
            let name = text.split('=').next().unwrap_or_default();
            let mut entry = InlineTable::new();
            entry.insert("name", name.into());
            if let Some(form) = form {
                entry.insert("form", (*form).into());
            }
            entry.insert("parts", Value::Array(parts.iter().map(String::as_str).collect()));
            list.push(Value::InlineTable(entry));
            let how = if form.is_none() { "with" } else { "without" };
            self.said.push(format!(
                "{how} it, the macro {name} in {}",
                parts.iter().cloned().collect::<Vec<_>>().join(", ")
            ));
        }
        let mut named: Option<String> = macros.first().map(|(text, ..)| (*text).clone());
        for kept in &delta.kept {
            let header = self.header(kept);
            for (name, form) in
                kept.on.iter().map(|name| (name, None)).chain(kept.off.iter().map(|name| (name, Some("one-when-off"))))
            {
                let mut entry = InlineTable::new();
                entry.insert("name", name.as_str().into());
                if let Some(form) = form {
                    entry.insert("form", form.into());
                }
                entry.insert("header", header.as_str().into());
                list.push(Value::InlineTable(entry));
                let how = if form.is_none() { "with" } else { "without" };
                self.said.push(format!("{how} it, the macro {name} of {}", kept.file));
                named.get_or_insert_with(|| name.clone());
            }
        }
        let about = named.unwrap_or_else(|| "what a second build differed in".into());
        table.insert("summary", toml_edit::value(about));
        table.insert("macro", toml_edit::value(list));
        if !delta.needs_on.is_empty() {
            table.insert("needs", toml_edit::value(delta.needs_on.iter().map(String::as_str).collect::<Array>()));
        }
        let options = self.doc.entry("option").or_insert_with(|| {
            let mut all = Table::new();
            all.set_implicit(true);
            Item::Table(all)
        });
        match options.as_table_mut() {
            Some(options) => {
                options.insert(self.option, Item::Table(table));
            }
            None => self.unclear.push("`option` is no table".into()),
        }
    }

    /// Puts a header of options in the place of what differs in a kept text; returns the header's name.
    fn header(&mut self, kept: &KeptDelta) -> String {
        let stem = kept.file.rsplit_once('.').map_or(kept.file.as_str(), |(stem, _)| stem);
        let (name, output) = (plain_name(stem), format!("{stem}_options.h"));
        let own = base_name(&output);
        let include = format!("#include \"{own}\"\n");
        let has = kept.before.contains(&include) || kept.after.contains(&include);
        let include = if has { "" } else { include.as_str() };
        self.files.insert(kept_place(&kept.file), format!("{}{include}{}", kept.before, kept.after));
        let headers = self.doc.entry("header").or_insert_with(|| {
            let mut all = Table::new();
            all.set_implicit(true);
            Item::Table(all)
        });
        if let Some(headers) = headers.as_table_mut()
            && !headers.contains_key(&name)
        {
            let mut table = Table::new();
            table.insert("output", toml_edit::value(output));
            headers.insert(&name, Item::Table(table));
        }
        name
    }

    /// Takes a table over from a freshly drawn description.
    fn adopt_table(&mut self, from: &Picture, sort: &str, name: &str, when: Option<&str>) {
        let drawn: Option<DocumentMut> = from.drawing.text.parse().ok();
        let table = drawn.as_ref().and_then(|doc| doc.get(sort)?.get(name)?.as_table().cloned());
        let Some(mut table) = table else {
            self.unclear.push(format!("the {sort} {name} is not written by itself"));
            return;
        };
        // Where it stood there says nothing here.
        table.set_position(None);
        if let Some(set) = table.get("sets").and_then(|sets| sets.as_array()?.get(0)?.as_str().map(str::to_string))
            && self.table("set", &set).is_none()
        {
            self.adopt_table(from, "set", &set, None);
        }
        if let Some(when) = when {
            table.insert("when", toml_edit::value(when));
        }
        let all = self.doc.entry(sort).or_insert_with(|| {
            let mut all = Table::new();
            all.set_implicit(true);
            Item::Table(all)
        });
        if let Some(all) = all.as_table_mut() {
            all.insert(name, Item::Table(table));
        }
    }

    /// Writes both lists behind their conditions.
    fn list(&mut self, part: &str, key: &'static str, lists: &Lists) {
        let (with, without) = (self.option.to_string(), format!("not {}", self.option));
        let said: Vec<String> = [("with", &lists.on), ("without", &lists.off)]
            .into_iter()
            .filter(|(_, words)| !words.is_empty())
            .map(|(how, words)| format!("{how} it, {key} of {part}: {}", words.join(", ")))
            .collect();
        let Some(table) = self.table("part", part) else {
            self.unclear.push(format!("the part {part} is not written by itself"));
            return;
        };
        let list = table.entry(key).or_insert_with(|| toml_edit::value(Array::new()));
        let Some(list) = list.as_array_mut() else {
            self.unclear.push(format!("`{key}` of {part} is no list"));
            return;
        };
        for word in &lists.off {
            let Some(at) = list.iter().position(|value| value.as_str() == Some(word)) else {
                self.unclear.push(format!("`{key}` of {part} does not name {word} itself"));
                return;
            };
            list.remove(at);
        }
        for (when, words) in [(with, &lists.on), (without, &lists.off)] {
            if !words.is_empty() {
                list.push(Value::InlineTable(under(&when, words)));
            }
        }
        self.said.extend(said);
    }

    fn sources(&mut self, name: &str, part: &super::delta::PartDelta, with: &Picture) {
        let of_part = |paths: &mut dyn Iterator<Item = &String>| {
            let tree = paths.filter(|path| !with.is_generated(name, path)).cloned().collect();
            with.files.patterns_only(&tree)
        };
        let common = of_part(&mut part.common.iter());
        let (on, off) = (of_part(&mut part.sources.on.iter()), of_part(&mut part.sources.off.iter()));
        let made_on: Vec<String> =
            part.sources.on.iter().filter(|path| with.is_generated(name, path)).cloned().collect();
        let (with_it, without) = (self.option.to_string(), format!("not {}", self.option));
        let Some(table) = self.table("part", name) else {
            self.unclear.push(format!("the part {name} is not written by itself"));
            return;
        };
        let mut rules: Array = Array::new();
        common.iter().for_each(|pattern| rules.push(pattern.as_str()));
        // Rules with flags of their own, and generated sources, stay as they are.
        let known = table.get("sources").and_then(Item::as_array).cloned().unwrap_or_default();
        known.iter().filter(|value| value.is_inline_table()).for_each(|value| rules.push(value.clone()));
        for (when, patterns) in [(&with_it, &on), (&without, &off)] {
            if !patterns.is_empty() {
                rules.push(Value::InlineTable(under(when, patterns)));
            }
        }
        if !made_on.is_empty() {
            let mut rule = InlineTable::new();
            rule.insert("when", with_it.as_str().into());
            rule.insert("made", Value::Array(made_on.iter().map(String::as_str).collect()));
            rules.push(Value::InlineTable(rule));
        }
        table.insert("sources", toml_edit::value(rules));
        table.remove("except");
        for (how, paths) in [("with", &part.sources.on), ("without", &part.sources.off)] {
            if !paths.is_empty() {
                self.said.push(format!("{how} it, sources of {name}: {}", paths.join(", ")));
            }
        }
    }
}

fn under(when: &str, words: &[String]) -> InlineTable {
    let mut table = InlineTable::new();
    table.insert("when", when.into());
    table.insert("add", Value::Array(words.iter().map(String::as_str).collect()));
    table
}
