//! `[action.NAME]`: what is done after an installation.

use super::entry::Entry;
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
    let by = match fields.text("by") {
        None => ActionBy::Anyone,
        Some(text) if text.text == "anyone" => ActionBy::Anyone,
        Some(text) if text.text == "root" => ActionBy::Root,
        Some(text) => {
            fields.problem(text.place, Fault::Combination("`by` is `anyone` or `root`".into()));
            ActionBy::Anyone
        }
    };
    let absent = match fields.text("absent") {
        None => ActionAbsent::Skip,
        Some(text) if text.text == "skip" => ActionAbsent::Skip,
        Some(text) if text.text == "fail" => ActionAbsent::Fail,
        Some(text) => {
            fields.problem(text.place, Fault::Combination("`absent` is `skip` or `fail`".into()));
            ActionAbsent::Skip
        }
    };
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
