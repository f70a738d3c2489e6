//! Which macros carry options, and what each stands for under a resolution.

use std::collections::BTreeMap;
use std::sync::OnceLock;

use crate::board::{Board, HeaderDef, HeaderId, Linkage, MacroDef, MacroForm, OptionId, Value};
use crate::reading::NameIndex;
use crate::resolve::{Effect, Resolution};
use crate::step::Location;
use crate::survey::Facts;

/// The macros of all option headers, by name.
#[derive(Debug, Clone, Default)]
pub struct MacroTable {
    /// What each stands for (`None`: not defined), and the option that it carries.
    pub entries: BTreeMap<String, MacroEntry>,
    index: OnceLock<NameIndex>,
}

/// A macro under a resolution.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct MacroEntry {
    /// What it stands for; `None` when it is not defined.
    pub stands_for: Option<String>,
    /// The option.
    pub option: OptionId,
    /// The header.
    pub header: HeaderId,
}

impl MacroTable {
    /// Makes a table from entries at hand.
    pub fn of(entries: BTreeMap<String, MacroEntry>) -> MacroTable {
        MacroTable { entries, index: OnceLock::new() }
    }

    /// Returns what a macro stands for, `None` when it is not defined.
    pub fn value(&self, name: &str) -> Option<&str> {
        self.entries.get(name)?.stands_for.as_deref()
    }

    /// Returns the index of all names.
    pub fn index(&self) -> &NameIndex {
        self.index.get_or_init(|| NameIndex::of(self.entries.keys().map(String::as_str)))
    }
}

/// Returns all macros under a resolution.
pub fn macro_table(board: &Board, resolution: &Resolution, facts: &Facts) -> MacroTable {
    let mut entries = BTreeMap::new();
    for (option, definition) in board.options.iter() {
        for carrier in &definition.macros {
            if let Some(header) = carrier.header {
                let stands_for = stands_for(option, carrier, resolution, facts);
                entries.insert(carrier.name.clone(), MacroEntry { stands_for, option, header });
            }
        }
    }
    MacroTable::of(entries)
}

/// Returns what a macro stands for, `None` when it is not defined.
pub(super) fn stands_for(
    option: OptionId,
    carrier: &MacroDef,
    resolution: &Resolution,
    facts: &Facts,
) -> Option<String> {
    let resolved = resolution.get(option);
    let asked = carrier.when.as_ref().is_none_or(|when| resolution.holds(facts, &when.expr));
    let counts = asked && resolved.effect == Effect::Applies;
    let value = &resolved.value;
    let one = |holds: bool| (counts && holds).then(|| "1".to_string());
    match &carrier.form {
        MacroForm::OneOrAbsent => one(!value.is_off()),
        MacroForm::OneOrZero => Some(one(!value.is_off()).unwrap_or_else(|| "0".into())),
        MacroForm::OneWhenOff => (!counts || value.is_off()).then(|| "1".to_string()),
        MacroForm::LoadableOrAbsent => one(*value == Value::Module(Linkage::Loadable)),
        MacroForm::BuiltinOrAbsent => one(*value == Value::Module(Linkage::Builtin)),
        MacroForm::PickIs(wanted) => one(*value == Value::Pick(wanted.clone())),
        MacroForm::Plain => counts.then(|| plain(value)),
        MacroForm::Hexadecimal => counts.then(|| hexadecimal(value)),
        MacroForm::Quoted => counts.then(|| quoted(&value.to_string())),
    }
}

fn plain(value: &Value) -> String {
    match value {
        // C code wants the number of bytes, not `64KiB`.
        Value::Size(bytes) if *bytes > u64::from(u32::MAX) => format!("{bytes}ULL"),
        Value::Size(bytes) => bytes.to_string(),
        other => other.to_string(),
    }
}

fn hexadecimal(value: &Value) -> String {
    match value {
        Value::Size(bytes) => format!("{bytes:#x}"),
        Value::Number(number) if *number < 0 => format!("-{:#x}", number.unsigned_abs()),
        Value::Number(number) => format!("{number:#x}"),
        other => plain(other),
    }
}

/// Writes a text as a C string.
pub(super) fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        if matches!(c, '"' | '\\') {
            out.push('\\');
        }
        out.push(c);
    }
    out.push('"');
    out
}

/// The text of an option header but for the values.
#[derive(Debug, Clone)]
pub struct HeaderText {
    /// Which one it is.
    pub id: HeaderId,
    /// The macro that keeps it from being read twice.
    pub guard: String,
    /// Where it lies.
    pub at: Location,
    head: String,
    /// The macros, with the options that they carry.
    lines: Vec<(String, String)>,
}

impl HeaderText {
    /// Lays out the text of a header.
    pub fn of(board: &Board, id: HeaderId, header: &HeaderDef, table: &MacroTable) -> HeaderText {
        let head = format!(
            "/* The options of {} {}. Written by boltboard; change options, not this file. */\n#ifndef {guard}\n#define {guard}\n\n",
            board.tree.name,
            board.tree.version,
            guard = header.guard
        );
        let lines = table
            .entries
            .iter()
            .filter(|(_, entry)| entry.header == id)
            .map(|(name, entry)| (name.clone(), board.option_names.get(entry.option).to_string()));
        HeaderText {
            id,
            guard: header.guard.clone(),
            at: Location::Made(header.path.clone()),
            head,
            lines: lines.collect(),
        }
    }

    /// Writes the header. Every macro has one line, defined or not, so that line numbers stay the same.
    pub fn filled<'t>(&'t self, stands_for: impl Fn(&str) -> Option<&'t str>) -> String {
        let mut text = self.head.clone();
        for (name, option) in &self.lines {
            match stands_for(name) {
                Some(value) => text.extend(["#define ", name, " ", value, "\n"]),
                None => text.extend(["/* ", name, " is not defined: ", option, " is off. */\n"]),
            }
        }
        text.push_str("\n#endif\n");
        text
    }
}
