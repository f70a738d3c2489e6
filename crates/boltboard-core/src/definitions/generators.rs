//! Parts of kind `generated`: a command, a template, or the table of built-in modules.

use super::entry::{Entry, globs, made_path};
use super::fields::{Fields, Text};
use super::lookup::Names;
use super::problem::Fault;
use crate::base::is_c_name;
use crate::board::{Generator, Interp, ModuleTable, Variable};

/// Reads how a generated part comes about.
pub(super) fn generator(fields: &Fields<'_>, entry: &Entry<'_>, names: &Names) -> Option<Generator> {
    let ways = ["command", "template", "module-table"];
    let given: Vec<&str> = ways.into_iter().filter(|key| fields.get(key).is_some()).collect();
    if given.len() != 1 {
        let text = format!("{} must have exactly one of `command`, `template` and `module-table`", fields.context);
        fields.problem(fields.place, Fault::Combination(text));
        return None;
    }
    match given[0] {
        "command" => command(fields, entry, names),
        "template" => template(fields, entry),
        _ => module_table(fields, names),
    }
}

fn command(fields: &Fields<'_>, entry: &Entry<'_>, names: &Names) -> Option<Generator> {
    let log = fields.log();
    let command: Vec<Interp> = fields.texts("command").iter().filter_map(|t| names.interp(t, log)).collect();
    let writes: Vec<_> = fields.texts("output").iter().filter_map(|t| made_path(fields, t)).collect();
    if command.is_empty() {
        fields.problem(fields.place, Fault::Missing { key: "command", context: fields.context.to_string() });
    }
    if writes.is_empty() {
        fields.problem(fields.place, Fault::Missing { key: "output", context: fields.context.to_string() });
    }
    let mut environment = Vec::new();
    if let Some(found) = fields.get("environment") {
        for member in found.members().unwrap_or_else(|| vec![found]) {
            let Some(text) = member.text() else {
                fields.wrong_type(&member, "a string such as \"NAME=VALUE\", or \"NAME\" to pass it on");
                continue;
            };
            match text.text.split_once('=') {
                Some((name, value)) if !name.is_empty() => {
                    let offset = name.len() + 1;
                    let value = Text { text: value.into(), place: text.place.within(offset, value.len()) };
                    let value = names.interp(&value, log).map(Variable::Set);
                    environment.extend(value.map(|value| (name.to_string(), value)));
                }
                None if is_c_name(&text.text) => environment.push((text.text, Variable::Passed)),
                Some(_) | None => {
                    let fault = format!("`{}` is neither NAME=VALUE nor NAME", text.text);
                    fields.problem(text.place, Fault::Combination(fault));
                }
            }
        }
    }
    let work_folder = match fields.text("folder") {
        None => entry.folder.clone(),
        Some(text) => match entry.folder.join(&text.text) {
            Ok(path) => path,
            Err(fault) => {
                fields.problem(text.place, fault);
                return None;
            }
        },
    };
    let codes = fields.list("success");
    let success = codes.iter().filter_map(|c| c.integer().and_then(|n| i32::try_from(n).ok())).collect::<Vec<_>>();
    if success.len() != codes.len() {
        fields.problem(fields.place, Fault::Combination("`success` lists exit codes, such as [0, 1]".into()));
    }
    let success = if success.is_empty() { vec![0] } else { success };
    let reads = globs(&fields.texts("reads"), fields, entry);
    Some(Generator::Command { command, work_folder, reads, writes, environment, success })
}

fn template(fields: &Fields<'_>, entry: &Entry<'_>) -> Option<Generator> {
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
    match entry.folder.join(&from.text) {
        Ok(from) => Some(Generator::Template { from, mark, to: to? }),
        Err(fault) => {
            fields.problem(from.place, fault);
            None
        }
    }
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
