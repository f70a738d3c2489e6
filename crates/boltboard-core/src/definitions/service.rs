//! `[service.NAME]`: a program that the system's service manager runs, and the parts that make its files.

use super::delivery::{MadeFile, Wanted, add_file, all_of, below_prefix, is_installed};
use super::entry::Entry;
use super::fields::Fields;
use super::generators::name_and_value;
use super::lookup::Names;
use super::parts::mode;
use super::problem::Fault;
use crate::base::{Arena, is_c_name};
use crate::board::{
    Generator, Interp, PartDef, Piece, ServiceAgain, ServiceDef, ServiceFile, ServiceFolder, ServiceReady, When,
};

/// The mode of a service's folder unless told otherwise: others see nothing.
const FOLDER_MODE: u32 = 0o750;
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
    let arguments = names.lasting_list(&fields, "arguments");
    let environment = environment(&fields, names);
    let user = fields.text("user").and_then(|text| names.lasting(&text, log));
    let folders = folders(&fields, names);
    let listens = names.lasting_list(&fields, "listens");
    let files = names.lasting_list(&fields, "files");
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
    if !is_installed(entry, parts, def.program, Wanted::Program, "is to be run as a service") {
        return;
    }
    // Without its program a service has no files.
    let when = all_of(entry, when.into_iter().chain(parts[def.program].when.clone()));
    for file in ServiceFile::ALL {
        let (is_made, summary) = match file {
            ServiceFile::Unit => (true, format!("how the service manager runs {}", def.name)),
            ServiceFile::User => (def.user.is_some(), format!("the user of {}", def.name)),
            ServiceFile::Folders => (!def.folders.is_empty(), format!("the folders of {}", def.name)),
        };
        if is_made {
            let mut to = below.clone();
            to.pieces.push(Piece::Text(format!("/{}", file.folder())));
            let at = format!("{}/{}.{}", file.folder(), def.name, file.ending());
            let made = MadeFile { word: file.word(), summary, when: when.clone(), at, to };
            let service = Box::new(def.clone());
            add_file(entry, names, parts, made, |to| Generator::Service { service, file, to });
        }
    }
}

fn environment(fields: &Fields<'_>, names: &Names) -> Vec<(String, Interp)> {
    let mut variables = Vec::new();
    for text in fields.texts("environment") {
        match name_and_value(&text) {
            Some((name, value)) if is_c_name(&name) => {
                variables.extend(names.lasting(&value, fields.log()).map(|value| (name, value)));
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
            let path = names.lasting(&text, fields.log());
            folders.extend(path.map(|path| When { when: None, item: ServiceFolder { path, mode: FOLDER_MODE } }));
        } else if let Some(sub) = fields.sub(&member, "an entry of `folders`") {
            let when = names.when(&sub);
            let path = sub.required_text("folder").and_then(|text| names.lasting(&text, sub.log()));
            let mode = mode(&sub, FOLDER_MODE);
            sub.finish();
            folders.extend(path.map(|path| When { when, item: ServiceFolder { path, mode } }));
        } else {
            fields.wrong_type(&member, "a folder, or { when, folder = \"…\", mode = \"750\" }");
        }
    }
    folders
}
