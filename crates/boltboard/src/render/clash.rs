//! Clashing choices, told as steps that a person can follow.

use boltboard_core::board::{Board, RuleKind};
use boltboard_core::profile::Choices;
use boltboard_core::resolve::Clash;

use super::survey::install_command;
use crate::exit::Diagnostic;
use crate::session::distribution;

/// Tells each clash: the choices, what links them, the ways out.
pub fn clash_diagnostics(board: &Board, choices: &Choices, clashes: &[Clash]) -> Vec<Diagnostic> {
    clashes.iter().map(|clash| one(board, choices, clash)).collect()
}

fn one(board: &Board, choices: &Choices, clash: &Clash) -> Diagnostic {
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
        diagnostic = diagnostic.note(format!(
            "{} = {} is chosen in {}, line {}{reason}",
            option.name, choice.value, place.file, place.line
        ));
    }
    for rule in &clash.rules {
        let rule = &board.rules[*rule];
        let place = board.files.excerpt(rule.place);
        let name = &board.options[rule.option].name;
        let subject = rule.value.as_ref().map_or_else(|| name.clone(), |value| format!("{name} = {value}"));
        let verb = match rule.kind {
            RuleKind::Requires | RuleKind::Conflicts => "requires",
            RuleKind::Needs => "needs",
        };
        diagnostic =
            diagnostic.note(format!("{subject} {verb} {}  ({}:{})", board.print(&rule.must), place.file, place.line));
    }
    if let Some(command) = install_command(board, &lacking, &distribution()) {
        diagnostic = diagnostic.help(format!("install what is missing: {command}"));
    }
    for need in &lacking {
        diagnostic = diagnostic.help(format!("see what was looked for: boltboard survey {need}"));
    }
    for choice in &clash.choices {
        diagnostic =
            diagnostic.help(format!("give up this choice: boltboard unset {}", board.options[choice.option].name));
    }
    diagnostic
}
