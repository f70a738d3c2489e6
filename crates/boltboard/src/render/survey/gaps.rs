//! The gaps: what each stops, what is lost, and at the end what to type.

use boltboard_core::base::{Severity, shell_word};
use boltboard_core::board::Provider;
use boltboard_core::checks::Package;
use boltboard_core::remedy::{Cost, CostFault, Gap, Lost, Stops, install_command};

use super::{Survey, Target, trouble, wanted_by};
use crate::fault::Next;
use crate::render::text::{Cell, Role, bytes, columns_within, command_lines, count, next_lines, paint, wrap};

/// From this many gaps on, those that stop nothing get a line each: what stops somebody must not scroll away.
const MANY: usize = 8;

/// All gaps by what they stop, then the commands that help. What stops most stands last, next to where people look.
pub(super) fn sections(survey: &Survey<'_>, width: usize) -> String {
    let mut text = String::new();
    for (stops, title, role) in [
        (Stops::Nothing, "Not met, and nothing needs it now", Role::Faint),
        (Stops::Options, "Blocks options", Role::Warn),
        (Stops::Chosen, "Stops what you chose", Role::Bad),
        (Stops::Everything, "Stops every build", Role::Bad),
    ] {
        let gaps: Vec<(usize, &Gap)> = survey.gaps.iter().enumerate().filter(|(_, gap)| gap.stops == stops).collect();
        if gaps.is_empty() {
            continue;
        }
        let number = count(gaps.len(), "need", "needs");
        text.push_str(&format!("\n{} {}\n", paint(role, title), paint(Role::Faint, &format!("({number})"))));
        if stops >= Stops::Options && survey.gaps.len() > MANY {
            text.push_str(&brief(survey, &gaps, width));
            continue;
        }
        let widest = gaps.iter().map(|(_, gap)| survey.name(gap.need).len()).max().unwrap_or(0).min(24);
        for (index, gap) in gaps {
            let cost = survey.costs.get(index).and_then(Option::as_ref);
            text.push_str(&one(survey, gap, cost, widest, width));
        }
    }
    text.push_str(&commands(survey, width));
    text
}

/// A line for each gap: what it is, what is off for it, what brings it.
fn brief(survey: &Survey<'_>, gaps: &[(usize, &Gap)], width: usize) -> String {
    let mut rows: Vec<Vec<Cell>> = vec![
        ["need", "state", "blocked", "package or next command"].map(|head| (Role::Faint, head.to_string())).to_vec(),
    ];
    for (index, gap) in gaps {
        let lost = gap.lost.iter().map(|lost| survey.board.options[lost.option].name.clone());
        let wanted = wanted_by(survey.board, gap.need);
        let lost: Vec<String> = if gap.lost.is_empty() { wanted } else { lost.collect() };
        let cost = survey.costs.get(*index).and_then(Option::as_ref);
        let cost = cost.map_or(String::new(), |cost| format!(" ({})", cost_line(cost)));
        let help = match (gap.packages.is_empty(), gap.providers.first()) {
            (false, _) => format!("{}{cost}", Package::joined(&gap.packages)),
            (true, Some(provider)) => {
                format!("→ boltboard set need:{}={}", survey.name(gap.need), provider.text(survey.board))
            }
            (true, None) => format!("→ boltboard survey {}", survey.name(gap.need)),
        };
        rows.push(vec![
            (Role::Name, survey.name(gap.need).to_string()),
            (Role::Warn, state_of(survey, gap)),
            (Role::Faint, lost.join(", ")),
            (if gap.packages.is_empty() { Role::Faint } else { Role::Good }, help),
        ]);
    }
    columns_within(&rows, 2, width, 34)
}

/// What is wrong with a need, for a place next to its name.
fn state_of(survey: &Survey<'_>, gap: &Gap) -> String {
    let state = survey.facts.get(gap.need).map_or(String::new(), |fact| trouble(survey.board, fact));
    state.strip_prefix("is ").map_or(state.clone(), str::to_string)
}

type Asked = Result<Cost, CostFault>;

