//! Clashing choices, told as steps that a person can follow.

use boltboard_core::base::shell_word;
use boltboard_core::board::{Board, OptionId, Value};
use boltboard_core::profile::{Choice, Choices, ProfileSource};
use boltboard_core::resolve::{Clash, Verdict};
use boltboard_core::session::Session;
use boltboard_core::survey::Facts;

use super::json::against;
use super::proof::proof_lines;
use super::why::rule_words;
use crate::fault::{Diagnostic, chosen_at, needed};

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
    if let Some(clash) = clashes.iter().find(|clash| clash.verdict != Verdict::Impossible) {
        return vec![after_all(undecided(board, clash), choices, option, name)];
    }
    let mut diagnostic = Diagnostic::new(format!("{name} can never be {value}, whatever else is chosen or installed"));
    for clash in clashes {
        for line in proof_lines(board, &clash.proof) {
            diagnostic = diagnostic.note(line);
        }
    }
    vec![after_all(diagnostic, choices, option, name)]
}

/// What can be done about a value to which nothing leads.
fn after_all(diagnostic: Diagnostic, choices: &Choices, option: OptionId, name: &str) -> Diagnostic {
    match choices.get(option) {
        Some(_) => diagnostic.next(format!("boltboard unset {name}"), "give up this choice"),
        None => diagnostic.next(format!("boltboard show {name}"), "what it accepts and requires"),
    }
}

fn one(session: &Session, choices: &Choices, facts: &Facts, clash: &Clash) -> Diagnostic {
    let board = &session.board;
    if clash.verdict != Verdict::Impossible {
        let told = clash.choices.iter().fold(undecided(board, clash), |told, one| way_out(told, board, choices, one));
        return Diagnostic { detail: serde_json::to_value(against(board, choices, clash, None)).ok(), ..told };
    }
    let chosen: Vec<String> =
        clash.choices.iter().map(|c| format!("{}={}", board.options[c.option].name, c.value)).collect();
    let lacking: Vec<&str> = clash.lacking.iter().map(|need| board.needs[*need].name.as_str()).collect();
    let message = match (chosen.as_slice(), lacking.as_slice()) {
        ([], _) => "the definitions contradict themselves: no values meet all requirements".to_string(),
        ([one], []) => format!("{one} cannot hold"),
        ([one], [need]) => format!("{one} cannot hold while the need {need} is not met"),
        ([one], needs) => format!("{one} cannot hold while these needs are not met: {}", needs.join(", ")),
        (many, _) => format!("these choices cannot hold together: {}", many.join(", ")),
    };
    let mut diagnostic = Diagnostic::new(message);
    for choice in &clash.choices {
        diagnostic = diagnostic.note(chosen_line(board, choices, choice));
    }
    for line in proof_lines(board, &clash.proof) {
        diagnostic = diagnostic.note(line);
    }
    diagnostic = needed(diagnostic, session, choices, facts, &clash.lacking);
    for choice in &clash.choices {
        diagnostic = way_out(diagnostic, board, choices, choice);
    }
    let once = |choice: &&Choice| choices.layers[choice.layer].source == ProfileSource::Once;
    let (tried, kept): (Vec<&Choice>, Vec<&Choice>) = clash.choices.iter().partition(once);
    if let ([tried], false) = (tried.as_slice(), kept.is_empty()) {
        let asked = shell_word(&format!("{}={}", board.options[tried.option].name, tried.value));
        diagnostic =
            diagnostic.next(format!("boltboard ways {asked}"), "the smallest changes that lead there, and their cost");
    }
    diagnostic.detail = serde_json::to_value(against(board, choices, clash, None)).ok();
    diagnostic
}

/// How many rules are named where nothing was decided.
const RULES_NAMED: usize = 8;

/// Tells that nobody knows whether choices can hold together, and which rules make it hard.
fn undecided(board: &Board, clash: &Clash) -> Diagnostic {
    let steps = match clash.verdict {
        Verdict::NotDecided { steps } => steps,
        Verdict::Impossible => 0,
    };
    let mut diagnostic = Diagnostic::new(format!(
        "whether these choices can hold together was not decided within {steps} steps: no values were found, and no proof that \
         there are none"
    ));
    for rule in clash.rules.iter().take(RULES_NAMED) {
        diagnostic = diagnostic.note(format!("a hard rule: {}", rule_words(board, *rule)));
    }
    if let Some(more) = clash.rules.len().checked_sub(RULES_NAMED).filter(|more| *more > 0) {
        diagnostic = diagnostic.note(format!("and {more} more rules of these options"));
    }
    diagnostic
}

/// Says where a choice was made.
fn chosen_line(board: &Board, choices: &Choices, choice: &Choice) -> String {
    let at = chosen_at(choices, choice.layer, choice.place, choice.reason.as_ref());
    format!("{}={} is chosen {at}", board.options[choice.option].name, choice.value)
}

/// Tells what stands against a value that was only tried: the other choices, and the steps.
pub fn standing_against(board: &Board, choices: &Choices, tried: OptionId, clash: &Clash) -> Vec<String> {
    if let Verdict::NotDecided { steps } = clash.verdict {
        return vec![format!("whether it can was not decided within {steps} steps")];
    }
    let others = clash.choices.iter().filter(|choice| choice.option != tried);
    others.map(|choice| chosen_line(board, choices, choice)).chain(proof_lines(board, &clash.proof)).collect()
}

fn way_out(diagnostic: Diagnostic, board: &Board, choices: &Choices, choice: &Choice) -> Diagnostic {
    let option = &board.options[choice.option];
    let name = &option.name;
    let own =
        choices.layers.iter().filter(|(_, layer)| layer.source == ProfileSource::Own).map(|(id, _)| id).next_back();
    match choices.layers[choice.layer].source {
        ProfileSource::Kit => {
            diagnostic.help(format!("{name}={} is as the tree was built that this kit is of", choice.value))
        }
        ProfileSource::Once => diagnostic.help(format!("leave out {name}={}", choice.value)),
        // What a layer below chooses can only be chosen otherwise.
        ProfileSource::Own | ProfileSource::Shipped if own.is_some_and(|own| own != choice.layer) => {
            if option.kind.is_on_off() && !choice.value.is_off() {
                diagnostic.next(format!("boltboard set {name}=off"), "do without it")
            } else {
                diagnostic.next(format!("boltboard show {name}"), "what else it accepts")
            }
        }
        ProfileSource::Own | ProfileSource::Shipped => {
            diagnostic.next(format!("boltboard unset {name}"), "give up this choice")
        }
    }
}
