//! The gaps: what each stops, what is lost, and at the end what to type.

use boltboard_core::board::Provider;
use boltboard_core::remedy::{Gap, Gravity, Lost, Price, PriceFault, install_command};

use super::{Survey, Target, trouble, wanted_by};
use crate::render::text::{Cell, Role, bytes, clip, columns_within, count, paint, wrap};

/// From this many gaps on, those that stop nothing get a line each: what stops somebody must not scroll away.
const MANY: usize = 8;

/// All gaps by gravity, then the commands that help. The gravest stand last, next to where people look.
pub(super) fn sections(survey: &Survey<'_>, width: usize) -> String {
    let mut text = String::new();
    for (gravity, title, role) in [
        (Gravity::Unwanted, "Missing, and nothing wants it now", Role::Faint),
        (Gravity::HoldsOff, "Holds options off", Role::Warn),
        (Gravity::StopsChosen, "Stops what you chose", Role::Bad),
        (Gravity::StopsAll, "Stops every build", Role::Bad),
    ] {
        let gaps: Vec<(usize, &Gap)> =
            survey.gaps.iter().enumerate().filter(|(_, gap)| gap.gravity == gravity).collect();
        if gaps.is_empty() {
            continue;
        }
        let number = count(gaps.len(), "need", "needs");
        text.push_str(&format!("\n{} {}\n", paint(role, title), paint(Role::Faint, &format!("({number})"))));
        if gravity >= Gravity::HoldsOff && survey.gaps.len() > MANY {
            text.push_str(&brief(survey, &gaps, width));
            continue;
        }
        let widest = gaps.iter().map(|(_, gap)| survey.name(gap.need).len()).max().unwrap_or(0).min(24);
        for (index, gap) in gaps {
            let price = survey.prices.get(index).and_then(Option::as_ref);
            text.push_str(&one(survey, gap, price, widest, width));
        }
    }
    text.push_str(&commands(survey, width));
    text
}