fn one(survey: &Survey<'_>, gap: &Gap, cost: Option<&Asked>, widest: usize, width: usize) -> String {
    let (board, need) = (survey.board, gap.need);
    let definition = &board.needs[need];
    let state = state_of(survey, gap);
    let name = format!("{:<widest$}", definition.name);
    let room = width.saturating_sub(widest + 4);
    let role = if gap.stops.severity() == Severity::Error { Role::Bad } else { Role::Warn };
    // Whether there is room for what the need is, on the line that says what is wrong.
    let summary = format!(" · {}", definition.summary);
    let with_summary = !definition.summary.is_empty() && state.chars().count() + summary.chars().count() <= room;
    let faint = if with_summary { paint(Role::Faint, &summary) } else { String::new() };
    let mut text = String::new();
    let lines = wrap(&state, room);
    for (number, line) in lines.iter().enumerate() {
        let label = if number == 0 { paint(Role::Name, &name) } else { " ".repeat(widest) };
        let faint = if number + 1 == lines.len() { faint.as_str() } else { "" };
        text.push_str(&format!("  {label}  {}{faint}\n", paint(role, line)));
    }
    let mut add = |label: &str, words: String, role: Role| {
        let full = format!("{label} {words}");
        for line in wrap(&full, room) {
            text.push_str(&format!("{}{}\n", " ".repeat(widest + 4), paint(role, &line)));
        }
    };
    if !with_summary && !definition.summary.is_empty() {
        add("it is for", definition.summary.clone(), Role::Faint);
    }
    let lost: Vec<String> = gap.lost.iter().map(|lost| lost_words(survey, lost)).collect();
    if !lost.is_empty() {
        add("without it", lost.join("; "), Role::Faint);
    } else {
        let wanted = wanted_by(board, need);
        if !wanted.is_empty() {
            add("needed by", wanted.join(", "), Role::Faint);
        }
    }
    if let Some(first) = &gap.first_copy {
        let text = format!("{} comes before what a package installs", first.display());
        add("found first:", text, Role::Faint);
    }
    let mut next: Vec<Next> = Vec::new();
    if let Some(command) = install_command(&survey.here, &gap.packages, survey.as_root) {
        let cost = cost.map_or_else(|| "install it".to_string(), |cost| format!("install it: {}", cost_line(cost)));
        next.push(Next::new(command, cost));
    }
    next.extend(gap.providers.iter().map(|provider| {
        let text = shell_word(&format!("need:{}={}", definition.name, provider.text(board)));
        match provider {
            Provider::System if gap_is_switched_off(survey, gap) => {
                Next::new(format!("boltboard unset need:{}", definition.name), "use the copy of this host")
            }
            Provider::Bundled => Next::new(format!("boltboard set {text}"), "build the tree's own copy"),
            _ => Next::new(format!("boltboard set {text}"), "use this instead"),
        }
    }));
    let off = do_without(survey, gap);
    if !off.is_empty() {
        next.push(Next::new(format!("boltboard set {}", off.join(" ")), "do without it"));
    }
    if let Some(command) = install_command(&survey.here, &gap.packages_if_newer, survey.as_root) {
        next.push(Next::new(command, "if that version is newer"));
        if definition.can_come_from_a_folder() {
            add(
                "or get a newer copy yourself, and",
                format!("set need:{} to its folder", definition.name),
                Role::Faint,
            );
        }
    } else if gap.packages.is_empty() && gap.installable && next.is_empty() && gap.first_copy.is_none() {
        let words = package_elsewhere(survey, gap);
        wrap(&words, room).iter().for_each(|line| {
            text.push_str(&format!("{}{}\n", " ".repeat(widest + 4), paint(Role::Faint, line)));
        });
    }
    next.push(Next::new(format!("boltboard survey {}", definition.name), "what was tried"));
    text.push_str(&next_lines(&next, widest + 4));
    text
}

fn gap_is_switched_off(survey: &Survey<'_>, gap: &Gap) -> bool {
    use boltboard_core::survey::{FactState, Missing};
    let state = survey.facts.get(gap.need).map(|fact| &fact.state);
    matches!(state, Some(FactState::Missing(Missing::SwitchedOff { .. })))
}

/// What is said of a need whose package is not known here.
fn package_elsewhere(survey: &Survey<'_>, gap: &Gap) -> String {
    let named = &survey.board.needs[gap.need].packages;
    if named.is_empty() {
        return "no package is known for it".to_string();
    }
    let names: Vec<String> =
        named.iter().map(|(family, packages)| format!("{} ({family})", Package::joined(packages))).collect();
    format!("its package is {}", names.join(", "))
}

/// Says what an option loses.
fn lost_words(survey: &Survey<'_>, lost: &Lost) -> String {
    let name = &survey.board.options[lost.option].name;
    if lost.chosen {
        format!("{name}={}, which you chose, cannot hold", lost.would_be)
    } else {
        format!("{name} is {} instead of {}", lost.is, lost.would_be)
    }
}

fn do_without(survey: &Survey<'_>, gap: &Gap) -> Vec<String> {
    gap.switch_off.iter().map(|(option, value)| format!("{}={value}", survey.board.options[*option].name)).collect()
}

