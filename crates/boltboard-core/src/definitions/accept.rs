//! `accept`: what a maintainer knows about a definition, or about files, and does not want to hear again.

use super::entry::{Entry, globs};
use super::fields::Fields;
use super::problem::{Fault, Problem};
use crate::base::near_matches;
use crate::board::{Acceptance, AcceptedOf, FindingKind};

/// Reads `accept = { FINDING = "reason" }` of an option, need or part.
pub(super) fn of_entry(entry: &Entry<'_>, what: &'static str, of: AcceptedOf) -> Vec<Acceptance> {
    if entry.table.get("accept").is_none() {
        return Vec::new();
    }
    let fields = entry.fields(what);
    let Some(found) = fields.get("accept") else { return Vec::new() };
    let Some(table) = fields.sub(&found, "accept") else {
        fields.wrong_type(&found, "{ FINDING = \"reason\" }");
        return Vec::new();
    };
    let mut accepted = Vec::new();
    for (name, item) in table.texts_by_key() {
        let Some(kind) = kind(&fields, &name) else { continue };
        match item {
            Some(reason) if !reason.text.trim().is_empty() => {
                accepted.push(Acceptance { kind, of: of.clone(), reason: reason.text, place: name.place });
            }
            Some(_) | None => {
                fields.problem(name.place, Fault::Combination("a reason in quotes is wanted".into()));
            }
        }
    }
    accepted
}

/// Reads a `[[accept]]` of a file: `finding`, `files`, `reason`.
pub(super) fn of_files(fields: &Fields<'_>, entry: &Entry<'_>) -> Option<Acceptance> {
    let name = fields.required_text("finding")?;
    let kind = kind(fields, &name)?;
    let files = fields.texts("files");
    let patterns = globs(&files, fields, entry);
    let reason = fields.required_text("reason")?;
    if files.is_empty() {
        fields.missing("files");
    }
    Some(Acceptance { kind, of: AcceptedOf::Files(patterns), reason: reason.text, place: name.place })
}

fn kind(fields: &Fields<'_>, name: &super::fields::Text) -> Option<FindingKind> {
    let kind = FindingKind::of_name(&name.text);
    if kind.is_none() {
        let near = near_matches(&name.text, FindingKind::NAMED.iter().map(|(known, _, _)| *known));
        let fault = Fault::UnknownName { what: "finding", name: name.text.clone() };
        fields.log().add(Problem::at(name.place, fault).with_near(near));
    }
    kind
}