/// A line for each gap: what it is, what is off for it, what brings it.
fn brief(survey: &Survey<'_>, gaps: &[(usize, &Gap)], width: usize) -> String {
    let mut rows: Vec<Vec<Cell>> =
        vec![["need", "state", "off without it", "what helps"].map(|head| (Role::Faint, head.to_string())).to_vec()];
    for (index, gap) in gaps {
        let lost = gap.lost.iter().map(|lost| survey.board.options[lost.option].name.clone());
        let wanted = wanted_by(survey.board, gap.need);
        let lost: Vec<String> = if gap.lost.is_empty() { wanted } else { lost.collect() };
        let price = survey.prices.get(*index).and_then(Option::as_ref);
        let price = price.map_or(String::new(), |price| format!(" ({})", price_line(price)));
        let help = match (gap.packages.is_empty(), gap.providers.first()) {
            (false, _) => format!("{}{price}", gap.packages.join(" ")),
            (true, Some(provider)) => {
                format!("boltboard set need:{}={}", survey.name(gap.need), provider.text(survey.board))
            }
            (true, None) => format!("boltboard survey {}", survey.name(gap.need)),
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

type Asked = Result<Price, PriceFault>;

fn one(survey: &Survey<'_>, gap: &Gap, price: Option<&Asked>, widest: usize, width: usize) -> String {
    let (board, need) = (survey.board, gap.need);
    let definition = &board.needs[need];
    let state = state_of(survey, gap);
    let name = format!("{:<widest$}", definition.name);
    let room = width.saturating_sub(widest + 4);
    let role = if gap.gravity <= Gravity::StopsChosen { Role::Bad } else { Role::Warn };
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
    let lost: Vec<String> = gap.lost.iter().map(|lost| lost_words(survey, lost)).collect();
    if !lost.is_empty() {
        add("without it", lost.join("; "), Role::Faint);
    } else {
        let wanted = wanted_by(board, need);
        if !wanted.is_empty() {
            add("wanted by", wanted.join(", "), Role::Faint);
        }
    }
    let mut ways: Vec<String> = Vec::new();
    if !gap.packages.is_empty() {
        let way = install_command(&survey.here, &gap.packages, survey.as_root).unwrap_or_default();
        let price = price.map_or(String::new(), |price| format!("  ({})", price_line(price)));
        ways.push(format!("{way}{price}"));
    }
    ways.extend(gap.providers.iter().map(|provider| {
        let text = provider.text(board);
        match provider {
            Provider::System if gap_is_switched_off(survey, gap) => format!("boltboard unset need:{}", definition.name),
            _ => format!("boltboard set need:{}={text}", definition.name),
        }
    }));
    let off = do_without(survey, gap);
    ways.extend((!off.is_empty()).then(|| format!("boltboard set {}", off.join(" "))));
    for way in ways {
        let line = clip(&format!("→ {way}"), room.max(20));
        text.push_str(&format!("{}{}\n", " ".repeat(widest + 4), paint(Role::Good, &line)));
    }
    let mut remark = |words: &str| {
        for line in wrap(&format!("→ {words}"), room) {
            text.push_str(&format!("{}{}\n", " ".repeat(widest + 4), paint(Role::Faint, &line)));
        }
    };
    if let Some(command) = install_command(&survey.here, &gap.packages_if_newer, survey.as_root) {
        let own = format!("; or a copy of your own: boltboard set need:{}=/FOLDER", definition.name);
        let own = if definition.can_come_from_a_folder() { own } else { String::new() };
        remark(&format!("{command}, if that is newer{own}"));
    } else if gap.packages.is_empty() && gap.installable {
        remark(&package_elsewhere(survey, gap));
    }
    remark(&format!("what was tried: boltboard survey {}", definition.name));
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
        return "no package of it is known".to_string();
    }
    let names: Vec<String> = named.iter().map(|(family, package)| format!("{package} ({family})")).collect();
    format!("its package is {}", names.join(", "))
}

/// Says what an option loses.
fn lost_words(survey: &Survey<'_>, lost: &Lost) -> String {
    let name = &survey.board.options[lost.option].name;
    if lost.chosen {
        format!("{name}={}, which you chose, cannot be had", lost.would_be)
    } else {
        format!("{name} is {} instead of {}", lost.is, lost.would_be)
    }
}

fn do_without(survey: &Survey<'_>, gap: &Gap) -> Vec<String> {
    gap.switch_off.iter().map(|(option, value)| format!("{}={value}", survey.board.options[*option].name)).collect()
}

/// The one command that makes do without everything that stops what is chosen.
pub fn do_without_command(survey: &Survey<'_>) -> Option<String> {
    let grave = survey.gaps.iter().filter(|gap| gap.gravity == Gravity::StopsChosen);
    let mut words: Vec<String> = grave.flat_map(|gap| do_without(survey, gap)).collect();
    let mut seen = std::collections::BTreeSet::new();
    words.retain(|word| seen.insert(word.clone()));
    (!words.is_empty()).then(|| format!("boltboard set {}", words.join(" ")))
}

/// Says how grave a gap is, for machines.
pub fn gravity_word(gravity: Gravity) -> &'static str {
    match gravity {
        Gravity::StopsAll => "stops-all",
        Gravity::StopsChosen => "stops-chosen",
        Gravity::HoldsOff => "holds-off",
        Gravity::Unwanted => "unwanted",
    }
}

fn commands(survey: &Survey<'_>, width: usize) -> String {
    let mut text = String::new();
    if survey.gaps.is_empty() {
        return text;
    }
    let installable = survey.gaps.iter().filter(|gap| !gap.packages.is_empty()).count();
    let grave = || survey.gaps.iter().filter(|gap| gap.gravity <= Gravity::StopsChosen);
    let first: Vec<String> = grave().flat_map(|gap| gap.packages.clone()).collect();
    let rest = survey.gaps.iter().any(|gap| gap.gravity >= Gravity::HoldsOff && !gap.packages.is_empty());
    let first = install_command(&survey.here, &first, survey.as_root).filter(|_| rest);
    if let Some(command) = first {
        text.push_str(&format!("\n{}\n", paint(Role::Title, "To get what stops you")));
        text.push_str(&command_lines(&command, width));
    }
    if let Some(install) = survey.install() {
        let what = match (installable, survey.gaps.len()) {
            (1, 1) => "To get it".to_string(),
            (some, all) if some == all => format!("To get everything ({all} needs)"),
            (some, all) => format!("To get everything that a package brings ({some} of {all} needs)"),
        };
        text.push_str(&format!("\n{}\n", paint(Role::Title, &what)));
        text.push_str(&command_lines(&install, width));
        let price = survey.price.as_ref().map(price_line);
        let price = price.unwrap_or_else(|| "what that takes in packages and disk: boltboard survey --price".into());
        text.push_str(&format!("  {}\n", paint(Role::Faint, &price)));
    }
    if let Some(Ok(price)) = &survey.price {
        let asked = survey.packages();
        let more: Vec<&str> = price.packages.iter().filter(|p| !asked.contains(p)).map(String::as_str).collect();
        if !more.is_empty() {
            for line in wrap(&format!("brings along: {}", more.join(" ")), width.saturating_sub(2)) {
                text.push_str(&format!("  {}\n", paint(Role::Faint, &line)));
            }
        }
    }
    if let Some(command) = do_without_command(survey) {
        text.push_str(&format!("\n{}\n", paint(Role::Title, "To do without what stops you")));
        text.push_str(&command_lines(&command, width));
    }
    let lacks_package = |gap: &&Gap| gap.packages.is_empty() && gap.packages_if_newer.is_empty() && gap.installable;
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
        for line in wrap(&format!("{why} {}: see boltboard survey NEED", names.join(", ")), width) {
            text.push_str(&format!("{}\n", paint(Role::Faint, &line)));
        }
    }
    text
}

/// A command in lines that a shell takes as one.
fn command_lines(command: &str, width: usize) -> String {
    let lines = wrap(command, width.saturating_sub(6));
    let last = lines.len().saturating_sub(1);
    let mut text = String::new();
    for (number, line) in lines.iter().enumerate() {
        let (indent, end) = (if number == 0 { "  " } else { "      " }, if number == last { "" } else { " \\" });
        text.push_str(&format!("{indent}{}\n", paint(Role::Good, &format!("{line}{end}"))));
    }
    text
}

/// Says what packages take.
pub fn price_line(price: &Result<Price, PriceFault>) -> String {
    match price {
        Ok(price) => {
            let packages = count(price.packages.len(), "package", "packages");
            let fetch = price.download_bytes.map_or(String::new(), |size| format!(", {} to fetch", bytes(size)));
            let disk = price.disk_bytes.map_or(String::new(), |size| format!(", {} on disk", bytes(size)));
            format!("takes {packages}{fetch}{disk}")
        }
        Err(fault) => format!("the price is not known: {fault}"),
    }
}
