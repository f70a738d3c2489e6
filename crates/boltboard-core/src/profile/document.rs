//! What all writers of profile files do with TOML: tables, entries, values. What people wrote around an entry stays.

use toml_edit::{DocumentMut, Item, Table, TableLike, Value as TomlValue};

use crate::board::{NEED_PREFIX, Value};

/// The table of choices.
pub(crate) const CHOOSE: &str = "choose";
/// The table that says who meets needs.
pub(crate) const PROVIDERS: &str = "providers";
/// The table of reasons.
pub(crate) const REASONS: &str = "reasons";

/// A table of a profile, if it is there.
pub(crate) fn table_of<'a>(document: &'a DocumentMut, name: &str) -> Option<&'a dyn TableLike> {
    document.get(name).and_then(Item::as_table_like)
}

/// A table of a profile; made where it is not there.
pub(crate) fn table<'a>(document: &'a mut DocumentMut, name: &str) -> &'a mut dyn TableLike {
    let entry = document.entry(name).or_insert_with(|| Item::Table(Table::new()));
    if entry.as_table_like().is_none() {
        *entry = Item::Table(Table::new());
    }
    entry.as_table_like_mut().expect("made a table just above")
}

/// The entries of a table, in their order; none where it is not there.
pub(crate) fn entries<'a>(document: &'a DocumentMut, name: &str) -> impl Iterator<Item = (&'a str, &'a Item)> {
    table_of(document, name).into_iter().flat_map(|table| table.iter())
}

/// Replaces a value but keeps what stands around it, such as a comment on the same line.
pub(crate) fn put(table: &mut dyn TableLike, key: &str, mut new: TomlValue) {
    if let Some(old) = table.get_mut(key).and_then(Item::as_value_mut) {
        *new.decor_mut() = old.decor().clone();
        *old = new;
    } else {
        table.insert(key, Item::Value(new));
    }
}

/// Takes an entry out, and its table when nothing else is in it. Returns whether it was there.
pub(crate) fn take_out(document: &mut DocumentMut, table: &str, name: &str) -> bool {
    let Some(entries) = document.get_mut(table).and_then(Item::as_table_like_mut) else { return false };
    let was = entries.remove(name).is_some();
    if entries.is_empty() && table != CHOOSE {
        document.remove(table);
    }
    was
}

/// The name under which the reason of an entry of a table stands.
pub(crate) fn reason_key(table: &str, name: &str) -> String {
    if table == PROVIDERS { format!("{NEED_PREFIX}{name}") } else { name.to_string() }
}

/// The reason that stands under a name.
pub(crate) fn reason<'a>(document: &'a DocumentMut, key: &str) -> Option<&'a str> {
    table_of(document, REASONS)?.get(key)?.as_str()
}

/// The patches that are carried, by name.
pub(crate) fn patches(document: &DocumentMut) -> impl Iterator<Item = &str> {
    document.get("patches").and_then(Item::as_array).into_iter().flatten().filter_map(TomlValue::as_str)
}

/// An entry's value as a person types it.
pub(crate) fn plain_text(item: &Item) -> String {
    match item.as_value() {
        Some(TomlValue::String(text)) => text.value().clone(),
        Some(TomlValue::Integer(number)) => number.value().to_string(),
        Some(TomlValue::Boolean(flag)) => flag.value().to_string(),
        Some(TomlValue::Float(number)) => number.value().to_string(),
        Some(TomlValue::Array(words)) => words.iter().filter_map(TomlValue::as_str).collect::<Vec<_>>().join(" "),
        _ => item.to_string().trim().to_string(),
    }
}

/// A value as a profile writes it.
pub(crate) fn toml_value(chosen: &Value) -> TomlValue {
    match chosen {
        Value::Number(number) => (*number).into(),
        Value::Words(words) => TomlValue::Array(words.iter().collect()),
        Value::Switch(_) | Value::Module(_) | Value::Pick(_) | Value::Size(_) | Value::Text(_) | Value::Path(_) => {
            chosen.to_string().into()
        }
    }
}
