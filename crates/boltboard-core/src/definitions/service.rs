//! `[service.NAME]`: a program that the system's service manager runs, and the parts that make its files.

use super::entry::Entry;
use super::fields::{Fields, Text};
use super::lookup::Names;
use super::parts::mode;
use super::problem::Fault;
use crate::base::{Arena, RelPath};
use crate::board::{
    Condition, Generator, InstallRole, InstallRule, Interp, PartDef, PartKind, Piece, ServiceAgain, ServiceDef,
    ServiceFile, ServiceFolder, ServiceReady, When,
};
use crate::expr::Expr;

/// The mode of a service's folder unless told otherwise: others see nothing.
const FOLDER_MODE: u32 = 0o750;
/// The mode of its files.
const FILE_MODE: u32 = 0o644;
/// When it counts as started.
const READY: [(&str, ServiceReady); 3] =
    [("runs", ServiceReady::Runs), ("tells", ServiceReady::Tells), ("ended", ServiceReady::Ended)];
/// When it is started again.
const AGAIN: [(&str, ServiceAgain); 3] =
    [("failed", ServiceAgain::Failed), ("always", ServiceAgain::Always), ("never", ServiceAgain::Never)];
/// Where they are installed where the tree has a prefix and says nothing else.
const USUAL: &str = "${prefix}/lib";

/// Reads a service, and adds the parts that make its files.
pub(super) fn service(entry: &Entry<'_>, names: &Names, parts: &mut Arena<PartDef>) {
    let fields = entry.fields("service");
    let log = fields.log();
    let when = names.when(&fields);
    let program = fields.required_text("program").and_then(|text| names.parts.find(&text, log));
    let summary = fields.required_text("summary").map_or_else(String::new, |text| text.text);
    let arguments = names.interp_list(&fields, "arguments");
    let environment = environment(&fields, names);
    let user = fields.text("user").and_then(|text| names.interp(&text, log));
    let folders = folders(&fields, names);
    let listens = names.interp_list(&fields, "listens");
    let files = names.interp_list(&fields, "files");
    let ready = fields.word("ready", &READY).unwrap_or(ServiceReady::Runs);
    let again = fields.word("again", &AGAIN).unwrap_or(ServiceAgain::Failed);
    let below = below_prefix(&fields, names, USUAL);
    fields.finish();
    let (Some(program), Some(below)) = (program, below) else { return };
    let (name, place) = (entry.name.text.clone(), entry.name.place);
    let def = ServiceDef {
        name,
        summary,
        program,
        arguments,
        environment,
        user,
        folders,
        listens,
        files,
        ready,
        again,
        place,
    };
    let program = &parts[def.program];
    if !matches!(program.kind, PartKind::Program) || program.install.is_none() {
        let text = format!("`{}` is to be run as a service, so it must be an installed program", program.name);
        entry.log.add(super::problem::Problem::at(entry.name.place, Fault::Combination(text)));
        return;
    }
    // Without its program a service has no files.
    let conditions = [when, program.when.clone()].into_iter().flatten().map(|when| when.expr);
    let when = Expr::all(conditions).map(|expr| Condition { expr, place: entry.name.place });
    for file in ServiceFile::ALL {
        let is_made = match file {
            ServiceFile::Unit => true,
            ServiceFile::User => def.user.is_some(),
            ServiceFile::Folders => !def.folders.is_empty(),
        };
        if is_made {
            add(entry, names, (&def, file), (&when, &below), parts);
        }
    }
}

fn add(
    entry: &Entry<'_>,
    names: &Names,
    (def, file): (&ServiceDef, ServiceFile),
    (when, below): (&Option<Condition>, &Interp),
    parts: &mut Arena<PartDef>,
) {
    let name = format!("{}-{}", def.name, file.word());
    if names.parts.has(&name) {
        let text = format!("the service `{}` makes a part `{name}`, and there is one", def.name);
        entry.log.add(super::problem::Problem::at(entry.name.place, Fault::Combination(text)));
        return;
    }
    let to = format!("{}/{}.{}", file.folder(), def.name, file.ending());
    let Ok(to) = RelPath::parse(&to) else { return };
    let mut folder = below.clone();
    folder.pieces.push(Piece::Text(format!("/{}", file.folder())));
    let mut part = PartDef::plain(name, entry.name.place, entry.folder.clone());
    part.summary = match file {
        ServiceFile::Unit => format!("how the service manager runs {}", def.name),
        ServiceFile::User => format!("the user of {}", def.name),
        ServiceFile::Folders => format!("the folders of {}", def.name),
    };
    part.when.clone_from(when);
    part.kind = PartKind::Generated(Generator::Service { service: Box::new(def.clone()), file, to });
    part.install =
        Some(InstallRule { to: folder, name: None, mode: FILE_MODE, role: InstallRole::Plain, folders: vec![] });
    parts.add(part);
}

/// Reads where something is installed that is installed below the prefix unless told otherwise.
pub(super) fn below_prefix(fields: &Fields<'_>, names: &Names, usual: &str) -> Option<Interp> {
    let text = fields.text("install");
    if text.is_none() && !names.options.has("prefix") {
        fields.missing("install");
        return None;
    }
    let text = text.unwrap_or(Text { text: usual.into(), place: fields.place });
    names.interp(&text, fields.log())
}

fn environment(fields: &Fields<'_>, names: &Names) -> Vec<(String, Interp)> {
    let mut variables = Vec::new();
    for text in fields.texts("environment") {
        match text.text.split_once('=') {
            Some((name, _)) if crate::base::is_c_name(name) => {
                let start = name.len() + 1;
                let value =
                    Text { text: text.text[start..].into(), place: text.place.within(start, text.text.len() - start) };
                variables.extend(names.interp(&value, fields.log()).map(|value| (name.to_string(), value)));
            }
            _ => fields.problem(text.place, Fault::Combination(format!("`{}` is not NAME=VALUE", text.text))),
        }
    }
    variables
}

fn folders(fields: &Fields<'_>, names: &Names) -> Vec<When<ServiceFolder>> {
    let mut folders = Vec::new();
    for member in fields.list("folders") {
        if let Some(text) = member.text() {
            let path = names.interp(&text, fields.log());
            folders.extend(path.map(|path| When { when: None, item: ServiceFolder { path, mode: FOLDER_MODE } }));
        } else if let Some(sub) = fields.sub(&member, "an entry of `folders`") {
            let when = names.when(&sub);
            let path = sub.required_text("folder").and_then(|text| names.interp(&text, sub.log()));
            let mode = mode(&sub, FOLDER_MODE);
            sub.finish();
            folders.extend(path.map(|path| When { when, item: ServiceFolder { path, mode } }));
        } else {
            fields.wrong_type(&member, "a folder, or { when, folder = \"…\", mode = \"750\" }");
        }
    }
    folders
}
