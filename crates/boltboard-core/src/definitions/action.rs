//! `[action.NAME]`: what is done after an installation.

use super::entry::Entry;
use super::lookup::Names;
use crate::board::{ActionAbsent, ActionBy, ActionDef, Interp};

/// Reads an action.
pub(super) fn action(entry: &Entry<'_>, names: &Names) -> ActionDef {
    let fields = entry.fields("action");
    let log = fields.log();
    let words = |key| -> Vec<Interp> { fields.texts(key).iter().filter_map(|text| names.lasting(text, log)).collect() };
    let (run, undo) = (words("run"), words("undo"));
    if run.is_empty() {
        fields.missing("run");
    }
    let by = fields.word("by", &[("anyone", ActionBy::Anyone), ("root", ActionBy::Root)]);
    let absent = fields.word("absent", &[("skip", ActionAbsent::Skip), ("fail", ActionAbsent::Fail)]);
    let action = ActionDef {
        name: entry.name.text.clone(),
        summary: fields.required_text("summary").map_or_else(String::new, |text| text.text),
        when: names.when(&fields),
        run,
        undo,
        by: by.unwrap_or(ActionBy::Anyone),
        absent: absent.unwrap_or(ActionAbsent::Skip),
    };
    fields.finish();
    action
}
