//! What this host does not meet: a compiler that cannot be used, a need that is not met, a choice that it refuses.

use boltboard_core::base::{Place, shell_word};
use boltboard_core::board::{NEED_PREFIX, NeedId, Provider};
use boltboard_core::checks::Package;
use boltboard_core::profile::{Choices, ProfileSource};
use boltboard_core::remedy;
use boltboard_core::session::{CompilerGap, Refused, Session};
use boltboard_core::survey::{FactState, Facts, Missing, Presence};

use super::{Diagnostic, Exit, FaultKind, Stop};
use crate::render::survey::trouble;

/// Says where something was chosen: `in the profile mine, line 8`, with the reason given.
pub fn chosen_at(
    choices: &Choices,
    layer: boltboard_core::profile::LayerId,
    place: Place,
    reason: Option<&String>,
) -> String {
    let reason = reason.map_or(String::new(), |reason| format!(" (\"{reason}\")"));
    let layer = &choices.layers[layer];
    match layer.source {
        ProfileSource::Once => format!("on the command line{reason}"),
        ProfileSource::Kit => {
            format!(
                "when the tree was built that this kit is of ({}:{})",
                layer.name,
                choices.files.excerpt(place).line
            )
        }
        ProfileSource::Own | ProfileSource::Shipped => {
            format!("in the profile {}, line {}{reason}", layer.name, choices.files.excerpt(place).line)
        }
    }
}

/// Tells of a compiler that cannot be used: why, who chose it, which there are.
pub fn compiler_diagnostic(session: &Session, choices: &Choices, gap: &CompilerGap) -> Diagnostic {
    let mut diagnostic = Diagnostic::new(gap.fault.clone());
    let chosen = gap.option.and_then(|option| choices.get(option));
    if let Some(choice) = chosen {
        let at = chosen_at(choices, choice.layer, choice.place, choice.reason.as_ref());
        let name = &session.board.options[choice.option].name;
        diagnostic = diagnostic.note(format!("{name}={} is chosen {at}", choice.value));
    }
    let here: Vec<String> = gap.here.iter().map(|names| names.join(" = ")).collect();
    if !here.is_empty() {
        diagnostic = diagnostic.note(format!("C compilers on this host: {}", here.join(", ")));
    }
    if let Some(choice) = chosen {
        let name = &session.board.options[choice.option].name;
        if choices.layers[choice.layer].source == ProfileSource::Own {
            diagnostic = diagnostic.next(format!("boltboard unset {name}"), "use the tree's own default");
        }
        if let Some(one) = gap.here.first().and_then(|names| names.first()) {
            diagnostic = diagnostic.next(format!("boltboard set {name}={one}"), "use this one");
        }
    } else if gap.here.is_empty() {
        let gcc = session.around.distribution().family.map(|_| Package::all_of("gcc")).unwrap_or_default();
        let command = remedy::install_command(&session.around.distribution(), &gcc, boltboard_core::session::as_root());
        if let Some(command) = command {
            diagnostic = diagnostic.next(command, "install a C compiler");
        }
    }
    diagnostic.next("boltboard survey --toolchains", "the compilers of this host")
}

/// Adds what is wrong with each of these needs, and what helps.
pub fn needed(
    mut diagnostic: Diagnostic,
    session: &Session,
    choices: &Choices,
    facts: &Facts,
    needs: &[NeedId],
) -> Diagnostic {
    let board = &session.board;
    for need in needs {
        let Some(fact) = facts.get(*need) else { continue };
        let name = &board.needs[*need].name;
        let mut note = format!("{name} {}", trouble(board, fact));
        if let Some(chosen) = choices.providers.get(need) {
            let at = chosen_at(choices, chosen.layer, chosen.place, chosen.reason.as_ref());
            note.push_str(&format!("; {NEED_PREFIX}{name}={} is chosen {at}", chosen.provider.text(board)));
        }
        if let Some(first) = remedy::first_copy_aside(fact) {
            note.push_str(&format!("; {} is found first, before what a package installs", first.display()));
        }
        diagnostic = diagnostic.note(note);
    }
    let names: Vec<String> = needs.iter().map(|need| board.needs[*need].name.clone()).collect();
    if let Some(command) = session.install_command(facts, &names) {
        diagnostic = diagnostic.next(command, "install what is missing");
    }
    for need in needs {
        let Some(fact) = facts.get(*need) else { continue };
        let name = &board.needs[*need].name;
        let switched_off = matches!(fact.state, FactState::Missing(Missing::SwitchedOff { .. }));
        let own = |layer| choices.layers[layer].source == ProfileSource::Own;
        match choices.providers.get(need) {
            Some(chosen) if switched_off && own(chosen.layer) => {
                let there =
                    matches!(fact.state, FactState::Missing(Missing::SwitchedOff { there: Presence::There(_) }));
                let gives = if there { "use the copy of this host" } else { "look for it on this host again" };
                diagnostic = diagnostic.next(format!("boltboard unset {NEED_PREFIX}{name}"), gives);
            }
            Some(_) if switched_off => {
                diagnostic =
                    diagnostic.next(format!("boltboard set {NEED_PREFIX}{name}=system"), "use the copy of this host");
            }
            _ => {}
        }
        for provider in remedy::providers(board, facts, fact).iter().filter(|provider| **provider != Provider::System) {
            let gives = match provider {
                Provider::Bundled => "build the tree's own copy",
                Provider::Need(_) => "use this instead",
                _ => "use this copy",
            };
            let text = shell_word(&format!("{NEED_PREFIX}{name}={}", provider.text(board)));
            diagnostic = diagnostic.next(format!("boltboard set {text}"), gives);
        }
        diagnostic = diagnostic.next(format!("boltboard survey {name}"), "what was tried, and all ways out");
    }
    diagnostic
}

/// Tells of a choice that this host refuses.
pub fn refused(session: &Session, choices: &Choices, refused: &Refused) -> Stop {
    match refused {
        Refused::Compiler(gap) => {
            let mut diagnostic = compiler_diagnostic(session, choices, gap);
            // What is not recorded cannot be taken back.
            diagnostic.next.retain(|next| !next.command.starts_with("boltboard unset"));
            Stop::new(Exit::HostLacks, diagnostic)
        }
        Refused::NoFolder(folder) => {
            Stop::new(Exit::WrongUse, Diagnostic::new(format!("there is no folder {}", folder.display())))
        }
        Refused::NotAbsolute { option, place } => {
            let name = &session.board.options[*option].name;
            let what = if place.is_empty() { "an empty text".to_string() } else { format!("`{place}`") };
            let diagnostic = Diagnostic::new(format!("{name} must be an absolute path, and {what} is none"));
            let whole = session.around.folder.join(place);
            let next = shell_word(&format!("{name}={}", whole.display()));
            let next = (!place.is_empty()).then(|| format!("boltboard set {next}"));
            let told = next.into_iter().fold(diagnostic, |told, next| told.next(next, "choose it as seen from here"));
            Stop::new(Exit::WrongUse, told.next(format!("boltboard show {name}"), "what it is for"))
        }
    }
    .kind(FaultKind::Host)
}
