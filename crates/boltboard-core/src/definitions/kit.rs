//! `[kit.NAME]`: what add-ons are built against where the sources of the tree are not, and the part that puts it together.

use super::delivery::{MadeFile, add_file, below_prefix, complain};
use super::entry::{Entry, globs};
use super::lookup::Names;
use crate::base::{Arena, RelPath};
use crate::board::{Board, Ending, Generator, KIT_FILE, KitDef, OptionId, PartDef};

/// Reads it, and adds the part that puts it together. `tree` is the tree's name, `follows` the files that parts follow from.
pub(super) fn kit(entry: &Entry<'_>, names: &Names, (tree, follows): (&str, &[RelPath]), parts: &mut Arena<PartDef>) {
    let fields = entry.fields("kit");
    let log = entry.log;
    let uses = names.when_list(&fields, "parts", &mut |text| names.parts.find(text, log));
    if uses.is_empty() {
        fields.missing("parts");
    }
    let headers = globs(&fields.texts("headers"), &fields, entry);
    let options = |key: &'static str| -> Vec<OptionId> {
        fields.texts(key).iter().filter_map(|text| names.options.find(text, log)).collect()
    };
    let (open, interface) = (options("open"), options("interface"));
    let (summary, when) = (fields.text_or_empty("summary"), names.when(&fields));
    let to = below_prefix(&fields, names, &format!("${{prefix}}/lib/{tree}/kit"));
    fields.finish();
    let name = entry.name.text.clone();
    if !Board::is_of_tree(entry.folder) {
        return complain(entry, "a kit is one of the tree; an add-on has none".into());
    }
    if let Some(both) = open.iter().find(|option| interface.contains(option)) {
        let option = names.options.name(*both).unwrap_or_default();
        return complain(entry, format!("`{option}` cannot be both: of the interface, and open to another value"));
    }
    for used in &uses {
        let part = &parts[used.item];
        if matches!(part.kind.ending(), None | Some(Ending::Loose)) || part.kind.module().is_some() {
            let text = format!("`{}` is no library and no program that modules are built for", part.name);
            return complain(entry, text);
        }
    }
    let (Some(to), Ok(file)) = (to, RelPath::parse(&format!("kit/{name}/{KIT_FILE}"))) else { return };
    let def = KitDef { name, headers, follows: follows.to_vec(), open, interface, to: file, place: entry.name.place };
    let summary = if summary.is_empty() { "what add-ons are built against".into() } else { summary };
    let made = MadeFile { word: "kit", summary, when, at: def.to.to_string(), to };
    if let Some(part) = add_file(entry, names, parts, made, |_| Generator::Kit(Box::new(def))) {
        parts.get_mut(part).uses = uses;
    }
}
