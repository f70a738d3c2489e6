//! What the host has and lacks, and the ways out.

use boltboard_core::board::{Board, Importance};
use boltboard_core::resolve::{Origin, Resolution};
use boltboard_core::survey::{Fact, FactState, Facts, Missing};

use super::text::{Cell, Role, columns, paint};

/// Returns the one command that installs what needs ask for, if their packages are known on this distribution.
pub fn install_command(board: &Board, needs: &[String], distribution: &str) -> Option<String> {
    let mut packages: Vec<&str> = Vec::new();
    for name in needs {
        let need = board.need(name)?;
        packages.extend(board.needs[need].packages.get(distribution).map(String::as_str));
    }
    packages.sort_unstable();
    packages.dedup();
    let tool = match distribution {
        "debian" => "sudo apt install",
        "fedora" => "sudo dnf install",
        "opensuse" => "sudo zypper install",
        "arch" => "sudo pacman -S",
        "alpine" => "sudo apk add",
        _ => return None,
    };
    (!packages.is_empty()).then(|| format!("{tool} {}", packages.join(" ")))
}

/// Says what is there in a few words.
pub fn state_words(board: &Board, fact: &Fact) -> (Role, String) {
    match &fact.state {
        FactState::Found(found) => {
            (Role::Good, found.version.as_ref().map_or("found".into(), |version| format!("found, version {version}")))
        }
        FactState::Bundled(part) => (Role::Good, format!("bundled copy: {}", board.parts[*part].name)),
        FactState::Missing(Missing::Absent) => (Role::Bad, "missing".into()),
        FactState::Missing(Missing::WrongVersion { .. }) => (Role::Bad, "does not fit".into()),
        FactState::Missing(Missing::Unusable { .. }) => (Role::Bad, "cannot be used".into()),
    }
}

/// Says what is wrong with a need, in full.
fn trouble(board: &Board, fact: &Fact) -> String {
    match &fact.state {
        FactState::Missing(Missing::WrongVersion { found }) => {
            let wanted = board.needs[fact.need].version.as_ref().map_or(String::new(), ToString::to_string);
            format!("does not fit: version {found} is there, wanted {wanted}")
        }
        FactState::Missing(Missing::Unusable { reason }) => format!("cannot be used: {reason}"),
        FactState::Missing(Missing::Absent) => "is missing".into(),
        FactState::Found(_) | FactState::Bundled(_) => state_words(board, fact).1,
    }
}

/// Returns the names of what wants a need: options and parts.
pub fn wanted_by(board: &Board, need: boltboard_core::board::NeedId) -> Vec<String> {
    use boltboard_core::board::Atom;
    let mut names = Vec::new();
    for (_, rule) in board.rules.iter() {
        let mut asks = false;
        rule.must.for_each_atom(&mut |atom| asks |= *atom == Atom::Need(need));
        if asks {
            let name = &board.options[rule.option].name;
            let name = rule.value.as_ref().map_or_else(|| name.clone(), |value| format!("{name}={value}"));
            if !names.contains(&name) {
                names.push(name);
            }
        }
    }
    for (_, part) in board.parts.iter().filter(|(_, p)| p.needs.iter().any(|w| w.item == need)) {
        names.push(format!("part {}", part.name));
    }
    names
}

/// Lists all needs, the missing ones with the ways out.
pub fn list(board: &Board, facts: &Facts, resolution: Option<&Resolution>, distribution: &str, width: usize) -> String {
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    for fact in facts.iter() {
        let need = &board.needs[fact.need];
        let (role, state) = state_words(board, fact);
        rows.push(vec![(Role::Name, need.name.clone()), (role, state), (Role::Faint, need.summary.clone())]);
    }
    let mut text = columns(&rows, 0, width);
    let missing: Vec<&Fact> = facts.iter().filter(|f| matches!(f.state, FactState::Missing(_))).collect();
    if missing.is_empty() {
        text.push_str(&format!("\n{}\n", paint(Role::Good, "This host has everything that the tree asks for.")));
        return text;
    }
    for fact in &missing {
        let need = &board.needs[fact.need];
        text.push_str(&format!("\n{} {}\n", paint(Role::Title, &need.name), paint(Role::Bad, &trouble(board, fact))));
        if need.importance == Importance::Required {
            text.push_str("  nothing can be built without it\n");
        }
        let wanted = wanted_by(board, fact.need);
        if !wanted.is_empty() {
            text.push_str(&format!("  wanted by {}\n", wanted.join(", ")));
        }
        for option in resolution.map(|r| held(board, r, fact)).unwrap_or_default() {
            text.push_str(&format!("  without it {option}\n"));
        }
        if let Some(command) = install_command(board, std::slice::from_ref(&need.name), distribution) {
            text.push_str(&format!("  {} {command}\n", paint(Role::Good, "install:")));
        }
        text.push_str(&format!("  {} boltboard survey {}\n", paint(Role::Good, "what was tried:"), need.name));
    }
    let names: Vec<String> = missing.iter().map(|fact| board.needs[fact.need].name.clone()).collect();
    if let Some(command) = install_command(board, &names, distribution).filter(|_| names.len() > 1) {
        text.push_str(&format!("\n{} {command}\n", paint(Role::Good, "Everything missing in one go:")));
    }
    text
}

fn held(board: &Board, resolution: &Resolution, fact: &Fact) -> Vec<String> {
    use boltboard_core::board::Atom;
    let mut held = Vec::new();
    for (option, resolved) in resolution.iter() {
        if let Origin::Held { would_be, by } = &resolved.origin {
            let mut asks = false;
            board.rules[*by].must.for_each_atom(&mut |atom| asks |= *atom == Atom::Need(fact.need));
            if asks {
                held.push(format!("{} is {} instead of {would_be}", board.options[option].name, resolved.value));
            }
        }
    }
    held
}

/// Tells everything that was tried for one need.
pub fn evidence(board: &Board, fact: &Fact, distribution: &str) -> String {
    let need = &board.needs[fact.need];
    let (role, _) = state_words(board, fact);
    let state = trouble(board, fact);
    let mut text = format!("{}  {}\n  {}\n", paint(Role::Title, &need.name), need.summary, paint(role, &state));
    for evidence in &fact.evidence {
        text.push_str(&format!("  looked for {}\n    {}\n", evidence.tried, paint(Role::Faint, &evidence.found)));
    }
    let wanted = wanted_by(board, fact.need);
    if !wanted.is_empty() {
        text.push_str(&format!("  wanted by {}\n", wanted.join(", ")));
    }
    if matches!(fact.state, FactState::Missing(_))
        && let Some(command) = install_command(board, std::slice::from_ref(&need.name), distribution)
    {
        text.push_str(&format!("  {} {command}\n", paint(Role::Good, "install:")));
    }
    text
}
