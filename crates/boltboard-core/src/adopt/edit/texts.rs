//! Texts that are kept: options' macros in the place of what differs in them.

use std::collections::{BTreeMap, BTreeSet};

use toml_edit::{Array, InlineTable, Item, Table, Value};

use super::Edit;
use super::literal::{Literal, literal_of};
use crate::adopt::delta::Who;
use crate::adopt::differ::{Choice, DifferFault};
use crate::adopt::kept::KeptDelta;
use crate::adopt::needs::plain_name;
use crate::adopt::paths::base_name;
use crate::adopt::text::kept_place;
use crate::base::files::read_text;

impl Edit<'_> {
    /// Puts options' macros in the place of what differs in a kept text.
    pub(super) fn kept(&mut self, kept: &KeptDelta) -> Result<(), DifferFault> {
        let stem = kept.file.rsplit_once('.').map_or(kept.file.as_str(), |(stem, _)| stem);
        let (header, output) = (plain_name(stem), format!("{stem}_options.h"));
        let place = kept_place(&kept.file);
        let base = if kept.builds.contains(&self.ask.base) { self.ask.base } else { kept.builds[0] };
        let current = match self.files.get(&place) {
            Some(text) => Some(text.clone()),
            None => read_text(&self.ask.at.join(&place))?,
        };
        let condition = |builds: &[usize]| {
            let one = |build: &usize| match &self.choice {
                Choice::Pick(_) => format!("defined {}", self.own_macro(*build)),
                _ if *build == 0 => format!("!defined {}", self.own_macro(1)),
                _ => format!("defined {}", self.own_macro(1)),
            };
            builds.iter().map(one).collect::<Vec<_>>().join(" || ")
        };
        let current = current.unwrap_or_default();
        let Some(text) = kept.text(base, &current, base_name(&output), &condition) else {
            self.unclear.push(format!("{place} is no longer as it was drawn where the builds differ"));
            return Ok(());
        };
        self.files.insert(place, text);
        if let Some(headers) = self.tables("header")
            && !headers.contains_key(&header)
        {
            let mut table = Table::new();
            table.insert("output", toml_edit::value(output));
            headers.insert(&header, Item::Table(table));
        }
        for (name, values) in &kept.macros {
            self.macro_of_text(kept, &header, name, values);
        }
        if kept.has_chosen() {
            let all: Vec<usize> = match &self.choice {
                Choice::Pick(_) => kept.builds.clone(),
                _ => vec![1],
            };
            for build in all {
                let own = self.own_macro(build);
                if let Some(mut entry) = self.entry(&own, &Who::from([build])) {
                    entry.insert("header", header.as_str().into());
                    self.macros.push(Value::InlineTable(entry));
                }
            }
            self.said.push(format!(
                "lines of {} other than macros, which every file that reads it is compiled for",
                kept.file
            ));
        }
        Ok(())
    }

    /// The macro by which lines of a kept text are chosen.
    fn own_macro(&self, build: usize) -> String {
        let upper = |text: &str| plain_name(text).to_ascii_uppercase().replace('-', "_");
        match &self.choice {
            Choice::Pick(values) => format!("OPTION_{}_{}", upper(self.ask.option), upper(&values[build])),
            _ => format!("OPTION_{}", upper(self.ask.option)),
        }
    }

    fn macro_of_text(&mut self, kept: &KeptDelta, header: &str, name: &str, values: &BTreeMap<usize, String>) {
        let who: Who = values.keys().copied().collect();
        let is_plain = values.values().all(|value| value.is_empty() || value == "1") && who.len() < kept.builds.len();
        self.about.get_or_insert_with(|| name.to_string());
        let is_itself = matches!(&self.choice, Choice::Value(own, _) if own == name);
        if let Some(mut entry) = self.entry(name, &who).filter(|_| is_plain || is_itself) {
            if is_itself {
                self.said.push(format!("the value of {name} of {}", kept.file));
            } else {
                self.said.push(format!("{}, the macro {name} of {}", self.with(&who), kept.file));
            }
            entry.insert("header", header.into());
            self.macros.push(Value::InlineTable(entry));
            return;
        }
        // A value that follows from the option.
        let option = plain_name(name);
        if self.table("option", &option).is_some() {
            self.unclear.push(format!("the option {option} is there already, and {name} has another value now"));
            return;
        }
        let mut defaults = Array::new();
        let mut by_value: BTreeMap<&str, Who> = BTreeMap::new();
        for (build, value) in values {
            by_value.entry(value).or_default().insert(*build);
        }
        let kinds: BTreeSet<Literal> = by_value.keys().map(|value| literal_of(value).0).collect();
        let kind = if kinds.len() == 1 { kinds.into_iter().next().unwrap_or(Literal::Code) } else { Literal::Code };
        for (value, who) in &by_value {
            let mut entry = InlineTable::new();
            entry.insert("when", self.condition(who).into());
            entry.insert("value", kind.value(value));
            defaults.push(Value::InlineTable(entry));
            self.said.push(format!("{}, the macro {name} of {} is {value}", self.with(who), kept.file));
        }
        let mut table = Table::new();
        table.insert("kind", toml_edit::value(kind.word()));
        table.insert("derived", toml_edit::value(true));
        table.insert("summary", toml_edit::value(name));
        if who.len() < kept.builds.len() {
            table.insert("requires", toml_edit::value(self.condition(&who)));
        }
        table.insert("default", toml_edit::value(defaults));
        let mut entry = InlineTable::new();
        entry.insert("name", name.into());
        kind.form().map(|form| entry.insert("form", form.into()));
        entry.insert("header", header.into());
        table.insert("macro", toml_edit::value(entry));
        if let Some(options) = self.tables("option") {
            options.insert(&option, Item::Table(table));
        }
    }
}