/// The one command that makes do without everything that stops what is chosen.
pub fn do_without_command(survey: &Survey<'_>) -> Option<String> {
    let errors = survey.gaps.iter().filter(|gap| gap.stops == Stops::Chosen);
    let mut words: Vec<String> = errors.flat_map(|gap| do_without(survey, gap)).collect();
    let mut seen = std::collections::BTreeSet::new();
    words.retain(|word| seen.insert(word.clone()));
    (!words.is_empty()).then(|| format!("boltboard set {}", words.join(" ")))
}

fn commands(survey: &Survey<'_>, width: usize) -> String {
    let mut text = String::new();
    if survey.gaps.is_empty() {
        return text;
    }
    let installable = survey.gaps.iter().filter(|gap| !gap.packages.is_empty()).count();
    let errors = || survey.gaps.iter().filter(|gap| gap.stops.severity() == Severity::Error);
    let first: Vec<Package> = errors().flat_map(|gap| gap.packages.clone()).collect();
    let rest = survey.gaps.iter().any(|gap| gap.stops >= Stops::Options && !gap.packages.is_empty());
    let first = install_command(&survey.here, &first, survey.as_root).filter(|_| rest);
    if let Some(command) = first {
        text.push_str(&format!("\n{}\n", paint(Role::Title, "To install what stops you")));
        text.push_str(&command_lines("  → ", &command, width));
    }
    if let Some(install) = survey.install() {
        let what = match (installable, survey.gaps.len()) {
            (1, 1) => "To install it".to_string(),
            (some, all) if some == all => format!("To install everything ({all} needs)"),
            (some, all) => format!("To install all that has a package ({some} of {all} needs)"),
        };
        text.push_str(&format!("\n{}\n", paint(Role::Title, &what)));
        text.push_str(&command_lines("  → ", &install, width));
        match &survey.cost {
            Some(cost) => text.push_str(&format!("  {}\n", paint(Role::Faint, &cost_line(cost)))),
            None => {
                let next = Next::new("boltboard survey --cost", "what that costs in packages and disk space");
                text.push_str(&next_lines(&[next], 2));
            }
        }
    }
    if let Some(Ok(cost)) = &survey.cost {
        let asked = survey.packages();
        let more: Vec<&str> = cost.packages.iter().filter(|p| !asked.contains(p)).map(Package::as_str).collect();
        if !more.is_empty() {
            for line in wrap(&format!("installs also: {}", more.join(" ")), width.saturating_sub(2)) {
                text.push_str(&format!("  {}\n", paint(Role::Faint, &line)));
            }
        }
    }
    if let Some(command) = do_without_command(survey) {
        text.push_str(&format!("\n{}\n", paint(Role::Title, "To do without what stops you")));
        text.push_str(&command_lines("  → ", &command, width));
    }
    let lacks_package = |gap: &&Gap| {
        gap.first_copy.is_none() && gap.packages.is_empty() && gap.packages_if_newer.is_empty() && gap.installable
    };
    let unknown = survey.gaps.iter().filter(lacks_package);
    let names: Vec<&str> = unknown.map(|gap| survey.name(gap.need)).collect();
    if !names.is_empty() {
        let why = match (survey.here.family, survey.target_is) {
            (Some(_), _) => "No package is known for".to_string(),
            (None, Target::Another) => {
                format!("Programs are made for {}, so there is no install command for", survey.target)
            }
            (None, Target::ThisMachine) => {
                "This distribution is not known, so there is no install command for".to_string()
            }
        };
        text.push('\n');
        for line in wrap(&format!("{why} {}.", names.join(", ")), width) {
            text.push_str(&format!("{}\n", paint(Role::Faint, &line)));
        }
        let next: Vec<Next> =
            names.iter().take(1).map(|name| Next::new(format!("boltboard survey {name}"), "what was tried")).collect();
        text.push_str(&next_lines(&next, 0));
    }
    text
}

/// Says what packages take.
pub fn cost_line(cost: &Result<Cost, CostFault>) -> String {
    match cost {
        Ok(cost) => {
            let packages = count(cost.packages.len(), "package", "packages");
            let fetch = cost.download_bytes.map_or(String::new(), |size| format!(", {} to download", bytes(size)));
            let disk = cost.disk_bytes.map_or(String::new(), |size| format!(", {} on disk", bytes(size)));
            format!("{packages}{fetch}{disk}")
        }
        Err(fault) => format!("the cost is not known: {fault}"),
    }
}
