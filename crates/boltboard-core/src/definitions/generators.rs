//! Parts of kind `generated`: commands, a template, a phase of the compiler, or the table of built-in modules.

use super::entry::{Entry, check_c_name, globs, made_path};
use super::fields::{Fields, Found, Text};
use super::lookup::Names;
use super::problem::{Fault, Problem};
use super::test::success;
use crate::base::{RelPath, is_c_name, near_matches};
use crate::board::{
    CommandDef, Generator, Interp, ModuleTable, Phase, Piece, RecordForm, RecordHeader, SourceFile, ValueDef, Variable,
    When, WorkPlace, Written, WrittenFrom,
};

/// The ways in which a generated part can come about; exactly one is given.
const WAYS: [&str; 6] = ["command", "template", "preprocess", "assembly", "module-table", "record"];

/// What stands before the name of a file beside the definition.
pub(super) const BESIDE: &str = "beside:";

/// Reads how a generated part comes about.
pub(super) fn generator(fields: &Fields<'_>, entry: &Entry<'_>, names: &Names) -> Option<Generator> {
    let given: Vec<&str> = WAYS.into_iter().filter(|key| fields.get(key).is_some()).collect();
    if given.len() != 1 {
        let ways = WAYS.map(|way| format!("`{way}`")).join(", ");
        let text = format!("{} must have exactly one of {ways}", fields.context);
        fields.problem(fields.place, Fault::Combination(text));
        return None;
    }
    match given[0] {
        "command" => command(fields, entry, names),
        "template" => template(fields, entry, names),
        "preprocess" => phase(fields, entry, names, "preprocess", Phase::Preprocessed),
        "assembly" => phase(fields, entry, names, "assembly", Phase::Assembly),
        "module-table" => module_table(fields, names),
        _ => record(fields, names),
    }
}

fn command(fields: &Fields<'_>, entry: &Entry<'_>, names: &Names) -> Option<Generator> {
    let log = fields.log();
    let read = |members: Vec<Found<'_>>| names.when_members(fields, members, &mut |text| names.interp(text, log));
    let mut stages: Vec<Vec<When<Interp>>> = vec![read(fields.list("command"))];
    for found in fields.list("pipe") {
        match found.members() {
            Some(members) => stages.push(read(members)),
            None => fields.wrong_type(&found, "a list of commands, each a list of words"),
        }
    }
    if stages.iter().any(Vec::is_empty) {
        fields.missing("command");
    }
    let work_place = work_place(fields, entry, names)?;
    let writes = writes(fields, &work_place);
    if writes.is_empty() {
        fields.missing("output");
    }
    let success = success(fields);
    let reads = globs(&fields.texts("reads"), fields, entry);
    let input = fields.text("stdin").and_then(|text| source_file(&text, fields, entry, names));
    let environment = environment(fields, "environment", names);
    Some(Generator::Command(Box::new(CommandDef { stages, work_place, reads, input, writes, environment, success })))
}

/// Reads variables of an environment.
pub(super) fn environment(fields: &Fields<'_>, key: &'static str, names: &Names) -> Vec<(String, Variable)> {
    let mut environment = Vec::new();
    for member in fields.list(key) {
        let Some(text) = member.text() else {
            fields.wrong_type(&member, "a string such as \"NAME=VALUE\", or \"NAME\" to pass it on");
            continue;
        };
        match name_and_value(&text) {
            Some((name, value)) if !name.is_empty() => {
                let value = names.interp(&value, fields.log()).map(Variable::Set);
                environment.extend(value.map(|value| (name, value)));
            }
            None if is_c_name(&text.text) => environment.push((text.text, Variable::Passed)),
            Some(_) | None => {
                let fault = format!("`{}` is neither NAME=VALUE nor NAME", text.text);
                fields.problem(text.place, Fault::Combination(fault));
            }
        }
    }
    environment
}

/// Parts `NAME=VALUE`.
pub(super) fn name_and_value(text: &Text) -> Option<(String, Text)> {
    let (name, value) = text.text.split_once('=')?;
    let place = text.place.within(name.len() + 1, value.len());
    Some((name.to_string(), Text { text: value.into(), place }))
}

