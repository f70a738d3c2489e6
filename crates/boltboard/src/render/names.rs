//! From a name of one kind to the command that knows about it.

use std::path::Path;

use boltboard_core::base::{RelPath, shell_word};
use boltboard_core::board::Named;

pub use boltboard_core::board::options_of;

use crate::fault::Diagnostic;
use crate::session::Session;

/// How many meanings of a name are told.
const TOLD: usize = 4;

/// Adds what a name stands for where it is not what was asked for, each with the command that tells more.
pub fn lead_on(mut diagnostic: Diagnostic, session: &Session, name: &str) -> Diagnostic {
    let board = &session.board;
    for named in board.named(name).into_iter().take(TOLD) {
        let (says, command, gives) = match named {
            Named::Option(id) => {
                let option = &board.options[id];
                (format!("is an option ({})", option.kind.name()), format!("show {}", option.name), "all about it")
            }
            Named::Value(id) => {
                let option = &board.options[id].name;
                (format!("is a value of the option {option}"), format!("show {option}"), "what it accepts")
            }
            Named::Macro(id) => {
                let option = &board.options[id].name;
                (format!("is the macro of the option {option}"), format!("show {option}"), "all about it")
            }
            Named::Need(id) => {
                let need = &board.needs[id].name;
                ("is a need".to_string(), format!("survey {need}"), "how it is met, and the ways out")
            }
            Named::SoughtBy(id) => {
                let need = &board.needs[id].name;
                (format!("is what the need {need} looks for"), format!("survey {need}"), "how it is met")
            }
            Named::Part(id) => {
                let part = &board.parts[id];
                (format!("is a part ({})", part.kind.name()), format!("preview {}", part.name), "what builds it")
            }
            Named::Section(id) => {
                let section = &board.sections[id].name;
                ("is a section".to_string(), format!("options in:{section}"), "its options")
            }
            Named::Test(id) => {
                let test = &board.tests[id].name;
                ("is a test".to_string(), format!("test {test}"), "run it")
            }
        };
        diagnostic = diagnostic.note(format!("`{name}` {says}")).next(format!("boltboard {command}"), gives);
    }
    if let Some(file) = file_of_tree(session, name) {
        let command = format!("boltboard preview --why {}", shell_word(file.as_str()));
        diagnostic = diagnostic.note(format!("`{name}` is a file of the tree")).next(command, "what it goes into");
    }
    diagnostic
}

/// The file of the tree that a name leads to, as seen from here or from the tree's root.
pub fn file_of_tree(session: &Session, name: &str) -> Option<RelPath> {
    let root = &session.board.tree.source_root;
    let here = session.around.folder.join(name);
    let place = [here, root.join(name)].into_iter().find(|place| place.is_file())?;
    let below = place.canonicalize().ok()?;
    let below = below.strip_prefix(root.canonicalize().ok()?).ok().map(Path::to_path_buf)?;
    RelPath::parse(below.to_str()?).ok()
}
