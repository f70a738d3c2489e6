//! All about one need: the places searched, the check program, the command, the compiler's words.

use boltboard_core::base::shell_word;
use boltboard_core::board::Provider;
use boltboard_core::checks::Package;
use boltboard_core::profile::ProfileSource;
use boltboard_core::survey::{CopyRank, Evidence, Fact};

use super::{Survey, cost_line, labelled, state_words, trouble, wanted_by};
use crate::fault::Next;
use crate::render::text::{Role, next_lines, paint, wrap};

/// Tells everything about one need.
pub fn evidence(survey: &Survey<'_>, fact: &Fact, width: usize) -> String {
    let (board, need) = (survey.board, fact.need);
    let definition = &board.needs[need];
    let (role, _) = state_words(board, fact);
    let title = paint(Role::Title, &definition.name);
    let mut text = format!("{title}  {}\n  {}\n", definition.summary, paint(role, &trouble(board, fact)));
    let mut rows: Vec<(&str, String)> = Vec::new();
    if let Some(range) = &definition.version {
        rows.push(("versions that fit", range.to_string()));
    }
    if let Some(found) = fact.found() {
        rows.extend(found.place.iter().map(|place| ("place", place.display().to_string())));
        for (label, flags) in [("compile flags", &found.compile_flags), ("link flags", &found.link_flags)] {
            if !flags.is_empty() {
                rows.push((label, flags.join(" ")));
            }
        }
    }
    if let Some(chosen) = survey.choices.providers.get(&need) {
        let place = survey.choices.files.excerpt(chosen.place);
        let place = match survey.choices.layers[chosen.layer].source {
            ProfileSource::Once => "on the command line".to_string(),
            ProfileSource::Kit => "when the tree was built that this kit is of".to_string(),
            ProfileSource::Own | ProfileSource::Shipped => format!("in {}, line {}", place.file, place.line),
        };
        let reason = chosen.reason.as_ref().map_or(String::new(), |reason| format!(" (\"{reason}\")"));
        rows.push(("provider", format!("{}, chosen {place}{reason}", chosen.provider.text(board))));
    }
    let wanted = wanted_by(board, need);
    if !wanted.is_empty() {
        rows.push(("needed by", wanted.join(", ")));
    }
    text.push_str(&labelled(&rows, 2, width));
    if fact.copies.len() > 1 {
        text.push_str(&copies(fact));
    }
    for evidence in &fact.evidence {
        text.push_str(&tried(evidence, width));
    }
    if let Some((index, gap)) = survey.gaps.iter().enumerate().find(|(_, gap)| gap.need == need) {
        let mut next: Vec<Next> = Vec::new();
        let install =
            |packages: &[Package]| boltboard_core::remedy::install_command(&survey.here, packages, survey.as_root);
        next.extend(install(&gap.packages).map(|command| Next::new(command, "install it")));
        next.extend(install(&gap.packages_if_newer).map(|command| Next::new(command, "if that version is newer")));
        next.extend(gap.providers.iter().map(|provider| {
            let asked = shell_word(&format!("need:{}={}", definition.name, provider.text(board)));
            Next::new(format!("boltboard set {asked}"), "use this one")
        }));
        let off = gap.switch_off.iter().map(|(option, value)| format!("{}={value}", board.options[*option].name));
        let off: Vec<String> = off.collect();
        if !off.is_empty() {
            next.push(Next::new(format!("boltboard set {}", off.join(" ")), "do without it"));
        }
        if !next.is_empty() {
            text.push_str(&format!("{}\n", paint(Role::Title, "Ways out")));
        }
        text.push_str(&next_lines(&next, 2));
        if let Some(Some(cost)) = survey.costs.get(index) {
            text.push_str(&format!("  {}\n", paint(Role::Faint, &cost_line(cost))));
            if let Ok(cost) = cost {
                let chain = Package::joined(&cost.packages);
                wrap(&chain, width.saturating_sub(4)).iter().for_each(|line| text.push_str(&format!("    {line}\n")));
            }
        }
    }
    text
}

fn copies(fact: &Fact) -> String {
    let mut text = format!("{}\n", paint(Role::Title, "Copies on this host"));
    let pinned = matches!(fact.provider, Some(Provider::Folder(_)));
    for copy in &fact.copies {
        let version = copy.version.as_ref().map_or(String::new(), |version| format!(", version {version}"));
        let (role, why) = match copy.rank {
            CopyRank::InUse if pinned => (Role::Good, "in use: the folder that you chose"),
            CopyRank::InUse => (Role::Good, "in use: first in the order of searching"),
            CopyRank::Later => (Role::Faint, "later in the order of searching"),
            CopyRank::Aside => (Role::Faint, "in a folder that is not searched by default"),
        };
        text.push_str(&format!("  {}{version}  {}\n", copy.place.display(), paint(role, why)));
    }
    text
}

fn tried(evidence: &Evidence, width: usize) -> String {
    let mut text = String::new();
    let title = match (&evidence.command, evidence.tried.starts_with("wh")) {
        (Some(_), true) => "Asked",
        (Some(_), false) => "Asked for",
        (None, _) => "Looked for",
    };
    for (number, line) in wrap(&format!("{title} {}", evidence.tried), width.saturating_sub(2)).iter().enumerate() {
        text.push_str(&format!("{}{line}\n", if number == 0 { "" } else { "  " }));
    }
    wrap(&evidence.found, width.saturating_sub(2))
        .iter()
        .for_each(|line| text.push_str(&format!("  {}\n", paint(Role::Value, line))));
    if let Some(command) = &evidence.command {
        text.push_str(&format!("  {} {command}\n", paint(Role::Faint, "command:")));
    }
    if let Some(program) = &evidence.program {
        text.push_str(&format!("  {}\n", paint(Role::Faint, "program:")));
        program.lines().for_each(|line| text.push_str(&format!("    {line}\n")));
    }
    if !evidence.words.is_empty() {
        text.push_str(&format!("  {}\n", paint(Role::Faint, "answer:")));
        evidence.words.iter().for_each(|line| text.push_str(&format!("    {line}\n")));
    }
    text
}
