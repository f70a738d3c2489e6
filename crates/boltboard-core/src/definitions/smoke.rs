//! `[smoke.NAME]`: a short run of an installed program, and what it must say.

use super::delivery::{Wanted, is_installed};
use super::entry::Entry;
use super::lookup::Names;
use super::test::success;
use crate::base::Arena;
use crate::board::{PartDef, SmokeDef};

/// How long a run may take that says nothing, in seconds.
const USUAL_LIMIT: i64 = 20;

/// Reads a run.
pub(super) fn smoke(entry: &Entry<'_>, names: &Names, parts: &Arena<PartDef>) -> Option<SmokeDef> {
    let fields = entry.fields("smoke");
    let program = fields.required_text("program");
    let limit = fields.integer("limit-seconds").unwrap_or(USUAL_LIMIT);
    let (arguments, says, silent) = (
        names.lasting_list(&fields, "arguments"),
        names.lasting_list(&fields, "says"),
        names.lasting_list(&fields, "silent-on"),
    );
    let summary = fields.text_or_empty("summary");
    let (when, success) = (names.when(&fields), success(&fields));
    fields.finish();
    let text = program?;
    let program = names.parts.find(&text, entry.log)?;
    if !is_installed(entry, parts, program, Wanted::Program, "is run where it is installed") {
        return None;
    }
    let limit_seconds = u64::try_from(limit).ok().filter(|limit| *limit > 0).unwrap_or(1);
    let name = entry.name.text.clone();
    Some(SmokeDef { name, summary, when, program, arguments, says, silent, success, limit_seconds })
}
