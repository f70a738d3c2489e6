//! Clashing choices, told as steps that a person can follow.

use boltboard_core::board::{Board, Kind};
use boltboard_core::profile::{Choice, Choices, ProfileSource};
use boltboard_core::resolve::Clash;
use boltboard_core::survey::Facts;

use super::proof::proof_lines;
use crate::exit::Diagnostic;
use crate::host::install_command;

/// Tells each clash: the choices, what links them, the ways out.
pub fn clash_diagnostics(board: &Board, choices: &Choices, facts: &Facts, clashes: &[Clash]) -> Vec<Diagnostic> {
    clashes.iter().map(|clash| one(board, choices, facts, clash)).collect()
}

fn one(board: &Board, choices: &Choices, facts: &Facts, clash: &Clash) -> Diagnostic {
    let chosen: Vec<String> =
        clash.choices.iter().map(|c| format!("{}={}", board.options[c.option].name, c.value)).collect();
    let lacking: Vec<String> = clash.lacking.iter().map(|need| board.needs[*need].name.clone()).collect();
    let message = match (chosen.as_slice(), lacking.as_slice()) {
        ([], _) => "the board contradicts itself: no values meet its requirements".to_string(),
        ([one], []) => format!("{one} cannot be had"),
        ([one], needs) => format!("{one} cannot be had on this host: it lacks {}", needs.join(", ")),
        (many, _) => format!("these choices cannot hold together: {}", many.join(", ")),
    };
    let mut diagnostic = Diagnostic::new(message);
    for choice in &clash.choices {
        let place = choices.files.excerpt(choice.place);
        let option = &board.options[choice.option];
        let reason = choice.reason.as_ref().map_or(String::new(), |reason| format!(" (\"{reason}\")"));
        let source = match choices.layers[choice.layer].source {
            ProfileSource::Once => "on the command line".to_string(),
            ProfileSource::Own | ProfileSource::Shipped => format!("in {}, line {}", place.file, place.line),
        };
        diagnostic = diagnostic.note(format!("{} = {} is chosen {source}{reason}", option.name, choice.value));
    }
    for line in proof_lines(board, &clash.proof) {
        diagnostic = diagnostic.note(line);
    }
    if let Some(command) = install_command(board, facts, &lacking) {
        diagnostic = diagnostic.help(format!("install what is missing: {command}"));
    }
    for need in &lacking {
        diagnostic = diagnostic.help(format!("see what was looked for: boltboard survey {need}"));
    }
    for choice in &clash.choices {
        diagnostic = diagnostic.help(way_out(board, choices, choice));
    }
    diagnostic
}

fn way_out(board: &Board, choices: &Choices, choice: &Choice) -> String {
    let option = &board.options[choice.option];
    let own =
        choices.layers.iter().filter(|(_, layer)| layer.source == ProfileSource::Own).map(|(id, _)| id).next_back();
    match choices.layers[choice.layer].source {
        ProfileSource::Once => format!("leave out {}={}", option.name, choice.value),
        // What a layer below chooses can only be chosen otherwise.
        ProfileSource::Own | ProfileSource::Shipped if own.is_some_and(|own| own != choice.layer) => {
            if matches!(option.kind, Kind::Switch | Kind::Module) {
                format!("do without it: boltboard set {}=off", option.name)
            } else {
                format!("choose another value: boltboard set {}=…", option.name)
            }
        }
        ProfileSource::Own | ProfileSource::Shipped => {
            format!("give up this choice: boltboard unset {}", option.name)
        }
    }
}
