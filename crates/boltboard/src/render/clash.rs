//! Clashing choices, told as steps that a person can follow.

use boltboard_core::board::{Board, Kind, OptionId, Value};
use boltboard_core::profile::{Choice, Choices, ProfileSource};
use boltboard_core::resolve::Clash;
use boltboard_core::session::Session;
use boltboard_core::survey::Facts;

use super::proof::proof_lines;
use crate::exit::Diagnostic;

/// Tells each clash: the choices, what links them, the ways out.
pub fn clash_diagnostics(session: &Session, choices: &Choices, facts: &Facts, clashes: &[Clash]) -> Vec<Diagnostic> {
    clashes.iter().map(|clash| one(session, choices, facts, clash)).collect()
}

/// Tells why nothing leads to a value.
pub fn never_diagnostics(
    board: &Board,
    choices: &Choices,
    option: OptionId,
    value: &Value,
    clashes: &[Clash],
) -> Vec<Diagnostic> {
    let name = &board.options[option].name;
    let mut diagnostic = Diagnostic::new(format!("{name}={value} cannot be had, whatever else is chosen or installed"));
    for clash in clashes {
        for line in proof_lines(board, &clash.proof) {
            diagnostic = diagnostic.note(line);
        }
    }
    let chosen = choices.get(option).is_some();
    let help = if chosen {
        format!("give up this choice: boltboard unset {name}")
    } else {
        format!("read about it: boltboard show {name}")
    };
    vec![diagnostic.help(help)]
}

fn one(session: &Session, choices: &Choices, facts: &Facts, clash: &Clash) -> Diagnostic {
    let board = &session.board;
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
        diagnostic = diagnostic.note(chosen_line(board, choices, choice));
    }
    for line in proof_lines(board, &clash.proof) {
        diagnostic = diagnostic.note(line);
    }
    if let Some(command) = session.install_command(facts, &lacking) {
        diagnostic = diagnostic.help(format!("install what is missing: {command}"));
    }
    for need in &lacking {
        diagnostic = diagnostic.help(format!("see what was looked for: boltboard survey {need}"));
    }
    for choice in &clash.choices {
        diagnostic = diagnostic.help(way_out(board, choices, choice));
    }
    let once = |choice: &&Choice| choices.layers[choice.layer].source == ProfileSource::Once;
    let (tried, kept): (Vec<&Choice>, Vec<&Choice>) = clash.choices.iter().partition(once);
    if let ([tried], false) = (tried.as_slice(), kept.is_empty()) {
        let name = &board.options[tried.option].name;
        diagnostic = diagnostic.help(format!("see all ways with their price: boltboard ways {name}={}", tried.value));
    }
    diagnostic
}

/// Says where a choice was made.
fn chosen_line(board: &Board, choices: &Choices, choice: &Choice) -> String {
    let place = choices.files.excerpt(choice.place);
    let option = &board.options[choice.option];
    let reason = choice.reason.as_ref().map_or(String::new(), |reason| format!(" (\"{reason}\")"));
    let source = match choices.layers[choice.layer].source {
        ProfileSource::Once => "on the command line".to_string(),
        ProfileSource::Own | ProfileSource::Shipped => {
            format!("in the profile {}, line {}", choices.layers[choice.layer].name, place.line)
        }
    };
    format!("{} = {} is chosen {source}{reason}", option.name, choice.value)
}

/// Tells what stands against a value that was only tried: the other choices, and the steps.
pub fn standing_against(board: &Board, choices: &Choices, tried: OptionId, clash: &Clash) -> Vec<String> {
    let others = clash.choices.iter().filter(|choice| choice.option != tried);
    others.map(|choice| chosen_line(board, choices, choice)).chain(proof_lines(board, &clash.proof)).collect()
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
