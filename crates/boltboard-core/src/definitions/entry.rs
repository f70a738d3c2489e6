//! What the readers of all sorts of tables share: named tables, paths and patterns, C names, and where rules go.

use std::sync::Arc;

use super::fields::{Context, Fields, Log, Table, Text};
use super::problem::Fault;
use crate::base::{Arena, Glob, RelPath, is_c_name};
use crate::board::{HeaderId, Machine, MacroForm, OptionId, Rule, RuleId};

/// A named table such as `[option.fog]`, with the folder of its file.
pub(super) struct Entry<'a> {
    pub name: Text,
    pub folder: &'a RelPath,
    pub default_section: Option<Arc<Text>>,
    pub table: &'a Table<'a>,
    pub log: &'a Log,
}

impl<'a> Entry<'a> {
    pub fn fields<'s>(&'s self, what: &'s str) -> Fields<'s> {
        let context = Context::Named(what, &self.name.text);
        Fields::new(self.table, self.name.place.file, self.name.place, context, self.log)
    }
}

/// Takes rules into the board and remembers which belong to the option that is being read.
#[derive(Default)]
pub(super) struct RuleSink {
    pub rules: Arena<Rule>,
    /// Options that say something about earlier versions.
    pub with_past: Vec<OptionId>,
    /// Options that say what shows that they are used.
    pub with_signs: Vec<OptionId>,
    fresh: Vec<RuleId>,
}

impl RuleSink {
    pub fn add(&mut self, rule: Rule) {
        let id = self.rules.add(rule);
        self.fresh.push(id);
    }

    pub fn take(&mut self) -> Vec<RuleId> {
        std::mem::take(&mut self.fresh)
    }
}

/// How a header names the macros of options that say nothing themselves.
pub(super) struct MacroHabit {
    pub header: HeaderId,
    pub prefix: String,
    pub zero: bool,
    /// The macros of a module by their forms, with `*` for its usual name; one in the usual form when empty.
    pub modules: Vec<(MacroForm, String)>,
}

/// Reports a text that is no C name.
pub(super) fn check_c_name(fields: &Fields<'_>, text: &Text) {
    if !is_c_name(&text.text) {
        fields.problem(text.place, Fault::BadMacro(text.text.clone()));
    }
}

/// Reads patterns relative to the folder of the definition.
pub(super) fn globs(texts: &[Text], fields: &Fields<'_>, entry: &Entry<'_>) -> Vec<Glob> {
    let mut globs = Vec::new();
    for text in texts {
        match Glob::parse(entry.folder, &text.text) {
            Ok(glob) => globs.push(glob),
            Err(fault) => fields.problem(text.place, fault),
        }
    }
    globs
}

/// Reads a path below the folder of generated files, or of outputs.
pub(super) fn made_path(fields: &Fields<'_>, text: &Text) -> Option<RelPath> {
    match RelPath::parse(&text.text) {
        Ok(path) if path != RelPath::root() => Some(path),
        Ok(_) => {
            fields.problem(text.place, Fault::Combination("a file name is wanted".into()));
            None
        }
        Err(fault) => {
            fields.problem(text.place, fault);
            None
        }
    }
}

/// Reads which machine something is for.
pub(super) fn machine(fields: &Fields<'_>) -> Machine {
    fields.word("for", &Machine::ALL.map(|machine| (machine.word(), machine))).unwrap_or_default()
}
