//! `[test.NAME]`: the tree's own tests.

use super::entry::Entry;
use super::fields::Fields;
use super::generators::{environment, source_file};
use super::lookup::Names;
use super::problem::Fault;
use crate::board::{Company, Interp, OptionId, Pace, PartId, Piece, SourceFile, TestDef, TestFolder, Variable};

/// How long a test may take that says nothing, in seconds.
const USUAL_LIMIT: i64 = 60;

/// Reads one of the tree's own tests.
pub(super) fn test(entry: &Entry<'_>, names: &Names) -> TestDef {
    let fields = entry.fields("test");
    let log = fields.log();
    let command: Vec<Interp> = fields.texts("command").iter().filter_map(|text| names.interp(text, log)).collect();
    if command.is_empty() {
        fields.missing("command");
    }
    let environment = environment(&fields, "environment", names);
    let file = |key: &'static str| fields.text(key).and_then(|text| source_file(&text, &fields, entry, names));
    let (input, output) = (file("stdin"), file("stdout"));
    let set = environment.iter().filter_map(|(_, value)| match value {
        Variable::Set(text) => Some(text),
        Variable::Passed => None,
    });
    let texts: Vec<&Interp> = command.iter().chain(set).collect();
    let named = texts.iter().flat_map(|interp| &interp.pieces).filter_map(|piece| match piece {
        Piece::Part(part) => Some(*part),
        _ => None,
    });
    let of_files = input.iter().chain(&output).filter_map(|file| match file {
        SourceFile::Part(part) => Some(*part),
        SourceFile::Tree(_) | SourceFile::Beside(_) => None,
    });
    let said = fields.texts("parts");
    let said = said.iter().filter_map(|text| names.parts.find(text, log));
    let mut parts: Vec<PartId> = said.chain(named).chain(of_files).collect();
    parts.sort();
    parts.dedup();
    let options: Vec<OptionId> = texts.into_iter().flat_map(Interp::options).collect();
    let limit = fields.integer("limit-seconds").unwrap_or(USUAL_LIMIT);
    let test = TestDef {
        name: entry.name.text.clone(),
        summary: fields.text_or_empty("summary"),
        command,
        when: names.when(&fields),
        needs: fields.texts("needs").iter().filter_map(|text| names.needs.find(text, log)).collect(),
        limit_seconds: u64::try_from(limit).ok().filter(|limit| *limit > 0).unwrap_or(1),
        parts,
        options,
        environment,
        folder: if fields.flag("scratch") { TestFolder::Scratch } else { TestFolder::Outputs },
        input,
        output,
        success: success(&fields),
        after: fields.texts("after").iter().filter_map(|text| names.tests.find(text, log)).collect(),
        locks: fields.texts("locks").into_iter().map(|text| text.text).collect(),
        company: if fields.flag("alone") { Company::Alone } else { Company::Others },
        pace: if fields.flag("slow") { Pace::Slow } else { Pace::Usual },
    };
    fields.finish();
    test
}

/// Reads the exit codes that mean success.
pub(super) fn success(fields: &Fields<'_>) -> Vec<i32> {
    let codes = fields.list("success");
    let read: Vec<i32> = codes.iter().filter_map(|code| i32::try_from(code.integer()?).ok()).collect();
    if read.len() != codes.len() {
        fields.problem(fields.place, Fault::Combination("`success` lists exit codes, such as [0, 1]".into()));
    }
    if read.is_empty() { vec![0] } else { read }
}
