//! One line of a list: files, folders, modules.

use super::entry::{Entry, globs, made_path};
use super::fields::{Fields, Found, Text};
use super::lists::{Given, Lister};
use super::problem::{Fault, Problem};
use crate::base::{Glob, Place, RelPath};
use crate::board::{Atom, Condition, Interp, SourceRule};
use crate::expr::{self, Expr};

use super::sets::both;

/// Reads one line of a list.
pub(super) struct Line<'l, 'a> {
    pub lister: &'l Lister<'a>,
    pub fields: &'l Fields<'l>,
    pub folder: &'l RelPath,
    pub when: Option<&'l Condition>,
}

impl Line<'_, '_> {
    /// Files, folders and tables that say more about files.
    pub fn plain(&self, found: &Found<'_>) -> Vec<Given> {
        let mut given = Vec::new();
        for member in found.members().unwrap_or_else(|| vec![*found]) {
            if let Some(text) = member.text() {
                match text.text.ends_with('/') {
                    true => given.extend(self.folder(&text)),
                    false => given.extend(self.rule(&[text], &[], member.place).into_iter().map(|mut rule| {
                        rule.when = self.when.cloned();
                        Given::Sources(rule)
                    })),
                }
            } else if let Some(sub) = self.fields.sub(&member, "an entry of a list") {
                sub.text("name");
                given.extend(self.table(&sub, member.place).into_iter().map(|mut rule| {
                    rule.when = both(self.when, rule.when.as_ref());
                    Given::Sources(rule)
                }));
                sub.finish();
            } else {
                self.fields.wrong_type(&member, "a file, a folder that ends with `/`, or { sources = […] }");
            }
        }
        given
    }

    /// One module: a file, a list with one file, or a table.
    pub fn one_module(&self, found: &Found<'_>, key: Option<&Text>) -> Vec<Given> {
        if let Some(text) = found.text() {
            if text.text.ends_with('/') {
                return self.folder(&text).into_iter().collect();
            }
            let name = stem_of(&text);
            return vec![Given::Module(name, self.rule(&[text], &[], found.place))];
        }
        if let Some(members) = found.members() {
            let texts: Vec<Text> = members.iter().filter_map(Found::text).collect();
            if texts.len() == 1 && members.len() == 1 {
                return vec![Given::Module(stem_of(&texts[0]), self.rule(&texts, &[], found.place))];
            }
            self.lister
                .problem(found.place, "one of several modules says its name: { name = \"…\", sources = […] }".into());
            return vec![];
        }
        let Some(sub) = self.fields.sub(found, "a module") else {
            self.fields.wrong_type(found, "a file, or { name = \"…\", sources = […] }");
            return vec![];
        };
        let name = sub.text("name");
        let rules = self.table(&sub, found.place);
        sub.finish();
        let own = rules
            .iter()
            .flat_map(|rule| &rule.globs)
            .next()
            .map(|glob| Text { text: glob.as_str().into(), place: found.place });
        let name = match (name, rules.len(), own, key) {
            (Some(name), ..) => name,
            (None, 1, Some(own), _) if rules[0].globs.len() == 1 => stem_of(&own),
            (None, _, _, Some(_)) => {
                self.lister.problem(found.place, "one of several modules says its name: name = \"…\"".into());
                return vec![];
            }
            (None, ..) => Text { text: option_name(self), place: found.place },
        };
        if !expr::is_name(&name.text) {
            self.lister.log.add(Problem::at(name.place, Fault::BadName(name.text.clone())));
            return vec![];
        }
        vec![Given::Module(name, rules)]
    }

    /// `{ sources = […], flags = […], … }`, where sources are as in a part.
    fn table(&self, sub: &Fields<'_>, place: Place) -> Vec<SourceRule> {
        let names = self.lister.names;
        let texts = |fields: &Fields<'_>, key| {
            fields.texts(key).iter().filter_map(|text| names.interp(text, fields.log())).collect::<Vec<Interp>>()
        };
        let (flags, without) = (texts(sub, "flags"), texts(sub, "without"));
        let made: Vec<RelPath> = sub.texts("made").iter().filter_map(|text| made_path(sub, text)).collect();
        let mut rules = Vec::new();
        for found in sub.list("sources") {
            if let Some(text) = found.text() {
                rules.extend(self.rule(&[text], &[], found.place));
            } else if let Some(more) = names.conditional(sub, &found) {
                let when = names.when(&more);
                let own_made: Vec<RelPath> =
                    more.texts("made").iter().filter_map(|text| made_path(&more, text)).collect();
                for mut rule in self.rule(&more.texts("add"), &own_made, found.place) {
                    rule.when = when.clone();
                    rule.flags = texts(&more, "flags");
                    rule.without = texts(&more, "without");
                    rules.push(rule);
                }
                more.finish();
            }
        }
        if !made.is_empty() {
            rules.extend(self.rule(&[], &made, place));
        }
        for rule in &mut rules {
            rule.flags.extend(flags.iter().cloned());
            rule.without.extend(without.iter().cloned());
        }
        rules
    }

    pub fn rule(&self, texts: &[Text], made: &[RelPath], place: Place) -> Vec<SourceRule> {
        let globs: Vec<Glob> = self.globs(texts);
        if globs.is_empty() && made.is_empty() {
            return vec![];
        }
        let made = made.to_vec();
        vec![SourceRule {
            when: None,
            globs,
            except: vec![],
            made,
            modules: vec![],
            beside: vec![],
            flags: vec![],
            without: vec![],
            place,
        }]
    }

    fn globs(&self, texts: &[Text]) -> Vec<Glob> {
        let empty = Text { text: String::new(), place: self.fields.place };
        let entry = Entry {
            name: empty,
            folder: self.folder,
            default_section: None,
            table: self.fields.table(),
            log: self.lister.log,
        };
        globs(texts, self.fields, &entry)
    }

    pub fn folder(&self, text: &Text) -> Option<Given> {
        match self.folder.join(text.text.trim_end_matches('/')) {
            Ok(path) => Some(Given::Folder(path, text.place)),
            Err(fault) => {
                self.fields.problem(text.place, fault);
                None
            }
        }
    }
}

/// The name of the option whose line it is.
fn option_name(line: &Line<'_, '_>) -> String {
    let of_option = line.when.and_then(|when| match &when.expr {
        Expr::Atom(Atom::On(option)) => line.lister.names.options.name(*option),
        _ => None,
    });
    of_option.unwrap_or_default()
}

/// A file's name without folders and ending.
pub(super) fn stem_of(text: &Text) -> Text {
    let name = text.text.rsplit('/').next().unwrap_or_default();
    let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem);
    Text { text: stem.to_string(), place: text.place }
}
