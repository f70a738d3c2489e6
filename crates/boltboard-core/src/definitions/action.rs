//! `[action.NAME]`: what is done after an installation.

use super::entry::Entry;
use super::fields::Fields;
use super::lookup::Names;
use super::problem::Fault;
use crate::board::{ActionAbsent, ActionBy, ActionDef, Interp};

/// Reads an action.
pub(super) fn action(entry: &Entry<'_>, names: &Names) -> ActionDef {
    let fields = entry.fields("action");
    let log = fields.log();
    let words = |key| -> Vec<Interp> { fields.texts(key).iter().filter_map(|text| names.interp(text, log)).collect() };
    let (run, undo) = (words("run"), words("undo"));
    if run.is_empty() {
        fields.missing("run");
    }
    let by = one_of(&fields, "by", [("anyone", ActionBy::Anyone), ("root", ActionBy::Root)]);
    let absent = one_of(&fields, "absent", [("skip", ActionAbsent::Skip), ("fail", ActionAbsent::Fail)]);
    let action = ActionDef {
        name: entry.name.text.clone(),
        summary: fields.required_text("summary").map_or_else(String::new, |text| text.text),
        when: names.when(&fields),
        run,
        undo,
        by,
        absent,
    };
    fields.finish();
    action
}

/// Reads a word of two; the first where none is given.
fn one_of<T: Copy>(fields: &Fields<'_>, key: &'static str, words: [(&'static str, T); 2]) -> T {
    let Some(text) = fields.text(key) else { return words[0].1 };
    let meant = words.iter().find(|(word, _)| *word == text.text);
    if meant.is_none() {
        let [(first, _), (second, _)] = words;
        fields.problem(text.place, Fault::Combination(format!("`{key}` is `{first}` or `{second}`")));
    }
    meant.unwrap_or(&words[0]).1
}
