//! `[smoke.NAME]`: a short run of an installed program, and what it must say.

use super::entry::Entry;
use super::lookup::Names;
use super::problem::{Fault, Problem};
use super::test::success;
use crate::base::Arena;
use crate::board::{PartDef, PartKind, SmokeDef};

/// How long a run may take that says nothing, in seconds.
const USUAL_LIMIT: i64 = 20;

/// Reads a run.
pub(super) fn smoke(entry: &Entry<'_>, names: &Names, parts: &Arena<PartDef>) -> Option<SmokeDef> {
    let fields = entry.fields("smoke");
    let program = fields.required_text("program");
    let limit = fields.integer("limit-seconds").unwrap_or(USUAL_LIMIT);
    let (arguments, says, silent) = (
        names.interp_list(&fields, "arguments"),
        names.interp_list(&fields, "says"),
        names.interp_list(&fields, "silent-on"),
    );
    let summary = fields.text_or_empty("summary");
    let (when, success) = (names.when(&fields), success(&fields));
    fields.finish();
    let text = program?;
    let program = names.parts.find(&text, entry.log)?;
    if !matches!(parts[program].kind, PartKind::Program) || parts[program].install.is_none() {
        let fault = format!("`{}` is run where it is installed, so it must be an installed program", text.text);
        entry.log.add(Problem::at(text.place, Fault::Combination(fault)));
        return None;
    }
    let limit_seconds = u64::try_from(limit).ok().filter(|limit| *limit > 0).unwrap_or(1);
    let name = entry.name.text.clone();
    Some(SmokeDef { name, summary, when, program, arguments, says, silent, success, limit_seconds })
}