/// Reads where commands run.
fn work_place(fields: &Fields<'_>, entry: &Entry<'_>, names: &Names) -> Option<WorkPlace> {
    let folder = fields.text("folder");
    if fields.get("scratch").is_none() {
        let Some(text) = folder else { return Some(WorkPlace::Folder(entry.folder.clone())) };
        return joined(&text, fields, entry).map(WorkPlace::Folder);
    }
    if let Some(text) = folder {
        let fault = "`folder` and `scratch` both say where the command runs; one of them goes";
        fields.problem(text.place, Fault::Combination(fault.into()));
    }
    let mut files: Vec<(RelPath, SourceFile)> = Vec::new();
    for member in fields.list("scratch") {
        let (from, name) = match (member.text(), fields.sub(&member, "an entry of `scratch`")) {
            (Some(text), _) => (Some(text), None),
            (None, Some(sub)) => {
                let read = (sub.required_text("file"), sub.text("as"));
                sub.finish();
                read
            }
            (None, None) => {
                fields.wrong_type(&member, "a file, or { file = \"…\", as = \"the name it has there\" }");
                continue;
            }
        };
        let Some(from) = from else { continue };
        let Some(file) = source_file(&from, fields, entry, names) else { continue };
        let own = match &file {
            SourceFile::Tree(path) | SourceFile::Beside(path) => path.name().to_string(),
            // What a part makes has the name of the part until the plan knows better.
            SourceFile::Part(_) => String::new(),
        };
        let text = name.unwrap_or(Text { text: own, place: from.place });
        if text.text.is_empty() {
            let fault = "what a part makes needs a name there: { file = \"${part:NAME}\", as = \"…\" }";
            fields.problem(text.place, Fault::Combination(fault.into()));
            continue;
        }
        let Some(path) = made_path(fields, &text) else { continue };
        if files.iter().any(|(known, _)| *known == path) {
            let fault = format!("two files of `scratch` have the name `{path}`; say `as` for one of them");
            fields.problem(text.place, Fault::Combination(fault));
            continue;
        }
        files.push((path, file));
    }
    Some(WorkPlace::Scratch(files))
}

/// Reads what commands write, and how each of these files comes about.
fn writes(fields: &Fields<'_>, work_place: &WorkPlace) -> Vec<Written> {
    let mut writes = Vec::new();
    for member in fields.list("output") {
        if let Some(text) = member.text() {
            let Some(to) = made_path(fields, &text) else { continue };
            let from = match work_place {
                WorkPlace::Folder(_) => WrittenFrom::Told,
                WorkPlace::Scratch(_) => WrittenFrom::Left(RelPath::root().child(to.name())),
            };
            writes.push(Written { to, from });
        } else if let Some(sub) = fields.sub(&member, "an entry of `output`") {
            let file = sub.required_text("file").and_then(|text| made_path(&sub, &text));
            let left = sub.required_text("left").and_then(|text| made_path(&sub, &text));
            if matches!(work_place, WorkPlace::Folder(_)) {
                let fault = "a file is left under another name only in a folder of the command's own: say `scratch`";
                sub.problem(member.place, Fault::Combination(fault.into()));
            }
            writes.extend(file.zip(left).map(|(to, left)| Written { to, from: WrittenFrom::Left(left) }));
            sub.finish();
        } else {
            fields.wrong_type(&member, "a file, or { file = \"…\", left = \"the name it has in the scratch folder\" }");
        }
    }
    let output = fields.text("stdout").and_then(|text| made_path(fields, &text));
    writes.extend(output.map(|to| Written { to, from: WrittenFrom::Output }));
    writes
}

/// Reads a file of the tree, or `${part:NAME}`.
pub(super) fn source_file(text: &Text, fields: &Fields<'_>, entry: &Entry<'_>, names: &Names) -> Option<SourceFile> {
    if text.text.starts_with("${") {
        return match names.interp(text, fields.log())?.pieces[..] {
            [Piece::Part(part)] => Some(SourceFile::Part(part)),
            _ => {
                let fault = format!("`{}` is neither a file of the tree nor ${{part:NAME}}", text.text);
                fields.problem(text.place, Fault::Combination(fault));
                None
            }
        };
    }
    if let Some(name) = text.text.strip_prefix(BESIDE) {
        return beside(name, text, fields).map(SourceFile::Beside);
    }
    joined(text, fields, entry).map(SourceFile::Tree)
}

/// Reads a path below the folder of the root definition file.
pub(super) fn beside(name: &str, text: &Text, fields: &Fields<'_>) -> Option<RelPath> {
    match RelPath::parse(name) {
        Ok(path) => Some(path),
        Err(fault) => {
            fields.problem(text.place, fault);
            None
        }
    }
}

fn joined(text: &Text, fields: &Fields<'_>, entry: &Entry<'_>) -> Option<RelPath> {
    match entry.folder.join(&text.text) {
        Ok(path) => Some(path),
        Err(fault) => {
            fields.problem(text.place, fault);
            None
        }
    }
}

fn template(fields: &Fields<'_>, entry: &Entry<'_>, names: &Names) -> Option<Generator> {
    let from = fields.text("template")?;
    let to = fields.required_text("output").and_then(|text| made_path(fields, &text));
    let mark = match fields.text("mark") {
        None => '@',
        Some(text) => match text.text.chars().collect::<Vec<_>>()[..] {
            [mark] if mark.is_ascii_punctuation() => mark,
            _ => {
                fields.problem(text.place, Fault::Combination("`mark` must be one character, such as \"@\"".into()));
                return None;
            }
        },
    };
    Some(Generator::Template { from: source_file(&from, fields, entry, names)?, mark, to: to? })
}

fn phase(fields: &Fields<'_>, entry: &Entry<'_>, names: &Names, key: &'static str, until: Phase) -> Option<Generator> {
    let from = fields.text(key).and_then(|text| source_file(&text, fields, entry, names));
    let to = fields.required_text("output").and_then(|text| made_path(fields, &text));
    Some(Generator::Phase { from: from?, until, to: to? })
}

fn module_table(fields: &Fields<'_>, names: &Names) -> Option<Generator> {
    let found = fields.get("module-table")?;
    let Some(sub) = fields.sub(&found, "the module table") else {
        fields.wrong_type(&found, "a table");
        return None;
    };
    let program = sub.required_text("program").and_then(|text| names.parts.find(&text, sub.log()));
    let to = sub.required_text("output").and_then(|text| made_path(&sub, &text));
    let entry = sub.required_text("entry");
    let table = ModuleTable {
        head: sub.text_or_empty("head"),
        declare: sub.text_or_empty("declare"),
        open: sub.text_or_empty("open"),
        close: sub.text_or_empty("close"),
        entry: entry?.text,
        program: program?,
        to: to?,
    };
    sub.finish();
    Some(Generator::ModuleTable(table))
}

fn record(fields: &Fields<'_>, names: &Names) -> Option<Generator> {
    let found = fields.get("record")?;
    let Some(sub) = fields.sub(&found, "the header") else {
        fields.wrong_type(&found, "a table such as { output = \"record.h\", function = \"record\" }");
        return None;
    };
    let to = sub.required_text("output").and_then(|text| made_path(&sub, &text));
    let form = match (sub.text("function"), sub.text("macro")) {
        (Some(name), None) => {
            check_c_name(&sub, &name);
            Some(RecordForm::Function(name.text))
        }
        (None, Some(name)) => {
            let of = sub.required_text("of").and_then(|text| names.parts.find(&text, sub.log()));
            check_c_name(&sub, &name);
            of.map(|of| RecordForm::Macro { name: name.text, of })
        }
        _ => {
            sub.problem(fields.place, Fault::Combination("`record` has either `function` or `macro`".into()));
            None
        }
    };
    sub.finish();
    Some(Generator::Record(RecordHeader { form: form?, to: to? }))
}

/// Reads the values that a part's own texts can name.
pub(super) fn values(fields: &Fields<'_>, names: &Names) -> Vec<ValueDef> {
    let Some(found) = fields.get("values") else { return Vec::new() };
    let Some(table) = fields.sub(&found, "`values`") else {
        fields.wrong_type(&found, "a table such as { levels = \"${depth}\" }");
        return Vec::new();
    };
    let mut values = Vec::new();
    for (name, found) in table.members_by_key() {
        let mut cases = Vec::new();
        for member in found.members().unwrap_or_else(|| vec![found]) {
            if let Some(text) = member.text() {
                cases.extend(names.interp(&text, table.log()).map(|text| (None, text)));
            } else if let Some(sub) = table.sub(&member, "a case of a value") {
                let when = names.when(&sub);
                let text = sub.required_text("value").and_then(|text| names.interp(&text, sub.log()));
                cases.extend(text.map(|text| (when, text)));
                sub.finish();
            } else {
                table.wrong_type(&member, "a string, or a list of { when = \"…\", value = \"…\" }");
            }
        }
        values.push(ValueDef { name: name.text, cases });
    }
    values
}

/// Reports a value that a text names and that its part has not.
pub(super) fn check_values<'i>(fields: &Fields<'_>, values: &[ValueDef], texts: impl Iterator<Item = &'i Interp>) {
    for piece in texts.flat_map(|text| &text.pieces) {
        if let Piece::Value(name) = piece
            && values.iter().all(|value| value.name != *name)
        {
            let fault = Fault::UnknownName { what: "value of this part", name: name.clone() };
            let near = near_matches(name, values.iter().map(|value| value.name.as_str()));
            fields.log().add(Problem::at(fields.place, fault).with_near(near));
        }
    }
}
